"""Effects in silence against the same in sound, long notes against short: a state that dies away ends in denormals, thirty times slower."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from benchmarks.table import row
from escalera.core.palette.sounds import SOUNDS
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.effect_stage import Stage
from escalera.sound.schedule import RATE_HZ
from escalera.sound.voices import patch

SECONDS, BURST_S = 8, 0.1
CUTOFFS_HZ = (40.0, 150.0, 1000.0, 4000.0, 9000.0, 16000.0)
SHORT_S, LONG_S, PITCH_HZ, LEAST_S = 0.2, 6.0, 220.0, 1e-5


def silence() -> None:
    row("effects, bursts with pauses against noise: worst, times as long", max(map(_effect, PROCESSES)), 2.0, "")
    voices = [sound.key for sound in SOUNDS if not sound.mono and patch(sound.key).program is None]
    row("notes, a second of a long one against a short one: worst", max(map(_note, voices)), 2.0, "")


def _processor_s(work: Callable[[], object]) -> float:
    took = []
    for _ in range(3):
        began = time.thread_time()
        work()
        took.append(time.thread_time() - began)
    return max(LEAST_S, min(took))


def _effect(key: str) -> float:
    """The worst of an effect's cutoffs."""
    length = SECONDS * RATE_HZ
    noise = (0.2 * np.random.default_rng(1).standard_normal((2, length))).astype(np.float32)
    bursts = noise * (np.arange(length) % RATE_HZ < BURST_S * RATE_HZ)

    def took(audio: np.ndarray, hz: float) -> float:
        stage = Stage(key, (("cutoff_hz", hz),), 0, length, RATE_HZ / 2, 3)
        return _processor_s(lambda: PROCESSES[key].process(audio.astype(np.float32), stage))

    return max(took(bursts, hz) / took(noise, hz) for hz in (CUTOFFS_HZ if "pass" in key else CUTOFFS_HZ[:1]))


def _note(key: str) -> float:
    sound = patch(key)

    def a_second(length_s: float) -> float:
        audio = np.zeros((2, round(length_s * RATE_HZ)), np.float32)
        hold = audio.shape[1] * 9 // 10
        kernel = sound.voice.model.kernel
        return _processor_s(lambda: kernel(audio[0], audio[1], hold, PITCH_HZ, 1.0, 3, sound.vector)) / length_s

    whole = sound.ring_s or LONG_S
    return a_second(whole) / a_second(min(whole, SHORT_S))
