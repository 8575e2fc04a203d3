"""Pieces of a track as they are heard in a study: slower at pitch, an octave up, only what is held or struck."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.errors import InputError, NotFound
from escalera.services.rendering import RATE_HZ, wav_bytes
from escalera.services.study_reading import COMMON_LUFS
from escalera.sound.recording_files import library
from escalera.sound.stretching import BOTH, stretched

SPEEDS = (1.0, 2 / 3, 0.5)
PARTS = ("all", "held", "struck")
LONGEST_S, CONTEXT_S, TAIL_S = 12.0, 0.35, 0.012
QUIETER_DB, CEILING = 2.0, 10.0 ** (-1.0 / 20.0)
WINDOW, HOP, KERNEL = 4096, 1024, 17
Audio = NDArray[np.float32]


def piece_wav(
    content: str, loudness_lufs: float | None, low_s: float, high_s: float, speed: float, octave: bool, part: str
) -> bytes:
    """A piece of a track from one moment to another, at a common loudness and under the ceiling, with 12 ms more for the crossfade into the
    next. Raises InputError for what is no piece, NotFound where the audio is gone."""
    if not 0 <= low_s < high_s or high_s - low_s > LONGEST_S:
        raise InputError(f"A piece from {low_s:.2f} to {high_s:.2f} s cannot be heard; up to {LONGEST_S:.0f} s can.")
    if part not in PARTS or not any(abs(speed - s) < 0.01 for s in SPEEDS):
        raise InputError(f"A track is heard at full, two thirds or half speed, {', '.join(PARTS)}.")
    return _piece(content, loudness_lufs, round(low_s, 4), round(high_s, 4), speed, octave, part)


@lru_cache(maxsize=48)
def _piece(
    content: str, lufs: float | None, low_s: float, high_s: float, speed: float, octave: bool, part: str
) -> bytes:
    first = max(0.0, low_s - CONTEXT_S)
    low, count = round(first * RATE_HZ), round((high_s + CONTEXT_S - first) * RATE_HZ)
    audio = library.read(content, low, count)
    if audio is None:
        raise NotFound("The audio of this track is missing. Bring the file in again; its content is recognised.")
    audio = np.stack((audio[0], audio[-1])) if len(audio) else np.zeros((2, 0), np.float32)
    audio = np.pad(audio, ((0, 0), (0, max(0, count - audio.shape[1]))))
    audio = _apart(audio, part)
    if speed != 1.0 or octave:
        audio = stretched(audio, round(audio.shape[1] / speed), 12.0 if octave else 0.0, BOTH)
    begin = round((low_s - first) * RATE_HZ / speed)
    length = round((high_s - low_s) * RATE_HZ / speed) + round(TAIL_S * RATE_HZ)
    audio = audio[:, begin : begin + length]
    gain = 10.0 ** ((COMMON_LUFS - QUIETER_DB - (lufs if lufs is not None else COMMON_LUFS)) / 20.0)
    peak = float(np.abs(audio).max(initial=1e-9)) * gain
    if peak > CEILING:  # rounded off rather than turned down, so that pieces join at one level
        return wav_bytes((np.tanh(audio * np.float32(gain / CEILING)) * np.float32(CEILING)).astype(np.float32))
    return wav_bytes(audio * np.float32(gain))


def _apart(audio: Audio, part: str) -> Audio:
    """What is held (lines along time) or struck (lines across it), by medians over the spectrogram as Fitzgerald (2010) does; (2, n) in
    and out. The two add up to the whole."""
    if part == "all" or audio.shape[1] < WINDOW:
        return audio
    from scipy import ndimage, signal

    _, _, spectra = signal.stft(audio, RATE_HZ, nperseg=WINDOW, noverlap=WINDOW - HOP)
    size = np.abs(spectra).mean(axis=0)
    held = ndimage.median_filter(size, size=(1, KERNEL), mode="nearest") ** 2
    struck = ndimage.median_filter(size, size=(KERNEL, 1), mode="nearest") ** 2
    share = (held if part == "held" else struck) / np.maximum(held + struck, 1e-12)
    _, made = signal.istft(spectra * share, RATE_HZ, nperseg=WINDOW, noverlap=WINDOW - HOP)
    return np.ascontiguousarray(made[:, : audio.shape[1]], dtype=np.float32)
