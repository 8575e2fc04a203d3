"""The beats of a played ending that slows down, followed from onset to onset."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FASTEST, SLOWEST = 0.85, 1.45  # how much shorter or longer than the one before a beat may be
SPREAD = 0.16  # of the logarithm (base 2) of that, within which an onset is believed
BELIEVED = 0.08
SLOWS = 1.06  # a last beat so much longer than the first is a slowing
Floats = NDArray[np.float64]


def beats_followed(onsets: Floats, tempo_bpm: float, until_s: float) -> list[float]:
    """Seconds of the beats in a recording that begins on a beat at a known tempo and may slow down.

    onsets : (n, 3) seconds, strength 0..1, zone, in order. A beat is the strongest onset near where one is expected, nearer ones
    first; where there is none the last beat's length goes on. The last beat lies before `until_s`.
    """
    period = 60.0 / tempo_bpm
    beats = [float(onsets[0, 0]) if len(onsets) and onsets[0, 0] < period / 4 else 0.0]
    growth = 0.0
    while beats[-1] + FASTEST * period < until_s:
        length = period * 2.0**growth
        lengths = onsets[:, 0] - beats[-1]
        inside = (lengths > FASTEST * period) & (lengths < SLOWEST * period)
        off = np.log2(np.maximum(lengths[inside], 1e-3) / length)
        worth = onsets[inside, 1] * np.exp(-((off / SPREAD) ** 2))
        if len(worth) and worth.max() > BELIEVED:
            length = float(lengths[inside][int(worth.argmax())])
            growth = 0.5 * growth + 0.5 * float(np.log2(length / period))
        elif not (onsets[:, 0] > beats[-1] + FASTEST * period).any():
            break
        beats.append(beats[-1] + length)
        period = length
    return beats


def slows(beats: list[float]) -> bool:
    """Whether beats get longer towards their end."""
    lengths = np.diff(beats)
    return (
        len(lengths) >= 3 and float(lengths[-1]) > SLOWS * float(lengths[0]) and float(lengths[-2]) > float(lengths[0])
    )
