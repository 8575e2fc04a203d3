"""Where a line is written: a stretch of a section with its metre, its chords and what else plays there."""

from __future__ import annotations

from bisect import bisect_right

from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Frame:
    """A stretch of `length_ticks` from its own tick 0.

    `chords` are (tick, chord) in the song's key, the first at or before 0; `kicks` are onsets of the kick; `other` are
    (start, end) of another line's notes, for what answers or locks. `bare` says that nobody wrote the chords: the tonic stands in.
    """

    length_ticks: int
    metre: Metre
    key: Key
    chords: tuple[tuple[int, Chord], ...]
    kicks: tuple[int, ...] = ()
    other: tuple[tuple[int, int], ...] = ()
    bare: bool = False

    def chord_at(self, tick: int) -> Chord:
        index = bisect_right([t for t, _ in self.chords], tick) - 1
        return self.chords[max(0, index)][1]

    def changes(self) -> list[tuple[int, int, Chord]]:
        """Start, end and chord of every change inside the stretch."""
        starts = [max(0, t) for t, _ in self.chords]
        ends = [*starts[1:], self.length_ticks]
        return [(a, b, c) for (a, b, (_, c)) in zip(starts, ends, self.chords) if a < b and a < self.length_ticks]

    def gaps(self, least_ticks: int) -> list[tuple[int, int]]:
        """Stretches of at least that length in which the other line is silent."""
        found, at = [], 0
        for start, end in sorted(self.other):
            if start - at >= least_ticks:
                found.append((at, start))
            at = max(at, end)
        if self.length_ticks - at >= least_ticks:
            found.append((at, self.length_ticks))
        return found
