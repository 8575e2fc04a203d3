"""What every effect does to sound: a row for each key of the palette's table, in the same order.

A process takes audio (channels, n) float32 and a Stage, and gives audio back, of one or two channels; it may work in
place. Its tail says how many samples it needs after the sound ends.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.effects import EFFECT_BY_KEY, WAVES
from escalera.core.palette.parameters import Settings, setting
from escalera.core.time.ruler import RATE_HZ
from escalera.sound.compilation import bus
from escalera.sound.compilation import effects as k

BLOCK = 16
Audio = NDArray[np.float32]
Values = NDArray[np.float32]
LONGEST_TAIL = 8 * RATE_HZ
RMS_BLOCKS = 18  # 6.5 ms
NONE = np.zeros(0, np.float32)


@dataclass(frozen=True)
class Stage:
    """Where an effect works: which settings, how the song's time runs there.

    offset : of the audio's first sample from the section's start
    quarter : samples of a quarter note
    moving : control values of parameters that a curve moves, one for every 16 samples and one more
    """

    key: str
    settings: Settings
    offset: int
    length: int
    quarter: float
    seed: int = 0
    moving: dict[str, Values] = field(default_factory=dict)

    @cached_property
    def blocks(self) -> int:
        return -(-self.length // BLOCK)

    def still(self, name: str) -> float:
        """A parameter that holds for the whole sound."""
        return (
            float(self.moving[name][0])
            if name in self.moving
            else setting(self.settings, EFFECT_BY_KEY[self.key].parameter_by_key[name])
        )

    def values(self, name: str) -> Values:
        """A parameter for every block, and one more."""
        if name in self.moving:
            return self.moving[name]
        return np.full(self.blocks + 1, self.still(name), np.float32)

    def cycles(self, rate: str) -> NDArray[np.float64]:
        """Cycles passed at every block since the section's start, for a rate in beats that may move.

        Shape (blocks,); the rate is the name of a parameter in beats.
        """
        step = BLOCK / (self.values(rate).astype(np.float64) * self.quarter)
        return self.offset / (float(self.values(rate)[0]) * self.quarter) + np.concatenate(
            ([0.0], np.cumsum(step[:-1]))
        )


Process = Callable[[Audio, Stage], Audio]
Tail = Callable[[Stage], int]


@dataclass(frozen=True, slots=True)
class Effect:
    process: Process
    tail: Tail = lambda stage: 0


def both(audio: Audio) -> Audio:
    """Two channels."""
    return audio if len(audio) == 2 else np.repeat(audio, 2, axis=0)


def wave(name: float, cycles: NDArray[np.float64]) -> NDArray[np.float64]:
    """A movement 0..1 over cycles; jumps are rounded over a sixteenth of the cycle's edge.

    `name` is the index of the wave’s shape; the answer has the shape of `cycles`.
    """
    turn = cycles - np.floor(cycles)
    kind = WAVES[int(name)]
    if kind == "sine":
        return 0.5 - 0.5 * np.cos(2.0 * np.pi * cycles)
    if kind == "square":
        return np.where(turn < 0.5, np.clip(turn * 40.0, 0.0, 1.0), np.clip(1.0 - (turn - 0.5) * 40.0, 0.0, 1.0))
    rising = np.minimum(turn, (1.0 - turn) * 24.0)
    return rising if kind == "rising" else 1.0 - rising


def _filter(kind: int) -> Process:
    def process(audio: Audio, s: Stage) -> Audio:
        for channel in audio:
            k.resonant(channel, s.values("cutoff_hz"), s.values("resonance"), kind)
        return audio

    return process


def _moving_filter(audio: Audio, s: Stage) -> Audio:
    low, high = s.values("low_hz").astype(np.float64), s.values("high_hz").astype(np.float64)
    cutoff = (low * (high / low) ** wave(s.still("wave"), s.cycles("rate_beats"))).astype(np.float32)
    for channel in audio:
        k.resonant(channel, cutoff, s.values("resonance"), 0)
    return audio


def _gate(audio: Audio, s: Stage) -> Audio:
    steps = int(s.still("steps"))
    step = np.floor(s.cycles("step_beats") + 1e-9).astype(np.int64) % 16
    gain = 1.0 - s.values("depth") * (1.0 - ((steps >> step) & 1))
    width = max(1, round(s.still("edge_ms") / 1000 * RATE_HZ / BLOCK))
    gain = np.convolve(
        np.pad(gain, (width // 2, width - 1 - width // 2), mode="edge"), np.full(width, 1.0 / width), "valid"
    )
    for channel in audio:
        bus.apply_gain(channel, gain.astype(np.float32), BLOCK)
    return audio


def _drive(audio: Audio, s: Stage) -> Audio:
    for channel in audio:
        k.saturate(channel, s.values("amount"), s.still("mix"))
        if s.still("tone_hz") < 19_000 or "tone_hz" in s.moving:
            bus.edge_filter(channel, NONE, s.values("tone_hz"), BLOCK, 0)
    return audio


def _band_drive(audio: Audio, s: Stage) -> Audio:
    for channel in audio:
        low, mid, high = (np.empty(len(channel), np.float32) for _ in range(3))
        k.split_bands(
            channel, low, mid, high, s.still("low_split_hz"), max(s.still("high_split_hz"), s.still("low_split_hz"))
        )
        for band, name in ((low, "low"), (mid, "mid"), (high, "high")):
            k.saturate(band, s.values(name), 1.0)
        channel[:] = low + mid + high
    return audio


def compressor_memory(s: Stage) -> tuple[int, int]:
    """Samples that a compressor looks back and ahead."""
    ahead, behind = (
        round(s.still("attack_ms") / 1000 * RATE_HZ / BLOCK),
        round(s.still("release_ms") / 1000 * RATE_HZ / BLOCK),
    )
    return (behind + RMS_BLOCKS + 2) * BLOCK, (ahead + 2) * BLOCK


def _compress(audio: Audio, s: Stage) -> Audio:
    ahead, behind = (
        round(s.still("attack_ms") / 1000 * RATE_HZ / BLOCK),
        round(s.still("release_ms") / 1000 * RATE_HZ / BLOCK),
    )
    gain_db = np.empty(s.blocks + 1, np.float32)
    slope = 1.0 - 1.0 / s.still("ratio")
    k.compress_gain(audio[0], audio[-1], gain_db, s.still("threshold_db"), slope, ahead, max(1, behind), RMS_BLOCKS)
    mix = s.values("mix")
    gain = (1.0 - mix) + mix * 10.0 ** ((gain_db + s.values("makeup_db")) / 20.0)
    for channel in audio:
        bus.apply_gain(channel, gain.astype(np.float32), BLOCK)
    return audio


def _echo_delay(s: Stage) -> int:
    return max(64, round(s.still("time_beats") * s.quarter))


def add_echo(source: Audio, out: Audio, s: Stage) -> None:
    """Add the repeats of a stereo source to `out`."""
    k.echo(
        source[0],
        source[1],
        out[0],
        out[1],
        _echo_delay(s),
        s.values("feedback"),
        s.still("low_hz"),
        s.still("high_hz"),
        int(s.still("sides")),
        s.still("duck"),
    )


def _echo(audio: Audio, s: Stage) -> Audio:
    dry = both(audio)
    wet = np.zeros_like(dry)
    add_echo(np.ascontiguousarray(dry), wet, s)
    return _mixed(dry, wet, s.values("mix"))


def _mixed(dry: Audio, wet: Audio, mix: Values) -> Audio:
    for channel in wet:
        bus.apply_gain(channel, mix, BLOCK)
    return dry + wet


def _echo_tail(s: Stage) -> int:
    feedback = float(s.values("feedback").max())
    turns = 1 + int(np.ceil(np.log(0.002) / np.log(max(0.02, feedback))))
    return min(LONGEST_TAIL, _echo_delay(s) * max(2, turns))


SIZES = (0.24, 0.52, 1.0, 1.0)
SHIMMER = 3


def add_room(source: Audio, out: Audio, s: Stage) -> None:
    """Add the room's answer to a stereo source to `out`."""
    kind, late = int(s.still("kind")), round(s.still("pre_delay_beats") * s.quarter)
    if kind == SHIMMER:
        up = np.zeros_like(source)
        for a, b in zip(source, up):
            k.pitch_shift(a, b, 2.0, 0)  # a room blurs what careful grains would mend
        source = 0.45 * source + 0.8 * up
    n = source.shape[1] - late
    if n > 0:
        k.tank(
            source[0, :n],
            source[1, :n],
            out[0, late:],
            out[1, late:],
            s.still("decay_s"),
            s.still("damping"),
            SIZES[kind],
        )


def _room(audio: Audio, s: Stage) -> Audio:
    dry = both(audio)
    wet = np.zeros_like(dry)
    add_room(np.ascontiguousarray(dry), wet, s)
    return _mixed(dry, wet, s.values("mix"))


def _room_tail(s: Stage) -> int:
    return min(
        LONGEST_TAIL, round((s.still("decay_s") * 1.05 + 0.1) * RATE_HZ + s.still("pre_delay_beats") * s.quarter)
    )


def _widen(audio: Audio, s: Stage) -> Audio:
    mono = int(len(audio) == 1)
    audio = both(audio)
    k.widen(audio[0], audio[1], s.values("amount"), s.still("mono_below_hz"), mono)
    return audio


def _double(audio: Audio, s: Stage) -> Audio:
    audio = both(audio)
    takes, deviation, rates = np.zeros_like(audio), 2.0 ** (s.still("detune_cents") / 1200.0) - 1.0, (0.61, 0.83)
    for side, (channel, take) in enumerate(zip(audio, takes)):
        depth = deviation * RATE_HZ / (2.0 * np.pi * rates[side])
        delay = depth + (s.still("apart_ms") * (0.35 if side == 0 else 1.35)) / 1000 * RATE_HZ
        k.late_take(np.ascontiguousarray(channel), take, delay, depth, rates[side], 0.17 + 0.5 * side)
    mix = np.float32(s.still("mix"))
    return (1.0 - 0.5 * mix) * audio + np.float32(0.75) * mix * takes


def _double_tail(s: Stage) -> int:
    depth = (2.0 ** (s.still("detune_cents") / 1200.0) - 1.0) * RATE_HZ / (2.0 * np.pi * 0.61)
    return round(2 * depth + s.still("apart_ms") * 1.35 / 1000 * RATE_HZ) + 16


def _auto_pan(audio: Audio, s: Stage) -> Audio:
    audio = both(audio)
    place = s.values("depth") * (2.0 * wave(s.still("wave"), s.cycles("rate_beats")) - 1.0)
    angle = (place + 1.0) * np.pi / 4.0
    for channel, gain in zip(audio, (np.cos(angle), np.sin(angle))):
        bus.apply_gain(channel, (np.sqrt(2.0) * gain).astype(np.float32), BLOCK)
    return audio


def _span(s: Stage) -> int:
    return max(256, round(s.still("span_beats") * s.quarter))


def _reverse(audio: Audio, s: Stage) -> Audio:
    out = np.empty_like(audio)
    for channel, turned in zip(audio, out):
        k.backwards(channel, turned, -s.offset, _span(s))
    return out


def _half_speed(audio: Audio, s: Stage) -> Audio:
    out = np.empty_like(audio)
    for channel, slow in zip(audio, out):
        k.half_speed(channel, slow, -s.offset, _span(s), s.still("mix"))
    return out


def _pitch(audio: Audio, s: Stage) -> Audio:
    semitones, mix = s.still("semitones"), np.float32(s.still("mix"))
    if not semitones:
        return audio
    out = np.zeros_like(audio)
    for channel, shifted in zip(audio, out):
        k.pitch_shift(channel, shifted, 2.0 ** (semitones / 12.0), 480)
    return (1.0 - mix) * audio + mix * out


def _as_it_is(audio: Audio, s: Stage) -> Audio:
    return audio


PROCESSES: dict[str, Effect] = {
    "low-pass": Effect(_filter(0), lambda s: 2048),
    "high-pass": Effect(_filter(1), lambda s: 512),
    "band-pass": Effect(_filter(2), lambda s: 2048),
    "moving-filter": Effect(_moving_filter, lambda s: 2048),
    "gate": Effect(_gate),
    "drive": Effect(_drive, lambda s: 256),
    "band-drive": Effect(_band_drive, lambda s: 1024),
    "compressor": Effect(_compress),
    "echo": Effect(_echo, _echo_tail),
    "room": Effect(_room, _room_tail),
    "widen": Effect(_widen, lambda s: 512),
    "double": Effect(_double, _double_tail),
    "scatter": Effect(_as_it_is),  # hits are placed one by one, where the notes are played
    "auto-pan": Effect(_auto_pan),
    "reverse": Effect(_reverse, _span),
    "half-speed": Effect(_half_speed),
    "pitch": Effect(_pitch),
}
