"""Tempo, beats and bars of a recording: how strongly its onsets recur at a beat, its halves, quarters and multiples.

The strength of onsets is a curve e(t) of 100 values a second. R(f) = |Σ e(t) exp(−2πi f t)| / Σ e(t) is how far they
recur f times a second (1: all at one phase). A beat is scored by R at 1, 2 and 4 times its rate and at its bar, weighed by
how usual the tempo is; a loop's length in whole bars decides between tempi that score alike.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.samples.reading import NEAR_BEATS, Onset
from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import Frames

FRAMES_A_SECOND = 100.0
WHOLE_BEATS = (
    (2, 0.5),
    (3, 0.3),
    (4, 1.0),
    (6, 0.3),
    (8, 1.0),
    (12, 0.4),
    (16, 1.0),
    (24, 0.4),
    (32, 1.0),
    (64, 1.0),
    (128, 0.8),
)
LENGTH_WORTH = 0.6
SLOWEST_BPM, FASTEST_BPM = 50.0, 220.0
USUAL_BPM, SPREAD_OCTAVES = 112.0, 0.6
USUAL_ONSETS = 2.2  # a beat
HEARD_S = 120.0
LEAST_SURE = 0.12
TONAL_KNOWN = 0.4  # tones that change are no noise: even weak onsets tell something
NEAR_START_S = 0.06
LOOP_MOST_S = 75.0
FEWEST_ONSETS = 3
LEAST_RISE = 1.6  # a whole onset lifts the bands by so many dB on average at least
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Tempo:
    """Beats a minute with their confidence, what else it could be, the metre, where the first bar begins."""

    bpm: float | None = None
    confidence: float = 0.0
    others: tuple[float, ...] = ()
    beats_a_bar: int = 4
    downbeat_s: float = 0.0


def strength(frames: Frames) -> Floats:
    """How strongly something begins in every frame, shape (n,), its largest 1: the spectrum's rise, and the low end's own."""
    flux = frames.flux.copy()
    if len(flux) < 3:
        return np.zeros(len(flux))
    rise = low_rise(frames)
    audible = 10.0 * np.log10(frames.power.sum(axis=1) + 1e-9)
    gate = np.clip((audible - audible.max() + 45.0) / 15.0, 0.0, 1.0)
    env = (flux + 0.12 * rise) * gate
    width = 41
    around = np.lib.stride_tricks.sliding_window_view(np.pad(env, width // 2), width)
    env = np.maximum(env - 1.1 * np.median(around, axis=1), 0.0)
    top = np.percentile(env[env > 0], 98) if (env > 0).any() else 1.0
    found: Floats = np.minimum(env / max(float(top), LEAST_RISE), 1.0)
    return found


def low_rise(frames: Frames) -> Floats:
    """How much the low zone rises into every frame, in dB, shape (n,)."""
    low = 10.0 * np.log10(frames.zones[:, 0] + 1e-7)
    return np.maximum(low - np.concatenate((low[:2], low[:-2])), 0.0)


def onsets_of(frames: Frames, env: Floats) -> tuple[Onset, ...]:
    """Moments at which something begins, with their strength and zone; at most one in 50 ms."""
    if len(env) < 3:
        return ()
    levels = 10.0 * np.log10(frames.zones + 1e-9)
    env = env * _louder(frames, levels)
    around = np.lib.stride_tricks.sliding_window_view(np.pad(env, 2, constant_values=-1.0), 5).max(axis=1)
    peaks = np.flatnonzero((env >= around) & (env > 0.12))
    found: list[Onset] = []
    for i in peaks.tolist():
        at = _exactly(frames.fine, i)
        if found and at - found[-1].at_s < 0.05:
            continue
        zone = _zone(frames.zones[i : i + 7].max(axis=0))
        found.append(Onset(round(at, 3), round(float(env[i]), 3), zone))
    return tuple(found)


def _louder(frames: Frames, levels: Floats) -> Floats:
    """How far it gets louder in a frame, as a whole or in a zone, 0..1: a fluctuating tail or noise begins nothing anew."""
    total = 10.0 * np.log10(frames.power.sum(axis=1) + 1e-9)
    rows = np.column_stack((total, levels))
    padded = np.concatenate((np.repeat(rows[:1] - 20.0, 4, axis=0), rows))
    before = np.mean([padded[i : i + len(rows)] for i in range(3)], axis=0)
    after = np.maximum(rows, np.concatenate((rows[1:], rows[-1:])))
    heard = rows > np.maximum(rows.max(axis=0) - 35.0, total.max() - 32.0)
    rise = ((after - before) * heard / (4.5, 10.0, 5.5, 6.0)).max(axis=1)
    found: Floats = np.clip(1.5 * (rise - 0.45), 0.0, 1.0)
    return found


def _zone(power: Floats) -> str:
    """Where most of an onset lies: low, middle or high, from its powers in the three."""
    low, middle, high = (10.0 * np.log10(p + 1e-12) for p in power)
    if low > max(middle, high) - 2.0:
        return "low"
    return "high" if high > middle + 5.2 else "middle"


def _exactly(fine: Floats, frame: int) -> float:
    """Seconds at which an onset of a frame begins: where the level jumps most within 2 ms, near the frame."""
    low, high = max(2, 10 * frame - 16), min(len(fine), 10 * frame + 14)
    if high - low < 4:
        return frame / FRAMES_A_SECOND
    jumps = fine[low:high] - np.maximum(fine[low - 2 : high - 2], fine[low:high].max() - 40.0)
    return float(low + int(np.argmax(jumps)) - 1) / 1000.0 if jumps.max() > 6.0 else frame / FRAMES_A_SECOND


class Recurrence:
    """R(f) of a curve of onset strengths, looked up in one zero-padded transform."""

    SIZE = 1 << 17

    def __init__(self, env: Floats):
        from scipy import fft

        self.env = env
        self._spectrum = np.abs(fft.rfft(env, self.SIZE)) / max(float(env.sum()), 1e-9)

    def at(self, rates_hz: Floats) -> Floats:
        """R at every rate, any shape, which is kept."""
        bins = np.asarray(rates_hz) * self.SIZE / FRAMES_A_SECOND
        found: Floats = np.interp(bins, np.arange(len(self._spectrum)), self._spectrum)
        return found


def find_tempo(frames: Frames, env: Floats, onsets: tuple[Onset, ...], changes: Floats | None) -> Tempo:
    """The tempo of a recording; none where too little begins.

    `changes` is how much the harmony changes in every frame, shape (n,), or None for what has no tones.
    """
    starts = [o for o in onsets if o.strength > 0.2]
    if (len(starts) < FEWEST_ONSETS and changes is None) or frames.seconds < 0.9:
        return Tempo()
    part = Recurrence(env[: int(HEARD_S * FRAMES_A_SECOND)])
    low = Recurrence(low_rise(frames)[: len(part.env)])
    bpm = np.geomspace(SLOWEST_BPM, FASTEST_BPM, 420)
    turns = None if changes is None else Recurrence(changes[: len(part.env)])
    score = _scores(part, turns, bpm, frames.seconds, len(starts) / frames.seconds)
    best = _peaks(bpm, score)
    if not best:
        return Tempo()
    refined = [(_refined(part, b), s) for b, s in best[:5]]
    refined = [(_whole(part, b, frames.seconds, changes is not None), s) for b, s in refined]
    first, top = refined[0]
    metre = _metre(part, low, first, frames.seconds)
    others = tuple(round(b, 2) for b in dict.fromkeys(x for x, _ in refined[1:4]))
    halves = tuple(round(x, 2) for x in (first / 2, first * 2) if SLOWEST_BPM * 0.6 <= x <= 280)
    margin = top - max([s for b, s in refined[1:] if not _octaves(b, first)], default=0.0)
    steady = float(part.at(first / 60.0 * np.array([1.0, 2.0, 4.0])).max())
    chance = (
        steady * float(part.env.sum()) / max(float(np.sqrt((part.env**2).sum())), 1e-9)
    )  # about 1 for onsets at random
    known = float(
        np.clip(max((steady - 0.3) / 0.35, (chance - 3.5) / 4.0, TONAL_KNOWN * (changes is not None)), 0.0, 1.0)
    )
    sure = float(np.clip(0.25 + 1.6 * margin / max(top, 1e-6) + 0.55 * (steady - 0.3), 0.05, 0.99)) * known
    if sure < LEAST_SURE:
        return Tempo()
    return Tempo(
        round(first, 3), round(sure, 2), tuple(dict.fromkeys((*others, *halves)))[:5], metre,
        round(_downbeat(frames, part.env, first, metre, starts), 3),
    )  # fmt: skip


def _octaves(a: float, b: float) -> bool:
    ratio = np.log2(a / b)
    return bool(abs(ratio - round(ratio)) < 0.02)


def _scores(env: Recurrence, turns: Recurrence | None, bpm: Floats, seconds: float, onsets_a_second: float) -> Floats:
    rate = bpm / 60.0
    parts = {k: env.at(rate * k) for k in (0.25, 0.5, 1.0, 2.0, 4.0, 3.0)}
    bars = 0.4 * parts[0.5] + 0.25 * parts[0.25]
    if turns is not None:
        bars = bars + 0.35 * turns.at(rate / 4) + 0.25 * turns.at(rate / 2) + 0.1 * turns.at(rate)
    even = 0.45 * parts[1.0] + 0.6 * parts[2.0] + 0.95 * parts[4.0] + bars
    uneven = 0.9 * parts[1.0] + 0.75 * parts[3.0] + 0.8 * bars
    usual = np.exp(-0.5 * (np.log2(bpm / USUAL_BPM) / SPREAD_OCTAVES) ** 2)
    busy = np.exp(-0.5 * (np.log2(onsets_a_second / rate / USUAL_ONSETS) / 1.1) ** 2)
    found: Floats = np.maximum(even, uneven) * (0.3 + 0.7 * usual) * (0.55 + 0.45 * busy)
    if seconds <= LOOP_MOST_S:
        found = found * (1.0 + LENGTH_WORTH * _fits_length(bpm, seconds))
    return found


def _fits_length(bpm: Floats, seconds: float) -> Floats:
    """1 where the length is a power of two of bars of four, less for other whole bars, 0 for broken ones; shape of `bpm`."""
    beats = seconds * bpm / 60.0
    fit = np.zeros(len(bpm))
    for whole, worth in WHOLE_BEATS:
        fit = np.maximum(fit, worth * np.exp(-0.5 * ((beats - whole) / (0.006 * whole + 0.01)) ** 2))
    return fit


def _peaks(bpm: Floats, score: Floats) -> list[tuple[float, float]]:
    inner = np.flatnonzero((score[1:-1] > score[:-2]) & (score[1:-1] >= score[2:])) + 1
    order = inner[np.argsort(-score[inner])]
    found: list[tuple[float, float]] = []
    for i in order.tolist():
        if all(abs(np.log2(bpm[i] / b)) > 0.03 for b, _ in found):
            found.append((float(bpm[i]), float(score[i])))
    return found


def _refined(env: Recurrence, bpm: float) -> float:
    """The tempo nearby at which beats, eighths and sixteenths recur most, to about a thousandth."""
    for spread, count in ((0.012, 61), (0.0015, 41)):
        near = bpm * np.linspace(1 - spread, 1 + spread, count)
        rate = near / 60.0
        fit = env.at(rate) + env.at(2 * rate) + env.at(4 * rate)
        bpm = float(near[int(np.argmax(fit))])
    return bpm


def _whole(env: Recurrence, bpm: float, seconds: float, tonal: bool) -> float:
    """The tempo at which the length is a whole number of beats, where that is next to it and fits the onsets as well.

    Where few onsets tell little of the tempo, the length tells more.
    """
    beats = seconds * bpm / 60.0
    rates = np.array([1.0, 2.0, 4.0])
    mine = env.at(bpm / 60.0 * rates)
    vague = tonal and float(mine.max()) < 0.35
    whole = 4 * round(beats / 4) if vague and beats >= 6 else round(beats)
    if seconds > LOOP_MOST_S or whole < 1 or abs(beats - whole) > max((0.03 if vague else 0.012) * whole, 0.06):
        return bpm
    snapped = whole * 60.0 / seconds
    return snapped if vague or env.at(snapped / 60.0 * rates).sum() >= 0.93 * mine.sum() else bpm


def _metre(env: Recurrence, low: Recurrence, bpm: float, seconds: float) -> int:
    rate = bpm / 60.0
    three, four, two = env.at(np.array([rate / 3, rate / 4, rate / 2])) + low.at(
        np.array([rate / 3, rate / 4, rate / 2])
    )
    beats = seconds * rate
    of_three = abs(beats / 3 - round(beats / 3)) * 3 < 0.12
    of_four = abs(beats / 4 - round(beats / 4)) * 4 < 0.12
    if of_three and not of_four:
        return 3 if three > 1.1 * max(four, two) or three > 0.35 else 4
    return 3 if three > (2.2 if of_four else 1.6) * max(four, two) else 4


def _downbeat(frames: Frames, env: Floats, bpm: float, metre: int, onsets: list[Onset]) -> float:
    """Where the first bar begins: the beat of the bar with most low end and change, the first one where that is near it."""
    beat = 60.0 / bpm
    rate = np.array([1.0 / beat])
    at = np.flatnonzero(env > 0.02)
    turned = (env[at] * np.exp(-2j * np.pi * rate[0] * at / FRAMES_A_SECOND)).sum()
    phase = float(-np.angle(turned) / (2 * np.pi) % 1.0) * beat
    phase = 0.0 if min(phase, beat - phase) < 0.035 else phase
    first = onsets[0].at_s
    beats = frames.seconds / beat
    if (
        abs(beats / metre - round(beats / metre)) * metre < NEAR_BEATS or first < NEAR_START_S
    ):  # it was cut to its bars, or from its one
        return 0.0 if first < NEAR_START_S else first if first < beat / 2 else 0.0
    low = np.maximum(np.diff(10.0 * np.log10(frames.zones[:, 0] + 1e-7), prepend=-70.0), 0.0)[: len(env)]
    score = np.zeros(metre)
    count = int((len(env) / FRAMES_A_SECOND - phase) / beat)
    for k in range(count):
        i = int((phase + k * beat) * FRAMES_A_SECOND)
        score[k % metre] += env[max(0, i - 3) : i + 4].max(initial=0.0) + 0.08 * low[max(0, i - 3) : i + 4].max(
            initial=0.0
        )
    score[0] *= 1.12
    return phase + int(np.argmax(score)) * beat
