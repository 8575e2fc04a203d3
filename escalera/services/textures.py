"""Textures: a recording drawn out 4 to 50 times, smeared, held at one moment, or scattered as grains; the same seed, the same texture."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from escalera.core.time.ruler import RATE_HZ
from escalera.errors import InputError, NotFound, shown
from escalera.services.samples import Samples
from escalera.sound.recording_files import library

SLOWEST, MOST_SLOW = 4.0, 50.0
WINDOW = 16_384
MOST_S = 120.0
FADE_S = 0.05
GRAINS_A_SECOND, GRAIN_S, ASIDE_S = 36, (0.05, 0.18), 0.25  # how many, how long, how far from their moment
TURNED = 0.25  # the share of grains that is heard backwards
Audio = NDArray[np.float32]
Values = NDArray[np.float64]


def texture(audio: Audio, kind: str, times: float, seed: int = 1) -> Audio:
    """A texture of (channels, n) at 44.1 kHz, `times` as long and at most two minutes. Raises InputError beyond the limits."""
    if kind not in TEXTURES:
        raise InputError(f"“{shown(kind)}” is no texture. Choose one of: {', '.join(TEXTURES)}.")
    if not SLOWEST <= times <= MOST_SLOW:
        raise InputError(
            f"{times:g} times is no texture: between {SLOWEST:g} and {MOST_SLOW:g} times. Use stretch for less."
        )
    length = min(round(audio.shape[1] * times), round(MOST_S * RATE_HZ))
    made = TEXTURES[kind](audio.astype(np.float64), length, np.random.default_rng(seed))
    made *= 0.5 / float(np.abs(made).max(initial=1e-9))
    fade = min(length // 2, round(FADE_S * RATE_HZ))
    ramp = np.linspace(0.0, 1.0, fade)
    made[:, :fade] *= ramp
    made[:, length - fade :] *= ramp[::-1]
    return made.astype(np.float32)


def _at_rest(audio: Values, length: int, dice: np.random.Generator, place: Callable[[float], int]) -> Values:
    """Windows at rest, each with phases of its own, added over one another; `place` says which one is heard at a share of the length."""
    padded = np.pad(audio, ((0, 0), (WINDOW // 2, WINDOW)))
    out = np.zeros((len(audio), length + WINDOW))
    window = np.sqrt(np.hanning(WINDOW))
    for at in range(0, length, WINDOW // 4):
        begin = min(max(0, place(at / length)), padded.shape[1] - WINDOW)
        phases = np.exp(2j * np.pi * dice.random(WINDOW // 2 + 1))
        spectra = np.abs(np.fft.rfft(padded[:, begin : begin + WINDOW] * window))
        out[:, at : at + WINDOW] += np.fft.irfft(spectra * phases) * window
    return out[:, WINDOW // 2 : WINDOW // 2 + length]


def _smeared(audio: Values, length: int, dice: np.random.Generator) -> Values:
    return _at_rest(audio, length, dice, lambda share: int(share * audio.shape[1]))


def _frozen(audio: Values, length: int, dice: np.random.Generator) -> Values:
    """The fullest moment, for as long as is asked."""
    level = np.convolve((audio**2).mean(axis=0), np.ones(WINDOW), "valid") if audio.shape[1] > WINDOW else np.zeros(1)
    moment = int(np.argmax(level)) + WINDOW // 2
    return _at_rest(audio, length, dice, lambda share: moment)


def _grained(audio: Values, length: int, dice: np.random.Generator) -> Values:
    """Short pieces scattered about where they would be heard, some of them backwards."""
    out = np.zeros((len(audio), length))
    count = round(length / RATE_HZ * GRAINS_A_SECOND)
    for at, size, aside, turned in zip(
        dice.integers(0, length, count),
        dice.uniform(*GRAIN_S, count),
        dice.uniform(-1, 1, count),
        dice.random(count) < TURNED,
    ):
        size = min(round(size * RATE_HZ), audio.shape[1], length - int(at))
        begin = int(at / length * audio.shape[1] + aside * ASIDE_S * RATE_HZ)
        begin = min(max(0, begin), audio.shape[1] - size)
        grain = audio[:, begin : begin + size] * np.hanning(size)
        out[:, at : at + size] += grain[:, ::-1] if turned else grain
    return out


TEXTURES: dict[str, Callable[[Values, int, np.random.Generator], Values]] = {
    "smear": _smeared,
    "freeze": _frozen,
    "grains": _grained,
}
SAID = {"smear": "drawn out", "freeze": "held at its fullest moment", "grains": "scattered as grains"}


def make_texture(samples: Samples, sample_id: int, times: float, kind: str = "smear", seed: int = 1) -> tuple[int, str]:
    """Keep a texture of a sample as a sample of its own, with how it was made and the rights of what it was made of."""
    card = samples.card(sample_id)
    audio = library.read(card.content, 0, round(MOST_S * RATE_HZ / max(times, SLOWEST)))
    if audio is None:
        raise NotFound(f"The audio of {card.name} is missing. Bring the file in again.")
    made = texture(audio, kind, times, seed)
    name = f"{card.name}, {kind}, {times:g} times as long"[:200]
    said = f"A texture of “{card.name}”, {SAID[kind]}, {times:g} times as long, seed {seed}"
    id = samples.add_audio(name, made, card.source, card.licence, said)
    samples.describe(id, {"credit": card.credit})
    return id, name
