"""The tempo of what was played before anybody counted: where chords change and basses fall says which of its multiples is felt."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
LOW_BPM, HIGH_BPM, USUAL_BPM = 58.0, 176.0, 104.0
GRIDS = ((480, 0.0), (240, 9.0))  # ticks, and what a finer one costs in ms
UNUSUAL_MS, STRONG_MS, CHANGE_MS, PLAIN_MS = 7.0, 14.0, 16.0, 6.0
# what beats of a bar a strong onset is worth on, and what distance in beats harmony usually changes at
ON_BEAT = {0: 1.0, 2: 0.6, 1: 0.25, 3: 0.25}
CHANGES = {4: 1.0, 2: 0.8, 8: 0.45, 3: 0.3, 1: 0.2, 6: 0.2}
SPARSE_TICKS, SPARSE_MS = 1200.0, 8.0  # a tune alone whose notes lie further apart is sooner felt half as fast
RATIOS = (0.25, 1 / 3, 0.5, 2 / 3, 0.75, 1.0, 4 / 3, 1.5, 2.0, 3.0, 4.0)


def played_tempo(onsets: Sequence[float], strong: Sequence[float]) -> tuple[float, int, float]:
    """Tempo in bpm, grid in ticks, and mean distance from its steps (in steps), of onsets in seconds that begin on the one.

    `strong` are those that carry harmony: chords, or the lowest notes. At least three onsets are needed.
    """
    times = np.asarray(onsets, float) - onsets[0]
    heavy = np.asarray(strong, float) - onsets[0]
    best = (np.inf, USUAL_BPM, 480, 1.0)
    for start in _candidates(times, heavy):
        for tempo in start * np.linspace(0.96, 1.04, 33):
            for grid, cost in GRIDS:
                score, off = _score(times, heavy, float(tempo), grid)
                if score + cost < best[0]:
                    best = (score + cost, float(tempo), grid, off)
    return best[1], best[2], best[3]


def _candidates(times: Floats, heavy: Floats) -> list[float]:
    """Tempos that the distances of onsets suggest, and their simple multiples."""
    found: set[float] = set()
    for row in (times, heavy):
        gaps = np.diff(row)
        gaps = gaps[gaps > 0.08]
        for size in {round(float(g), 2) for g in (*np.percentile(gaps, (15, 50, 85)), gaps.min())} if len(gaps) else ():
            found |= {round(60.0 / size * ratio, 1) for ratio in RATIOS}
    inside = sorted(t for t in found if LOW_BPM <= t <= HIGH_BPM)
    return [t for i, t in enumerate(inside) if i == 0 or t / inside[i - 1] > 1.015] or [USUAL_BPM]


def _score(times: Floats, heavy: Floats, tempo: float, grid: int) -> tuple[float, float]:
    places = times * tempo / 60.0 * 960.0
    angle = np.exp(2j * np.pi * places / grid).mean()
    lag = float(-np.angle(angle) / (2 * np.pi) * grid) if abs(angle) > 0.3 else 0.0
    steps = (places + lag) / grid
    off = np.abs(steps - np.rint(steps))
    spread_ms = float(np.sqrt((off**2).mean())) * grid / 960.0 * 60_000.0 / tempo
    score = spread_ms + UNUSUAL_MS * abs(float(np.log2(tempo / USUAL_BPM)))
    beats = np.rint((heavy * tempo / 60.0) * 2) / 2
    score -= STRONG_MS * float(np.mean([ON_BEAT.get(b % 4, 0.0) for b in beats])) if len(beats) else 0.0
    apart = np.diff(beats)
    score -= CHANGE_MS * float(np.mean([CHANGES.get(d, 0.0) for d in apart])) if len(apart) else 0.0
    between = np.rint(places / 480.0).astype(int) % 2 == 1
    if len(times) >= 8 and between.mean() < 0.12:
        score += PLAIN_MS  # nothing between the beats: it is sooner felt half as fast
    if not len(heavy) and len(times) > 4 and float(np.mean(np.diff(places))) > SPARSE_TICKS:
        score += SPARSE_MS
    return score, float(off.mean())
