"""A unit: the notes that start in one layer and section, through a fresh chain, with their whole tail."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.parameters import Settings
from escalera.lazy_dataclasses import dataclass
from escalera.sound.buffers import silent
from escalera.sound.cache import AudioCache
from escalera.sound.compilation import bus
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.effect_stage import Stage
from escalera.sound.instruments import line_of, play_line, split_by_settings
from escalera.sound.schedule import Notes
from escalera.sound.spec import BLOCK, Stacked, UnitSpec, block_ticks
from escalera.sound.voices import patch

OPEN_HZ = 19_000.0
NONE = np.zeros(0, np.float32)
FADE = 1024
WINDOWED = ("reverse", "half-speed")  # effects that work on whole stretches of the section
Values = NDArray[np.float32]


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
        """The first channel, shape (n,)."""
        return self.audio[0]

    @property
    def right(self) -> NDArray[np.float32]:
        """The second channel, shape (n,); the first again where there is only one."""
        return self.audio[-1]

    @property
    def end(self) -> int:
        return self.offset + self.audio.shape[1]


@dataclass(frozen=True, slots=True)
class Extent:
    """Where a unit lies: first sample, where its notes end, where its tail ends."""

    offset: int
    dry_end: int
    end: int


@lru_cache(maxsize=2048)
def extent(spec: UnitSpec, notes: Notes) -> Extent:
    """Known without rendering. All in samples from the section's start."""
    if not len(notes.start):
        return Extent(0, 0, 0)
    lines = [line_of(s, notes, spec.seed) for s in spec.sounds]
    offset, end = int(notes.start.min()), max(line.end for line in lines)
    tail = 0
    for key, settings in spec.devices:
        if key in WINDOWED:
            span = max(256, round(Stage(key, settings, 0, 0, spec.quarter).still("span_beats") * spec.quarter))
            offset, end, tail = offset // span * span, -(-(end + tail) // span) * span, 0
        else:
            tail += PROCESSES[key].tail(Stage(key, settings, offset, 0, spec.quarter))
    return Extent(offset, end, end + tail)


def effort(spec: UnitSpec) -> int:
    """About how long a unit takes, beside others: sounds that are held and effects, not hits. Whatever it plays, so that an edit of its
    notes does not change the order in which a section's parts are added up."""
    return 2 * sum(not patch(s.sound_key).ring_s for s in spec.sounds) + len(spec.devices)


def render_unit(spec: UnitSpec, notes: Notes, cache: AudioCache) -> Unit:
    """Play the notes with the layer's sounds and pass them through its filters and effects."""
    where = extent(spec, notes)
    if not len(notes.start):
        return Unit(0, np.zeros((1, 0), np.float32))
    audio = _played(spec, notes, where, cache)
    _strip(spec, notes, where.offset, audio)
    for index, (key, settings) in enumerate(spec.devices):
        audio = PROCESSES[key].process(audio, stage_of(spec, index, key, settings, where.offset, audio.shape[1]))
    if where.end > where.dry_end:
        fade = min(FADE, audio.shape[1])
        audio[:, -fade:] *= np.linspace(1.0, 0.0, fade, dtype=np.float32)
    return Unit(where.offset, np.ascontiguousarray(audio))


def stage_of(spec: UnitSpec, index: int, key: str, settings: Settings, offset: int, length: int) -> Stage:
    """One effect of a unit as a stage, its curves read at every control block."""
    moving = {}
    for m in spec.moving:
        if m.slot.startswith(f"fx.{index}."):
            ticks = block_ticks(spec.tempo, offset, -(-length // BLOCK))
            moving[m.slot.split(".", 2)[2]] = m.at(ticks).astype(np.float32)
    return Stage(key, settings, offset, length, spec.quarter, spec.seed, moving)


def _played(spec: UnitSpec, notes: Notes, where: Extent, cache: AudioCache) -> NDArray[np.float32]:
    scatter = next((dict(settings).get("amount", 0.5) for key, settings in spec.devices if key == "scatter"), 0.0)
    placed = bool(scatter) or any(s.pan for s in spec.sounds)
    channels = 2 if placed else max(patch(s.sound_key).channels for s in spec.sounds)
    audio = silent(channels, where.end - where.offset)
    for number, stacked in enumerate(spec.sounds):
        for part, some in split_by_settings(stacked, notes, spec.moving if number == 0 else (), spec.tempo):
            pan = _places(spec, some, scatter, part) if placed else None
            play_line(line_of(part, some, spec.seed), audio, where.offset, part.gain, pan, cache)
    return audio


def _places(spec: UnitSpec, notes: Notes, scatter: float, stacked: Stacked) -> NDArray[np.float64]:
    """A place for every note: the sound's own, and at random about it; the same every time."""
    index = np.arange(len(notes.start), dtype=np.uint64)
    dice = ((index + np.uint64(spec.seed % 65_521 + 1)) * np.uint64(2654435761) >> np.uint64(7)) % np.uint64(2001)
    return np.clip(stacked.pan + scatter * (dice.astype(np.float64) / 1000.0 - 1.0), -1.0, 1.0)


def _strip(spec: UnitSpec, notes: Notes, offset: int, audio: NDArray[np.float32]) -> None:
    blocks = -(-audio.shape[1] // BLOCK)
    moving = {
        m.slot: m.at(block_ticks(spec.tempo, offset, blocks))
        for m in spec.moving
        if m.slot in ("lowpass_hz", "highpass_hz")
    }
    cutoff, gain = _curves(spec, notes, offset, blocks, moving.get("lowpass_hz"))
    highpass = moving.get("highpass_hz")
    left, right = audio[0], audio[1] if len(audio) == 2 else NONE
    if cutoff is not None:
        bus.edge_filter(left, right, cutoff, BLOCK, 0)
    if highpass is not None:
        bus.edge_filter(left, right, highpass.astype(np.float32), BLOCK, 1)
    elif spec.highpass_hz > 20.5:
        bus.edge_filter(left, right, np.full(blocks, spec.highpass_hz, np.float32), BLOCK, 1)
    if gain is not None:
        for channel in audio:
            bus.apply_gain(channel, gain, BLOCK)


def _curves(
    spec: UnitSpec, notes: Notes, offset: int, blocks: int, lowpass: NDArray[np.float64] | None
) -> tuple[Values | None, Values | None]:
    """Cutoff and gain for every block, or None where they change nothing.

    A placement's curve holds its last value until the next curve starts; before the first the layer's own applies.
    """
    if lowpass is None and not notes.curves:
        return (np.full(blocks, spec.lowpass_hz, np.float32) if spec.lowpass_hz < OPEN_HZ else None), None
    at = offset + np.arange(blocks + 1) * BLOCK
    own = np.full(blocks + 1, spec.lowpass_hz) if lowpass is None else lowpass
    cutoff, level_db = own.copy(), np.zeros(blocks + 1)
    for start, end, v in sorted(notes.curves, key=lambda c: c[0]):
        share = np.clip((at - start) / max(1, end - start), 0.0, 1.0)
        inside = at >= start - BLOCK
        if v.lowpass_start_hz is not None and v.lowpass_end_hz is not None:
            bent = v.lowpass_start_hz * (v.lowpass_end_hz / v.lowpass_start_hz) ** share
            cutoff[inside] = np.minimum(bent, own)[inside]
        else:
            cutoff[inside] = own[inside]
        level_db[inside] = (v.level_start_db + (v.level_end_db - v.level_start_db) * share)[inside]
    gain = smooth(10.0 ** (level_db / 20.0)).astype(np.float32) if level_db.any() else None
    return (cutoff.astype(np.float32) if cutoff.min() < OPEN_HZ else None), gain


def smooth(curve: NDArray[np.float64]) -> NDArray[np.float64]:
    """Steps become ramps of about 6 ms, so that a change of level does not click. One factor a control block, shape (n,); the shape is kept."""
    width = 16
    padded = np.concatenate((np.repeat(curve[:1], width // 2), curve, np.repeat(curve[-1:], width // 2 - 1)))
    return np.convolve(padded, np.full(width, 1.0 / width), mode="valid")
