"""What sounds in every beat of a recording: pitch classes and the lowest note, from partials, with drums kept out.

A drum is short, and comes again whatever the chord: what does not last is damped by a median over time, and what stands in
most beats around is taken off below the middle. Bars that sound alike lend each other their tones.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.performance.chord_reading import Beats
from escalera.listen.frames import RATE_HZ, TONE_HOP, TONE_WINDOW, Frames

TONE_S = TONE_HOP / RATE_HZ
TONE_MIDDLE_S = TONE_WINDOW / RATE_HZ / 2
CONCERT_HZ = 440.0
OVERTONES = (
    (12, 0.3),
    (19, 0.35),
    (24, 0.15),
    (28, 0.25),
    (34, 0.12),
)  # semitones above a tone, and how loud they usually are
PURE = 0.22  # semitones that a partial of a note lies off its pitch at most
LASTING_ROWS, LASTING = 5, 0.8  # half a second; how far what does not last so long is damped
DEEP, AROUND, STANDS = (
    60,
    32,
    1.5,
)  # MIDI pitch below which, and beats among which, what stands in a quarter of them and more is taken off
BASS_BELOW, BASS_SHARE, HIGH_SHARE = 55, 0.6, 0.35
ALIKE = 0.75  # how alike two bars are from which on they lend each other their tones
Floats = NDArray[np.float64]


def beat_tones(frames: Frames, cents: float, beats_s: Floats, beats_a_bar: int, before: int = 0) -> Beats:
    """What sounds in every beat. `beats_s` (n + 1,) are beats and where the last ends, `before` of them lie before the first whole
    bar, which then is bar 1."""
    from scipy import ndimage

    count = len(beats_s) - 1
    power = _by_beat(frames, cents, beats_s)
    standing = ndimage.percentile_filter(power[:, :DEEP], 25, size=(AROUND, 1), mode="nearest")
    power[:, :DEEP] = np.maximum(power[:, :DEEP] - STANDS * standing, 0.0)
    loud = np.sqrt(power / max(float(power.max()), 1e-12))
    pure = loud.copy()
    for semis, usual in OVERTONES:
        pure[:, semis:] -= usual * loud[:, :-semis]
    pure = np.maximum(pure, 0.0)
    pure[:, :28] *= 0.3
    weights = np.stack([pure[:, c::12].sum(axis=1) for c in range(12)], axis=1)
    lows = np.where(loud > 0.2 * loud.max(axis=1, keepdims=True), loud, 0.0)[:, :76]
    there = lows.any(axis=1)
    lowest = np.where(there, (lows > 0).argmax(axis=1), -1)
    share = np.where(there, np.where(lowest < BASS_BELOW, BASS_SHARE, HIGH_SHARE), 0.0)
    numbers = np.arange(count) - before + (beats_a_bar if before else 0)
    return Beats(
        _lent(weights, beats_a_bar, before), np.where(there, lowest % 12, -1), share, numbers // beats_a_bar, numbers % beats_a_bar,
        np.arange(count) * 960,
    )  # fmt: skip


def _by_beat(frames: Frames, cents: float, beats_s: Floats) -> Floats:
    """Power of every MIDI pitch in every beat, shape (beats, 128)."""
    from scipy import ndimage

    count, rows = len(beats_s) - 1, frames.partials
    semitones = 69.0 + 12.0 * np.log2(rows[:, 1] / CONCERT_HZ) - cents / 100.0
    pitch = np.rint(semitones).astype(int)
    good = (np.abs(semitones - pitch) < PURE) & (pitch >= 24) & (pitch < 108)
    tenths = int(rows[:, 0].max(initial=0.0)) + 1
    heard = np.zeros((tenths, 128))
    np.add.at(heard, (rows[good, 0].astype(int), pitch[good]), rows[good, 2])
    heard = np.sqrt(heard)
    lasting = np.minimum(ndimage.median_filter(heard, size=(LASTING_ROWS, 1), mode="nearest"), heard)
    heard = heard ** (1.0 - LASTING) * lasting**LASTING
    at = np.searchsorted(beats_s, np.arange(tenths) * TONE_S + TONE_MIDDLE_S, side="right") - 1
    inside = (at >= 0) & (at < count)
    power = np.zeros((count, 128))
    np.add.at(power, at[inside], heard[inside] ** 2)
    return power


def _lent(weights: Floats, beats_a_bar: int, before: int) -> Floats:
    """Weights (beats, 12) of whole bars, each mixed with those of the bars that sound like it."""
    bars = (len(weights) - before) // beats_a_bar
    if bars < 2:
        return weights
    whole = weights[before : before + bars * beats_a_bar].reshape(bars, -1)
    size = np.linalg.norm(whole, axis=1, keepdims=True)
    plain = whole / np.maximum(size, 1e-9)
    alike = np.maximum(plain @ plain.T - ALIKE, 0.0) ** 2
    alike[np.arange(bars), np.arange(bars)] = (1.0 - ALIKE) ** 2
    mixed = alike / alike.sum(axis=1, keepdims=True) @ plain * size
    found = weights.copy()
    found[before : before + bars * beats_a_bar] = mixed.reshape(-1, 12)
    return found
