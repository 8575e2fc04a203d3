"""The library of recordings: brought in, found, corrected, heard, laid into songs; one side of the studio."""

from __future__ import annotations

import json
import secrets
import shutil
from collections.abc import Callable, Mapping
from dataclasses import replace
from math import log2
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.cleaning import clean_line
from escalera.core.document.recordings import Sample, sample_of
from escalera.core.samples.families import Family, family_with
from escalera.core.samples.finding import SampleCard, SampleWish, found
from escalera.core.samples.licences import LICENCES, UNKNOWN
from escalera.core.samples.reading import KINDS, SampleReading
from escalera.core.samples.said_names import SURE, Contradiction, contradictions, said_by
from escalera.core.theory.keys import key_text, parse_key
from escalera.errors import EscaleraError, InputError, NotFound, shown
from escalera.formats.recording import RATE_HZ, RecordingWriter
from escalera.listen.whole_reading import read_recording
from escalera.services.own_samples import OwnSample, made_samples, own_samples
from escalera.services.reading_worker import LimitedReader
from escalera.services.sample_files import ReadFile, plain_reading, plain_says, reading_from, says_from
from escalera.sound.recording_files import library
from escalera.store import bounce_store
from escalera.store import sample_store as shelf
from escalera.store.database import Database
from escalera.store.models import SampleRow, WantedRow
from escalera.store.repository import unpacked
from escalera.store.study_store import studied_contents

MAX_SAMPLES = 20_000
MB = 1_000_000
OWN_SOURCE = "Escalera’s own"
SUFFIXES = (".wav", ".wave", ".aif", ".aiff", ".flac", ".ogg", ".oga", ".opus", ".mp3", ".m4a", ".w64", ".rf64", ".caf")
Audio = NDArray[np.float32]
Tell = Callable[[float], None]


class Samples:
    """Recordings beside the database, read once; `limit_mb` is what they may take on disk."""

    def __init__(self, database: Database, folder: Path, limit_mb: int):
        self._database, self.folder, self._limit_mb = database, folder, limit_mb
        self.reader = LimitedReader()
        if not database.read_only:
            folder.mkdir(parents=True, exist_ok=True)
        library.add_folder(folder)

    # bringing in -----------------------------------------------------------------------------------------------

    def add_file(
        self,
        path: Path,
        name: str = "",
        source: str = "",
        licence: str = UNKNOWN,
        light: bool = False,
        reader: LimitedReader | None = None,
    ) -> tuple[int, bool]:
        """Bring a file in; its id, and whether it was there already. A stem is read lightly, by a `reader` of its own where several are
        at it. Raises FormatError or InputError, and then keeps nothing."""
        title = title_of(name or path.name)
        self._need_room(path)
        read = (reader or self.reader).read(path, self.folder, light)
        with self._database.read() as session:
            known = shelf.by_content(session, read.content)
            if known is not None:
                library.changed()
                return known.id, True
        row = row_from(read, title, clean_line(name or path.name)[:300], source, licence)
        return self._enter(row, read), False

    def _need_room(self, path: Path) -> None:
        with self._database.read() as session:
            number, size = shelf.count(session)
        if number >= MAX_SAMPLES:
            raise InputError(f"The library has {MAX_SAMPLES:,} samples, and no more fit. Remove some first.")
        coming = path.stat().st_size
        if size + coming > self._limit_mb * MB:
            raise InputError(
                f"The library may take {self._limit_mb:,} MB and has {size / MB:,.0f} MB; {path.name} needs about {coming / MB:,.0f} more. "
                f"Remove samples, or set ESCALERA_SAMPLES_MB higher."
            )
        if shutil.disk_usage(self.folder).free < 3 * coming + 20 * MB:
            raise InputError("The disk is nearly full. Make room on it first; nothing was brought in.")

    def _enter(self, row: SampleRow, read: ReadFile) -> int:
        if read.kept is not None:
            row.size_bytes = read.kept.stat().st_size
        try:
            with self._database.write() as session:
                id = shelf.add(session, row)
        except BaseException:
            if read.kept is not None:
                read.kept.unlink(missing_ok=True)
            raise
        library.changed()
        return id

    def add_own(
        self,
        tell: Tell = lambda share: None,
        wanted: Callable[[], bool] = lambda: True,
        only: frozenset[str] = frozenset(),
    ) -> int:
        """Make the program's own samples that are not there yet, all or those of some names; how many were made."""
        with self._database.read() as session:
            there = {c.name for c in shelf.all_cards(session, {}) if c.source == OWN_SOURCE}
        rows = [s for s in own_samples() if s.name not in there and (not only or s.name in only)]
        for number, (sample, audio) in enumerate(made_samples(rows)):
            if not wanted():
                return number
            self._add_made(sample, audio)
            tell((number + 1) / len(rows))
        return len(rows)

    def _add_made(self, sample: OwnSample, audio: Audio) -> None:
        licence = sample.row.get("licence", "program")
        self.add_audio(sample.name, audio, OWN_SOURCE, licence, sample.recipe)

    def add_audio(self, name: str, audio: Audio, source: str, licence: str, made: str) -> int:
        """Keep sound that the program made, (channels, n) at 44.1 kHz, as a sample with how it was made."""
        aside = self.folder / f".{secrets.token_hex(8)}.flac"
        writer = RecordingWriter(aside, len(audio))
        writer.write(audio)
        content = writer.finish()
        with self._database.read() as session:
            known = shelf.by_content(session, content)
        if known is not None:
            aside.unlink()
            return known.id
        kept = self.folder / f"{content}.flac"
        aside.replace(kept)
        reading = read_recording([audio], RATE_HZ, len(audio))
        read = ReadFile(reading, content, kept)
        row = row_from(read, name, "", source, licence)
        row.made = made[:300]
        return self._enter(row, read)

    def keep_files(self, files: list[Path]) -> None:
        """Take kept recordings, named by their content, into the folder: all of them, or none where one fails."""
        taken: list[Path] = []
        try:
            for file in files:
                target = self.folder / file.name
                if not target.exists():
                    file.replace(target)
                    taken.append(target)
        except OSError:
            for target in taken:
                target.unlink(missing_ok=True)
            raise
        library.changed()

    # finding ---------------------------------------------------------------------------------------------------

    def cards(self, wish: SampleWish | None = None) -> list[SampleCard]:
        """The samples a wish fits, or all, the newest first."""
        with self._database.read() as session:
            every = shelf.all_cards(session, shelf.used_contents(session, unpacked))
        return found(every, wish) if wish is not None else every

    def card(self, sample_id: int) -> SampleCard:
        """Raises NotFound."""
        found = next((c for c in self.cards() if c.id == sample_id), None)
        if found is None:
            raise NotFound("This sample is not in the library any more. The list shows what there is.")
        return found

    def count(self) -> int:
        with self._database.read() as session:
            return shelf.count(session)[0]

    def reading(self, sample_id: int) -> SampleReading:
        """What is known of a sample, corrections by hand included. Raises NotFound."""
        with self._database.read() as session:
            row = shelf.row_of(session, sample_id)
            return _reading(row)

    def doubts(self, sample_id: int) -> tuple[Contradiction, ...]:
        """Where its name and what is heard differ."""
        with self._database.read() as session:
            row = shelf.row_of(session, sample_id)
            return _doubts(row)

    def details(self, sample_id: int) -> dict[str, Any]:
        """Where it came from and what was set by hand."""
        with self._database.read() as session:
            row = shelf.row_of(session, sample_id)
            return {"made": row.made, "file": row.file, "own": shelf.loaded(row.own), "size_bytes": row.size_bytes}

    def family(self, sample_id: int) -> Family | None:
        """The recordings of one performance that a sample belongs to; None where it stands alone."""
        cards = self._bare_cards()
        card = next((c for c in cards if c.id == sample_id), None)
        return family_with(cards, card) if card else None

    def _bare_cards(self) -> list[SampleCard]:
        """All cards without where they are used, which takes longest to find out."""
        with self._database.read() as session:
            return shelf.all_cards(session, {})

    def fill_near(self, tempo_bpm: float) -> SampleCard | None:
        """The fill whose tempo is nearest to one, half and double alike; None where there is no fill."""
        fills = [c for c in self._bare_cards() if c.kind == "fill"]
        octaves = {c.id: log2((c.tempo_bpm or tempo_bpm) / tempo_bpm) for c in fills}
        return min(fills, key=lambda c: abs(octaves[c.id] - round(octaves[c.id])), default=None)

    def by_content(self, content: str) -> int:
        """The id of the sample with some content; 0 where the library has none."""
        with self._database.read() as session:
            row = shelf.by_content(session, content)
            return row.id if row else 0

    def adopt(self, samples: tuple[Sample, ...], wanted: Callable[[], bool] = lambda: True) -> int:
        """Enter the samples of a song that came with its audio, as that song describes them; how many were new."""
        count = 0
        for sample in samples:
            kept = self.folder / f"{sample.content}.flac"
            if not wanted() or self.by_content(sample.content) or not kept.exists():
                continue
            read = replace(self.reader.read(kept), content=sample.content, kept=kept)
            row = row_from(read, sample.name, "", sample.source, sample.licence)
            row.credit, row.made = sample.credit[:240], sample.made[:300]
            row.own = json.dumps({**shelf.loaded(row.own), **_said_otherwise(sample, read.reading)})
            _describe(row, _reading(row))
            self._enter(row, read)
            count += 1
        return count

    def sample(self, sample_id: int) -> Sample:
        """What a song keeps of a sample. Raises NotFound."""
        with self._database.read() as session:
            row = shelf.row_of(session, sample_id)
            return sample_of(row.content, row.name, _reading(row), row.source, row.licence, row.credit, row.made)

    # changing --------------------------------------------------------------------------------------------------

    def correct(self, sample_id: int, fields: Mapping[str, str]) -> str:
        """Set what was read by hand; an empty field gives the reading back. Returns the sample's name. Raises InputError."""
        with self._database.write() as session:
            row = shelf.row_of(session, sample_id)
            own = shelf.loaded(row.own)
            for name, read in CORRECTIONS.items():
                if name in fields:
                    text = fields[name].strip()
                    if text:
                        own[name] = read(text)
                    else:
                        own.pop(name, None)
            row.own = json.dumps(own)
            _describe(row, _reading(row))
            return row.name

    def describe(self, sample_id: int, fields: Mapping[str, str]) -> str:
        """Set name, source, licence, credit line. Returns the name. Raises InputError."""
        with self._database.write() as session:
            row = shelf.row_of(session, sample_id)
            if "name" in fields:
                row.name = title_of(fields["name"])
            if fields.get("licence"):
                if fields["licence"] not in LICENCES:
                    raise InputError(f"“{shown(fields['licence'])}” is not a kind of licence. Choose one of the list.")
                row.licence = fields["licence"]
            for name in ("source", "credit"):
                if name in fields:
                    setattr(row, name, clean_line(fields[name])[:240])
            row.doubts = len(_doubts(row))
            return row.name

    def set_favourite(self, sample_id: int, liked: bool) -> None:
        with self._database.write() as session:
            shelf.row_of(session, sample_id).favourite = liked

    def set_rejected(self, sample_id: int, song_id: int, rejected: bool) -> None:
        """Mark a sample as tried in a song and left, or take the mark away."""
        with self._database.write() as session:
            row = shelf.row_of(session, sample_id)
            songs = [x for x in row.rejected.split() if x != str(song_id)]
            row.rejected = " ".join([*songs, str(song_id)] if rejected else songs)

    def remove(self, sample_id: int) -> str:
        """Take a sample out of the library; its audio goes unless a song names it. Returns its name."""
        with self._database.write() as session:
            row = shelf.row_of(session, sample_id)
            name, content = row.name, row.content
            shelf.remove(session, sample_id)
            named = shelf.named_anywhere(session, unpacked) | bounce_store.contents(session)
            named |= studied_contents(session)
        if content not in named:
            (self.folder / f"{content}.flac").unlink(missing_ok=True)
        library.changed()
        return name

    def sweep(self) -> int:
        """Clear away audio that neither the library nor any state of a song names; how many files."""
        with self._database.read() as session:
            kept = {c.content for c in shelf.all_cards(session, {})} | shelf.named_anywhere(session, unpacked)
            kept |= bounce_store.contents(session) | studied_contents(session)
        gone = [f for f in self.folder.glob("*.flac") if f.stem not in kept and not f.name.startswith(".")]
        for file in gone:
            file.unlink(missing_ok=True)
        library.changed()
        return len(gone)

    # what is looked for ----------------------------------------------------------------------------------------

    def wanted(self) -> list[WantedRow]:
        with self._database.read() as session:
            return shelf.wanted(session)

    def want(self, words: str, song_id: int, stand_in: str = "", layer_id: int = 0) -> None:
        """Note a sound that was looked for and not found. Raises InputError for nothing."""
        words = clean_line(words)[:200].strip()
        if not words:
            raise InputError("Say what is looked for: a few words, as one would search for it.")
        with self._database.write() as session:
            shelf.want(session, words, song_id, clean_line(stand_in)[:120], layer_id)

    def forget_stand_in(self, song_id: int, layer_id: int) -> None:
        """What a layer of a song stood in for is found."""
        rows = [row.id for row in self.wanted() if (row.song_id, row.layer_id) == (song_id, layer_id) and layer_id]
        with self._database.write() as session:
            shelf.forget_wanted(session, rows)

    def forget_wanted(self, wanted_id: int) -> None:
        with self._database.write() as session:
            shelf.forget_wanted(session, [wanted_id])

    def answers(self, row: WantedRow, cards: list[SampleCard]) -> list[SampleCard]:
        """Samples that came in later and have most of the words that were looked for."""
        words = [w for w in row.words.lower().split() if len(w) > 2]
        scored = [(sum(w in f"{c.name} {c.kind} {c.key}".lower() for w in words), c) for c in cards]
        return [c for score, c in sorted(scored, key=lambda x: -x[0])[:3] if words and score * 2 > len(words)]

    def close(self) -> None:
        self.reader.close()
        library.remove_folder(self.folder)


def _number(text: str, low: float, high: float) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        raise InputError(f"“{shown(text)}” is no number. Write one between {low:g} and {high:g}.") from None
    if not low <= value <= high:
        raise InputError(f"{value:g} lies outside {low:g} to {high:g}. Write a number between them.")
    return value


def _kind(text: str) -> str:
    if text not in KINDS:
        raise InputError(f"“{shown(text)}” is no kind of sample. Choose one of: {', '.join(KINDS)}.")
    return text


def _music_key(text: str) -> str:
    try:
        return key_text(parse_key(text))
    except EscaleraError as error:
        raise InputError(str(error)) from error


CORRECTIONS: dict[str, Callable[[str], Any]] = {
    "kind": _kind,
    "tempo_bpm": lambda text: _number(text, 20, 400),
    "key": _music_key,
    "pitch_hz": lambda text: _number(text, 10, 10_000),
    "beats_a_bar": lambda text: int(_number(text, 1, 16)),
    "downbeat_s": lambda text: _number(text, 0, 3600),
}


def title_of(name: str) -> str:
    """A name for people from one of a file: no folders, no ending, no underscores."""
    name = clean_line(name.replace("\\", "/").rsplit("/", 1)[-1])
    stem, dot, ending = name.rpartition(".")
    if dot and f".{ending.lower()}" in SUFFIXES:
        name = stem
    return (name.replace("_", " ").strip() or "Recording")[:200]


def _reading(row: SampleRow) -> SampleReading:
    try:
        reading = reading_from(shelf.loaded(row.reading))
    except ValueError as error:
        raise NotFound(f"What was read of {row.name} is damaged. Bring the file in again.") from error
    return reading.corrected(shelf.loaded(row.own))


def row_from(read: ReadFile, name: str, file: str, source: str, licence: str) -> SampleRow:
    """A row for what was read. Where little tells a tempo or key, a name that says one is believed."""
    row = SampleRow(
        content=read.content, name=name, file=file, size_bytes=0, favourite=False, rejected="",
        source=clean_line(source)[:240], licence=licence if licence in LICENCES else UNKNOWN, credit="", made="",
        reading=json.dumps(plain_reading(read.reading)), own="{}", file_says=json.dumps(plain_says(read.says)),
    )  # fmt: skip
    own = _believed(read, name)
    row.own = json.dumps(own)
    _describe(row, read.reading.corrected(own))
    row.doubts = len(contradictions(read.reading.corrected(own), name, read.says))
    row.envelope = read.reading.envelope
    return row


def _believed(read: ReadFile, name: str) -> dict[str, Any]:
    """What is taken from a name, or else from the file's tags, where little was heard."""
    own: dict[str, Any] = {}
    for said in (said_by(name), read.says.said):
        if said.tempo_bpm and read.reading.kind != "hit" and read.reading.tempo_confidence < SURE:
            own.setdefault("tempo_bpm", said.tempo_bpm)
        tonal = read.reading.kind not in ("hit", "fill", "texture")
        if said.key is not None and not said.bare and read.reading.key is None and tonal:
            own.setdefault("key", key_text(said.key))
    return own


def _doubts(row: SampleRow) -> tuple[Contradiction, ...]:
    return contradictions(_reading(row), row.name, says_from(shelf.loaded(row.file_says)))


def _said_otherwise(sample: Sample, reading: SampleReading) -> dict[str, Any]:
    """What a song says of a sample that is not what was read now: somebody corrected it."""
    pairs = (("kind", sample.kind, reading.kind), ("beats_a_bar", sample.beats_a_bar, reading.beats_a_bar))
    own: dict[str, Any] = {name: said for name, said, read in pairs if said != read}
    for name in ("tempo_bpm", "pitch_hz"):
        said, read = getattr(sample, name), getattr(reading, name) or 0.0
        if said and abs(said - read) > 1e-3 * said:
            own[name] = said
    if sample.key and sample.key != (reading.key or ""):
        own["key"] = sample.key
    return own


def _describe(row: SampleRow, reading: SampleReading) -> None:
    row.seconds, row.kind, row.tempo_bpm = reading.seconds, reading.kind, reading.tempo_bpm
    row.beats_a_bar = reading.beats_a_bar
    row.key, row.pitch_hz = reading.key or "", reading.pitch_hz
    row.has_kick, row.leaves_middle = reading.has_kick, reading.leaves_middle
    row.bands = " ".join(f"{x:.1f}" for x in reading.bands_db)
