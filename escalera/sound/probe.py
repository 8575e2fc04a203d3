"""One note of a sound by itself, measured: what the palette's table of profiles is made from and tested against."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import INDEX
from escalera.core.palette.sounds import BY_KEY
from escalera.core.theory.pitch import pitch_to_hz
from escalera.meters.spans import measure_spans
from escalera.sound.schedule import RATE_HZ
from escalera.sound.voices import VOICES


def play_note(key: str, pitch: float, hold_s: float, seed: int = 0) -> NDArray[np.float32]:
    """One note at full velocity-100 gain, shape (2, n) float32."""
    voice = VOICES[key]
    hold = round(hold_s * RATE_HZ)
    length = round(voice.ring_s * RATE_HZ) if voice.ring_s else hold + round(voice.release_s * RATE_HZ)
    audio = np.zeros((voice.channels, length), np.float32)
    voice.kernel(audio[0], audio[-1], hold if not voice.ring_s else 1 << 40, pitch_to_hz(pitch), 1.0, seed)
    return audio if voice.channels == 2 else np.repeat(audio, 2, axis=0)


def probe(key: str, pitch: float, hold_s: float) -> NDArray[np.float64]:
    """Energy of one note (mean square times seconds) in the six bands; noisy sounds averaged over four takes."""
    energies = []
    for take in range(4 if VOICES[key].noisy else 1):
        audio = np.pad(play_note(key, pitch, hold_s, take), ((0, 0), (2048, 4096)))
        stats = measure_spans(audio, RATE_HZ, np.array([0, audio.shape[1]])).stats[0]
        energies.append(stats[:6] * audio.shape[1] / RATE_HZ)
    return np.mean(energies, axis=0)


def probe_width(key: str) -> float:
    """Decorrelated share of the power above 150 Hz, over a phrase of eight notes from the middle of the register."""
    sound = BY_KEY[key]
    notes = [play_note(key, sound.centre + step, 0.4, i) for i, step in enumerate((0, 3, 7, 2, 5, -2, 4, 0))]
    length = round(0.35 * RATE_HZ)
    audio = np.zeros((2, 7 * length + max(n.shape[1] for n in notes)), np.float32)
    for i, note in enumerate(notes):
        audio[:, i * length : i * length + note.shape[1]] += note
    stats = measure_spans(audio, RATE_HZ, np.array([0, audio.shape[1]])).stats[0]
    return float(stats[INDEX["side"]] / max(stats[INDEX["above_150"]], 1e-15))
