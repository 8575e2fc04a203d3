"""The tempo map of a stretch of music: steps and glides between points, ticks to seconds and back.

A point that glides moves on a straight line, in quarters a minute over ticks, to the next point's tempo. Over a glide
from b0 to b1 in T ticks the time to tick t is 60/960 * ln(b(t)/b0) * T/(b1-b0), the integral of 60/(960 b).
"""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
FLAT = 1e-9  # a glide whose tempo changes by less than this share a tick is a step


class TempoPoint(NamedTuple):
    """From a tick on: quarters a minute, and whether it glides to the next point."""

    tick: int
    bpm: float
    glides: bool = False


@dataclass(frozen=True, eq=False)
class TempoMap:
    """Points as arrays: ticks, seconds and quarters a minute at every point, and the slope (bpm a tick) after it."""

    ticks: Floats
    seconds: Floats
    bpm: Floats
    slope: Floats

    def seconds_at(self, ticks: Floats) -> Floats:
        """Seconds from tick 0; negative ticks run at the first tempo."""
        segment = np.maximum(np.searchsorted(self.ticks, ticks, side="right") - 1, 0)
        into, b0, slope = ticks - self.ticks[segment], self.bpm[segment], self.slope[segment]
        slope = np.where(into < 0, 0.0, slope)
        curved = np.abs(slope) > FLAT
        safe = np.where(curved, slope, 1.0)
        glide = np.log1p(np.where(curved, into * slope / b0, 0.0)) / safe
        return self.seconds[segment] + 60.0 / TICKS_PER_QUARTER * np.where(curved, glide, into / b0)

    def ticks_at(self, seconds: Floats) -> Floats:
        """The inverse of `seconds_at`."""
        segment = np.maximum(np.searchsorted(self.seconds, seconds, side="right") - 1, 0)
        into, b0, slope = (
            (seconds - self.seconds[segment]) * TICKS_PER_QUARTER / 60.0,
            self.bpm[segment],
            self.slope[segment],
        )
        slope = np.where(into < 0, 0.0, slope)
        curved = np.abs(slope) > FLAT
        safe = np.where(curved, slope, 1.0)
        glide = b0 * np.expm1(np.where(curved, into * slope, 0.0)) / safe
        return self.ticks[segment] + np.where(curved, glide, into * b0)

    def bpm_at(self, tick: float) -> float:
        """Quarters a minute at a tick."""
        segment = max(int(np.searchsorted(self.ticks, tick, side="right")) - 1, 0)
        return float(self.bpm[segment] + self.slope[segment] * max(0.0, tick - self.ticks[segment]))


@lru_cache(maxsize=1024)
def tempo_map(points: tuple[TempoPoint, ...]) -> TempoMap:
    """The map of points in rising ticks, the first at tick 0 or before. The last point never glides."""
    ticks = np.array([p.tick for p in points], float)
    bpm = np.array([p.bpm for p in points], float)
    slope = np.zeros(len(points))
    for i, (here, there) in enumerate(zip(points, points[1:])):
        if here.glides:
            slope[i] = (there.bpm - here.bpm) / (there.tick - here.tick)
    plain = TempoMap(ticks, np.zeros(len(points)), bpm, slope)
    seconds = np.zeros(len(points))
    for i in range(1, len(points)):
        part = TempoMap(ticks[i - 1 : i], seconds[i - 1 : i], bpm[i - 1 : i], plain.slope[i - 1 : i])
        seconds[i] = part.seconds_at(ticks[i : i + 1])[0]
    return TempoMap(ticks, seconds, bpm, slope)
