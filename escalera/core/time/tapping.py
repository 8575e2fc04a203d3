"""A tempo from taps: a straight line through numbered taps, with how sure it is.

Taps are numbered by whole beats (a missed tap leaves a number out), and the beat is the slope of the least-squares line
through them; its 95 % interval comes from the scatter about the line. Averaging intervals would use the first and the
last tap only.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
LONGEST_S, SHORTEST_S = 3.0, 0.1  # a longer silence begins a new run; a shorter gap is the same tap
LOW_BPM, HIGH_BPM = 30.0, 300.0
USUAL_JITTER_S, USUAL_WORTH = 0.02, 2.0  # scatter assumed before there is any to see, worth so many taps
MAX_TAPS = 512
T_95 = 2.1  # half-width of the interval in standard errors; covers 95 % from eight taps on


@dataclass(frozen=True, slots=True)
class TapReading:
    """Beats a minute with its 95 % interval, the taps used, and what else could be meant.

    `offers` are round tempos inside the interval; `half` and `double` are None outside 30 to 300.
    """

    bpm: float
    low_bpm: float
    high_bpm: float
    taps: int
    half: float | None
    double: float | None
    offers: tuple[float, ...]
    said: str

    @property
    def uncertainty_bpm(self) -> float:
        return (self.high_bpm - self.low_bpm) / 2


def read_taps(times_s: Sequence[float]) -> TapReading:
    """The tempo of the last run of taps, times in seconds in rising order. Raises InputError for fewer than two."""
    if len(times_s) > MAX_TAPS:
        times_s = times_s[-MAX_TAPS:]
    if not all(math.isfinite(t) for t in times_s) or any(b < a for a, b in zip(times_s, times_s[1:])):
        raise InputError("The taps are not in the order of time. Tap again from the start.")
    run = _last_run(times_s)
    if len(run) < 2:
        raise InputError(_too_few(times_s))
    number, kept = _numbered(np.array(run))
    beat, error = _line(number, kept)
    bpm = 60.0 / beat
    if not LOW_BPM <= bpm <= HIGH_BPM:
        near = "Tap every second beat." if bpm > HIGH_BPM else "Tap every beat, or the eighths."
        raise InputError(f"The taps come at {bpm:.0f} a minute, outside {LOW_BPM:.0f} to {HIGH_BPM:.0f}. {near}")
    low, high = 60.0 / (beat + error), 60.0 / max(beat - error, 1e-3)
    return TapReading(
        round(bpm, 2),
        low,
        high,
        len(kept),
        _inside(bpm / 2),
        _inside(bpm * 2),
        _round(bpm, low, high),
        _said(len(kept), high - low),
    )


def _last_run(times_s: Sequence[float]) -> list[float]:
    """The taps since the last long silence, double hits as one."""
    run: list[float] = []
    for t in times_s:
        if run and t - run[-1] > LONGEST_S:
            run = []
        if not run or t - run[-1] >= SHORTEST_S:
            run.append(t)
    return run


def _too_few(times_s: Sequence[float]) -> str:
    if len(times_s) >= 2:
        gap = times_s[-1] - times_s[-2]
        if gap > LONGEST_S:
            return (
                f"The last two taps are {_ago(gap)} apart; after {LONGEST_S:g} seconds counting starts again. Tap on."
            )
    return "One tap has no tempo yet. Tap on, at least twice; eight taps give a steady figure."


def _ago(seconds: float) -> str:
    for size, name in ((3600.0, "hour"), (60.0, "minute")):
        if seconds >= size:
            count = round(seconds / size, 1)
            return f"{count:g} {name}{'' if count == 1 else 's'}"
    return f"{seconds:.0f} seconds"


def _numbered(times: Floats) -> tuple[Floats, Floats]:
    """Whole beat numbers of the taps, and the taps; one that lies far off the line is left out."""
    gaps = np.diff(times)
    beat = float(np.median(gaps))
    numbers = np.concatenate(([0.0], np.cumsum(np.maximum(1.0, np.rint(gaps / beat)))))
    if len(times) < 5:
        return numbers, times
    slope, start = np.polyfit(numbers, times, 1)
    near = np.abs(times - (start + slope * numbers)) < 0.3 * slope
    return (numbers[near], times[near]) if near.sum() >= 4 else (numbers, times)


def _line(numbers: Floats, times: Floats) -> tuple[float, float]:
    """Seconds a beat and half of its 95 % interval."""
    centred = numbers - numbers.mean()
    spread = float(centred @ centred)
    beat = float(centred @ times) / spread
    off = times - times.mean() - beat * centred
    freedom = max(0, len(times) - 2)
    scatter = math.sqrt((float(off @ off) + USUAL_WORTH * USUAL_JITTER_S**2) / (freedom + USUAL_WORTH))
    return beat, T_95 * scatter / math.sqrt(spread)


def _inside(bpm: float) -> float | None:
    return round(bpm, 2) if LOW_BPM <= bpm <= HIGH_BPM else None


def _round(bpm: float, low: float, high: float) -> tuple[float, ...]:
    """The nearest round tempos inside the interval, the roundest last: 127.6 gives 127.5, 128 and 130 where it may be."""
    found = []
    for step in (0.5, 1.0, 2.0, 5.0):
        near = round(bpm / step) * step
        if (low <= near <= high or step == 1.0) and near not in found:
            found.append(near)
    return tuple(found)


def _said(taps: int, width: float) -> str:
    if taps < 4:
        return "the first taps are rarely right: go on"
    if width > 6:
        return "still loose: go on"
    return "steady" if width < 2 else "getting steady"
