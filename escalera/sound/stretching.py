"""Time and pitch of recordings, apart from each other and together.

`bungee` (MPL-2.0) stretches and transposes: measured against others it keeps attacks within half a millisecond; it crashes
on empty input and spreads what is no number, so both are kept from it. `soxr` changes speed.

Its windows are chosen by what is stretched: short ones keep attacks (before a hit −31 dB of it are heard, with long ones −22),
and turn held chords into rattle (their partials 3 dB above what is between them, with long ones 45).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from escalera.errors import InputError

RATE_HZ = 44_100
LEAST, MOST = 0.25, 4.0  # length after against before
MOST_SEMITONES = 24.0
ATTACKS, BOTH, HELD = -1, 0, 1  # windows for beats, for beats with chords in them, for what is held
AS_LONG = 2  # samples by which rounding may differ: nothing is stretched for them
SHORTEST = 64  # samples below which nothing is stretched
Audio = NDArray[np.float32]


def check_ratio(ratio: float, semitones: float = 0.0) -> None:
    """Raises InputError for what no ear would take for the same sound."""
    if not np.isfinite(ratio) or not LEAST <= ratio <= MOST:
        raise InputError(
            f"{ratio:.3g} times the length cannot be reached by stretching: between {LEAST:g} and {MOST:g} times. "
            f"Choose other bars or another tempo, or make a texture of it."
        )
    if not np.isfinite(semitones) or abs(semitones) > MOST_SEMITONES:
        raise InputError(f"Transposing by {semitones:.3g} semitones is too far: at most {MOST_SEMITONES:g} up or down.")


def in_reach(semitones: float) -> float:
    """Semitones within ±MOST_SEMITONES: what lies further away, in the nearest octave that can be reached."""
    over = abs(semitones) - MOST_SEMITONES
    return semitones - math.copysign(12 * math.ceil(over / 12), semitones) if over > 0 else semitones


def stretched(audio: Audio, length: int, semitones: float = 0.0, windows: int = ATTACKS) -> Audio:
    """A recording made exactly `length` samples long and moved by semitones, pitch and time apart from each other.

    `audio` is (channels, n) at 44.1 kHz; `windows` one of ATTACKS, BOTH, HELD; the same input gives the same bytes. Raises InputError beyond a quarter and four
    times, and beyond two octaves.
    """
    if audio.shape[1] < SHORTEST or length < 1:
        return _padded(audio, max(0, length))
    ratio = length / audio.shape[1]
    check_ratio(ratio, semitones)
    if abs(length - audio.shape[1]) <= AS_LONG and abs(semitones) < 1e-6:
        return _padded(audio, length)
    from bungee_python import bungee

    clean = np.ascontiguousarray(np.nan_to_num(audio, nan=0.0, posinf=0.0, neginf=0.0).T)
    worker = bungee.Bungee(RATE_HZ, clean.shape[1], 1.0 / ratio, 2.0 ** (semitones / 12.0), windows)
    worker.preroll()
    made = np.asarray(worker.process(clean), np.float32).T
    return _padded(np.ascontiguousarray(made), length)


def sped(audio: Audio, length: int) -> Audio:
    """A recording played faster or slower so that it is `length` samples long: its pitch follows. (channels, n) in and out."""
    if audio.shape[1] < SHORTEST or length < 1 or length == audio.shape[1]:
        return _padded(audio, max(0, length))
    check_ratio(length / audio.shape[1])
    import soxr

    made = soxr.resample(np.ascontiguousarray(audio.T), audio.shape[1], length, quality="HQ")
    return _padded(np.ascontiguousarray(np.asarray(made, np.float32).reshape(-1, audio.shape[0]).T), length)


def _padded(audio: Audio, length: int) -> Audio:
    if audio.shape[1] >= length:
        return audio[:, :length]
    return np.pad(audio, ((0, 0), (0, length - audio.shape[1])))


def stretched_blocks(
    blocks: Iterable[Audio], channels: int, length: int, ratio: float, semitones: float = 0.0, windows: int = ATTACKS
) -> Iterator[Audio]:
    """As `stretched`, block by block, so that nothing is held whole; all together exactly `length` samples, (channels, n) each."""
    check_ratio(ratio, semitones)
    from bungee_python import bungee

    worker = bungee.Bungee(RATE_HZ, channels, 1.0 / ratio, 2.0 ** (semitones / 12.0), windows)
    worker.preroll()
    left = length
    for block in blocks:
        if block.shape[1] and left > 0:
            made = np.asarray(worker.process(np.ascontiguousarray(block.T)), np.float32).T[:, :left]
            left -= made.shape[1]
            yield np.ascontiguousarray(made)
    if left > 0:
        yield np.zeros((channels, left), np.float32)
