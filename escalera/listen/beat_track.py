"""Beats of a whole track, whose tempo may drift: the row of moments that follow one another at about a period and lie where things begin.

Found by dynamic programming over the strength of onsets, as Ellis (2007) does it, around a period that `tempo_found` gives; then
straightened over neighbouring beats, since people and machines drift slowly, and places of single onsets scatter.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import Frames
from escalera.listen.tempo_found import FRAMES_A_SECOND, Floats, low_rise

STEPS = 96  # a beat has in the search
REACH = 4  # of them that a beat may come early or late
TIGHT = 900_000.0  # what a beat costs that does, by the square of the logarithm of its length
LOW_WORTH = 0.5
SPAN_S, EVERY_S = 16.0, 2.0  # over which the tempo of a place is heard, and how often
DRIFT, DRIFTS = 0.04, 81  # how far it may lie from the track's, and how many tempi between are asked
TURN = 12.0  # what it costs to change it, by its share
SOUNDS = 3e-4  # of the loudest moment's power: what is fainter at the ends is no beat any more
NEAR = 12  # beats on either side on whose line a beat is laid
STRAY = 0.06  # of a beat: what lies further off its line is left out
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class TrackBeats:
    """Beats of a track.

    at_s : (n,) seconds of the beats, rising
    steady : how much of what begins does so on them or on their halves and quarters, 0 to 1
    """

    at_s: Floats
    steady: float


def pulses(frames: Frames, env: Floats) -> Floats:
    """What beats are laid on: the strength of onsets and the rise of the low end, shape (n,), its largest about 1."""
    low = low_rise(frames)
    top = np.percentile(low[low > 0], 98) if (low > 0).any() else 1.0
    both = env + LOW_WORTH * np.minimum(low / max(float(top), 6.0), 1.0) * (env > 0)
    return np.asarray(np.convolve(both, (0.25, 0.5, 0.25), "same"))


def track_beats(frames: Frames, env: Floats, bpm: float) -> TrackBeats:
    """Beats at about `bpm`, from the first sound to the last."""
    curve = pulses(frames, env)
    counted = _counted(env, bpm)
    at = np.arange(0.0, counted[-1], 1.0 / STEPS)
    times = np.interp(at, counted, np.arange(len(counted)) / FRAMES_A_SECOND)
    even = np.interp(times, np.arange(len(curve)) / FRAMES_A_SECOND, curve)
    places = np.interp(_row(even / max(float(even.std()), 1e-9)) / STEPS, counted, np.arange(len(counted)))
    places = _on_peaks(curve, places) / FRAMES_A_SECOND
    level = frames.power.sum(axis=1)
    heard = np.flatnonzero(level > level.max() * SOUNDS)
    first, last = (heard[0] / FRAMES_A_SECOND, heard[-1] / FRAMES_A_SECOND) if len(heard) else (0.0, 0.0)
    straight = _straight(places, curve, first, last)
    return TrackBeats(straight, _steady(curve, straight))


def _counted(env: Floats, bpm: float) -> Floats:
    """How many beats have gone by at every frame, from the tempo of every place: what recurs at beats, halves and quarters, on whatever
    phase. Shape (n + 1,)."""
    tempi = bpm * (1.0 + np.linspace(-DRIFT, DRIFT, DRIFTS))
    size, step = round(SPAN_S * FRAMES_A_SECOND), round(EVERY_S * FRAMES_A_SECOND)
    centres = np.arange(0, len(env) + step, step)
    padded = np.pad(env, (size // 2, size))
    window = np.hanning(size)
    rates = (tempi[:, None] / 60.0 * np.array([1.0, 2.0, 4.0])).ravel()
    waves = np.exp(-2j * np.pi * rates[:, None] * np.arange(size) / FRAMES_A_SECOND)
    parts = np.stack([padded[c : c + size] * window for c in centres])
    found = np.abs(parts @ waves.T).reshape(len(centres), DRIFTS, 3).sum(axis=2)
    found /= np.maximum(parts.sum(axis=1), 1e-9)[:, None]
    row = _smooth(found)
    local = np.interp(np.arange(len(env)), centres, tempi[row])
    return np.concatenate(([0.0], np.cumsum(local / 60.0 / FRAMES_A_SECOND)))


def _smooth(worth: Floats) -> Ints:
    """The row of columns with the largest sum, less what changes cost."""
    count, width = worth.shape
    steps = np.abs(np.arange(width)[:, None] - np.arange(width)) * (2 * DRIFT / (width - 1))
    score, back = worth[0], np.zeros((count, width), np.int64)
    for i in range(1, count):
        moved = score[None, :] - TURN * steps
        back[i] = moved.argmax(axis=1)
        score = worth[i] + moved.max(axis=1)
    row = [int(score.argmax())]
    for i in range(count - 1, 0, -1):
        row.append(int(back[i, row[-1]]))
    return np.array(row[::-1], np.int64)


def _row(curve: Floats) -> Ints:
    """The best row of beats on a curve of STEPS values a beat."""
    spans = np.arange(STEPS - REACH, STEPS + REACH + 1)
    cost = TIGHT * np.log(spans / STEPS) ** 2 / STEPS
    count = len(curve)
    score, back = curve.copy(), np.full(count, -1, np.int64)
    for i in range(int(spans[-1]), count):
        worth = score[i - spans] - cost
        best = int(np.argmax(worth))
        if worth[best] > 0:
            score[i] = curve[i] + worth[best]
            back[i] = i - spans[best]
    at = count - 1 - int(np.argmax(score[::-1][: 2 * STEPS]))
    row = [at]
    while back[row[-1]] >= 0:
        row.append(int(back[row[-1]]))
    return np.array(row[::-1], np.int64)


def _on_peaks(curve: Floats, places: Floats) -> Floats:
    """Places moved onto the peak within two frames, where there is one."""
    at = np.clip(np.rint(places).astype(int), 2, len(curve) - 3)
    near = curve[at[:, None] + np.arange(-2, 3)]
    peak = at + near.argmax(axis=1) - 2
    exact = _between_frames(curve, peak)
    return np.where(near.max(axis=1) > 0.1, exact, places)


def _between_frames(curve: Floats, at: Ints) -> Floats:
    """Places of peaks to parts of a frame, by the parabola through each and its neighbours."""
    inner = np.clip(at, 1, len(curve) - 2)
    a, b, c = curve[inner - 1], curve[inner], curve[inner + 1]
    bend = a - 2 * b + c
    shift = np.where(bend < -1e-9, 0.5 * (a - c) / np.minimum(bend, -1e-9), 0.0)
    return inner + np.clip(shift, -0.5, 0.5)


def _straight(places: Floats, curve: Floats, first_s: float, last_s: float) -> Floats:
    """Every beat on the line through its neighbours, weighed by how strongly each is struck; beats before and after are added."""
    count = len(places)
    if count < 4:
        return places
    weight = 0.05 + curve[np.clip(np.rint(places * FRAMES_A_SECOND).astype(int), 0, len(curve) - 1)]
    for _ in range(2):
        line, slope = _lines(places, weight)
        off = np.abs(places - line)
        weight = np.where(off > STRAY * slope, weight * 0.05, weight)
    line, slope = _lines(places, weight)
    before = np.arange(int((line[0] - first_s + 0.3 * slope[0]) / slope[0]), 0, -1)
    after = np.arange(1, int((last_s - line[-1]) / slope[-1]) + 1)
    return np.concatenate((line[0] - before * slope[0], line, line[-1] + after * slope[-1]))


def _lines(places: Floats, weight: Floats) -> tuple[Floats, Floats]:
    """Weighed lines through the `NEAR` neighbours on either side of every beat: their value there and their slope."""
    x = np.arange(len(places), dtype=float)
    reach = np.arange(-NEAR, NEAR + 1)
    at = np.clip(x[:, None].astype(int) + reach, 0, len(places) - 1)
    inside = (x[:, None] + reach >= 0) & (x[:, None] + reach < len(places))
    w = weight[at] * inside * np.exp(-0.5 * (reach / (0.5 * NEAR)) ** 2)
    total = w.sum(axis=1)
    mean_x, mean_y = (w * at).sum(axis=1) / total, (w * places[at]).sum(axis=1) / total
    spread = (w * (at - mean_x[:, None]) ** 2).sum(axis=1)
    slope = (w * (at - mean_x[:, None]) * (places[at] - mean_y[:, None])).sum(axis=1) / np.maximum(spread, 1e-9)
    return mean_y + slope * (x - mean_x), slope


def _steady(curve: Floats, beats: Floats) -> float:
    """Share of what begins that lies on beats, halves, quarters and thirds, against what would at random."""
    at = np.flatnonzero(curve > 0.1)
    seconds = at / FRAMES_A_SECOND
    inside = (seconds >= beats[0]) & (seconds < beats[-1]) if len(beats) > 1 else np.zeros(len(at), bool)
    if not inside.any():
        return 0.0
    phase = np.interp(seconds[inside], beats, np.arange(len(beats)))
    return float(abs((curve[at[inside]] * np.exp(8j * np.pi * phase)).sum()) / curve[at[inside]].sum())
