"""What is known of every song on the shelf without opening it: read once a state, kept, and read anew behind the page where many changed."""

from __future__ import annotations

import json
import math
import time
from collections.abc import Callable, Collection, Mapping
from dataclasses import field
from datetime import UTC, date, datetime

from escalera.core.caching import Results
from escalera.core.energy.model import arranged
from escalera.core.planning.open_steps import MixMade, Surroundings
from escalera.core.planning.song_facts import FACTS, SongFacts, facts_as_json, read_facts, song_facts
from escalera.core.planning.stages import StageStanding, standing
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass
from escalera.services.logs import LOG
from escalera.store import planning_store as kept
from escalera.store.database import Database
from escalera.store.planning_store import SongState
from escalera.store.repository import Repository

AT_ONCE_S = 0.06  # that a page waits for what changed since; the rest is read behind it
MOST_KEPT = 2000


def local_day(moment: datetime) -> date:
    """The day of a moment as the clock on the wall has it; moments in the store are in UTC."""
    return moment.replace(tzinfo=UTC).astimezone().date()


@dataclass(frozen=True, slots=True)
class IndexedSong:
    """A song of the shelf with what is known of it."""

    song_id: int
    title: str
    began: date
    touched: date
    facts: SongFacts

    @property
    def now(self) -> StageStanding:
        return standing(self.facts.work, self.began)


@dataclass(frozen=True, slots=True)
class Index:
    """All songs that are known, and how many are still to be read or cannot be."""

    songs: tuple[IndexedSong, ...]
    waiting: int = 0
    unreadable: int = 0
    titles: Mapping[int, str] = field(default_factory=dict)  # of every song of the shelf, read or not

    @property
    def active(self) -> tuple[IndexedSong, ...]:
        return tuple(s for s in self.songs if not s.facts.work.archived)

    @property
    def by_id(self) -> dict[int, SongFacts]:
        return {s.song_id: s.facts for s in self.songs}

    @property
    def with_parts(self) -> list[int]:
        """Songs with more than one section and layers, the newest touched first."""
        return [s.song_id for s in self.active if len(s.facts.steps) > 1 and s.facts.sounds]

    @property
    def offered(self) -> list[tuple[int, str]]:
        """Songs to choose from, by title: all that are not known to be archived."""
        archived = {s.song_id for s in self.songs if s.facts.work.archived}
        there = [(i, title) for i, title in self.titles.items() if i not in archived]
        return sorted(there, key=lambda row: row[1].casefold())


class SongIndex:
    """Facts of all songs. `read_behind` is called where some are left for a worker."""

    def __init__(self, database: Database, repository: Repository, read_behind: Callable[[], object]):
        self._database, self._repository, self._read_behind = database, repository, read_behind
        self._known: Results[SongFacts] = Results(MOST_KEPT)
        self._unreadable: set[str] = set()
        self.at_once_s = AT_ONCE_S

    def all(self, needed: Collection[int] = (), whole: bool = False) -> Index:
        """What is known now; what changed is read at once as far as time allows, songs that are `needed`, or the `whole` shelf, however long it takes."""
        with self._database.read() as session:
            states = kept.song_states(session)
            if any(self._known.get(_place(s)) is None for s in states):
                self._load(kept.kept_facts(session), states)
        stale = [s for s in states if self._known.get(_place(s)) is None and _place(s) not in self._unreadable]
        wanted = {s.song_id for s in stale} if whole else set(needed)
        self._read([s for s in stale if s.song_id in wanted], math.inf)
        left = self._read([s for s in stale if s.song_id not in wanted], self.at_once_s)
        if left:
            self._read_behind()
        found = [(s, self._known.get(_place(s))) for s in states]
        songs = tuple(
            IndexedSong(s.song_id, s.title, local_day(s.created_at), local_day(s.touched_at), f)
            for s, f in found
            if f is not None
        )
        unreadable = sum(_place(s) in self._unreadable for s in states)
        return Index(songs, left, unreadable, {s.song_id: s.title for s in states})

    def one(self, song_id: int) -> IndexedSong | None:
        """One song, read at once; None where it is not there or cannot be read."""
        with self._database.read() as session:
            state = next((s for s in kept.song_states(session) if s.song_id == song_id), None)
        if state is None:
            return None
        if self._known.get(_place(state)) is None:
            self._read([state], math.inf)
        facts = self._known.get(_place(state))
        made, touched = local_day(state.created_at), local_day(state.touched_at)
        return IndexedSong(song_id, state.title, made, touched, facts) if facts is not None else None

    def read_all(self, tell: Callable[[float], object], wanted: Callable[[], bool]) -> int:
        """Read whatever changed, as a worker does; how many songs were read."""
        with self._database.read() as session:
            states = kept.song_states(session)
            self._load(kept.kept_facts(session), states)
        stale = [s for s in states if self._known.get(_place(s)) is None and _place(s) not in self._unreadable]
        for number, state in enumerate(stale):
            if not wanted():
                return number
            self._read([state], math.inf)
            tell((number + 1) / len(stale))
        return len(stale)

    def _load(self, rows: dict[int, tuple[str, bytes]], states: list[SongState]) -> None:
        for state in states:
            there = rows.get(state.song_id)
            if there is not None and there[0] == _place(state) and self._known.get(there[0]) is None:
                try:
                    self._known.put(there[0], read_facts(there[1]))
                except ValueError as error:
                    LOG.warning("facts of song %d cannot be read and are read anew: %s", state.song_id, error)

    def _read(self, stale: list[SongState], seconds: float) -> int:
        """Read songs until the time is over; how many are left."""
        end, done = time.monotonic() + seconds, list[tuple[int, str, bytes]]()
        left = list(stale)
        while left and time.monotonic() < end:
            state = left.pop(0)
            facts = self._facts(state)
            if facts is None:
                self._unreadable.add(_place(state))
            else:
                self._known.put(_place(state), facts)
                done.append((state.song_id, _place(state), facts_as_json(facts)))
        if done and not self._database.read_only:
            with self._database.write() as session:
                kept.keep_facts(session, done)
        return len(left)

    def _facts(self, state: SongState) -> SongFacts | None:
        try:
            with self._database.read() as session:
                song = self._repository.at(session, state.song_id, state.revision_id)
                mixes, wanted = kept.mixes_of(session, state.song_id), kept.wanted_of(session, state.song_id)
            arranged(song)
            return song_facts(song, around_of(state.created_at, mixes, wanted))
        except EscaleraError as error:
            LOG.warning("song %d cannot be read for lists: %s", state.song_id, error)
            return None


def _place(state: SongState) -> str:
    """Names what was read: changes with the song, with what was brought in for it, and with what is read of songs."""
    return f"{FACTS}:{state.song_id}:{state.revision_id}:{state.around}"


def around_of(
    created_at: datetime, mixes: list[tuple[datetime, str]], wanted: tuple[str, ...], ideas: int = 0
) -> Surroundings:
    """What is known beside a song's document."""
    made = tuple(_mix(at, report) for at, report in mixes)
    return Surroundings(date.today(), local_day(created_at), ideas, wanted, made)


def _mix(at: datetime, report: str) -> MixMade:
    try:
        found = json.loads(report) if report else {}
    except ValueError:
        found = {}
    peak, loud = (found.get(name) for name in ("true_peak_dbtp", "integrated_lufs"))
    return MixMade(local_day(at), peak if isinstance(peak, float) else None, loud if isinstance(loud, float) else None)
