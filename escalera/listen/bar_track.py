"""Bars of a whole track: at which beat they begin, and how many beats they have.

Beats that were found may be the off-beats, in one part of a track and not in another; so every beat, its half and its thirds are
asked what speaks for a bar beginning there: the sound as a whole changes (parts enter and leave where bars begin), the harmony
changes, the low end and the middle are struck. The row of bars with the most evidence is found by dynamic programming: bars follow one another
at the metre's length, and may begin elsewhere at a price.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import Frames
from escalera.listen.tempo_found import FRAMES_A_SECOND, Floats, low_rise
from escalera.listen.tones import changes_of

OFFSETS = (0.0, 1 / 3, 1 / 2, 2 / 3)  # of a beat
OFF_BEAT = (0.0, 0.35, 0.12, 0.35)  # what a bar costs that begins there
METRES = {4: 0.0, 3: 0.25, 2: 0.5, 6: 0.4, 5: 0.5, 7: 0.6}  # what a metre costs for every bar
NOVELTY, HARMONY, LOW, MIDDLE, STRUCK = 1.6, 1.2, 0.9, 0.7, 0.7
JUMP = 14.0  # what it costs to begin a bar where the metre does not lead
SHIFT = 10.0  # and what more where it is no whole beat
NEAR_FRAMES, NEAR_CHANGE = 3, 8
LEAST_CHANGE_DB = 1.0
FAINTLY_TONAL = 0.2
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class TrackBars:
    """Bars of a track.

    beats_s : (n,) seconds of the beats of all bars, and where the last ends
    beats_a_bar : how many beats a bar has
    confidence : how far other beginnings of the bar stand behind, 0 to 1
    before : beats before the first whole bar
    """

    beats_s: Floats
    beats_a_bar: int
    confidence: float
    metre_confidence: float
    before: int

    @property
    def bars_s(self) -> Floats:
        """Seconds at which bars begin and the last one ends."""
        return self.beats_s[self.before :: self.beats_a_bar]


@dataclass(frozen=True, eq=False)
class _Places:
    """Places at which a bar could begin: (n, offsets) seconds and what speaks for each, and how strongly it is struck."""

    at_s: Floats
    evidence: Floats
    struck: Floats


def track_bars(
    frames: Frames, env: Floats, beats_s: Floats, beats_a_bar: int = 0, downbeat_s: float | None = None
) -> TrackBars:
    """The bars over some beats, of `beats_a_bar` beats where that is known; one of them begins at `downbeat_s`, where that is."""
    metres = (beats_a_bar,) if beats_a_bar else tuple(METRES)
    found = {}
    for metre in metres:
        places = _places(frames, env, beats_s, metre)
        found[metre] = (*_best_row(places, metre), places)
    best = max(metres, key=lambda m: found[m][1])
    others = [found[m][1] for m in metres if m != best]
    if downbeat_s is not None:
        first = int(np.argmin(np.abs(beats_s - downbeat_s))) % best
        inner = beats_s[first:]
        whole = (len(inner) - 1) // best * best
        return TrackBars(
            np.concatenate((beats_s[:first], inner[: whole + 1])), best, 1.0, 1.0 if beats_a_bar else 0.8, first
        )
    row, worth, places = found[best]
    apart = worth - max(others) if others else 1.0
    beats, before = _beats(places, row, best, beats_s)
    return TrackBars(beats, best, _sure(places, best, row), float(np.clip(0.5 + 2.0 * apart, 0.05, 0.99)), before)


def _places(frames: Frames, env: Floats, beats_s: Floats, metre: int) -> _Places:
    steps = np.append(np.diff(beats_s), beats_s[-1] - beats_s[-2])
    at = beats_s[:, None] + steps[:, None] * np.array(OFFSETS)
    index = np.rint(at * FRAMES_A_SECOND).astype(np.int64)
    low = _scaled(_near(np.minimum(low_rise(frames), 20.0), index, NEAR_FRAMES))
    middle = 10.0 * np.log10(frames.zones[:, 1] + 1e-7)
    middle = _scaled(_near(np.clip(np.diff(middle, prepend=middle[:1]), 0.0, 20.0), index, NEAR_FRAMES))
    changes = changes_of(frames, FAINTLY_TONAL)
    harmony = _scaled(_near(changes, index, NEAR_CHANGE)) if changes is not None else np.zeros(at.shape)
    struck = _near(env, index, NEAR_FRAMES)
    novelty = _novelty(frames, index, float(np.median(steps)) * FRAMES_A_SECOND, metre)
    evidence = NOVELTY * novelty + HARMONY * harmony + LOW * low + MIDDLE * middle
    return _Places(at, evidence - np.array(OFF_BEAT), struck)


def _near(curve: Floats, index: Ints, reach: int) -> Floats:
    padded = np.pad(curve, (reach, reach + 1))
    top = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1).max(axis=1)
    found: Floats = np.where(index < len(curve), top[np.clip(index, 0, len(curve) - 1)], 0.0)
    return found


def _scaled(values: Floats) -> Floats:
    """Values as shares of their usual largest, 0 to 1."""
    top = float(np.percentile(values, 97)) if values.size else 0.0
    return np.minimum(values / top, 1.0) if top > 1e-9 else np.zeros_like(values)


def _novelty(frames: Frames, index: Ints, beat: float, metre: int) -> Floats:
    """How far a bar's levels by band differ from the bar before, where that is most within a bar; 0 to 1."""
    levels = 10.0 * np.log10(frames.power + 1e-6)
    total = np.concatenate((np.zeros((1, 6)), np.cumsum(levels, axis=0)))
    size, count = max(1, round(beat * metre)), len(levels)
    middle = np.clip(index, 0, count)
    before, after = np.clip(index - size, 0, count), np.clip(index + size, 0, count)
    left = (total[middle] - total[before]) / np.maximum(middle - before, 1)[..., None]
    right = (total[after] - total[middle]) / np.maximum(after - middle, 1)[..., None]
    found = np.abs(right - left).mean(axis=-1).ravel()
    reach = len(OFFSETS) * metre
    around = np.lib.stride_tricks.sliding_window_view(np.pad(found, reach), 2 * reach + 1).max(axis=1)
    peaks = np.where((found >= around) & (found > LEAST_CHANGE_DB), found, 0.0)
    return np.asarray(np.minimum(peaks / 4.0, 1.0)).reshape(index.shape)


def _best_row(places: _Places, metre: int) -> tuple[list[tuple[int, int]], float]:
    """Where bars begin, as (beat, offset), and what speaks for them, a bar."""
    worth = _worth(places, metre)
    count, offsets = worth.shape
    score, back = worth.copy(), np.full((count, offsets, 2), -1, np.int64)
    best = np.full(count, -np.inf)
    best_at = np.zeros(count, np.int64)
    for i in range(count):
        if i >= metre:
            goes_on = score[i - metre]
            score[i] = worth[i] + goes_on
            back[i, :, 0], back[i, :, 1] = i - metre, np.arange(offsets)
            near = range(max(0, i - metre - metre // 2), max(1, i - metre + metre // 2 + 1))
            top = max(near, key=lambda k: best[k])
            jumped = worth[i] + best[top] - JUMP - SHIFT * (np.arange(offsets) != best_at[top])
            better = jumped > score[i]
            score[i] = np.where(better, jumped, score[i])
            back[i, better, 0], back[i, better, 1] = top, best_at[top]
        best[i], best_at[i] = score[i].max(), int(score[i].argmax())
    low = max(0, count - metre)
    at = low + int(np.argmax(best[low:]))
    row = [(at, int(best_at[at]))]
    while back[row[-1][0], row[-1][1], 0] >= 0:
        beat, offset = back[row[-1][0], row[-1][1]]
        row.append((int(beat), int(offset)))
    row.reverse()
    return row, float(score[row[-1]]) / max(1, len(row)) - METRES[metre]


def _worth(places: _Places, metre: int) -> Floats:
    """What speaks for a bar at every place: what is there, and that its beats are struck; less what does at any place."""
    struck = np.zeros_like(places.struck)
    for i in range(metre):
        struck[: len(struck) - i] += places.struck[i:] / metre
    worth = places.evidence + STRUCK * struck
    return worth - worth.mean()


def _sure(places: _Places, metre: int, row: list[tuple[int, int]]) -> float:
    """How far the phase that was taken stands before the best other one."""
    worth = _worth(places, metre)
    phases = np.array([[worth[p::metre, o].mean() for o in range(len(OFFSETS))] for p in range(metre)])
    mine = float(np.mean([worth[b, o] for b, o in row]))
    beat, offset = row[len(row) // 2]
    phases[beat % metre, offset] = -np.inf
    return float(np.clip(0.45 + 0.55 * (mine - float(phases.max())), 0.05, 0.97))


def _beats(places: _Places, row: list[tuple[int, int]], metre: int, beats_s: Floats) -> tuple[Floats, int]:
    """Beats laid evenly from bar to bar, with those before the first and after the last bar line; and how many lie before it."""
    starts = np.array([places.at_s[b, o] for b, o in row])
    lengths = np.diff(starts)
    usual = float(np.median(lengths)) / metre if len(lengths) else float(np.median(np.diff(beats_s)))
    rows = [np.linspace(a, b, metre + 1)[:-1] for a, b in zip(starts, starts[1:])]
    before = int((starts[0] - beats_s[0] + 0.3 * usual) / usual)
    head = starts[0] - usual * np.arange(before, 0, -1)
    after = metre * max(1, int(np.ceil((beats_s[-1] - starts[-1]) / usual / metre - 0.1)))
    tail = starts[-1] + usual * np.arange(0, after + 1)
    return np.concatenate((head, *rows, tail)), before
