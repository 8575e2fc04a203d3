"""Variations of a pattern that keep its character: thinner, twice as fast, backwards."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.rhythm.pattern import Pattern
from escalera.core.time.ticks import TICKS_PER_QUARTER


def metrical_weight(ticks: NDArray[np.int32]) -> NDArray[np.float64]:
    """How strong a position is: 4 on the half note, then 3, 2, 1, 0 down to the sixteenths; off-grid −1. `ticks` of any shape, from a bar line."""
    weight = np.full(len(ticks), -1.0)
    for level, step in enumerate((240, 480, 960, 1920, 3840)):
        weight[ticks % step == 0] = level
    return weight


def thin(pattern: Pattern, keep: float) -> Pattern:
    """Keep a share (0..1) of the onsets, weakest positions and softest notes going first; at least one stays."""
    if keep >= 1.0 or len(pattern) < 2:
        return pattern
    onsets = np.unique(pattern.start)
    loudness = np.array([pattern.rows[pattern.start == t, 5].max() for t in onsets])
    order = np.lexsort((onsets, -loudness, -metrical_weight(onsets)))
    stay = onsets[order[: max(1, round(len(onsets) * keep))]]
    return pattern.with_rows(pattern.rows[np.isin(pattern.start, stay)])


def double_time(pattern: Pattern) -> Pattern:
    """The same notes twice as fast, so that two cycles fill the old one."""
    rows = pattern.rows.copy()
    rows[:, 0] //= 2
    rows[:, 1] = np.maximum(1, rows[:, 1] // 2)
    return pattern.with_rows(rows, max(1, pattern.length_ticks // 2))


def backwards(pattern: Pattern) -> Pattern:
    """Onsets mirrored in the cycle on a sixteenth grid. Twice backwards is the pattern again (pickups excepted)."""
    rows = pattern.rows[pattern.start >= 0].copy()
    grid = TICKS_PER_QUARTER // 4
    rows[:, 0] = (pattern.length_ticks - grid - rows[:, 0]) % pattern.length_ticks
    return pattern.with_rows(rows)
