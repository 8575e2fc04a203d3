"""Pitch lines of takes, kept beside the recordings: read once, drawn many times."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from escalera.listen.sung_notes import CLEAR, HOP, QUIET_DB, SLOW_HZ, pitch_line
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

HOP_S = HOP / SLOW_HZ
MIDDLE_S = 512 / SLOW_HZ  # a frame tells of its middle
LONGEST_S = 600.0  # of a take whose line is drawn
Line = NDArray[np.float64]


def line_of(folder: Path, content: str, seconds: float) -> tuple[Line, Line]:
    """Seconds and MIDI pitch of a recording every 10 ms, nan where it has none; (n,) each. Empty where its audio is missing."""
    pitch = _kept(folder, content, round(min(seconds, LONGEST_S), 3))
    return (MIDDLE_S + np.arange(len(pitch)) * HOP_S).astype(np.float64), pitch


@lru_cache(maxsize=48)
def _kept(folder: Path, content: str, seconds: float) -> Line:
    path = folder / f"{content}.npy"
    try:
        packed = np.load(path)
    except (OSError, ValueError):
        audio = library.read(content, 0, round(seconds * RATE_HZ))
        if audio is None:
            return np.zeros(0)
        packed = keep_line(folder, content, *pitch_line(audio))
    found: Line = np.where(packed < 0, np.nan, packed / 100.0)
    return found


def keep_line(folder: Path, content: str, pitch: Line, clear: Line, level: Line) -> NDArray[np.int16]:
    """Keep a line that was read, in whole cents, −1 where there is no pitch; (n,) each. What cannot be written is read again."""
    voiced = (clear > CLEAR) & (level > -QUIET_DB) & ~np.isnan(pitch)
    packed = np.where(voiced, np.round(100.0 * np.nan_to_num(pitch, nan=0.0)), -1).astype(np.int16)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        np.save(folder / f"{content}.npy", packed)
    except OSError:
        pass
    return packed
