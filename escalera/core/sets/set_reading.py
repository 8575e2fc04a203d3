"""A set as it runs: when each song begins, how energy, tempo and key go on, and what the joins between songs are like."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from escalera.core.planning.song_facts import Edge, SongFacts
from escalera.core.sets.song_set import SetEntry, SongSet
from escalera.lazy_dataclasses import dataclass

SAME_TEMPO = 0.02  # of the tempo: less is not noticed
SEAMLESS_S = 1.5  # silence below which two songs are heard as following each other directly
FIFTHS = (0, 5, 2, 3, 4, 1, 6)  # steps on the circle of fifths by semitones apart, 0 to 6


@dataclass(frozen=True, slots=True)
class Placed:
    """A song at its place: its entry, what is known of it, where it begins and ends in seconds of the set."""

    entry: SetEntry
    facts: SongFacts
    begins_s: float

    @property
    def ends_s(self) -> float:
        return self.begins_s + self.facts.seconds


@dataclass(frozen=True, slots=True)
class SongJoin:
    """From the end of one song to the beginning of the next: what changes, and how much silence is between them.

    `tempo_ratio` is the nearest of the change itself, half and double time; `fifths` how far the keys lie apart on the circle (a
    relative key is 0), `semitones` how far the tonics do, 0 to 6.
    """

    before: Placed
    after: Placed
    silent_s: float
    energy: float
    tempo_ratio: float
    tempo_feel: str
    fifths: int
    semitones: int
    same_key: bool

    @property
    def seamless(self) -> bool:
        return self.silent_s < SEAMLESS_S

    @property
    def said(self) -> str:
        """All of it in words."""
        return f"{self._tempo()}; {self._key()}; energy {self._ends().common:.1f} → {self._begins().common:.1f}; {self.silent_s:.1f} s of silence"

    def _ends(self) -> Edge:
        assert self.before.facts.last is not None
        return self.before.facts.last

    def _begins(self) -> Edge:
        assert self.after.facts.first is not None
        return self.after.facts.first

    def _tempo(self) -> str:
        old, new = self._ends().tempo_bpm, self._begins().tempo_bpm
        if abs(self.tempo_ratio - 1) <= SAME_TEMPO:
            return f"{old:.0f} bpm goes on" if not self.tempo_feel else f"{old:.0f} → {new:.0f} bpm, {self.tempo_feel}"
        change = f"{100 * (self.tempo_ratio - 1):+.0f} %".replace("-", "−")
        return f"{old:.0f} → {new:.0f} bpm ({change}{', ' + self.tempo_feel if self.tempo_feel else ''})"

    def _key(self) -> str:
        if self.same_key:
            return "the same key"
        if self.fifths == 0:
            return "the relative key"
        return {1: "a fifth away", 2: "two fifths away"}.get(self.fifths, f"{self.fifths} fifths away")


@dataclass(frozen=True, slots=True)
class ReadSet:
    """A set as it runs. `missing` are entries whose song is gone or cannot be read."""

    kind: str
    wanted_s: float
    songs: tuple[Placed, ...]
    joins: tuple[SongJoin, ...]
    missing: tuple[SetEntry, ...]

    @property
    def seconds(self) -> float:
        return self.songs[-1].ends_s if self.songs else 0.0

    @property
    def gaps_s(self) -> float:
        return sum(b.begins_s - a.ends_s for a, b in zip(self.songs, self.songs[1:]))


def read_set(found: SongSet, facts: Mapping[int, SongFacts]) -> ReadSet:
    """How a set runs, from what is known of its songs by their ids."""
    entries = found.running
    songs = place(entries, facts)
    missing = tuple(e for e in entries if e.song_id not in facts)
    joins = tuple(join(a, b) for a, b in zip(songs, songs[1:]))
    return ReadSet(found.kind, 60.0 * found.wanted_min, songs, joins, missing)


def place(entries: Sequence[SetEntry], facts: Mapping[int, SongFacts]) -> tuple[Placed, ...]:
    """Songs one after the other with their gaps; those nothing is known of are left out."""
    at, rows = 0.0, []
    for entry in entries:
        if entry.song_id in facts:
            rows.append(Placed(entry, facts[entry.song_id], at))
            at = rows[-1].ends_s + entry.gap_s
    return tuple(rows)


def join(before: Placed, after: Placed) -> SongJoin:
    """The join between two songs that follow each other."""
    ends, begins = before.facts.last, after.facts.first
    if ends is None or begins is None:
        return SongJoin(before, after, before.entry.gap_s, 0.0, 1.0, "", 0, 0, False)
    ratio, feel = nearest_ratio(ends.tempo_bpm, begins.tempo_bpm)
    silent = ends.silent_s + before.entry.gap_s + begins.silent_s
    apart = (begins.tonic_class - ends.tonic_class) % 12
    same = (ends.tonic_class, ends.minor) == (begins.tonic_class, begins.minor)
    return SongJoin(
        before,
        after,
        round(silent, 2),
        round(begins.common - ends.common, 2),
        ratio,
        feel,
        fifths_apart(ends.tonic_class, ends.minor, begins.tonic_class, begins.minor),
        min(apart, 12 - apart),
        same,
    )


def nearest_ratio(old_bpm: float, new_bpm: float) -> tuple[float, str]:
    """How the tempo changes, as it is felt: as it is, or as half or double time where that is nearer than 1."""
    ways = ((new_bpm / old_bpm, ""), (new_bpm / old_bpm / 2, "double time"), (2 * new_bpm / old_bpm, "half time"))
    return min(ways, key=lambda way: abs(math.log(way[0])) + (0.1 if way[1] else 0.0))


def fifths_apart(tonic: int, minor: bool, other: int, other_minor: bool) -> int:
    """Steps between two keys on the circle of fifths, a minor key counted by its relative major."""
    apart = ((other + 3 * other_minor) - (tonic + 3 * minor)) % 12
    return FIFTHS[min(apart, 12 - apart)]
