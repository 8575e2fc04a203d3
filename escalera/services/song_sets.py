"""Sets of songs: kept with their history, read as they run, checked, put in another order, written out and read in again."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from datetime import datetime
from typing import Any

from escalera.cleaning import neutral_cell, parse_json
from escalera.core.document.names import clean_name
from escalera.core.edits.edit import one_of
from escalera.core.planning.song_facts import SongFacts
from escalera.core.sets import song_set as acts
from escalera.core.sets.set_checks import SET_CHECKS, SetFinding, set_findings
from escalera.core.sets.set_order import SET_SHAPES, best_order
from escalera.core.sets.set_reading import ReadSet, read_set
from escalera.core.sets.song_set import KINDS, Done, SetEntry, SongSet, set_from_plain, set_to_plain
from escalera.core.theory.keys import parse_key
from escalera.core.time.ticks import clock
from escalera.errors import EditError, FormatError
from escalera.lazy_dataclasses import dataclass
from escalera.services.song_index import SongIndex
from escalera.store import planning_store as kept
from escalera.store.database import Database
from escalera.store.planning_store import SetState

SET_FORMAT = "escalera-set"
MAX_SET_BYTES = 2_000_000


@dataclass(frozen=True, slots=True)
class ToldSet:
    """A set with how it runs and what is said about it."""

    id: int
    state_id: int
    document: SongSet
    read: ReadSet
    findings: tuple[SetFinding, ...]
    can_undo: bool
    can_redo: bool

    @property
    def proposed(self) -> tuple[SetEntry, ...]:
        return tuple(e for e in self.document.entries if e.state == acts.PROPOSED)


@dataclass(frozen=True, slots=True)
class Suggested:
    """Another order: for which shape, the entries, what would be said of it then."""

    shape: str
    ids: tuple[int, ...]
    read: ReadSet
    findings: tuple[SetFinding, ...]


class SongSets:
    """All sets. Songs are known from the index, so that no document is opened."""

    def __init__(self, database: Database, index: SongIndex):
        self._database, self._index = database, index

    def all(self, deleted: bool = False) -> list[ToldSet]:
        with self._database.read() as session:
            states = kept.all_sets(session, deleted)
        return [self._told(state) for state in states]

    def get(self, set_id: int) -> ToldSet:
        """A set. Raises NotFound."""
        with self._database.read() as session:
            state = kept.set_state(session, set_id)
        return self._told(state)

    def make(self, name: str, kind: str = "album") -> int:
        """A new, empty set; its id. Raises EditError."""
        made = SongSet(clean_name(name, "name of the set"), one_of(kind, list(KINDS), "kind of set"))
        return self._keep_new(made, f"{made.name} made")

    def _keep_new(self, made: SongSet, said: str) -> int:
        with self._database.write() as session:
            return kept.make_set(session, made.name, set_to_plain(made), said)

    def change(self, set_id: int, act: Callable[[SongSet], Done]) -> str:
        """Do something with a set, as a step that can be undone; what was done. Raises EditError, NotFound."""
        with self._database.write() as session:
            before = set_from_plain(kept.set_state(session, set_id).document)
            after, said = act(before)
            if after != before:
                kept.append_state(session, set_id, after.name, set_to_plain(after), said)
        return f"{said}."

    def step(self, set_id: int, forward: bool) -> str:
        """Undo, or do again. Raises EditError where there is nothing."""
        with self._database.write() as session:
            kept.set_state(session, set_id)
            said = kept.step_set(session, set_id, forward)
        if said is None:
            raise EditError(f"There is nothing to {'redo' if forward else 'undo'}. The set stays as it is.")
        return f"{'Done again' if forward else 'Undone'}: {said}."

    def history(self, set_id: int) -> list[tuple[datetime, str, bool]]:
        with self._database.read() as session:
            return kept.set_history(session, set_id)

    def set_deleted(self, set_id: int, deleted: bool) -> str:
        with self._database.write() as session:
            name = kept.set_deleted(session, set_id, deleted)
        return f"{name} {'put away' if deleted else 'is back'}."

    def suggestions(self, set_id: int, fixed: list[int]) -> list[Suggested]:
        """Another order for every shape, where it differs from the present one. `fixed` entries keep their places."""
        told = self.get(set_id)
        facts, entries = self._facts(told.document), told.document.running
        rows = []
        for key in SET_SHAPES:
            ids = best_order(entries, facts, key, fixed)
            if ids != [e.id for e in entries]:
                after, _ = acts.in_order(told.document, ids, "")
                read = read_set(after, facts)
                rows.append(Suggested(key, tuple(ids), read, tuple(set_findings(read))))
        return rows

    def title(self, entry: SetEntry) -> str:
        """What the song of an entry is called; where it is gone, its number."""
        return self._index.all().titles.get(entry.song_id, f"song {entry.song_id}")

    def read_in(self, data: bytes) -> int:
        """A set from a file that was written out, its songs found by their titles; its id. Raises FormatError."""
        if len(data) > MAX_SET_BYTES:
            raise FormatError(f"The file has {len(data):,} bytes; a set has at most {MAX_SET_BYTES:,}.")
        try:
            plain = parse_json(data)
        except ValueError:
            raise FormatError("The file is no set: it cannot be read as JSON.") from None
        if (
            not isinstance(plain, dict)
            or plain.get("format") != SET_FORMAT
            or not isinstance(plain.get("titles"), dict)
        ):
            raise FormatError("The file is no set that Escalera wrote.")
        found = set_from_plain(plain.get("set"))
        by_title = {title.casefold(): i for i, title in reversed(list(self._index.all().titles.items()))}
        titles = {str(k): str(v).casefold() for k, v in plain["titles"].items()}
        missing = [t for t in titles.values() if t not in by_title]
        if missing and len(missing) == len(titles):
            raise FormatError("None of its songs is on the shelf. Import the songs first.")
        entries = tuple(
            _with_song(e, by_title[titles[str(e.song_id)]])
            for e in found.entries
            if titles.get(str(e.song_id)) in by_title
        )
        there = {e.id for e in entries}
        orders = tuple(
            acts.SetOrder(o.name, tuple(i for i in o.entries if i in there), o.who, o.reason) for o in found.orders
        )
        made = SongSet(found.name, found.kind, entries, orders, found.wanted_min, found.next_id)
        return self._keep_new(
            made, f"{made.name} read in" + (f", {len(missing)} songs are not on the shelf" if missing else "")
        )

    def as_json(self, set_id: int) -> str:
        """The set as a file that can be read in again, its songs by their titles."""
        told = self.get(set_id)
        titles = {str(e.song_id): self.title(e) for e in told.document.entries}
        plain = {"format": SET_FORMAT, "set": set_to_plain(told.document), "titles": titles}
        return json.dumps(plain, indent=1, ensure_ascii=False) + "\n"

    def as_csv(self, set_id: int) -> str:
        """The running order as a table."""
        told = self.get(set_id)
        out = io.StringIO()
        rows = csv.writer(out)
        rows.writerow(
            ("place", "title", "begins", "length", "gap_s", "tempo_bpm", "key", "energy", "proposed by", "note")
        )
        for number, p in enumerate(told.read.songs, 1):
            f = p.facts
            rows.writerow((
                number, neutral_cell(f.title), clock(p.begins_s), clock(f.seconds), f"{p.entry.gap_s:g}", f"{f.tempo_bpm:g}",
                str(parse_key(f.key)), f"{f.mean:.1f}", neutral_cell(p.entry.who), neutral_cell(p.entry.note),
            ))  # fmt: skip
        return out.getvalue()

    def _facts(self, document: SongSet) -> dict[int, SongFacts]:
        return self._index.all(needed={e.song_id for e in document.entries}).by_id

    def _told(self, state: SetState) -> ToldSet:
        found = set_from_plain(state.document)
        read = read_set(found, self._facts(found))
        return ToldSet(
            state.set_id, state.state_id, found, read, tuple(set_findings(read)), state.can_undo, state.can_redo
        )


def _with_song(entry: SetEntry, song_id: int) -> SetEntry:
    return SetEntry(entry.id, song_id, entry.gap_s, entry.who, entry.state, entry.note)


def set_report(told: ToldSet) -> dict[str, Any]:
    """A set as plain data, for the command line."""
    read = told.read
    return {
        "id": told.id, "name": told.document.name, "kind": told.document.kind, "seconds": round(read.seconds, 2),
        "gaps_s": round(read.gaps_s, 2),
        "songs": [
            {"place": i, "title": p.facts.title, "begins_s": round(p.begins_s, 2), "seconds": p.facts.seconds, "key": p.facts.key,
             "tempo_bpm": p.facts.tempo_bpm, "energy": round(p.facts.mean, 2)}
            for i, p in enumerate(read.songs, 1)
        ],
        "joins": [j.said for j in read.joins],
        "findings": [{"check": SET_CHECKS[f.check].title, "said": f.said, "remedy": f.remedy} for f in told.findings],
        "missing": len(read.missing),
    }  # fmt: skip
