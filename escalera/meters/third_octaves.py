"""Sound by third-octave and time."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.balance.thirds import THIRD_EDGES_HZ, Levels
from escalera.meters.spectra import power_of

FRAME = 4096  # samples of a slot, about 93 ms
TAPERED = (
    0.5  # of every frame; frames lie side by side, so that whatever falls into a taper counts less in every layer alike
)
TINY_OFFSET = 1e-9  # below all that is read: numbers too small for the processor's quick way slow it down tenfold where sounds die away
Audio = NDArray[np.float32]


@lru_cache(maxsize=4)
def _shares(rate_hz: int) -> NDArray[np.float32]:
    """Share of every bin in every third-octave, (FRAME // 2 + 1, 28)."""
    step = rate_hz / FRAME
    low = (np.arange(FRAME // 2 + 1) - 0.5) * step
    edges = THIRD_EDGES_HZ
    inside = np.minimum(low[:, None] + step, edges[None, 1:]) - np.maximum(low[:, None], edges[None, :-1])
    return np.clip(inside / step, 0.0, 1.0).astype(np.float32)


def slots_of(samples: int) -> int:
    """How many slots a recording of so many samples has."""
    return max(1, -(-samples // FRAME))


def third_octaves(audio: Audio, rate_hz: int = 44_100) -> Levels:
    """Powers of (channels, n) audio, one or two channels, by slot and third-octave."""
    from scipy import fft

    slots = slots_of(audio.shape[1])
    whole = audio.shape[1] // FRAME
    window = _tapered()
    window = (window * np.sqrt(2.0 / (FRAME * float((window**2).sum())))).astype(np.float32)
    rows = np.zeros((len(audio), slots, FRAME), np.float32)
    np.multiply(audio[:, : whole * FRAME].reshape(len(audio), whole, FRAME), window, out=rows[:, :whole])
    if whole < slots:
        rest = audio[:, whole * FRAME :]
        rows[:, whole, : rest.shape[1]] = rest * window[: rest.shape[1]]
    rows += np.float32(TINY_OFFSET)
    spectra = fft.rfft(rows, axis=-1, overwrite_x=True)
    shares = _shares(rate_hz)
    left = power_of(spectra[0]) @ shares
    if len(audio) == 1:
        return Levels(left, left, left, FRAME / rate_hz)
    right, cross = power_of(spectra[1]) @ shares, power_of(spectra[0], spectra[1]) @ shares
    return Levels(left, right, cross, FRAME / rate_hz)


def _tapered() -> NDArray[np.float64]:
    """A Tukey window over a slot: a cosine rises over half of what is tapered, and falls over the other half."""
    edge = np.minimum(np.arange(FRAME), FRAME - np.arange(FRAME)) / (TAPERED * FRAME / 2.0)
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.minimum(edge, 1.0)))
