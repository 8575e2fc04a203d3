"""How alike two beats are: a distance on onsets by what plays them and how hard.

Every drum belongs to a voice of the beat: low, middle, clap and rim, time-keeping, colour. A hit is a small bump (a thirty-second wide) in
its voice's row over the bars, as high as its velocity. The distance is the sum of what differs, divided by the bars, voices
weighed as a listener hears them; the second beat may be turned by whole beats, and every beat of turning costs. It is
symmetric, and zero only for beats that sound alike. Beats of other metres are not compared.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
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
    return _distances(a, [b])[0]


def _distances(played: Beat, others: Sequence[Beat]) -> list[float | None]:
    """The distance to every other beat; those that need as many bars are compared at once."""
    found: list[float | None] = [None] * len(others)
    groups: dict[int, list[int]] = {}
    for i, other in enumerate(others):
        if other.metre.bar_ticks == played.metre.bar_ticks:
            groups.setdefault(min(MAX_BARS, lcm(played.bars, other.bars)), []).append(i)
    turn, reach = played.metre.beat_ticks // STEP_TICKS, played.metre.beats // 2
    for bars, members in groups.items():
        x, y = _rows(played, bars), np.stack([_rows(others[i], bars) for i in members])
        apart = [
            np.abs(np.roll(x, shift * turn, axis=1) - y).sum(axis=2) @ WEIGHTS / bars + TURN_COST * abs(shift)
            for shift in range(-reach, reach + 1)
        ]
        for i, value in zip(members, np.min(apart, axis=0)):
            found[i] = round(float(value), 4)
    return found


def folded(played: Beat) -> Beat:
    """A beat as two pads play it: what is low on the kick, what is struck in the middle on the snare, the rest left out."""
    drums = {d: to for key, to in (("low", "kick"), ("middle", "snare")) for d in VOICES[key][1]}
    return played.with_hits(replace(h, drum=drums[h.drum]) for h in played.hits if h.drum in drums)


def nearest(played: Beat, others: Sequence[tuple[T, Beat]], limit: int = 6) -> list[tuple[T, float]]:
    """The items whose beats lie nearest, nearest first."""
    apart = _distances(played, [other for _, other in others])
    found = [(item, d) for (item, _), d in zip(others, apart) if d is not None]
    return sorted(found, key=lambda row: row[1])[:limit]
