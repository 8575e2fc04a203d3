"""A beat from taps: which pulse they follow, what falls on which step, and how loose the hand was.

The pulse is sought near the song's tempo (and its half and double): the one on which the taps lie nearest to steps of a
grid, coarse grids preferred, since a fine enough grid fits everything.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.rhythm.beat import MAX_BARS, Beat, Hit, beat, shortest, tiled
from escalera.core.time.metre import Metre
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
GRIDS = ((480, 0.0), (240, 9.0), (320, 11.0), (160, 20.0))  # ticks of a step, what its fineness costs in milliseconds
NEAR = 0.12  # how far from the song's tempo a hand may drift
LOOSE = 0.15  # mean distance from the steps, in steps, beyond which no metre fits
MAX_TAPS = 400


@dataclass(frozen=True, slots=True)
class Tapped:
    """The beat on its steps and as it was played; the tempo of the hand; how loose it was."""

    beat: Beat
    played: Beat
    tempo_bpm: float
    looseness_ms: float
    grid_ticks: int


def read_tapped(
    taps: Sequence[tuple[float, str]], one_s: float | None, tempo_bpm: float, metre: Metre, keep_tempo: bool = False
) -> Tapped:
    """A beat from taps (seconds, drum) and the moment of a "one" (the first tap when not said). Raises EditError."""
    if len(taps) < 3:
        raise EditError(f"{len(taps)} taps are too few for a beat. Tap at least one bar.")
    if len(taps) > MAX_TAPS:
        raise EditError(f"{len(taps)} taps are more than the {MAX_TAPS} that are read. Tap fewer bars.")
    taps = sorted(taps)
    times = np.array([t for t, _ in taps])
    one = times[0] if one_s is None else one_s
    tempo, grid, fit = _pulse(times - one, tempo_bpm, keep_tempo)
    if fit > LOOSE:
        raise EditError(
            "The taps fit no steady beat near this tempo. Tap along with the song, or more "
            "evenly; a bar or two is enough."
        )
    ticks = (times - one) * tempo / 60.0 * 960.0
    ticks = ticks + _lag(ticks, grid)
    steps = np.rint(ticks / grid) * grid
    bars = max(1, int(np.ceil((steps.max() + 1) / metre.bar_ticks)))
    if bars > MAX_BARS or steps.min() <= -MAX_BARS * metre.bar_ticks:
        raise EditError(f"The taps go over more than the {MAX_BARS} bars that fit. Tap a shorter beat.")
    length = bars * metre.bar_ticks  # what came before the one lies at the end of the loop
    drums = [d for _, d in taps]
    on_steps = beat(length, metre, _hits(steps, drums, length))
    as_played = beat(length, metre, _hits(np.rint(ticks), drums, length))
    off_ms = 1000.0 * float((ticks - steps).std()) / 960.0 * 60.0 / tempo
    return Tapped(_whole(shortest(on_steps)), as_played, round(tempo, 2), round(off_ms, 1), grid)


def _hits(ticks: Floats, drums: Sequence[str], length: int) -> list[Hit]:
    return [Hit(int(t) % length, d, 100 if d in ("kick", "snare") else 80) for t, d in zip(ticks, drums)]


def _whole(played: Beat) -> Beat:
    """A loop that was broken off while it went round again is the loop: a hand rarely stops on the bar line."""
    last = max(h.tick for h in played.hits)
    for bars in range(1, played.bars):
        length = bars * played.metre.bar_ticks
        part = beat(length, played.metre, (h for h in played.hits if h.tick < length))
        if part.hits and [h for h in tiled(part, played.length_ticks).hits if h.tick <= last] == list(played.hits):
            return part
    return played


USUAL_BPM, SLOWEST_BPM, FASTEST_BPM = 105.0, 68.0, 150.0
UNUSUAL_MS = 9.0  # what a tempo an octave from the usual one costs


def find_pulse(times_s: Sequence[float]) -> tuple[float, int, float]:
    """Tempo, grid in ticks and mean distance from its steps (in steps) of the pulse that moments in seconds follow,
    the first of them on the one. Between SLOWEST_BPM and FASTEST_BPM."""
    times = np.asarray(times_s, float) - times_s[0]
    best = (np.inf, USUAL_BPM, 480, 0.0)
    for tempo in np.geomspace(SLOWEST_BPM, FASTEST_BPM, 400):
        for grid, cost in GRIDS:
            places = times * tempo / 60.0 * 960.0
            places = places + _lag(places, grid)
            off = np.abs(places / grid - np.rint(places / grid))
            spread_ms = float(np.sqrt((off**2).mean())) * grid / 960.0 * 60_000.0 / tempo
            score = spread_ms + cost + UNUSUAL_MS * abs(np.log2(tempo / USUAL_BPM))
            if score < best[0]:
                best = (score, float(tempo), grid, float(off.mean()))
    return best[1], best[2], best[3]


def _pulse(times: Floats, tempo_bpm: float, keep_tempo: bool) -> tuple[float, int, float]:
    """Tempo, grid and mean distance from its steps (in steps) of the pulse that fits best."""
    drift = np.array([1.0]) if keep_tempo else np.linspace(1 - NEAR, 1 + NEAR, 121)
    best = (np.inf, tempo_bpm, 480, 1.0)
    for grid, cost in GRIDS:
        for share in drift:
            tempo = tempo_bpm * share
            places = times * tempo / 60.0 * 960.0
            places = places + _lag(places, grid)
            steps = np.abs(places / grid - np.rint(places / grid))
            spread_ms = float(np.sqrt((steps**2).mean())) * grid / 960.0 * 60_000.0 / tempo
            score = spread_ms + cost + 60.0 * abs(share - 1.0)
            off = float(steps.mean())
            if score < best[0]:
                best = (score, tempo, grid, off)
    return best[1], best[2], best[3]


def _lag(ticks: Floats, grid: int) -> float:
    """What brings the taps onto the steps on the whole: a hand is early or late as a whole, too."""
    angle = np.exp(2j * np.pi * ticks / grid).mean()
    return float(-np.angle(angle) / (2 * np.pi) * grid) if abs(angle) > 0.3 else 0.0
