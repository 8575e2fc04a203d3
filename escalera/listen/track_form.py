"""Form of a whole track: where sections begin, by what comes in and goes, by turns before a bar line and by what comes back."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.listen.bar_track import TrackBars
from escalera.listen.frames import Frames
from escalera.listen.tempo_found import FRAMES_A_SECOND

SLOTS = 16  # of a bar, in which its beat is heard
BAND_DB, BEAT_DB = 6.0, 7.2  # differences that count as much
FLOOR_DB = -70.0
SIDES = (1, 2, 4, 8)  # bars on either side that are compared
NEW, TURN, AGAIN, TONES = 1.56, 0.875, 0.54, 0.48
USUAL_NEW = 1.0  # share of the usual change between bars that is none
PRICE = 1.1  # of a join
FITTING = {8: 0.45, 16: 0.45, 4: 0.1, 12: 0.2, 32: 0.2, 24: 0.2}  # what a length in bars is worth beforehand
ON_TWOS, ODD = -0.3, -0.8
USUAL_S, SPREAD = 22.0, 0.875  # how long a section lasts, and how widely that varies, in natural logarithms
LONGEST = 64
LEAST_RUN = 4
ALIKE, FAR_SHORTER = 0.55, 0.4
SAME = 0.78  # how alike two bars are that are the same
Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class BarSound:
    """How every bar sounds: `levels_db` (n, 6) by band, `beat` (n, SLOTS, 3) by zone within the bar, `tones` (n, 12) pitch classes."""

    levels_db: Floats
    beat: Floats
    tones: Floats


@dataclass(frozen=True, eq=False)
class TrackForm:
    """First bars of all sections, from 0, and the number of bars; what speaks for each join (n,); and for every section the earlier
    one it is most like, -1 for none, with how alike they are."""

    edges: tuple[int, ...]
    worth: tuple[float, ...]
    like: tuple[tuple[int, float], ...]


def bar_sound(frames: Frames, bars: TrackBars, weights: Floats | None) -> BarSound:
    """How every whole bar of a track sounds. `weights` (beats, 12) are its tones where it has any."""
    starts = bars.bars_s
    count = len(starts) - 1
    levels = np.maximum(10.0 * np.log10(_means(frames.power, starts) + 1e-9), FLOOR_DB)
    slots = np.interp(np.arange(count * SLOTS + 1) / SLOTS, np.arange(count + 1), starts)
    beat = np.maximum(10.0 * np.log10(_means(frames.zones, slots) + 1e-9), FLOOR_DB).reshape(count, SLOTS, 3)
    tones = np.zeros((count, 12))
    if weights is not None:
        for bar in range(count):
            low = bars.before + bar * bars.beats_a_bar
            tones[bar] = weights[low : low + bars.beats_a_bar].sum(axis=0)
    return BarSound(levels, beat, tones / np.maximum(np.linalg.norm(tones, axis=1, keepdims=True), 1e-9))


def _means(power: Floats, edges_s: Floats) -> Floats:
    """Mean power between moments, (n, columns)."""
    total = np.concatenate((np.zeros((1, power.shape[1])), np.cumsum(power, axis=0)))
    at = np.clip(np.rint(edges_s * FRAMES_A_SECOND).astype(int), 0, len(power))
    return (total[at[1:]] - total[at[:-1]]) / np.maximum(np.diff(at), 1)[:, None]


def likeness(sound: BarSound) -> Floats:
    """How alike all bars are, (n, n), 0 to 1: levels, beat and tones together."""
    levels = _near(sound.levels_db, BAND_DB)
    beat = _near(sound.beat.reshape(len(sound.beat), -1), BEAT_DB)
    return np.asarray((levels + beat + np.clip(sound.tones @ sound.tones.T, 0.0, 1.0)) / 3.0)


def _near(rows: Floats, scale: float) -> Floats:
    """exp(−distance / scale) of all rows from each other, the distance as root of the mean square."""
    squares = (rows**2).mean(axis=1)
    far = np.sqrt(np.maximum(squares[:, None] + squares - 2.0 * (rows @ rows.T) / rows.shape[1], 0.0))
    return np.asarray(np.exp(-far / scale))


def find_sections(sound: BarSound, bar_s: float, given: tuple[int, ...] = (), more: Floats | None = None) -> TrackForm:
    """Sections of a track whose bars last about `bar_s`, or those that begin at the bars that are `given`. `more` is what else speaks
    for one beginning at every bar, shape (bars + 1,)."""
    alike = likeness(sound)
    count = len(alike)
    cues = cues_of(sound, alike) + (0.0 if more is None else more)
    edges = [*given, count] if given else _cut(cues, bar_s)
    worth = [1.0 if given else float(cues[e]) for e in edges[:-1]]
    return TrackForm(tuple(edges), tuple(worth), _likes(sound, edges))


def cues_of(sound: BarSound, alike: Floats) -> Floats:
    """What speaks for a section beginning at every bar, shape (n + 1,)."""
    count = len(alike)
    cues = np.zeros(count + 1)
    rows = np.column_stack((sound.levels_db / BAND_DB, sound.beat.reshape(count, -1).mean(axis=1) / BAND_DB))
    total = np.concatenate((np.zeros((1, rows.shape[1])), np.cumsum(rows, axis=0)))
    new = np.zeros(count)
    for side in SIDES:
        for bar in range(1, count):
            low, high = max(0, bar - side), min(count, bar + side)
            before, after = (total[bar] - total[low]) / (bar - low), (total[high] - total[bar]) / (high - bar)
            new[bar] += float(np.sqrt(((after - before) ** 2).mean())) / len(SIDES)
    around = np.lib.stride_tricks.sliding_window_view(np.pad(new, 2), 5).max(axis=1)
    over = np.clip(new - USUAL_NEW * float(np.median(new)), 0.0, 1.0)
    cues[:count] += NEW * np.where(new >= around, over, 0.3 * over)
    for bar in range(4, count - 3):
        before, after = sound.tones[bar - 4 : bar], sound.tones[bar : bar + 4]
        cues[bar] += TONES * max(0.0, 0.8 - float((before * after).sum(axis=1).mean()))
    for bar in range(2, count):
        cues[bar] += TURN * max(0.0, float(alike[bar - 2, max(0, bar - 3)] - alike[bar - 1, bar - 2]))
    cues[:count] += AGAIN * _comes_back(alike)
    cues[0] = 0.0
    return cues


def _comes_back(alike: Floats) -> Floats:
    """For every bar, whether a stretch that was heard before begins there or one that comes again, 0 to 1."""
    count = len(alike)
    found = np.zeros(count)
    for lag in range(4, count - LEAST_RUN + 1):
        same = np.diagonal(alike, lag) > SAME
        steps = np.diff(np.concatenate(([0], same.astype(np.int8), [0])))
        for start, end in zip(np.flatnonzero(steps == 1).tolist(), np.flatnonzero(steps == -1).tolist()):
            if end - start >= LEAST_RUN:
                worth = min(1.0, (end - start) / 8)
                for edge in (start, start + lag):
                    found[edge] = max(found[edge], worth)
    return found


def _cut(cues: Floats, bar_s: float) -> list[int]:
    """First bars of the sections that gather the most cues at usual lengths, and the end."""
    bars = len(cues) - 1
    length = np.arange(1, LONGEST + 1)
    usual = np.array([FITTING.get(n, 0.0 if n % 4 == 0 else ON_TWOS if n % 2 == 0 else ODD) for n in length.tolist()])
    usual = usual - 0.5 * (np.log(length * bar_s / USUAL_S) / SPREAD) ** 2 - PRICE
    best, back = np.full(bars + 1, -np.inf), np.zeros(bars + 1, np.int64)
    best[0] = 0.0
    for end in range(1, bars + 1):
        reach = length[: min(LONGEST, end)]
        worth = best[end - reach] + usual[reach - 1] + (cues[end] if end < bars else 0.0)
        top = int(np.argmax(worth))
        best[end], back[end] = worth[top], end - reach[top]
    edges = [bars]
    while edges[-1] > 0:
        edges.append(int(back[edges[-1]]))
    return edges[::-1]


def _likes(sound: BarSound, edges: list[int]) -> tuple[tuple[int, float], ...]:
    """For every section the earlier one it is most like, -1 where none is, and how alike: by levels, by the shape of the beat and by
    tones, which may lie higher."""
    shape = (sound.beat - sound.beat.mean(axis=1, keepdims=True)).reshape(len(sound.beat), -1)
    shape = shape / np.maximum(np.linalg.norm(shape, axis=1, keepdims=True), 1e-9)
    plain = 0.4 * _near(sound.levels_db, BAND_DB) + 0.4 * shape @ shape.T
    turned = [np.roll(sound.tones, by, axis=1) @ sound.tones.T for by in range(12)]
    spans, found = list(zip(edges, edges[1:])), list[tuple[int, float]]()
    for index, (low, high) in enumerate(spans):
        best, like = 0.0, -1
        for other, (a, b) in enumerate(spans[:index]):
            size = min(high - low, b - a)
            if size < 2 or size < FAR_SHORTER * max(high - low, b - a):
                continue
            rows, columns = np.arange(size) + a, np.arange(size) + low
            tones = max(float(t[rows, columns].mean()) for t in turned)
            worth = float(plain[rows, columns].mean()) + 0.2 * tones
            if worth > best:
                best, like = worth, other
        found.append((like, best) if best > ALIKE else (-1, best))
    return tuple(found)
