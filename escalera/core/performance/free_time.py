"""Beats of a performance that keeps no grid: where they fall in seconds, how many make a bar, and where the bars begin.

Beats by dynamic programming over the strength of onsets (Ellis 2007, Beat Tracking by Dynamic Programming); the period from its
autocorrelation under a preference for usual tempos; bars from what is low and from where the sounding pitches change.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
RATE_HZ = 100
SPREAD_S = 0.025  # how far apart onsets of one beat may lie
USUAL_BPM, OCTAVES = 105.0, 0.55
LOW_BPM, HIGH_BPM = 50.0, 190.0
TIGHT = 320.0  # how dear it is to leave the period, against the strength of onsets
WANDERING = 0.30  # below which the onsets of a file do not keep to its sixteenths
FEWEST = 48  # onsets that say anything about a grid
METRES = (4, 3)
SLIP = 60.0  # what it costs to leave a place of a bar out, or to count it twice
LOWS_COUNT = 4.0  # how much more low notes say about beats


@dataclass(frozen=True, eq=False)
class FreeBeats:
    """Half beats in seconds, shape (n,), in rising order; where each lies in half beats from the first bar line, and beats a bar."""

    seconds: Floats
    places: NDArray[np.int64]
    beats_a_bar: int

    @property
    def bpm(self) -> float:
        """The tempo in the middle."""
        return float(60.0 * np.median(np.diff(self.places) / 2.0 / np.diff(self.seconds)))

    @property
    def beats_s(self) -> Floats:
        return self.seconds[self.places % 2 == 0]

    @property
    def bars_s(self) -> Floats:
        return self.seconds[self.places % (2 * self.beats_a_bar) == 0]


def keeps_grid(onset_ticks: NDArray[np.int64]) -> bool:
    """Whether onsets, in ticks of 960 a quarter and of shape (n,), lie about the sixteenths, or the triplets, of their grid. Few always do."""
    if len(onset_ticks) < FEWEST:
        return True
    return max(abs(np.exp(2j * np.pi * onset_ticks / grid).mean()) for grid in (240, 320, 480)) >= WANDERING


def free_beats(
    onsets_s: Floats, weights: Floats, pitches: NDArray[np.int64], lows: NDArray[np.bool_]
) -> FreeBeats | None:
    """Beats of notes with onsets in seconds, weights, MIDI pitches (below 0 for drums) and whether each is low, all of shape (n,); None where
    nothing recurs."""
    if len(onsets_s) < FEWEST:
        return None
    start = float(onsets_s.min())
    size = int((onsets_s.max() - start) * RATE_HZ) + 2 * RATE_HZ
    strength = _envelope(onsets_s - start, weights * np.where(lows, LOWS_COUNT, 1.0), size)
    period = _period(strength)
    if period is None:
        return None
    found = []
    for ratio in (1.0, 1.5, 2.0 / 3.0):
        bpm = 60.0 * RATE_HZ / (period * ratio)
        frames = _tracked(strength, period * ratio / 2.0)
        if not LOW_BPM <= bpm <= HIGH_BPM or len(frames) < 16:
            continue
        halves = frames / RATE_HZ + start
        usual = float(np.exp(-0.5 * (np.log2(bpm / USUAL_BPM) / OCTAVES) ** 2))
        for count in METRES:
            score, places = _placed(halves, count, onsets_s, weights, pitches, lows)
            found.append((score * (0.5 + 0.5 * usual), FreeBeats(halves, places, count)))
    return max(found, key=lambda row: row[0])[1] if found else None


def _envelope(onsets_s: Floats, weights: Floats, size: int) -> Floats:
    """Strength of onsets at RATE_HZ, smoothed over SPREAD_S; several at once count as less than their sum."""
    hits = np.zeros(size)
    np.add.at(hits, np.rint(onsets_s * RATE_HZ).astype(int), weights)
    reach = np.arange(-10, 11) / RATE_HZ
    smooth = np.convolve(hits, np.exp(-0.5 * (reach / SPREAD_S) ** 2), "same")
    smooth = np.sqrt(smooth)
    return np.asarray(smooth / max(1e-9, smooth.std()))


def _period(strength: Floats) -> float | None:
    """Frames of a beat: the lag at which strength recurs, and its multiples with it, nearest to usual tempos."""
    size = 1 << int(np.ceil(np.log2(2 * len(strength))))
    spectrum = np.fft.rfft(strength - strength.mean(), size)
    again = np.fft.irfft(np.abs(spectrum) ** 2)[: len(strength)]
    if again[0] <= 0:
        return None
    again /= again[0]
    lags = np.arange(int(RATE_HZ * 60 / HIGH_BPM), int(RATE_HZ * 60 / LOW_BPM) + 1)
    usual = np.exp(-0.5 * (np.log2(60.0 * RATE_HZ / lags / USUAL_BPM) / OCTAVES) ** 2)
    found = np.array([sum(_near(again, int(lag) * k) / k for k in (1, 2, 4)) for lag in lags])
    best = int(np.argmax(found * usual))
    return float(lags[best]) if found[best] > 0.05 else None


def _near(again: Floats, lag: int) -> float:
    reach = max(1, lag // 40)
    return float(again[lag - reach : lag + reach + 1].max()) if lag + reach + 1 < len(again) else 0.0


def _tracked(strength: Floats, period: float) -> NDArray[np.int64]:
    """Frames of beats that lie on strong onsets and nearly a period apart."""
    steps = np.arange(-round(2 * period), -round(period / 2))
    dear = -TIGHT / 100.0 * np.log(-steps / period) ** 2 * 10.0
    score, back = strength.copy(), np.full(len(strength), -1)
    for t in range(-int(steps[0]), len(strength)):
        ways = score[t + steps] + dear
        best = int(np.argmax(ways))
        score[t] = strength[t] + ways[best]
        back[t] = t + steps[best]
    at = int(np.argmax(score[-round(2 * period) :])) + len(score) - round(2 * period)
    found = [at]
    while back[found[-1]] >= 0:
        found.append(int(back[found[-1]]))
    return np.array(found[::-1])


def _placed(
    halves: Floats, count: int, onsets_s: Floats, weights: Floats, pitches: NDArray[np.int64], lows: NDArray[np.bool_]
) -> tuple[float, NDArray[np.int64]]:
    """Places of half beats in bars of so many beats, and how well they fit: low notes and changes of pitch on the first, beats stronger
    than what lies between. A place may be left out or doubled, at a price."""
    low, change, strong = _evidence(halves, onsets_s, weights, pitches, lows)
    states = 2 * count
    gain = np.empty((len(halves), states))
    gain[:] = np.where(np.arange(states) % 2 == 0, 1.0, -1.0) * (0.35 * strong + 0.35 * low)[:, None]
    gain[:, 0] += 0.7 * low + 1.2 * change
    if states % 4 == 0:
        gain[:, states // 2] += 0.25 * low + 0.25 * change
    moves = np.full((states, states), -SLIP)
    moves[np.arange(states), (np.arange(states) + 1) % states] = 0.0
    score, back = gain[0].copy(), np.zeros((len(halves), states), int)
    for i in range(1, len(halves)):
        ways = score[:, None] + moves
        back[i] = ways.argmax(axis=0)
        score = ways.max(axis=0) + gain[i]
    path = [int(score.argmax())]
    for i in range(len(halves) - 1, 0, -1):
        path.append(int(back[i, path[-1]]))
    row = np.array(path[::-1])
    steps = (np.diff(row) - 1) % states + 1
    places = np.concatenate(([row[0]], row[0] + np.cumsum(steps)))
    return float(score.max()) / len(halves), places.astype(np.int64)


def _evidence(
    halves: Floats, onsets_s: Floats, weights: Floats, pitches: NDArray[np.int64], lows: NDArray[np.bool_]
) -> tuple[Floats, Floats, Floats]:
    """For every half beat: low notes on it, how much the sounding pitches change there, and the strength of all onsets; each unitless."""
    nearest = np.clip(np.searchsorted((halves[:-1] + halves[1:]) / 2, onsets_s), 0, len(halves) - 1)
    low, strong = np.zeros(len(halves)), np.zeros(len(halves))
    np.add.at(low, nearest[lows], weights[lows])
    np.add.at(strong, nearest, weights)
    chroma = np.zeros((len(halves), 12))
    tonal = pitches >= 0
    np.add.at(chroma, (nearest[tonal], pitches[tonal] % 12), weights[tonal])
    total = np.concatenate((np.zeros((1, 12)), np.cumsum(chroma, axis=0)))
    change = np.zeros(len(halves))
    for i in range(len(halves)):
        before, after = total[i] - total[max(0, i - 4)], total[min(len(halves), i + 4)] - total[i]
        norm = np.linalg.norm(before) * np.linalg.norm(after)
        change[i] = 1.0 - float(before @ after) / norm if norm > 0 else 0.0
    return _unit(np.sqrt(low)), _unit(change), _unit(np.sqrt(strong))


def _unit(values: Floats) -> Floats:
    return np.asarray((values - values.mean()) / max(1e-9, float(values.std())))
