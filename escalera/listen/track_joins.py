"""What carries a join, found in the sound before and after a bar line: a row for each device, with how it is told and how surely."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from escalera.core.samples.reading import Onset
from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import Frames
from escalera.listen.tempo_found import FRAMES_A_SECOND

BEFORE_BEATS, AFTER_BEATS, USUAL_BEATS = 16, 4, 16
GAP_DB, LOW_OUT_DB, LOW_BACK_DB = 15.0, 11.0, 8.0
ROLL, ROLL_LEAST = 1.7, 3.0  # times as much as before begins, and onsets a beat at least
RISE_DB, RISES = 7.0, (16, 12, 8, 4)
FROM_THE_START = 0.15  # share of a rise that its first third has
EVEN, UNEVEN = 0.12, 0.3  # scatter about a straight rise, by what it rises
BEFORE_S = 0.03  # a window that ends so long before a beat has nothing of it yet
HIT_DB = 6.0
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class JoinFound:
    """A device of a join: which, how many beats before the one it begins (0 on the one), how sure, 0 to 1."""

    device: str
    beats_before: float
    confidence: float


@dataclass(frozen=True, eq=False)
class Around:
    """The sound round a bar line, beat by beat (rows; halves of a beat for levels).

    total_db (2 n,), low_db (2 n,), high_db (2 n,) : levels of all, below 150 Hz and above 5 kHz, of the BEFORE_BEATS before
    after_* : the same of the AFTER_BEATS from it on
    begins (n,) : how many onsets are in every beat before
    """

    total_db: Floats
    low_db: Floats
    high_db: Floats
    after_total_db: Floats
    after_low_db: Floats
    after_high_db: Floats
    begins: Floats


def joins_at(frames: Frames, onsets: tuple[Onset, ...], beats_s: Floats, beat: int) -> tuple[JoinFound, ...]:
    """What carries the join at a beat of a track."""
    count = min(BEFORE_BEATS, beat)
    if count < 8 or beat + 2 >= len(beats_s):
        return ()
    around = _around(frames, onsets, beats_s, beat, count)
    found = [rule(around) for rule in RULES.values()]
    return tuple(f for f in found if f is not None)


def _around(frames: Frames, onsets: tuple[Onset, ...], beats_s: Floats, beat: int, count: int) -> Around:
    halves = np.interp(
        np.arange(2 * (beat - count), 2 * min(beat + AFTER_BEATS, len(beats_s) - 1) + 1) / 2,
        np.arange(len(beats_s)),
        beats_s,
    )
    power = np.column_stack((frames.power.sum(axis=1), frames.zones[:, 0], frames.zones[:, 2]))
    total = np.concatenate((np.zeros((1, 3)), np.cumsum(power, axis=0)))
    low = np.clip(np.rint(halves[:-1] * FRAMES_A_SECOND).astype(int), 0, len(power))
    high = np.clip(np.rint((halves[1:] - BEFORE_S) * FRAMES_A_SECOND).astype(int), 0, len(power))
    level = 10.0 * np.log10((total[high] - total[low]) / np.maximum(high - low, 1)[:, None] + 1e-9)
    level = np.maximum(level, -75.0)
    times = np.array([o.at_s for o in onsets if o.strength > 0.2])
    begins = np.array(
        [
            float(((times >= a - 0.02) & (times < b - 0.02)).sum())
            for a, b in zip(beats_s[beat - count : beat], beats_s[beat - count + 1 : beat + 1])
        ]
    )
    before, after = level[: 2 * count].T, level[2 * count :].T
    return Around(before[0], before[1], before[2], after[0], after[1], after[2], begins)


def _usual(values: Floats, leave_out: int) -> float:
    """The usual level before the last part."""
    return float(np.median(values[:-leave_out]))


def _gap(a: Around) -> JoinFound | None:
    """Nothing sounds just before the one."""
    usual = _usual(a.total_db, 8)
    quiet = a.total_db < usual - GAP_DB
    length = 0
    while length < 8 and quiet[-1 - length]:
        length += 1
    if not length or a.after_total_db[:2].max(initial=-99.0) < usual - GAP_DB / 2:
        return None
    deep = usual - float(a.total_db[-length:].max())
    return JoinFound("gap", length / 2, _share(deep, GAP_DB, 30.0))


def _low_out(a: Around) -> JoinFound | None:
    """The low end is gone before the one and back on it."""
    usual = _usual(a.low_db, 8)
    length = 0
    while length < min(16, len(a.low_db) - 8) and a.low_db[-1 - length] < usual - LOW_OUT_DB:
        length += 1
    back = float(a.after_low_db[:2].max(initial=-99.0)) - float(a.low_db[-max(1, length) :].max())
    if length < 2 or back < LOW_BACK_DB or usual < -45.0:
        return None
    if a.total_db[-length:].max() < _usual(a.total_db, 8) - GAP_DB:
        return None  # a gap has nothing at all
    return JoinFound("low end out", length / 2, _share(usual - float(a.low_db[-length:].max()), LOW_OUT_DB, 25.0))


def _roll(a: Around) -> JoinFound | None:
    """More and more begins toward the one."""
    usual = max(0.5, float(np.median(a.begins[:-4])))
    last = float(a.begins[-2:].mean())
    if last < ROLL * usual or last < ROLL_LEAST:
        return None
    length = 2
    while length < 8 and length < len(a.begins) and a.begins[-1 - length] > 1.3 * usual:
        length += 1
    return JoinFound("roll", float(length), _share(last / usual, ROLL, 3.5))


def _riser(a: Around) -> JoinFound | None:
    """What is high climbs steadily for a bar or more: the longest stretch that does so evenly, else the most even one."""
    best, least = None, UNEVEN
    for beats in RISES:
        if 2 * beats > len(a.high_db):
            continue
        part = a.high_db[-2 * beats :]
        lows = np.minimum.reduceat(part, np.arange(0, len(part), 2))  # what lasts, not what is struck
        x = np.arange(len(lows))
        slope, start = np.polyfit(x, lows, 1)
        rise = float(slope) * (len(lows) - 1)
        uneven = float(np.std(lows - slope * x - start)) / max(rise, 1e-9)
        third = float(lows[len(lows) // 3] - lows[0])
        if rise > RISE_DB and uneven < least and third > FROM_THE_START * rise:
            best, least = JoinFound("riser", float(beats), _share(rise, RISE_DB, 20.0)), uneven
            if uneven < EVEN:
                break
    return best


def _impact(a: Around) -> JoinFound | None:
    """A crash or impact on the one that rings: high and longer than what is struck otherwise."""
    if len(a.after_high_db) < 4:
        return None
    usual = float(np.percentile(a.high_db, 75))
    rings = float(a.after_high_db[:4].mean()) - usual
    falls = float(a.after_high_db[0] - a.after_high_db[-1])
    if rings < HIT_DB or falls < 2.0:
        return None
    return JoinFound("impact", 0.0, _share(rings, HIT_DB, 14.0))


def _share(value: float, low: float, high: float) -> float:
    return round(float(np.clip(0.55 + 0.4 * (value - low) / (high - low), 0.5, 0.95)), 2)


RULES: dict[str, Callable[[Around], JoinFound | None]] = {
    "gap": _gap, "low end out": _low_out, "roll": _roll, "riser": _riser, "impact": _impact,
}  # fmt: skip
