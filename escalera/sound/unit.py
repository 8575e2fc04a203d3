"""A unit: the notes that start in one layer and section, through a fresh chain, with their whole tail."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.song.document import Layer
from escalera.core.theory.pitch import pitch_to_hz
from escalera.sound.cache import AudioCache, content_key
from escalera.sound.kernels import bus
from escalera.sound.schedule import RATE_HZ, Notes
from escalera.sound.voices import VOICES, Voice

VERSION = 1  # raise when a kernel or chain changes what it makes
BLOCK = 16
TAKES = 4  # a noisy sound is played in four takes, chosen by the layer's seed and the note's index
OPEN_HZ = 19_000.0


@dataclass(frozen=True, eq=False)
class Unit:
    """Audio of shape (channels, n), float32; its first sample lies `offset` samples after the section's start."""

    offset: int
    audio: NDArray[np.float32]

    @property
    def nbytes(self) -> int:
        return self.audio.nbytes + 64

    @property
    def left(self) -> NDArray[np.float32]:
        return self.audio[0]

    @property
    def right(self) -> NDArray[np.float32]:
        return self.audio[-1]

    @property
    def end(self) -> int:
        return self.offset + self.audio.shape[1]


def unit_key(layer: Layer, notes: Notes) -> str:
    """What the unit's samples depend on, and nothing else: no ids, no level, no place in the song."""
    seed = layer.seed if VOICES[layer.sound_key].noisy else 0
    return _unit_key(notes, layer.sound_key, layer.lowpass_hz, layer.highpass_hz, seed)


@lru_cache(maxsize=8192)
def _unit_key(notes: Notes, *chain: object) -> str:
    return content_key("unit", VERSION, chain, notes.content)


def render_unit(layer: Layer, notes: Notes, cache: AudioCache) -> Unit:
    """Play the notes with the layer's sound and pass them through its filters."""
    voice = VOICES[layer.sound_key]
    if not len(notes.start):
        return Unit(0, np.zeros((voice.channels, 0), np.float32))
    lengths = _lengths(voice, notes)
    offset = int(notes.start.min())
    audio = np.zeros((voice.channels, int((notes.start + lengths).max()) - offset), np.float32)
    for (take, pitch, hold, length), indices in _alike(layer, voice, notes, lengths).items():
        gains = (notes.velocity[indices] / 100.0) ** 1.5
        starts = notes.start[indices] - offset
        if len(indices) == 1:
            _play(voice, audio[:, starts[0] : starts[0] + length], hold, pitch, gains[0], take)
            continue
        note = cache.get_or_make(
            content_key("note", VERSION, layer.sound_key, take, pitch, hold, length),
            lambda: _one_note(voice, pitch, hold, length, take),  # noqa: B023
        )
        for start, gain in zip(starts, gains):
            for out, source in zip(audio, note):
                bus.add_scaled(out[start : start + length], source, gain)
    _chain(layer, notes, offset, audio)
    return Unit(offset, audio)


def _one_note(voice: Voice, pitch: int, hold: int, length: int, take: int) -> NDArray[np.float32]:
    audio = np.zeros((voice.channels, length), np.float32)
    _play(voice, audio, hold, pitch, 1.0, take)
    return audio


def _play(voice: Voice, audio: NDArray[np.float32], hold: int, pitch: int, gain: float, take: int) -> None:
    voice.kernel(audio[0], audio[-1], hold, pitch_to_hz(pitch), gain, take)


def _lengths(voice: Voice, notes: Notes) -> NDArray[np.int64]:
    if voice.ring_s:
        ring = round(voice.ring_s * RATE_HZ)
        return np.where(notes.hold < ring, np.minimum(ring, notes.hold + 2400), ring)
    return notes.hold + round(voice.release_s * RATE_HZ)


Alike = dict[tuple[int, int, int, int], NDArray[np.int64]]


def _alike(layer: Layer, voice: Voice, notes: Notes, lengths: NDArray[np.int64]) -> Alike:
    """Indices of notes that sound the same but for their level, by (take, pitch, hold, length)."""
    index = np.arange(len(notes.start))
    take = (index * 7 + layer.seed) % TAKES if voice.noisy else index * 0
    pitch = np.zeros_like(index) if voice.ring_s else notes.pitch
    hold = np.minimum(notes.hold, lengths)
    groups: dict[tuple[int, int, int, int], list[int]] = {}
    for i, row in enumerate(zip(take.tolist(), pitch.tolist(), hold.tolist(), lengths.tolist())):
        groups.setdefault(row, []).append(i)
    return {row: np.array(rows) for row, rows in groups.items()}


def _chain(layer: Layer, notes: Notes, offset: int, audio: NDArray[np.float32]) -> None:
    cutoff, gain = _curves(layer, notes, offset, audio.shape[1])
    for channel in audio:
        if cutoff is not None:
            bus.low_pass(channel, cutoff, BLOCK)
        if layer.highpass_hz > 20.5:
            bus.high_pass(channel, layer.highpass_hz)
        if gain is not None:
            bus.apply_gain(channel, gain, BLOCK)


def _curves(
    layer: Layer, notes: Notes, offset: int, length: int
) -> tuple[NDArray[np.float32] | None, NDArray[np.float32] | None]:
    """Cutoff and gain for every block, or None where they change nothing.

    A placement's curve holds its last value until the next curve starts; before the first the layer's own applies.
    """
    blocks = -(-length // BLOCK)
    at = offset + np.arange(blocks + 1) * BLOCK
    cutoff = np.full(blocks + 1, layer.lowpass_hz)
    level_db = np.zeros(blocks + 1)
    for start, end, v in sorted(notes.curves, key=lambda c: c[0]):
        share = np.clip((at - start) / max(1, end - start), 0.0, 1.0)
        inside = at >= start - BLOCK
        if v.lowpass_start_hz is not None and v.lowpass_end_hz is not None:
            bent = v.lowpass_start_hz * (v.lowpass_end_hz / v.lowpass_start_hz) ** share
            cutoff[inside] = np.minimum(bent, layer.lowpass_hz)[inside]
        else:
            cutoff[inside] = layer.lowpass_hz
        level_db[inside] = (v.level_start_db + (v.level_end_db - v.level_start_db) * share)[inside]
    moving = level_db.any()
    gain = _smooth(10.0 ** (level_db / 20.0)).astype(np.float32) if moving else None
    return (cutoff.astype(np.float32) if cutoff.min() < OPEN_HZ else None), gain


def _smooth(curve: NDArray[np.float64]) -> NDArray[np.float64]:
    """Steps become ramps of about 6 ms, so that a change of level does not click."""
    width = 16
    padded = np.concatenate((np.repeat(curve[:1], width // 2), curve, np.repeat(curve[-1:], width // 2 - 1)))
    return np.convolve(padded, np.full(width, 1.0 / width), mode="valid")


def reach(layer: Layer, notes: Notes) -> int:
    """Where the unit will end, in samples from the section's start; known without rendering."""
    return _reach(notes, layer.sound_key)


@lru_cache(maxsize=8192)
def _reach(notes: Notes, sound_key: str) -> int:
    return int((notes.start + _lengths(VOICES[sound_key], notes)).max(initial=0))
