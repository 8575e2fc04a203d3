"""Studies: finished tracks taken apart, read in the background, corrected by hand, noted down, built on."""

from __future__ import annotations

import json
from collections import OrderedDict
from collections.abc import Callable
from datetime import datetime
from functools import lru_cache
from threading import Lock
from typing import Any

from pydantic import ValidationError

from escalera.core.document.fields import adapter
from escalera.core.study.heard_track import NOTE_KINDS, Given, StudyReading
from escalera.core.study.notebook import Notebook
from escalera.core.study.words import form_said
from escalera.errors import InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.services.study_reading import Heard, Read, hear, study
from escalera.sound.recording_files import library
from escalera.store import study_store as shelf
from escalera.store.database import Database
from escalera.store.models import StudyRow

MOST = 300
FRESH = 2  # tracks whose frames are kept, for corrections
Tell = Callable[[float], None]
Wanted = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Study:
    """A kept study. `reading` is None until it was read, or where `trouble` says why it cannot be; `fresh` is false where corrections
    came since."""

    id: int
    content: str
    name: str
    made_at: datetime
    reading: StudyReading | None
    given: Given
    notebook: Notebook
    songs: tuple[int, ...]
    trouble: str
    fresh: bool

    def needed(self) -> StudyReading:
        """Its reading. Raises InputError where there is none yet."""
        if self.reading is None:
            raise InputError(self.trouble or f"{self.name} is still being read. Try again in a moment.")
        return self.reading


class Studies:
    """The studies of a database, and the frames of the last tracks."""

    def __init__(self, database: Database):
        self._database = database
        self._heard: OrderedDict[str, Heard] = OrderedDict()
        self._lock = Lock()

    def add(self, content: str, name: str) -> int:
        """Keep a recording of the library as a study; its id, which is the same when it comes again. Raises InputError where no more fit."""
        with self._database.write() as session:
            known = shelf.study_of(session, content)
            if known is not None:
                return known.id
            if shelf.count_studies(session) >= MOST:
                raise InputError(f"{MOST} studies are kept, and no more fit. Remove some first.")
            return shelf.add_study(session, StudyRow(content=content, name=name[:200]))

    def all(self) -> list[Study]:
        """The newest first."""
        with self._database.read() as session:
            return [_study(row) for row in shelf.all_studies(session)]

    def get(self, study_id: int) -> Study:
        """Raises NotFound."""
        with self._database.read() as session:
            return _study(shelf.study_row(session, study_id))

    def remove(self, study_id: int) -> str:
        """Take a study away; its recording stays in the library. Returns its name. Raises NotFound."""
        with self._database.write() as session:
            name = shelf.study_row(session, study_id).name
            shelf.remove_study(session, study_id)
            return name

    def correct(self, study_id: int, change: Callable[[Study], Given]) -> None:
        """Take a correction over; it is used when the track is read anew."""
        with self._database.write() as session:
            row = shelf.study_row(session, study_id)
            row.given = _dumped(Given, change(_study(row)))

    def note(self, study_id: int, change: Callable[[Notebook], Notebook]) -> None:
        """Change what a person wrote down."""
        with self._database.write() as session:
            row = shelf.study_row(session, study_id)
            row.notes = _dumped(Notebook, change(_study(row).notebook))

    def built(self, study_id: int, song_id: int) -> None:
        """A song was built on a study."""
        with self._database.write() as session:
            row = shelf.study_row(session, study_id)
            row.songs = json.dumps([*_study(row).songs, song_id][-50:])

    def learned(self, song_id: int) -> list[Study]:
        """The studies that a song was built on."""
        with self._database.read() as session:
            return [_study(row) for row in shelf.all_studies(session) if song_id in _songs_of(row)]

    def read(self, study_id: int, tell: Tell = lambda share: None, wanted: Wanted = lambda: True) -> None:
        """Read a study with its corrections; what cannot be read is kept as a sentence."""
        with self._database.read() as session:
            row = shelf.study_row(session, study_id)
            content, name, given = row.content, row.name, row.given
        report, trouble = "", ""
        try:
            found = self.read_content(content, name, _parsed_given(given), tell, wanted)
            report = _dumped(StudyReading, found)
        except (InputError, NotFound) as error:
            trouble = str(error)
        with self._database.write() as session:
            row = shelf.study_row(session, study_id)
            row.report, row.trouble, row.read_with = report or row.report, trouble[:400], given

    def read_content(self, content: str, name: str, given: Given, tell: Tell, wanted: Wanted) -> StudyReading:
        """A recording of the library read; its frames are kept for the next correction. Raises NotFound where its audio is gone."""
        if not library.has(content):
            raise NotFound(f"The audio of {name} is missing. Bring the file in again; its content is recognised.")
        read = reader_of(content)
        with self._lock:
            heard = self._heard.get(content)
        if heard is None:
            heard = hear(read, tell, wanted)
            with self._lock:
                self._heard[content] = heard
                while len(self._heard) > FRESH:
                    self._heard.popitem(last=False)
        return study(read, given, heard, tell, wanted)


def reader_of(content: str) -> Read:
    """How a recording of the library is read."""
    return lambda low, count: library.read(content, low, count)


def _dumped(kind: type[Any], value: object) -> str:
    return json.dumps(adapter(kind).dump_python(value, mode="json"))


@lru_cache(maxsize=32)
def _parsed(report: str) -> StudyReading | None:
    try:
        found: StudyReading = adapter(StudyReading).validate_python(json.loads(report))
    except (ValueError, ValidationError):
        return None
    return found


def _parsed_given(text: str) -> Given:
    try:
        return adapter(Given).validate_python(json.loads(text or "{}"))
    except (ValueError, ValidationError):
        return Given()


def _songs_of(row: StudyRow) -> tuple[int, ...]:
    """The songs that were built on a study."""
    try:
        return tuple(int(x) for x in json.loads(row.songs or "[]"))
    except (ValueError, TypeError):
        return ()


def _study(row: StudyRow) -> Study:
    try:
        notes = adapter(Notebook).validate_python(json.loads(row.notes or "{}"))
    except (ValueError, ValidationError):
        notes = Notebook()
    given = _parsed_given(row.given)
    fresh = row.read_with in ("", row.given) or _parsed_given(row.read_with) == given
    return Study(
        row.id,
        row.content,
        row.name,
        row.made_at,
        _parsed(row.report),
        given,
        notes,
        _songs_of(row),
        row.trouble,
        fresh,
    )


def study_report(reading: StudyReading) -> dict[str, Any]:
    """A study for the command line; null where something cannot be read."""
    chords = [
        {
            "start_s": reading.beats_s[c.beat],
            "end_s": reading.beats_s[c.end_beat],
            "chord": c.chord,
            "confidence": c.confidence,
        }
        for c in reading.chords
    ]
    sections = [
        {
            "start_s": round(reading.bar_s(s.first_bar), 3), "end_s": round(reading.bar_s(s.first_bar + s.bars), 3),
            "first_bar": s.first_bar + 1, "bars": s.bars, "like": s.like if s.like >= 0 else None, "name": s.name, "confidence": s.confidence,
        }
        for s in reading.sections
    ]  # fmt: skip
    return {
        "tempo_bpm": reading.tempo_bpm, "tempo_confidence": reading.tempo_confidence, "tempo_others": list(reading.tempo_others),
        "metre": f"{reading.beats_a_bar}/4" if reading.has_bars else None, "first_downbeat_s": round(reading.bar_s(0), 3) if reading.has_bars else None,
        "beats_s": list(reading.beats_s), "key": reading.key, "key_confidence": reading.key_confidence, "tuning_cents": reading.tuning_cents,
        "chords": chords, "sections": sections,
        "bars": [{"bar": i + 1, "energy": b.energy, "loudness_lufs": b.loudness_lufs} for i, b in enumerate(reading.bars)] if reading.has_bars else [],
        "said": list(reading.said),
    }  # fmt: skip


def log_of(study_: Study) -> list[str]:
    """What was learned from a study, as lines for a decision log."""
    lines = []
    if study_.reading is not None and study_.reading.has_bars:
        r = study_.reading
        lines.append(f"{study_.name}: {r.tempo_bpm:g} bpm, {r.beats_a_bar}/4, {r.key or 'no key read'}; {form_said(r)}")
    for note in study_.notebook.notes:
        where = f" (bar {study_.reading.bar_at(note.at_s) + 1})" if note.at_s is not None and study_.reading else ""
        lines.append(f"{NOTE_KINDS[note.kind]}{where}: {' '.join(note.text.split())}")
    lines += [f"{x.name}: {x.state}" for x in study_.notebook.instruments]
    return lines
