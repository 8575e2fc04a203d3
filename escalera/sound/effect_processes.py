"""What every effect does to sound: a row for each key of the palette's table, in the same order.

A process takes audio (channels, n) float32 and a Stage, and gives audio back, of one or two channels; it may work in
place. Its tail says how many samples it needs after the sound ends.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.effects import STRINGS, WAVES
from escalera.core.time.ruler import RATE_HZ
from escalera.sound.buffers import blank, silent
from escalera.sound.compilation import bus
from escalera.sound.compilation import effects as k
from escalera.sound.effect_stage import BLOCK, LONGEST_TAIL, Audio, Effect, Process, Stage, both, mixed
from escalera.sound.space_effects import add_echo, add_room, beside_dry, echo_tail, room_effort, room_tail

RMS_BLOCKS = 18  # 6.5 ms
NONE = np.zeros(0, np.float32)


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
    low, mid, high = (blank(audio.shape[1]) for _ in range(3))
    for channel in audio:
        k.split_bands(
            channel, low, mid, high, s.still("low_split_hz"), max(s.still("high_split_hz"), s.still("low_split_hz"))
        )
        for band, name in ((low, "low"), (mid, "mid"), (high, "high")):
            k.saturate(band, s.values(name), 1.0)
        np.add(low, mid, out=channel)
        channel += high
    return audio


EQ_BANDS = (
    ("low_hz", "low_db", 1),
    ("low_bell_hz", "low_bell_db", 0),
    ("high_bell_hz", "high_bell_db", 0),
    ("high_hz", "high_db", 2),
)


def _equaliser(audio: Audio, s: Stage) -> Audio:
    narrow = s.values("narrowness")
    for hz, db, kind in EQ_BANDS:
        gain = s.values(db)
        if gain.any():
            for channel in audio:
                k.tilt_band(channel, s.values(hz), gain, narrow, kind)
    return audio


ESS_AHEAD, ESS_BEHIND = 8, 110  # blocks: 3 ms before a sibilant, 40 ms after it


def _de_ess(audio: Audio, s: Stage) -> Audio:
    """What lies above the edge is compressed ten to one, by so much at most, and put back to what lies below."""
    rest, sharp = blank(*audio.shape), blank(*audio.shape)
    for channel, low, high in zip(audio, rest, sharp):
        middle = np.empty(len(channel), np.float32)
        k.split_bands(channel, low, middle, high, 20.0, s.still("above_hz"))
        low += middle
    gain_db = np.empty(s.blocks + 1, np.float32)
    k.compress_gain(sharp[0], sharp[-1], gain_db, s.still("threshold_db"), 0.9, ESS_AHEAD, ESS_BEHIND, RMS_BLOCKS // 3)
    gain = 10.0 ** (np.maximum(gain_db, -s.values("most_db")) / 20.0)
    for channel in sharp:
        bus.apply_gain(channel, gain.astype(np.float32), BLOCK)
    rest += sharp
    return rest


MOST_TRANSIENT_DB = 12.0


def _transient(audio: Audio, s: Stage) -> Audio:
    """Gain by how far the quick envelope stands over the slow one: 1 at the front of a hit, 0 behind it."""
    quick, slow = (np.empty(s.blocks + 1, np.float32) for _ in range(2))
    k.follow_attack(audio[0], audio[-1], quick, slow)
    front = np.clip(20.0 * np.log10(quick / slow) / 9.0, 0.0, 1.0)
    gain_db = MOST_TRANSIENT_DB * (s.values("attack") * front + s.values("sustain") * (1.0 - front))
    peak = _peak(audio)
    for channel in audio:
        bus.apply_gain(channel, (10.0 ** (gain_db / 20.0)).astype(np.float32), BLOCK)
    audio /= np.float32(max(1.0, _peak(audio) / (2.0 * peak)))  # at most 6 dB over what it was
    return audio


def _peak(audio: Audio) -> float:
    return max(float(audio.max(initial=1e-9)), -float(audio.min(initial=0.0)))


CHORUS_VOICES = ((0.0, -1.0), (1 / 3, 0.0), (2 / 3, 1.0))  # phase of the drift and place of every take


def _chorus(audio: Audio, s: Stage) -> Audio:
    audio = both(audio)
    out, mono = silent(*audio.shape), np.ascontiguousarray(audio.mean(axis=0))
    turns = (
        s.offset / RATE_HZ * s.still("rate_hz")
        + np.concatenate(([0.0], np.cumsum(s.values("rate_hz")[:-1]))) * BLOCK / RATE_HZ
    )
    take = blank(*mono.shape)
    for phase, place in CHORUS_VOICES:
        late = s.values("depth_ms") * (1.3 + np.sin(2 * np.pi * (turns + phase))) + 4.0
        k.drifting(mono, take, late.astype(np.float32))
        left, right = (np.sqrt(0.5 * (1 + 0.9 * side)) * 0.7 for side in (-place, place))
        bus.add_stereo(*out, take, take, left, right)
    mix = s.values("mix")
    for channel in audio:
        bus.apply_gain(channel, (1.0 - 0.5 * mix).astype(np.float32), BLOCK)
    return mixed(audio, out, mix)


def _resonators(audio: Audio, s: Stage) -> Audio:
    out = silent(*audio.shape)
    for channel, ringing in zip(audio, out):
        for key in STRINGS:
            k.strung(np.ascontiguousarray(channel), ringing, s.values(key), s.values("ring_s"), s.values("damping"))
    return mixed(audio, out, 0.5 * s.values("mix"))


def _worn_tape(audio: Audio, s: Stage) -> Audio:
    """One path for both channels, so that nothing turns in the middle: slow drift, quick flutter, a dull top, soft clipping."""
    seconds = s.offset / RATE_HZ + np.arange(s.blocks + 1) * BLOCK / RATE_HZ
    drift = np.sin(2 * np.pi * 0.41 * seconds + s.seed) + 0.6 * np.sin(2 * np.pi * 0.97 * seconds + 1.7 * s.seed)
    flutter = np.sin(2 * np.pi * 7.3 * seconds + 0.3 * s.seed) + 0.5 * np.sin(2 * np.pi * 11.9 * seconds)
    late = (6.0 + 1.6 * s.values("drift") * drift + 0.09 * s.values("flutter") * flutter).astype(np.float32)
    dull = (17_000.0 * (4_500.0 / 17_000.0) ** s.values("wear")).astype(np.float32)
    out = blank(*audio.shape)
    for channel, take in zip(audio, out):
        k.drifting(np.ascontiguousarray(channel), take, late)
        k.saturate(take, 0.6 * s.values("push"), 1.0)
        k.resonant(take, dull, np.zeros(s.blocks + 1, np.float32), 0)
    return out


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
    before_it = (ahead + 1) * s.whole  # blocks of silence, so that the gain is there when the first hit comes
    heard = _later(audio, before_it * BLOCK)
    gain_db = np.empty(s.blocks + before_it + 1, np.float32)
    slope = 1.0 - 1.0 / s.still("ratio")
    k.compress_gain(
        heard[0],
        heard[-1],
        gain_db,
        s.still("threshold_db"),
        slope,
        ahead,
        max(1, behind),
        1 if s.still("listens") else RMS_BLOCKS,
    )
    mix = s.values("mix")
    gain = (1.0 - mix) + mix * 10.0 ** ((gain_db[before_it:] + s.values("makeup_db")) / 20.0)
    before = _power(audio) if s.whole and s.still("match") else 0.0
    for channel in audio:
        bus.apply_gain(channel, gain.astype(np.float32), BLOCK)
    if before > 0.0:
        audio *= np.float32(np.sqrt(before / max(_power(audio), 1e-12)))
    return audio


def _later(audio: Audio, samples: int) -> Audio:
    """Audio after so many samples of silence."""
    if not samples:
        return audio
    found = blank(len(audio), samples + audio.shape[1])
    found[:, :samples], found[:, samples:] = 0.0, audio
    return found


def _power(audio: Audio) -> float:
    """The sum of all squares, a stretch at a time: a whole section in double precision would take much memory."""
    pieces = range(0, audio.shape[1], POWER_PIECE)
    return sum(float(np.square(audio[:, low : low + POWER_PIECE], dtype=np.float64).sum()) for low in pieces)


POWER_PIECE = 1 << 16


def _widen(audio: Audio, s: Stage) -> Audio:
    mono = int(len(audio) == 1)
    audio = both(audio)
    k.widen(audio[0], audio[1], s.values("amount"), s.still("mono_below_hz"), mono)
    lowered = 1.0 - 10.0 ** (s.values("middle_db") / 20.0)
    if lowered.any():
        middle = audio[0] + audio[1]
        bus.apply_gain(middle, (0.5 * lowered).astype(np.float32), BLOCK)
        audio -= middle
    return audio


def _double(audio: Audio, s: Stage) -> Audio:
    audio = both(audio)
    takes, deviation, rates = silent(*audio.shape), 2.0 ** (s.still("detune_cents") / 1200.0) - 1.0, (0.61, 0.83)
    for side, (channel, take) in enumerate(zip(audio, takes)):
        depth = deviation * RATE_HZ / (2.0 * np.pi * rates[side])
        delay = depth + (s.still("apart_ms") * (0.35 if side == 0 else 1.35)) / 1000 * RATE_HZ
        k.late_take(np.ascontiguousarray(channel), take, delay, depth, rates[side], 0.17 + 0.5 * side)
    mix = s.still("mix")
    return _crossed(audio, takes, 1.0 - 0.5 * mix, 0.75 * mix)


def _crossed(dry: Audio, wet: Audio, dry_gain: float, wet_gain: float) -> Audio:
    """The sum of both, each at a level of its own, in the place of the second one."""
    wet *= np.float32(wet_gain)
    for answer, channel in zip(wet, dry):
        channel *= np.float32(dry_gain)
        answer += channel
    return wet


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
    out = blank(*audio.shape)
    for channel, turned in zip(audio, out):
        k.backwards(channel, turned, -s.offset, _span(s))
    return out


def _half_speed(audio: Audio, s: Stage) -> Audio:
    out = blank(*audio.shape)
    for channel, slow in zip(audio, out):
        k.half_speed(channel, slow, -s.offset, _span(s), s.still("mix"))
    return out


def _pitch(audio: Audio, s: Stage) -> Audio:
    semitones, mix = s.still("semitones"), s.still("mix")
    if not semitones:
        return audio
    out = silent(*audio.shape)
    for channel, shifted in zip(audio, out):
        k.pitch_shift(channel, shifted, 2.0 ** (semitones / 12.0), 480)
    return _crossed(audio, out, 1.0 - mix, mix)


def _as_it_is(audio: Audio, s: Stage) -> Audio:
    return audio


PROCESSES: dict[str, Effect] = {
    "low-pass": Effect(_filter(0), lambda s: 2048),
    "high-pass": Effect(_filter(1), lambda s: 512),
    "band-pass": Effect(_filter(2), lambda s: 2048),
    "moving-filter": Effect(_moving_filter, lambda s: 2048),
    "equaliser": Effect(_equaliser, lambda s: 2048),
    "gate": Effect(_gate),
    "drive": Effect(_drive, lambda s: 256),
    "band-drive": Effect(_band_drive, lambda s: 1024),
    "compressor": Effect(_compress),
    "de-esser": Effect(_de_ess, lambda s: 256),
    "transient": Effect(_transient),
    "echo": Effect(beside_dry(add_echo), echo_tail, add_echo),
    "room": Effect(beside_dry(add_room), room_tail, add_room, room_effort),
    "widen": Effect(_widen, lambda s: 512),
    "double": Effect(_double, _double_tail),
    "chorus": Effect(_chorus, lambda s: 1200),
    "resonators": Effect(_resonators, lambda s: min(LONGEST_TAIL, round(float(s.values("ring_s").max()) * RATE_HZ))),
    "worn-tape": Effect(_worn_tape, lambda s: 1200),
    "scatter": Effect(_as_it_is),  # hits are placed one by one, where the notes are played
    "auto-pan": Effect(_auto_pan),
    "reverse": Effect(_reverse, _span),
    "half-speed": Effect(_half_speed),
    "pitch": Effect(_pitch),
}
