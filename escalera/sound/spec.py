"""What the samples of a unit depend on, and nothing else: no ids, no level, no place in the song."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.devices import Curve, Device, StackPart
from escalera.core.document.lanes import SENDS, layer_parameter
from escalera.core.document.recordings import Clip
from escalera.core.document.song import Layer, Song
from escalera.core.palette.bank import bank_program
from escalera.core.palette.parameters import Parameter, Settings
from escalera.core.reading.clip_reading import played_clips
from escalera.core.reading.timeline import Span
from escalera.core.theory.pitch import STANDARD_HZ
from escalera.core.time.tempo import TempoPoint, tempo_map
from escalera.lazy_dataclasses import dataclass
from escalera.sound.bank_player import bank
from escalera.sound.clips import Recorded, heard, windows_of
from escalera.sound.content import content_key
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ, Notes
from escalera.sound.voices import patch

VERSION = 5  # raise when a kernel or chain changes what it makes
BLOCK = 16
MIX_LANES = ("level_db", "pan", *(p.key for p in SENDS.values()))
TempoPoints = tuple[TempoPoint, ...]


@dataclass(frozen=True, slots=True)
class Stacked:
    """One of the sounds that the notes of a unit play."""

    sound_key: str
    settings: Settings = ()
    gain: float = 1.0
    offset: int = 0
    pan: float = 0.0
    bank: str = ""  # the file of the bank that plays it
    tuning_hz: float = STANDARD_HZ  # the pitch of A; drums keep the standard
    recorded: tuple[Recorded, ...] = ()  # the clips of a recorded layer


@dataclass(frozen=True, slots=True)
class Moving:
    """A curve on one parameter: where it applies, its points, and the parameter's scale."""

    slot: str
    points: tuple[tuple[int, float, str], ...]
    rate_ticks: int
    parameter: Parameter

    def at(self, ticks: NDArray[np.float64]) -> NDArray[np.float64]:
        """Values of the moving parameter at ticks of any shape, in its unit."""
        return Curve(self.slot, self.points, self.rate_ticks).at(ticks, self.parameter)


@dataclass(frozen=True, slots=True)
class UnitSpec:
    """`quarter` is 0 and `tempo` empty where nothing of the sound depends on the song's time."""

    sounds: tuple[Stacked, ...]
    lowpass_hz: float
    highpass_hz: float
    devices: tuple[tuple[str, Settings], ...]
    moving: tuple[Moving, ...]
    seed: int
    quarter: float
    tempo: TempoPoints


def quarter_samples(span: Span) -> float:
    """Samples of a quarter note at the section's first tempo."""
    return 60.0 / span.tempo_points[0][1] * RATE_HZ


def ticks_at(tempo: TempoPoints, samples: NDArray[np.float64]) -> NDArray[np.float64]:
    """Ticks at samples counted from the section's start; the inverse of the schedule's rounding. Any shape, which is kept."""
    return tempo_map(tempo).ticks_at(samples / RATE_HZ)


def block_ticks(tempo: TempoPoints, offset: int, blocks: int) -> NDArray[np.float64]:
    """Ticks at every control block, and one more, from a sample on. `offset` in samples from the section’s start; shape (blocks + 1,)."""
    return ticks_at(tempo, offset + np.arange(blocks + 1, dtype=np.float64) * BLOCK)


def moving_of(song: Song, span: Span, layer: Layer) -> tuple[Moving, ...]:
    """The curves of a layer in a section, effects numbered by their place in the chain."""
    prefix, found = f"layer.{layer.id}.", []
    for curve in span.section.curves:
        if curve.lane.startswith(prefix):
            path = curve.lane[len(prefix) :]
            slot = _slot(path, layer.devices)
            if slot:
                found.append(Moving(slot, curve.points, curve.rate_ticks, layer_parameter(layer, path)))
    return tuple(sorted(found, key=lambda m: m.slot))


def _slot(path: str, devices: tuple[Device, ...]) -> str:
    """A path with the effect's place among those that work instead of its id; empty when it rests."""
    if not path.startswith("fx."):
        return path
    _, number, key = path.split(".", 2)
    working = [str(d.id) for d in devices if d.on]
    return f"fx.{working.index(number)}.{key}" if number in working else ""


def chain_moving(
    song: Song, span: Span, prefix: str, devices: tuple[Device, ...], level: Parameter
) -> tuple[Moving, ...]:
    """The curves of a bus's or the master's level and effects in a section."""
    found = []
    for curve in span.section.curves:
        if curve.lane.startswith(prefix):
            path = curve.lane[len(prefix) :]
            slot = _slot(path, devices)
            if slot:
                device = next((d for d in devices if path.startswith(f"fx.{d.id}.")), None)
                parameter = device.kind.parameter_by_key[path.rsplit(".", 1)[1]] if device else level
                found.append(Moving(slot, curve.points, curve.rate_ticks, parameter))
    return tuple(sorted(found, key=lambda m: m.slot))


def unit_spec(song: Song, span: Span, layer: Layer, moving: tuple[Moving, ...] = ()) -> UnitSpec:
    """What a layer's unit in a section is made of. `moving` as from `moving_of`; what acts in the mix is left out."""
    moving = tuple(m for m in moving if m.slot not in MIX_LANES)
    devices = tuple((d.key, d.settings) for d in layer.devices if d.on)
    tuning = STANDARD_HZ if layer.sound.is_drum else song.tuning_hz * 2.0 ** (layer.tune_cents / 1200.0)
    if layer.clips:  # what was recorded has its own tuning
        tuning = STANDARD_HZ * 2.0 ** (layer.tune_cents / 1200.0)
    sounds = [
        Stacked(
            layer.sound_key,
            layer.settings,
            bank=bank_file(layer.sound_key),
            tuning_hz=tuning,
            recorded=recorded_in(song, layer),
        )
    ]
    sounds += [_stacked(song, part, tuning) for part in layer.stack]
    random = any(patch(s.sound_key).noisy for s in sounds) or any(key == "scatter" for key, _ in devices)
    return UnitSpec(
        tuple(sounds),
        layer.lowpass_hz,
        layer.highpass_hz,
        devices,
        moving,
        layer.seed if random else 0,
        quarter_samples(span) if devices else 0.0,
        span.tempo_points if moving else (),
    )


def _stacked(song: Song, part: StackPart, tuning_hz: float) -> Stacked:
    return Stacked(
        part.sound_key,
        part.settings,
        10.0 ** (part.level_db / 20.0) * (-1.0 if part.inverted else 1.0),
        round(part.offset_ms / 1000 * RATE_HZ),
        part.pan,
        bank_file(part.sound_key),
        tuning_hz,
        _recorded(song, (part.clip,)) if part.clip else (),
    )


def recorded_in(song: Song, layer: Layer) -> tuple[Recorded, ...]:
    """A layer's clips with what is known of their samples, names and rights left out."""
    return _recorded(song, played_clips(layer))


def _recorded(song: Song, clips: tuple[Clip, ...]) -> tuple[Recorded, ...]:
    found = []
    for clip in clips:
        sample = song.sample_by_content.get(clip.sample)
        if sample is not None:
            found.append(Recorded(clip, heard(sample), not library.has(clip.sample), windows_of(sample)))
    return tuple(found)


@lru_cache(maxsize=2048)
def unit_key(spec: UnitSpec, notes: Notes) -> str:
    return content_key("unit", VERSION, spec, notes.content)


def bank_file(sound_key: str) -> str:
    """The name of the bank that plays a sound, so that another bank gives another key; empty for the palette's own."""
    opened = bank() if bank_program(sound_key) is not None else None
    return opened.path.name if opened else ""
