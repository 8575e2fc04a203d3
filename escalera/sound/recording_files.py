"""Where recordings lie on disk: FLAC files named by their content, at 44.1 kHz, in folders that were made known.

Content is the same wherever it lies, so that any folder will do. What is nowhere is missing, and its reading stands in.
"""

from __future__ import annotations

import logging
import re
from pathlib import Path
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.recordings import Sample
from escalera.core.energy.stats import BAND_EDGES_HZ
from escalera.core.time.ruler import RATE_HZ

NAME = re.compile(r"[0-9a-f]{32}")
STAND_IN_SEED = 7
Audio = NDArray[np.float32]
log = logging.getLogger("escalera")


class Library:
    """The folders of this process. `generation` changes whenever something came or went, so that what depends on it is made anew."""

    def __init__(self) -> None:
        self._folders: dict[Path, None] = {}
        self._lost: set[str] = set()
        self._lock = Lock()
        self.generation = 0

    def add_folder(self, folder: Path) -> None:
        with self._lock:
            self._folders[folder] = None
            self.generation += 1

    def remove_folder(self, folder: Path) -> None:
        with self._lock:
            self._folders.pop(folder, None)
            self.generation += 1

    def changed(self) -> None:
        """Something was brought in or taken away."""
        with self._lock:
            self._lost.clear()
            self.generation += 1

    def path(self, content: str) -> Path | None:
        """The file of a content; None where it is missing."""
        if not NAME.fullmatch(content):
            return None
        for folder in list(self._folders):
            file = folder / f"{content}.flac"
            if content not in self._lost and file.is_file():
                return file
        return None

    def has(self, content: str) -> bool:
        return self.path(content) is not None

    def read(self, content: str, start: int = 0, count: int = -1) -> Audio | None:
        """Samples (channels, n) float32 from a frame on; None where the file is missing or damaged."""
        import soundfile

        file = self.path(content)
        if file is None:
            return None
        try:
            with soundfile.SoundFile(file) as source:
                source.seek(min(max(0, start), source.frames))
                audio = source.read(count, dtype="float32", always_2d=True).T
                return np.ascontiguousarray(audio * np.float32(scale_of(source.comment)))
        except (soundfile.LibsndfileError, OSError, ValueError) as error:
            log.warning("recording %s cannot be read: %s", content, error)
            with self._lock:
                self._lost.add(content)
                self.generation += 1
            return None


def scale_of(comment: str) -> float:
    """What a file's samples are to be multiplied by: recordings above full scale are kept below it."""
    match = re.fullmatch(r"scale=([0-9.e+-]{1,24})", comment or "")
    return float(match.group(1)) if match else 1.0


library = Library()


def stand_in(sample: Sample, start: int, count: int) -> Audio:
    """Noise with the levels that were read from a recording, shape (1, count): what is heard while it is missing."""
    from scipy.signal import butter, sosfilt

    power = sample.power
    if not len(power) or count <= 0:
        return np.zeros((1, max(0, count)), np.float32)
    dice = np.random.default_rng(STAND_IN_SEED)
    noise = dice.standard_normal(count).astype(np.float32)
    at = np.minimum(((start + np.arange(count)) / RATE_HZ / sample.slot_s).astype(int), len(power) - 1)
    out = np.zeros(count)
    for band, (low, high) in enumerate(zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:])):
        part = sosfilt(butter(2, (low, min(high, 20_000.0)), "bandpass", fs=RATE_HZ, output="sos"), noise)
        level = float(np.sqrt(np.mean(part**2))) or 1.0
        out += part / level * np.sqrt(power[at, band])
    return np.clip(out, -1.0, 1.0).astype(np.float32)[None]
