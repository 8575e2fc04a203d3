"""What is planned over songs: stages and dates with the pace so far, statistics, prompts and the songs made of them, the calendar."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import UTC, date, datetime

from escalera.core.document.limits import MAX_NAME, MAX_REASON
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.song import Song
from escalera.core.edits.judgement_edits import SetBrief
from escalera.core.logbook.statistics import SongRecord, Statistics, statistics
from escalera.core.planning.due_dates import USUAL_GAPS, Conflict, DueGap, conflicts, expected_days, read_gaps
from escalera.core.planning.open_steps import OpenStep, lacking
from escalera.core.planning.stages import StageStanding, UsualTime, stage_days, usual_times
from escalera.core.planning.work_edits import SetPrompt
from escalera.core.prompts.weekly import Prompt, begins_with, own_prompt, prompt_of_week
from escalera.errors import EscaleraError
from escalera.formats.calendar import DatedSong, calendar_bytes
from escalera.lazy_dataclasses import dataclass
from escalera.services.new_song import new_song
from escalera.services.song_index import Index, IndexedSong, SongIndex
from escalera.store import planning_store as kept
from escalera.store.database import Database

MOST_CURVE = 8  # energies of a borrowed curve


@dataclass(frozen=True, slots=True)
class SongPlan:
    """Where a song stands: its stage, what the next one lacks, when it would be reached at the pace so far, conflicts of its dates."""

    now: StageStanding
    days: int
    lacks: tuple[OpenStep, ...]
    usual: dict[str, UsualTime]
    expected: tuple[tuple[str, date, date], ...]
    conflicts: tuple[Conflict, ...]


@dataclass(frozen=True, slots=True)
class DueRow:
    """A due date of some song, for a list over all of them."""

    song_id: int
    title: str
    what: str
    on: date
    done: bool
    days: int


@dataclass(frozen=True, slots=True)
class KeptPrompt:
    """A prompt of one's own that is kept."""

    id: int
    prompt: Prompt


class Planning:
    """Reads the index; keeps the template of gaps and prompts of one's own."""

    def __init__(self, database: Database, index: SongIndex):
        self._database, self._index = database, index

    # stages and dates ------------------------------------------------------------------------------------------

    def usual(self, index: Index | None = None) -> dict[str, UsualTime]:
        """How long stages take for this user."""
        songs = (index or self._index.all()).songs
        return usual_times(stage_days(s.facts.work, s.began) for s in songs)

    def plan(self, song_id: int, today: date) -> SongPlan | None:
        """The plan of a song; None where it cannot be read."""
        song = self._index.one(song_id)
        return None if song is None else self.plan_of(song, self.usual(), today)

    def plan_of(self, song: IndexedSong, usual: dict[str, UsualTime], today: date) -> SongPlan:
        """The plan of a song that is known."""
        now, work = song.now, song.facts.work
        lacks = tuple(lacking(list(song.facts.open), now.next)) if not now.done else ()
        return SongPlan(
            now,
            now.days(today),
            lacks,
            usual,
            tuple(expected_days(now, usual, today)),
            tuple(conflicts(work, now, usual, today)),
        )

    def due_rows(self, today: date) -> list[DueRow]:
        """Everything that is due in songs that are not archived, the next first."""
        rows = [
            DueRow(s.song_id, s.title, d.what, d.on, d.done, (d.on - today).days)
            for s in self._index.all().active
            for d in s.facts.work.due
        ]
        return sorted(rows, key=lambda r: (r.on, r.song_id))

    def gaps(self) -> tuple[DueGap, ...]:
        """The template of gaps before a release: the user's, or the usual one."""
        with self._database.read() as session:
            rows = kept.choice(session, "gaps")
        try:
            return read_gaps([(str(w), str(d), str(s)) for w, d, s in rows])
        except (EscaleraError, TypeError, ValueError):
            return USUAL_GAPS

    def set_gaps(self, rows: Sequence[tuple[str, str, str]]) -> str:
        """Keep a template; no rows bring the usual one back. Raises EditError."""
        given = [row for row in rows if row[0].strip()]
        found = read_gaps(given) if given else USUAL_GAPS
        with self._database.write() as session:
            kept.choose(session, "gaps", [[g.what, str(g.days_before), g.stage] for g in found] if given else None)
        return f"{len(found)} dates follow from a release." if given else "The usual template is back."

    def gap_rows(self) -> list[list[str]]:
        """The template as the edit that sets a release takes it."""
        return [[g.what, str(g.days_before), g.stage] for g in self.gaps()]

    def calendar(self, song_id: int = 0) -> bytes:
        """Due dates of a song, or of all that are not archived (0), as iCalendar."""
        songs = (
            self._index.all(whole=True).active
            if not song_id
            else [s for s in (self._index.one(song_id),) if s is not None]
        )
        return calendar_bytes([DatedSong(f"song-{s.song_id}", s.title, s.facts.work) for s in songs], _stamp())

    # statistics ------------------------------------------------------------------------------------------------

    def statistics(self, today: date) -> Statistics:
        songs = [
            SongRecord(s.title, s.began, s.facts.work, s.facts.key, s.facts.tempo_bpm, s.facts.sounds)
            for s in self._index.all().songs
        ]
        return statistics(songs, today)

    # prompts ---------------------------------------------------------------------------------------------------

    def prompt_of_week(self, today: date, another: int = 0) -> Prompt:
        """The prompt of the week; now and then its curve is borrowed from a song of one's own."""
        found = prompt_of_week(today, another)
        return Prompt(found.name, tuple(self._borrowed(row, another) for row in found.rules), found.words)

    def _borrowed(self, row: tuple[str, str], another: int) -> tuple[str, str]:
        songs = [s for s in self._index.all().active if len(s.facts.steps) >= 3]
        if row[0] != "borrowed curve" or not songs:
            return row
        steps = songs[(len(row[1]) + another) % len(songs)].facts.steps
        steps = steps if len(steps) <= MOST_CURVE else steps[:: -(-len(steps) // MOST_CURVE)]
        return row[0], " ".join(f"{min(10.0, s.arranged):g}" for s in steps)

    def own_prompts(self) -> list[KeptPrompt]:
        with self._database.read() as session:
            rows = kept.own_prompts(session)
        found = []
        for row in rows:
            try:
                prompt = own_prompt(row.name, [(str(k), str(v)) for k, v in json.loads(row.rules)], row.words)
                found.append(KeptPrompt(row.id, prompt))
            except (ValueError, TypeError, EscaleraError):
                continue
        return found

    def keep_prompt(self, name: str, words: str, rows: list[tuple[str, str]]) -> str:
        """Keep a prompt of one's own. Raises EditError."""
        prompt = own_prompt(
            clean_name(name, "name of the prompt", MAX_NAME), rows, clean_words(words, "words", MAX_REASON)
        )
        with self._database.write() as session:
            kept.keep_prompt(session, prompt.name, prompt.words, prompt.rules)
        return f"{prompt.name} kept: {prompt.said}"

    def forget_prompt(self, prompt_id: int) -> str:
        with self._database.write() as session:
            row = kept.own_prompt_row(session, prompt_id)
            name = row.name
            session.delete(row)
        return f"{name} forgotten."

    def prompt(self, prompt_id: int) -> Prompt:
        """A prompt of one's own. Raises NotFound."""
        with self._database.read() as session:
            kept.own_prompt_row(session, prompt_id)
        return next(p.prompt for p in self.own_prompts() if p.id == prompt_id)


def song_of_prompt(prompt: Prompt) -> Song:
    """A song that begins as a prompt wants it, with its rules to be checked and its words as a brief."""
    song = new_song(title=prompt.name, **begins_with(prompt))
    if prompt.rules:
        song = SetPrompt([list(row) for row in prompt.rules]).apply(song)
    return SetBrief({"prompt": prompt.said[:300]}).apply(song)


def _stamp() -> datetime:
    return datetime.now(UTC).replace(microsecond=0)
