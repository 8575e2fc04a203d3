"""Formants kept where a single voice is transposed: the spectral envelope of the source is laid over what was moved.

Envelopes are cepstrally smoothed magnitudes (liftering below the pitch's quefrency, as in Röbel and Rodet, 2005).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FRAME, HOP = 2048, 512
LIFTER = 48  # cepstral coefficients kept: what is finer is pitch and no formant
MOST_DB = 24.0
Audio = NDArray[np.float32]


def kept(source: Audio, moved: Audio, semitones: float) -> Audio:
    """`moved` with the envelope that `source` has at the same share of its length. Both (channels, n); the shape of `moved`."""
    out = np.empty_like(moved)
    for channel in range(len(moved)):
        first = source[min(channel, len(source) - 1)]
        out[channel] = _one(first, _one(first, moved[channel]))  # twice, since envelopes are smooth and peaks are not
    level = np.sqrt(np.mean(moved**2) + 1e-12) / np.sqrt(np.mean(out**2) + 1e-12)
    found: Audio = (out * np.float32(level)).astype(np.float32)
    return found


def _one(source: NDArray[np.float32], moved: NDArray[np.float32]) -> NDArray[np.float32]:
    from scipy import fft

    if len(moved) < FRAME or len(source) < FRAME:
        return moved
    window = np.hanning(FRAME)
    padded = np.pad(moved.astype(np.float64), (FRAME, FRAME))
    first = np.pad(source.astype(np.float64), (FRAME, FRAME))
    starts = np.arange(0, len(padded) - FRAME, HOP)
    ratio = len(source) / len(moved)
    there = np.clip(np.rint((starts - FRAME) * ratio).astype(int) + FRAME, 0, len(first) - FRAME)
    out, weight = np.zeros(len(padded)), np.zeros(len(padded))
    for low in range(0, len(starts), 256):
        some, same = starts[low : low + 256], there[low : low + 256]
        spectra = fft.rfft(padded[some[:, None] + np.arange(FRAME)] * window, axis=1)
        wanted = _envelope(np.abs(fft.rfft(first[same[:, None] + np.arange(FRAME)] * window, axis=1)))
        has = _envelope(np.abs(spectra))
        gain = np.clip(wanted - has, -MOST_DB / 8.686, MOST_DB / 8.686)
        made = fft.irfft(spectra * np.exp(gain), FRAME, axis=1) * window
        for i, at in enumerate(some):
            out[at : at + FRAME] += made[i]
            weight[at : at + FRAME] += window**2
    found: NDArray[np.float32] = (out / np.maximum(weight, 1e-3))[FRAME : FRAME + len(moved)].astype(np.float32)
    return found


def _envelope(magnitude: NDArray[np.float64]) -> NDArray[np.float64]:
    """Smoothed logarithm of magnitudes, shape (frames, bins)."""
    from scipy import fft

    cepstrum = fft.irfft(np.log(magnitude + 1e-7), axis=1)
    cepstrum[:, LIFTER:-LIFTER] = 0.0
    found: NDArray[np.float64] = fft.rfft(cepstrum, axis=1).real
    return found
