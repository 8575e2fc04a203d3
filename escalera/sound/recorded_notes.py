"""Notes of recordings that last or glide: a later part repeated without a seam, a pitch that comes from the note before."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.time.ruler import RATE_HZ

RELEASE = 2400  # samples that a held note of a recording takes to end
WINDOW = 1024  # samples that are compared, and over which one round goes over into the next
SHORTEST = 4 * WINDOW  # of less nothing can be repeated
MOST_SEMITONES = 24.0
Audio = NDArray[np.float32]


def gone_round(audio: Audio, length: int, from_share: float) -> Audio:
    """A recording of (channels, n) made `length` samples long: what follows `from_share` of it is repeated.

    Where the repeat begins is moved to where the waveform is most like that before the end, so that the two are in phase when
    they are crossfaded. What is too short to be repeated is followed by silence.
    """
    count = audio.shape[1]
    if length <= count or count < SHORTEST:
        return audio[:, :length] if length <= count else np.pad(audio, ((0, 0), (0, length - count)))
    begin = _most_alike(audio.mean(axis=0), round(count * from_share))
    fade = np.linspace(0.0, 1.0, WINDOW, dtype=np.float32)
    once = audio[:, begin + WINDOW :].copy()
    once[:, -WINDOW:] = once[:, -WINDOW:] * (1.0 - fade) + audio[:, begin : begin + WINDOW] * fade
    head = audio[:, : begin + WINDOW]
    rounds = -(-(length - head.shape[1]) // once.shape[1])
    return np.concatenate((head, np.tile(once, rounds)), axis=1)[:, :length]


def _most_alike(mono: NDArray[np.float32], earliest: int) -> int:
    """The first sample of the window, from `earliest` to WINDOW before the middle of the rest, that is most like the last one."""
    end = mono[-WINDOW:].astype(float)
    latest = max(earliest + 1, earliest + (len(mono) - earliest) // 2 - WINDOW)
    part = mono[earliest : latest + WINDOW].astype(float)
    size = 1 << (len(part) + WINDOW).bit_length()
    dots = np.fft.irfft(np.fft.rfft(part, size) * np.conj(np.fft.rfft(end, size)), size)[: latest - earliest]
    squares = np.concatenate(([0.0], np.cumsum(part**2)))
    power = squares[WINDOW : WINDOW + len(dots)] - squares[: len(dots)]
    return earliest + int(np.argmax(dots / np.sqrt(power + 1e-9)))


def gliding(audio: Audio, semitones: float, glide_ms: float) -> Audio:
    """A recording of (channels, n) that begins `semitones` off its pitch and reaches it after `glide_ms`: as long as it then takes.

    Read at a speed that changes, between samples along a cubic through four of them (Catmull and Rom).
    """
    off = float(np.clip(semitones, -MOST_SEMITONES, MOST_SEMITONES))
    glide = max(1, round(glide_ms / 1000.0 * RATE_HZ))
    speeds = 2.0 ** (off * (1.0 - np.arange(glide) / glide) / 12.0)
    places = np.concatenate(([0.0], np.cumsum(speeds)))
    rest = audio.shape[1] - 3 - places[-1]
    if rest > 0:
        places = np.concatenate((places, places[-1] + np.arange(1, int(rest))))
    places = places[places < audio.shape[1] - 3]
    at = places.astype(int)
    t = (places - at).astype(np.float32)
    a, b, c, d = (audio[:, np.maximum(at + i, 0)] for i in (-1, 0, 1, 2))
    found: Audio = b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)))
    return found
