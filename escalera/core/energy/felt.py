"""Felt bars: the spans over which energy is felt, whatever the notation.

A felt bar is the notated bar halved or doubled until it lasts at least 1.3 s and less than 2.6 s. Writing the
same music at twice the tempo with doubled note values gives the same felt bars, so energy does not change.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.reading.timeline import Grid
from escalera.lazy_dataclasses import dataclass

SHORTEST_S, LONGEST_S = 1.3, 2.6


@dataclass(frozen=True, eq=False)
class FeltBars:
    """Edges of the felt bars of one section, in ticks and seconds from its start; shape (n + 1,)."""

    ticks: NDArray[np.int64]
    seconds: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.ticks) - 1

    @property
    def lengths_s(self) -> NDArray[np.float64]:
        """Length of every felt bar in seconds, shape (n,)."""
        return np.diff(self.seconds)

    def over(self, edges_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """Weights (m, n) that average felt bars over m other spans given by their edges in seconds.

        `edges_s` has m+1 rising edges; rows add up to 1 where the span touches any felt bar.
        """
        low = np.maximum(edges_s[:-1, None], self.seconds[None, :-1])
        high = np.minimum(edges_s[1:, None], self.seconds[None, 1:])
        weight = np.maximum(high - low, 0.0)
        return weight / np.maximum(weight.sum(axis=1, keepdims=True), 1e-12)


@lru_cache(maxsize=1024)
def felt_bars(grid: Grid) -> FeltBars:
    """The felt bars of a section, counted from its start; a remainder shorter than half joins the one before."""
    bar_ticks = grid.bar_ticks[1]
    seconds = grid.seconds_at(bar_ticks)
    ticks = float(bar_ticks)
    while seconds < SHORTEST_S:
        seconds, ticks = seconds * 2, ticks * 2
    while seconds >= LONGEST_S:
        seconds, ticks = seconds / 2, ticks / 2
    count = max(1, round(grid.length_ticks / ticks))
    edges = np.rint(np.minimum(np.arange(count + 1) * ticks, grid.length_ticks)).astype(np.int64)
    edges[-1] = grid.length_ticks
    return FeltBars(edges, np.array([grid.seconds_at(int(t)) for t in edges]))
