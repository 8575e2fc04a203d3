"""A recording laid over a song whose sound is known: where every bar of the song lies in it, which bars are missing or were added.

Both are seen as onsets by zone and as levels by band and pitch class, since the same music made with other sounds has its onsets
at the same places and its parts come and go together. Found by dynamic programming over the song's bars: a bar either lies where
the one before ends, or the path jumps, which costs.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import Frames

HOP_S = 0.02  # of the search; places are refined to parts of a millisecond
FINE_S = 0.01
LEAST = 0.16  # a bar that is less alike than that speaks for nothing being there
JUMP, STEP = 1.1, 0.12  # what it costs to leave bars out or to find others, and for every bar of them
INSIDE = 0.4  # what it costs more where no section begins
DRIFT_COST = 0.02  # for a bar that lies a hop early or late
MOST_ADDED = 64  # bars in a row
SURE = 0.3  # mean likeness from which on it is the song
HALF_FOUND = 0.5  # share of the bars that have to be found
WEIGHTS = np.array([1.0, 1.0, 0.8, 1.2])  # low, middle, high onsets, and all of them
LEVEL_WEIGHT, CHROMA_WEIGHT = 0.3, 0.5
NEAR_S = 0.04
Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Traces:
    """What two recordings are compared by: `onsets` (n, 4) every 20 ms, `levels` (n, 6) and `chroma` (n, 12) likewise, `fine` (m,)
    the rise of the spectrum every 10 ms."""

    onsets: Floats
    levels: Floats
    chroma: Floats
    fine: Floats


@dataclass(frozen=True, eq=False)
class Alignment:
    """Where a song lies in a recording.

    starts_s : (bars + 1,) seconds in the recording at which bars of the song begin, the last one ends; nan where a bar is missing
    likeness : (bars,) how alike every bar is, 0 to 1
    offset_s : of the song's first bar
    drift_ppm : by which the recording is slower (above zero) than the song
    missing : bars of the song, from 0, that are not in the recording
    added : (bar of the song before which, how many bars) that only the recording has
    """

    starts_s: Floats
    likeness: Floats
    offset_s: float
    drift_ppm: float
    missing: tuple[int, ...]
    added: tuple[tuple[int, int], ...]

    @property
    def found(self) -> bool:
        """Whether it is this song at all."""
        there = ~np.isnan(self.starts_s[:-1])
        return bool(there.any() and there.mean() >= HALF_FOUND and self.likeness[there].mean() >= SURE)


def traces_of(frames: Frames) -> Traces:
    """What a recording is compared by."""
    zones = 10.0 * np.log10(frames.zones + 1e-7)
    rise = np.maximum(np.diff(zones, axis=0, prepend=zones[:1]), 0.0).clip(0, 18)
    onsets = np.column_stack((rise, frames.flux))
    count = len(onsets) // 2
    paired = onsets[: 2 * count].reshape(count, 2, 4).sum(axis=1)
    smooth = np.apply_along_axis(lambda x: np.convolve(x, (0.25, 0.5, 0.25), "same"), 0, paired)
    smooth = smooth / np.maximum(smooth.std(axis=0), 1e-9) * WEIGHTS
    levels = 10.0 * np.log10(frames.power[: 2 * count].reshape(count, 2, 6).mean(axis=1) + 1e-7)
    levels = np.apply_along_axis(lambda x: np.convolve(x, np.ones(15) / 15, "same"), 0, levels)
    return Traces(smooth, levels - levels.mean(axis=0), _chroma(frames, count), frames.flux)


def _chroma(frames: Frames, count: int) -> Floats:
    """Pitch classes every 20 ms, each row of length 1; shape (count, 12)."""
    rows = frames.partials
    tenths = count // 5 + 1
    found = np.zeros((tenths, 12))
    if len(rows):
        pitch = np.rint(69 + 12 * np.log2(rows[:, 1] / 440.0)).astype(int)
        np.add.at(found, (np.minimum(rows[:, 0].astype(int), tenths - 1), pitch % 12), np.sqrt(rows[:, 2]))
    found /= np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-9)
    return np.repeat(found, 5, axis=0)[:count]


def align(song: Traces, recording: Traces, bars_s: Floats, section_bars: frozenset[int] = frozenset()) -> Alignment:
    """Where the bars of a song lie in a recording. `bars_s` (bars + 1,) are the seconds of its bars in its own sound,
    `section_bars` those that begin a section, from 0: there bars are left out or put in sooner than elsewhere."""
    edges = np.rint(bars_s / HOP_S).astype(int)
    scores = np.stack([_likeness(song, recording, a, b).astype(np.float32) for a, b in zip(edges, edges[1:])])
    path, added = _best_path(scores, np.diff(edges), section_bars)
    likeness = np.array([scores[i, k] if k >= 0 else 0.0 for i, k in enumerate(path)])
    starts, offset, drift = _straightened(bars_s, _refined(song, recording, bars_s, path), added)
    missing = tuple(i for i, k in enumerate(path) if k < 0)
    return Alignment(starts, np.clip(likeness, 0.0, 1.0), offset, drift, missing, tuple(sorted(added.items())))


def _likeness(song: Traces, recording: Traces, low: int, high: int) -> Floats:
    """How alike one bar of the song is to the recording from every hop on, shape (hops,)."""
    onsets = _correlated(song.onsets[low:high], recording.onsets)
    tones = _correlated(song.chroma[low:high], recording.chroma)
    levels = _correlated(song.levels[low:high], recording.levels)
    whole: Floats = (onsets + CHROMA_WEIGHT * tones + LEVEL_WEIGHT * levels) / (1.0 + CHROMA_WEIGHT + LEVEL_WEIGHT)
    return whole


def _correlated(part: Floats, whole: Floats) -> Floats:
    """Normalised correlation of (m, c) with (n, c) from every row on, -1 to 1; what begins too late for a whole part is -1."""
    from scipy import signal

    n, m = len(whole), len(part)
    out = np.full(n, -1.0)
    if n < m or not m:
        return out
    centred = part - part.mean(axis=0)
    dots = signal.fftconvolve(whole, centred[::-1], mode="valid", axes=0).sum(axis=1)
    ones = np.concatenate((np.zeros((1, whole.shape[1])), np.cumsum(whole, axis=0)))
    squares = np.concatenate((np.zeros((1, whole.shape[1])), np.cumsum(whole**2, axis=0)))
    spread = (squares[m:] - squares[:-m]) - (ones[m:] - ones[:-m]) ** 2 / m
    power = np.maximum(spread, 0.0).sum(axis=1) * float((centred**2).sum())
    out[: n - m + 1] = dots / np.sqrt(np.maximum(power, 1e-6 * m))
    return out


def _best_path(
    scores: NDArray[np.float32], lengths: NDArray[np.int64], section_bars: frozenset[int]
) -> tuple[list[int], dict[int, int]]:
    """The hop at which every bar begins (-1 where it is missing) with the best sum of likenesses over LEAST, jumps paid for;
    and before which bars how many others were found."""
    bars, hops = scores.shape
    here, skipping = np.zeros(hops), np.zeros(hops)  # it may begin anywhere, and with a later bar
    steps: list[_Step] = []
    for bar in range(bars):
        inside = 0.0 if bar in section_bars else INSIDE
        entered = skipping - inside > here
        start, added = _with_added(np.where(entered, skipping - inside, here), int(lengths[bar]), JUMP + inside)
        following, drift = _matched(start + scores[bar] - LEAST, int(lengths[bar]))
        goes_on = skipping >= here - JUMP - inside
        skipping = np.maximum(skipping, here - JUMP - inside) - STEP
        steps.append(_Step(entered, added, drift, goes_on))
        here = following
    return _traced(steps, lengths, here, skipping)


@dataclass(frozen=True, eq=False)
class _Step:
    """How each hop was come by at one bar: out of left-out bars, past how many added ones, how many hops late, still leaving out."""

    entered: NDArray[np.bool_]
    added: NDArray[np.int8]
    drift: NDArray[np.int8]
    goes_on: NDArray[np.bool_]


def _with_added(start: Floats, length: int, jump: float) -> tuple[Floats, NDArray[np.int8]]:
    """What a hop is worth when bars of the recording before it may be passed over, and how many are."""
    best, count = start.copy(), np.zeros(len(start), np.int8)
    for number in range(1, min(MOST_ADDED, (len(start) - 1) // max(1, length)) + 1):
        moved = np.full(len(start), -np.inf)
        moved[number * length :] = start[: len(start) - number * length] - jump - STEP * number
        better = moved > best
        best[better], count[better] = moved[better], number
    return best, count


def _matched(worth: Floats, length: int) -> tuple[Floats, NDArray[np.int8]]:
    """What every hop is worth as the end of a bar that began `length` before it, or a hop earlier or later."""
    best, drift = np.full(len(worth), -np.inf), np.zeros(len(worth), np.int8)
    for by in (0, -1, 1):
        size = len(worth) - length - by
        moved = np.full(len(worth), -np.inf)
        if size > 0:
            moved[length + by :] = worth[:size] - DRIFT_COST * abs(by)
        better = moved > best
        best[better], drift[better] = moved[better], by
    return best, drift


def _traced(
    steps: list[_Step], lengths: NDArray[np.int64], here: Floats, skipping: Floats
) -> tuple[list[int], dict[int, int]]:
    skips = bool(skipping.max() + JUMP > here.max())  # and end with an earlier one
    at = int(np.argmax(skipping if skips else here))
    path, added = [-1] * len(steps), {}
    for bar in range(len(steps) - 1, -1, -1):
        step = steps[bar]
        if skips:
            skips = bool(step.goes_on[at])
            continue
        at -= int(lengths[bar]) + int(step.drift[at])
        path[bar] = at
        if step.added[at]:
            added[bar] = int(step.added[at])
            at -= int(step.added[at]) * int(lengths[bar])
        skips = bool(step.entered[at])
    return path, added


def _refined(song: Traces, recording: Traces, bars_s: Floats, path: list[int]) -> Floats:
    """Seconds at which bars begin, from the rise of both spectra every 10 ms; nan where a bar is missing. Shape (bars,)."""
    reach = round(NEAR_S / FINE_S)
    found = np.full(len(path), np.nan)
    for bar, hop in enumerate(path):
        if hop < 0:
            continue
        low, high = (round(x / FINE_S) for x in (bars_s[bar], bars_s[bar + 1]))
        part = song.fine[low:high] - song.fine[low:high].mean() if high > low else np.zeros(0)
        begin = round(hop * HOP_S / FINE_S)
        near = recording.fine[max(0, begin - reach) : begin + reach + len(part)]
        if begin < reach or len(near) < len(part) + 2 * reach or not len(part):
            found[bar] = hop * HOP_S + bars_s[bar] - round(bars_s[bar] / HOP_S) * HOP_S
            continue
        dots = np.correlate(near, part, "valid")[: 2 * reach + 1]
        best = int(np.argmax(dots))
        shift = 0.0
        if 0 < best < len(dots) - 1:
            a, b, c = dots[best - 1 : best + 2]
            shift = 0.5 * (a - c) / min(a - 2 * b + c, -1e-9)
        found[bar] = (begin - reach + best + float(np.clip(shift, -0.5, 0.5))) * FINE_S + bars_s[bar] - low * FINE_S
    return found


def _straightened(bars_s: Floats, starts: Floats, added: dict[int, int]) -> tuple[Floats, float, float]:
    """Starts on straight lines, one for every run without a jump, all of one slope; the offset and the slope in ppm."""
    there = np.flatnonzero(~np.isnan(starts))
    if not len(there):
        return np.full(len(starts) + 1, np.nan), 0.0, 0.0
    runs = np.zeros(len(starts), int)
    run = 0
    for before, bar in zip(there, there[1:]):
        run += int(bar != before + 1 or bar in added)
        runs[bar] = run
    late = starts - bars_s[:-1]
    kept = there
    slope = 0.0
    middles: dict[int, float] = {}
    for _ in range(4):
        middles = {r: float(np.median((late - slope * bars_s[:-1])[kept[runs[kept] == r]])) for r in set(runs[kept])}
        rest = late[kept] - np.array([middles[r] for r in runs[kept]])
        x = bars_s[:-1][kept]
        x0 = np.array([x[runs[kept] == r].mean() for r in runs[kept]])
        y0 = np.array([rest[runs[kept] == r].mean() for r in runs[kept]])
        spread = float(((x - x0) ** 2).sum())
        slope = float(((x - x0) * (rest - y0)).sum() / spread) if spread > 1.0 else 0.0
        off = np.abs(late[kept] - np.array([middles[r] for r in runs[kept]]) - slope * x)
        limit = max(0.004, 3.0 * float(np.median(off)))
        if (off <= limit).all():
            break
        kept = kept[off <= limit]
    middles = {r: float(np.median((late - slope * bars_s[:-1])[there[runs[there] == r]])) for r in set(runs[there])}
    out = np.full(len(starts) + 1, np.nan)
    for bar in there:
        line = middles[runs[bar]] + slope * bars_s[bar]
        out[bar] = bars_s[bar] + line
    if len(there) and there[-1] == len(starts) - 1:
        out[-1] = bars_s[-1] + middles[runs[there[-1]]] + slope * bars_s[-1]
    return out, middles[0], slope * 1e6
