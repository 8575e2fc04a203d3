"""Music as it was played: notes of parts over bar lines, before anybody says what it is."""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
EARLY_TICKS = 120  # a note up to a thirty-second before a bar line is meant for the bar after it
FURTHEST_TICKS, ALIKE_TICKS = (
    140,
    60,
)  # two notes may be the same one, played twice: at most so far apart, on the whole so far
PLAYED_NOTES = 32  # fewer notes say nothing about a hand
CRASHES = frozenset((49, 55, 57, 52))


@dataclass(frozen=True, eq=False)
class PlayedPart:
    """One part: its notes (n, 4) of start tick, end tick, MIDI pitch and velocity, by start; drums have no harmony."""

    notes: Ints
    is_drum: bool
    name: str = ""


@dataclass(frozen=True, eq=False)
class Played:
    """Parts over bar lines: `bar_ticks` has one more than there are bars, `metres` one a bar."""

    parts: tuple[PlayedPart, ...]
    bar_ticks: tuple[int, ...]
    metres: tuple[Metre, ...]

    @property
    def bars(self) -> int:
        return len(self.metres)

    def bar_of(self, starts: Ints) -> Ints:
        """Bar from 0 that every start tick is meant for, shape (n,): what comes a little early belongs to the next."""
        edges = np.array(self.bar_ticks, np.int64)
        return np.clip(np.searchsorted(edges, starts + EARLY_TICKS, side="right") - 1, 0, self.bars - 1)

    @cached_property
    def by_bar(self) -> tuple[tuple[Ints, ...], ...]:
        """Notes of every part in every bar, (n, 4): start in the bar (0 for early ones), length, pitch, velocity."""
        found, edges = [], np.array(self.bar_ticks, np.int64)
        for part in self.parts:
            bars = self.bar_of(part.notes[:, 0])
            table = part.notes.copy()
            table[:, 1] -= table[:, 0]
            table[:, 0] = np.maximum(table[:, 0] - edges[bars], 0)
            cuts = np.searchsorted(bars, np.arange(self.bars + 1)).tolist()
            found.append(tuple(table[low:high] for low, high in zip(cuts, cuts[1:])))
        return tuple(found)

    @cached_property
    def kinds(self) -> Ints:
        """A number for what every part plays in every bar, shape (parts, bars): equal where it is the same but for its feel,
        -1 where it is silent."""
        return np.array([bar_kinds(rows)[0] for rows in self.by_bar], np.int64).reshape(len(self.parts), self.bars)

    @cached_property
    def classes(self) -> NDArray[np.bool_]:
        """Which pitch classes every part plays in every bar, shape (parts, bars, 12)."""
        found = np.zeros((len(self.parts), self.bars, 12), bool)
        for i, part in enumerate(self.parts):
            found[i, self.bar_of(part.notes[:, 0]), part.notes[:, 2] % 12] = True
        return found


def same_bar(a: Ints, b: Ints, shift: int = 0) -> bool:
    """Whether two bars are the same notes, b higher by `shift` semitones, but for timing, velocity and length."""
    if len(a) != len(b):
        return False
    first, second = (x[np.lexsort((x[:, 0], x[:, 2]))] for x in (a, b))
    if not np.array_equal(first[:, 2] + shift, second[:, 2]):
        return False
    apart = np.abs(first[:, 0] - second[:, 0])
    return bool(apart.max() <= FURTHEST_TICKS and apart.mean() <= ALIKE_TICKS)


def bar_kinds(rows: tuple[Ints, ...]) -> tuple[list[int], list[int]]:
    """A number for every bar of a part, -1 where it is silent, and the bar that stands for each number: the one whose timing
    lies nearest to the middle of its like."""
    kinds: list[list[int]] = []
    by_pitches: dict[tuple[int, ...], list[int]] = {}
    numbers = []
    for bar, row in enumerate(rows):
        if not len(row):
            numbers.append(-1)
            continue
        pitches = tuple(sorted(row[:, 2].tolist()))
        near = by_pitches.setdefault(pitches, [])
        number = next((k for k in near if same_bar(rows[kinds[k][0]], row)), None)
        if number is None:
            number = len(kinds)
            kinds.append([])
            near.append(number)
        kinds[number].append(bar)
        numbers.append(number)
    return numbers, [_typical(rows, bars) for bars in kinds]


def _typical(rows: tuple[Ints, ...], bars: list[int]) -> int:
    if len(bars) < 3:
        return bars[0]
    sorted_rows = [rows[b][np.lexsort((rows[b][:, 0], rows[b][:, 2]))] for b in bars[:64]]
    starts, lengths = (np.stack([r[:, c] for r in sorted_rows]) for c in (0, 1))
    middle = [np.abs(x - np.median(x, axis=0)).sum(axis=1) for x in (starts, lengths)]
    return bars[int(np.argmin(middle[0] + 0.25 * middle[1]))]


def _off_grid(part: Ints, grid_ticks: int) -> Ints:
    return (part[:, 0] + grid_ticks // 2) % grid_ticks - grid_ticks // 2


def is_performed(part: Ints) -> bool:
    """Whether a part (n, 4) was played by hand: most of its notes lie beside every usual grid, yet near one."""
    if len(part) < PLAYED_NOTES:
        return False
    off = np.minimum(np.abs(_off_grid(part, 240)), np.abs(_off_grid(part, 160)))
    return bool((off > 3).mean() > 0.5)
