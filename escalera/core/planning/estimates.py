"""How long a step takes: out of what such steps took before, so that one odd morning does not count for much."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from escalera.lazy_dataclasses import dataclass

USUAL_COUNTS = 3.0  # so many steps the usual figure weighs: few own ones move it a little, many decide
USUAL_SPREAD = 0.5  # of the logarithm: half of all such steps lie within 0.71 to 1.4 times the middle
LEAST_SPREAD = 0.15
NEWEST = 40  # own steps that are looked at: habits change
TO_QUARTILE = 0.6745  # of a normal distribution's spread
TO_SPREAD = 1.4826  # of a median deviation, to that spread
SHORTEST_MIN, LONGEST_MIN = 1.0, 480.0


@dataclass(frozen=True, slots=True)
class Estimate:
    """Minutes that a step is likely to take: the middle, the range in which half of such steps lie, and on how many of one's own
    it rests."""

    minutes: int
    low: int
    high: int
    count: int

    @property
    def said(self) -> str:
        """The estimate in words."""
        own = f"from {self.count} such {'step' if self.count == 1 else 'steps'}" if self.count else "a usual figure"
        return f"about {self.minutes} min ({self.low} to {self.high}, {own})"


def estimate(usual_min: float, took_min: Sequence[float]) -> Estimate:
    """From a usual figure and what such steps took, in minutes, the newest last.

    Medians of logarithms: times are skewed, and a morning that was interrupted says nothing of the next. The usual figure weighs
    as three steps, so that it fades as own ones come.
    """
    own = np.log(np.clip(np.asarray(took_min[-NEWEST:], float), SHORTEST_MIN, LONGEST_MIN))
    count = len(own)
    middle, spread = np.log(usual_min), USUAL_SPREAD
    if count:
        own_middle = float(np.median(own))
        deviation = TO_SPREAD * float(np.median(np.abs(own - own_middle)))
        middle = (USUAL_COUNTS * middle + count * own_middle) / (USUAL_COUNTS + count)
        spread = np.sqrt((USUAL_COUNTS * USUAL_SPREAD**2 + count * deviation**2) / (USUAL_COUNTS + count))
    reach = TO_QUARTILE * max(LEAST_SPREAD, float(spread))
    low, high = float(np.exp(middle - reach)), float(np.exp(middle + reach))
    return Estimate(_said(float(np.exp(middle))), _said(low), max(_said(high), _said(low) + 1), count)


def _said(minutes: float) -> int:
    """As one would say it: single minutes below 10, fives below an hour, tens above."""
    step = 1 if minutes < 10 else 5 if minutes < 60 else 10
    return max(1, step * round(minutes / step))
