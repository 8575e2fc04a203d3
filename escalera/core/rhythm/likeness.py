"""How alike two beats are: a distance on onsets by what plays them and how hard.

Every drum belongs to a voice of the beat: low, middle, clap and rim, time-keeping, colour. A hit is a small bump (a thirty-second wide) in
its voice's row over the bars, as high as its velocity. The distance is the sum of what differs, divided by the bars, voices
weighed as a listener hears them; the second beat may be turned by whole beats, and every beat of turning costs. It is
symmetric, and zero only for beats that sound alike. Beats of other metres are not compared.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from math import lcm
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from escalera.core.rhythm.beat import Beat, tiled

VOICES: dict[str, tuple[float, tuple[str, ...]]] = {
    "low": (1.0, ("kick", "low tom", "low hand drum")),
    "middle": (1.0, ("snare", "clap", "rim", "snap", "mid tom")),
    "time": (0.35, ("closed hat", "ride", "shaker")),
    "colour": (0.3, ("open hat", "crash", "cowbell", "click", "high tom", "high hand drum")),
}
VOICE_OF = {drum: i for i, (_, drums) in enumerate(VOICES.values()) for drum in drums}
WEIGHTS = np.array([weight for weight, _ in VOICES.values()])
STEP_TICKS = 40
TURN_COST = 0.8
MAX_BARS = 4
T = TypeVar("T")


@lru_cache(maxsize=1024)
def _rows(played: Beat, bars: int) -> NDArray[np.float64]:
    """The beat as rows of its voices over `bars`, shape (4, steps)."""
    length = bars * played.metre.bar_ticks
    rows = np.zeros((len(VOICES), length // STEP_TICKS))
    for hit in tiled(played, length).hits:
        centre, row = hit.tick / STEP_TICKS, rows[VOICE_OF[hit.drum]]
        height = (hit.velocity / 100.0) ** 0.7
        for step in range(int(centre) - 2, int(centre) + 4):
            bump = height * max(0.0, 1.0 - abs(step - centre) / 3.0)
            row[step % len(row)] = max(row[step % len(row)], bump)
    rows.setflags(write=False)
    return rows / 3.0  # a bump sums to its height


def distance(a: Beat, b: Beat) -> float | None:
    """How far two beats are apart, in hits a bar that differ; None in different metres."""
    if a.metre.bar_ticks != b.metre.bar_ticks:
        return None
    bars = min(MAX_BARS, lcm(a.bars, b.bars))
    x, y = _rows(a, bars), _rows(b, bars)
    beats = a.metre.beats
    turn = a.metre.beat_ticks // STEP_TICKS
    best = np.inf
    for shift in range(-(beats // 2), beats // 2 + 1):
        apart = float(WEIGHTS @ np.abs(x - np.roll(y, shift * turn, axis=1)).sum(axis=1)) / bars
        best = min(best, apart + TURN_COST * abs(shift))
    return round(best, 4)


def nearest(played: Beat, others: Sequence[tuple[T, Beat]], limit: int = 6) -> list[tuple[T, float]]:
    """The items whose beats lie nearest, nearest first."""
    found = [(item, d) for item, other in others if (d := distance(played, other)) is not None]
    return sorted(found, key=lambda row: row[1])[:limit]
