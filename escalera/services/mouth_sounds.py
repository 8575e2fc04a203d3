"""A person's own sounds for low, middle and high: what their mouth, hands or table sound like, learnt from takes of one sound each."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.recordings import Sample
from escalera.core.document.singing import Take
from escalera.core.document.song import Song
from escalera.errors import InputError, NotFound
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

KINDS = ("low", "middle", "high")
HEARD_S = 0.08  # after a stroke
EDGES_HZ = (40, 120, 250, 500, 1000, 2000, 4000, 8000, 16_000)
FEWEST = 3
LEAST_STRENGTH = 0.2
Profiles = NDArray[np.float64]


def profiles_of(audio: NDArray[np.float32], onsets_s: list[float]) -> Profiles:
    """Levels of eight bands after every stroke, in dB about their own mean, shape (strokes, 8); audio is (channels, n) at 44.1 kHz."""
    mono = audio.mean(axis=0).astype(np.float64)
    size = round(HEARD_S * RATE_HZ)
    hz = np.fft.rfftfreq(size, 1.0 / RATE_HZ)
    found = np.zeros((len(onsets_s), len(EDGES_HZ) - 1))
    for i, at in enumerate(onsets_s):
        part = mono[max(0, round(at * RATE_HZ)) :][:size]
        power = np.abs(np.fft.rfft(np.pad(part, (0, size - len(part))) * np.hanning(size))) ** 2
        bands = [power[(hz >= a) & (hz < b)].sum() for a, b in zip(EDGES_HZ, EDGES_HZ[1:])]
        levels = 10.0 * np.log10(np.array(bands) + 1e-9)
        found[i] = np.clip(levels - levels.max(), -40.0, 0.0)
    return found


class MouthSounds:
    """What was learnt, in a file beside the database."""

    def __init__(self, file: Path):
        self._file = file

    def known(self) -> dict[str, list[float]]:
        """Profiles by low, middle, high; those that were learnt."""
        try:
            told = json.loads(self._file.read_text())
            return {k: [float(x) for x in told[k]] for k in KINDS if len(told.get(k, ())) == len(EDGES_HZ) - 1}
        except (OSError, ValueError, TypeError):
            return {}

    def learn(self, song: Song, take: Take, kind: str) -> str:
        """Learn that all strokes of a take are of one kind; says what was learnt. Raises InputError and NotFound."""
        if kind not in KINDS:
            raise InputError(f"“{kind[:40]}” is not one of {', '.join(KINDS)}.")
        sample, audio = _heard(song, take)
        strokes = _strokes(sample)
        if len(strokes) < FEWEST:
            raise InputError(
                f"{len(strokes)} strokes are heard in this take; {FEWEST} of one kind are needed. Beat it a few times more."
            )
        middle = np.median(profiles_of(audio, strokes), axis=0)
        aside = self._file.with_suffix(".aside")
        aside.write_text(json.dumps({**self.known(), kind: [round(float(x), 2) for x in middle]}))
        aside.replace(self._file)
        return f"Learnt from {len(strokes)} strokes what {kind} sounds like"

    def kinds_of(self, song: Song, take: Take) -> list[int]:
        """Which kind every onset of a take is (0 low, 1 middle, 2 high), the nearest that was learnt; empty where fewer than two were."""
        known = self.known()
        if len(known) < 2:
            return []
        sample, audio = _heard(song, take)
        names = list(known)
        table = np.array([known[n] for n in names])
        found = profiles_of(audio, sample.onset_rows[:, 0].tolist())
        nearest = np.abs(found[:, None] - table[None]).mean(axis=2).argmin(axis=1)
        return [KINDS.index(names[i]) for i in nearest]


def _heard(song: Song, take: Take) -> tuple[Sample, NDArray[np.float32]]:
    sample = song.sample_by_content.get(take.content)
    audio = library.read(take.content, 0, round(sample.seconds * RATE_HZ)) if sample else None
    if sample is None or audio is None:
        raise NotFound("The audio of this take is missing. Bring the file in again; its content is recognised.")
    return sample, audio


def _strokes(sample: Sample) -> list[float]:
    return [at for at, strength, _ in sample.onset_rows.tolist() if strength >= LEAST_STRENGTH]
