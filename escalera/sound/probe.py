"""One note of a sound by itself, measured: what the palette's table of profiles is made from and tested against."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import INDEX
from escalera.core.palette.parameters import Settings
from escalera.core.palette.sounds import BY_KEY
from escalera.meters.span_meters import measure_spans
from escalera.sound.cache import AudioCache
from escalera.sound.instruments import line_of, play_line
from escalera.sound.schedule import RATE_HZ, RING, Notes
from escalera.sound.spec import Stacked
from escalera.sound.voices import VOICES


def notes_of(rows: Sequence[tuple[float, float, float]], key: str) -> Notes:
    """Notes at velocity 100 from (start in seconds, hold in seconds, pitch)."""
    start = np.array([round(s * RATE_HZ) for s, _, _ in rows], np.int64)
    hold = np.array([RING if BY_KEY[key].is_drum else round(h * RATE_HZ) for _, h, _ in rows], np.int64)
    pitch = np.array([p for _, _, p in rows])
    return Notes(start, hold, pitch, np.full(len(rows), 100, np.int32), ())


def play_notes(key: str, notes: Notes, settings: Settings = (), seed: int = 0) -> NDArray[np.float32]:
    """Notes played by a sound, shape (2, n) float32. Rate RATE_HZ, full scale 1.0. KeyError for a sound that is not in the palette."""
    line = line_of(Stacked(key, settings), notes, seed)
    audio = np.zeros((line.sound.channels, line.end), np.float32)
    play_line(line, audio, 0, 1.0, None, AudioCache(50_000_000))
    return audio if len(audio) == 2 else np.repeat(audio, 2, axis=0)


def play_note(key: str, pitch: float, hold_s: float, seed: int = 0, settings: Settings = ()) -> NDArray[np.float32]:
    """One note at full velocity-100 gain, shape (2, n) float32."""
    return play_notes(key, notes_of([(0.0, hold_s, pitch)], key), settings, seed)


def probe(key: str, pitch: float, hold_s: float) -> NDArray[np.float64]:
    """Energy of one note (mean square times seconds) in the six bands; noisy sounds averaged over four takes.

    `pitch` is a MIDI note, `hold_s` its length in seconds; shape (6,).
    """
    energies = []
    for take in range(4 if VOICES[key].noisy else 1):
        audio = np.pad(play_note(key, pitch, hold_s, take), ((0, 0), (2048, 4096)))
        stats = measure_spans(audio, RATE_HZ, np.array([0, audio.shape[1]])).stats[0]
        energies.append(stats[:6] * audio.shape[1] / RATE_HZ)
    return np.mean(energies, axis=0)


def probe_width(key: str) -> float:
    """Decorrelated share of the power above 150 Hz, over a phrase of eight notes from the middle of the register."""
    centre = BY_KEY[key].centre
    rows = [(0.35 * i, 0.4, centre + step) for i, step in enumerate((0, 3, 7, 2, 5, -2, 4, 0))]
    audio = play_notes(key, notes_of(rows, key))
    stats = measure_spans(audio, RATE_HZ, np.array([0, audio.shape[1]])).stats[0]
    return float(stats[INDEX["side"]] / max(stats[INDEX["above_150"]], 1e-15))
