"""What plays every sound: a kernel, its parameters in order, how long it rings, how many channels it fills.

A row names a model and what it fixes of it; the palette's musical parameters share the names of a model's
parameters and override them. `release_s`, `glide_s` and `strum_s` are read here and not by kernels.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.bank import RELEASE, bank_program
from escalera.core.palette.parameters import Settings
from escalera.core.palette.recorded_sounds import is_recorded
from escalera.core.palette.sounds import BY_KEY, played_by
from escalera.lazy_dataclasses import dataclass
from escalera.sound import compilation as compiled
from escalera.sound.bank_player import bank


@dataclass(frozen=True)
class Model:
    """A kernel by `module.function`, and its parameters in order with their defaults."""

    name: str
    defaults: dict[str, float]

    @cached_property
    def kernel(self) -> Callable[..., None]:
        module, function = self.name.split(".")
        found: Callable[..., None] = getattr(getattr(compiled, module), function)
        return found


SKIN = Model("drums.skin", dict(
    hz=50, drop=3, sweep_s=0.03, body_s=0.2, click=0.2, click_s=0.003, click_hz=3200, drive=0, soften_hz=16_000,
    mode=0, tuned=0, noise=0, attack=40))  # fmt: skip
RATTLE = Model("drums.rattle", dict(
    hz=187, second=1.77, tone_s=0.065, tone=0.8, wires=0.8, wires_s=0.1, low_hz=900, high_hz=6000, room=0, room_s=0.14,
    gate_s=1.0))  # fmt: skip
HANDS = Model("drums.hands", dict(
    centre_hz=1350, narrow=0.9, gap_s=0.012, count=3, each_s=0.005, tail=1, tail_s=0.075, apart_s=0.003))  # fmt: skip
METAL = Model("drums.metal", dict(
    spread=1, ring=0.6, hiss=0.55, edge=0.58, fast_s=0.034, slow_s=0.2, slow=0, apart=0.5, bell=0, bell_hz=1200,
    bell_s=0.3, stereo=0, attack=14, rise=0))  # fmt: skip
KNOCK = Model("drums.knock", dict(
    hz=520, second=1.9, third=3.3, body_s=0.03, level2=0.6, level3=0.4, tick=0.4, tick_s=0.002, hollow=0))  # fmt: skip
SHAKE = Model("drums.shake", dict(centre_hz=6300, narrow=0.8, rise_s=0.018, body_s=0.03))
SAWS = Model("tonal.saws", dict(
    voices=1, detune=0, spread=0, pulse=0, sub=0, sub_octave=0, hiss=0, cutoff_ratio=1, cutoff_hz=2000, sweep_hz=0,
    sweep_s=0.1, damp=1.4, wobble_hz=0.19, wobble=0, attack_s=0.005, decay_s=1, sustain=1, vibrato_hz=5.2, vibrato=0,
    drive=0, stereo=0, level=0.5, opening=0))  # fmt: skip
GLIDING = Model("tonal.gliding", dict(sub=0.8, cutoff_ratio=2.2, cutoff_hz=150, damp=1.2, drive=0.25, level=0.6))
BENT = Model("tonal.bent", dict(
    ratio=1, index=1.5, floor=0.35, index_s=0.3, ping_ratio=14, ping=0.1, ping_s=0.045, body_s=0.5, track=130,
    attack_s=0.0011, wobble_hz=3, wobble=0, sway=0, sway_hz=4.6, drive=0, stereo=0, level=0.4, below=0))  # fmt: skip
PARTIALS = Model("partials.partials", dict(
    body=0, count=16, slope=1, strike=0, stiff=0, ring_s=1, track=0, damping=0.3, held=0, hammer=0, hammer_s=0.006,
    hammer_hz=1600, unison=0, lean=0, attack_s=0.0008, odd=0, level=0.4, stereo=0))  # fmt: skip
THROAT = Model("partials.throat", dict(
    vowel=0, to_vowel=-1, breath=0.05, vibrato_hz=5.3, vibrato=22, attack_s=0.06, voices=1, detune=0, spread=0,
    level=0.85, bright=0.45))  # fmt: skip
SWEEP = Model("air.sweep", dict(
    from_hz=250, to_hz=9000, damp=0.7, from_level=0.03, to_level=1, curve=2, hiss=1, tone=0, octaves=0, pulses=0,
    attack_s=0.01, level=0.62, apart=0.6))  # fmt: skip
BOOM = Model("air.boom", dict(
    from_hz=90, to_hz=38, fall_s=0.12, body_s=0.7, burst=0.9, burst_s=0.5, bright_hz=3500, attack=30))  # fmt: skip
GRAINS = Model("air.grains", dict(
    hiss=0.6, low_hz=500, high_hz=6500, swell_s=6, depth=0.3, rate=90, drop=0.5, drop_low=1200, drop_high=6000,
    drop_s=0.004, level=0.5))  # fmt: skip
MURMUR = Model("air.murmur", dict(voices=9, syllable_hz=3.2, bright=1, depth=0.85, level=0.42))
CHIRPS = Model("air.chirps", dict(voices=4, pitch_hz=4300, pulse_hz=31, burst_s=0.55, hiss=0.02, level=0.3))


@dataclass(frozen=True, slots=True)
class Voice:
    """`ring_s` is the whole length of a drum hit; `release_s` what a pitched note adds after its end."""

    model: Model
    fixed: dict[str, float]
    ring_s: float = 0.0
    release_s: float = 0.0
    channels: int = 1
    noisy: bool = False


def hit(model: Model, ring_s: float, channels: int = 1, noisy: bool = True, **fixed: float) -> Voice:
    """A voice that rings by itself for `ring_s` seconds, whatever the length of its note."""
    return Voice(model, fixed, ring_s, 0.0, channels, noisy)


def note(model: Model, release_s: float, channels: int = 1, noisy: bool = False, **fixed: float) -> Voice:
    """A voice held for its note and `release_s` seconds more."""
    if channels == 2 and "stereo" in model.defaults:
        fixed["stereo"] = 1.0
    return Voice(model, fixed, 0.0, release_s, channels, noisy)


VOICES: dict[str, Voice] = {
    "round-kick": hit(SKIN, 1.05),
    "hard-kick": hit(SKIN, 0.9, click_s=0.004, click_hz=3600),
    "soft-kick": hit(SKIN, 0.95, click=0),
    "clicky-kick": hit(SKIN, 0.65, click_s=0.002, click_hz=6500),
    "stomp-kick": hit(SKIN, 0.6, mode=0.35, noise=0.18, click_hz=1800, click_s=0.006),
    "room-snare": hit(RATTLE, 0.7, 2, tone_s=0.065),
    "thud-snare": hit(RATTLE, 0.5, 2, tone_s=0.085, high_hz=3200),
    "tonal-snare": hit(RATTLE, 0.7, 2, tone_s=0.12, second=1.5),
    "gated-snare": hit(RATTLE, 0.4, 2, room_s=0.45, low_hz=400),
    "loose-clap": hit(HANDS, 0.45, 2),
    "tight-clap": hit(HANDS, 0.3, 2, count=2, apart_s=0.001, narrow=1.1),
    "rim-knock": hit(KNOCK, 0.2),
    "finger-snap": hit(HANDS, 0.3, 2, count=2, gap_s=0.017, each_s=0.0022, narrow=0.45, apart_s=0.0006),
    "dry-click": hit(KNOCK, 0.06, level2=0.2, level3=0.1),
    "glass-click": hit(KNOCK, 0.2, second=1.51, third=2.3),
    "tin-hat": hit(METAL, 0.22),
    "paper-hat": hit(METAL, 0.18),
    "open-tin-hat": hit(METAL, 0.9, 2, slow=1, apart=0.3, stereo=1),
    "seed-shaker": hit(SHAKE, 0.2),
    "bell-ride": hit(METAL, 2.2, 2, slow=0.45, fast_s=0.05, apart=0.35, stereo=1, bell_hz=1490, edge=0.5),
    "wide-crash": hit(METAL, 2.6, 2, slow=0.6, fast_s=0.08, apart=0.8, stereo=1, edge=0.3, attack=30),
    "low-tom": hit(SKIN, 1.7, mode=0.3, sweep_s=0.07, click_hz=2200),
    "mid-tom": hit(SKIN, 1.4, mode=0.3, sweep_s=0.06, click_hz=2400),
    "high-tom": hit(SKIN, 1.15, mode=0.3, sweep_s=0.05, click_hz=2700),
    "tin-cowbell": hit(KNOCK, 0.65, second=1.503, third=2.7, level2=0.9, hollow=0.7),
    "low-hand-drum": hit(SKIN, 0.8, mode=0.45, sweep_s=0.02, click_hz=1500, click_s=0.006),
    "high-hand-drum": hit(SKIN, 0.5, mode=0.5, sweep_s=0.015, click_hz=3800, click_s=0.004),
    "kick-bass": note(SKIN, 0.06, noisy=True, tuned=1, click_hz=2600),
    "sub-sine": note(BENT, 0.07, floor=0.12, ping=0, body_s=0, level=0.62, index_s=5),
    "detuned-bass": note(SAWS, 0.09, 2, voices=3, cutoff_hz=60, sweep_s=0.16, damp=1.0, level=0.42),
    "growl-bass": note(BENT, 0.08, ratio=2, floor=1.2, index_s=0.6, ping=0, body_s=0, level=0.42, below=0.5, attack_s=0.004),
    "plucked-bass": note(SAWS, 0.08, cutoff_hz=60, sustain=0, damp=1.1, level=0.42),
    "picked-bass": note(PARTIALS, 0.08, noisy=True, count=20, stiff=0.00012, track=30, hammer_hz=2600, hammer_s=0.004, level=0.5),
    "brass-bass": note(SAWS, 0.1, sweep_s=0.22, opening=0, damp=0.9, attack_s=0.025, level=0.42),
    "gliding-bass": note(GLIDING, 0.06),
    "grand-piano": note(PARTIALS, 0.18, 2, True, count=18, strike=0.12, stiff=0.00025, ring_s=0.35, track=420, lean=0.2, hammer_hz=1100, hammer_s=0.009, level=0.5),
    "tine-keys": note(BENT, 0.16, 2, level=0.32),
    "felt-piano": note(PARTIALS, 0.16, 2, True, count=10, strike=0.1, stiff=0.0002, track=180, lean=0.15, hammer_hz=420, hammer_s=0.016, unison=0.5, attack_s=0.004, level=0.5),
    "tone-organ": note(PARTIALS, 0.06, 2, body=4, count=10, held=1, lean=0.12, level=0.32),
    "plucked-guitar": note(PARTIALS, 0.12, noisy=True, count=18, track=190, hammer=0.35, hammer_hz=900, hammer_s=0.004, level=0.5),
    "strummed-guitar": note(PARTIALS, 0.2, 2, True, count=20, stiff=0.00008, track=170, hammer=0.6, hammer_hz=3400, hammer_s=0.003, unison=1.1, lean=0.5, level=0.33),
    "wide-saws": note(SAWS, 0.18, 2, voices=7, damp=1.8, level=0.40),
    "soft-pad": note(SAWS, 0.7, 2, voices=4, detune=5, spread=0.9, damp=1.6, level=0.46),
    "breath-pad": note(SAWS, 0.9, 2, True, voices=4, detune=7, spread=0.9, cutoff_ratio=1.2, damp=1.3, wobble=0.3, level=0.40),
    "sparkle-pad": note(SAWS, 0.8, 2, voices=4, spread=1, pulse=0.5, cutoff_ratio=1, damp=0.5, level=0.30),
    "bowed-strings": note(SAWS, 0.25, 2, voices=5, spread=0.8, cutoff_ratio=1.5, damp=1.7, vibrato_hz=5.6, level=0.44),
    "pizzicato": note(PARTIALS, 0.1, 2, True, count=14, track=40, damping=0.5, hammer_hz=700, hammer_s=0.006, lean=0.2, level=0.55),
    "warm-brass": note(SAWS, 0.12, 2, voices=3, spread=0.5, cutoff_ratio=1.6, cutoff_hz=250, damp=1.1, level=0.44),
    "glass-bell": note(PARTIALS, 1.6, 2, body=1, count=6, lean=0.3, level=0.36),
    "wood-mallet": note(PARTIALS, 0.35, 2, True, body=2, count=4, track=60, hammer_hz=900, lean=0.15, level=0.5),
    "music-box": note(PARTIALS, 0.9, 2, True, body=3, count=4, hammer_hz=5000, hammer_s=0.002, lean=0.25, level=0.4),
    "short-pluck": note(SAWS, 0.1, 2, voices=2, detune=3, spread=0.5, pulse=0.4, cutoff_hz=300, sustain=0, level=0.40),
    "opening-pluck": note(SAWS, 0.14, 2, voices=3, detune=6, spread=0.7, cutoff_hz=260, opening=1, sustain=0, level=0.40),
    "plucked-lead": note(SAWS, 0.14, 2, voices=2, spread=0.3, pulse=0.35, cutoff_ratio=1.3, cutoff_hz=500, damp=0.75, sustain=0, level=0.42),
    "arp-lead": note(SAWS, 0.09, 2, voices=2, detune=3, pulse=0.9, decay_s=0.3, sustain=0.45, level=0.34),
    "reed-solo": note(SAWS, 0.1, 2, True, voices=2, detune=1.5, spread=0.2, pulse=0.8, cutoff_ratio=1, damp=0.9, level=0.36),
    "vowel-voice": note(THROAT, 0.16, noisy=True),
    "ooh-voices": note(THROAT, 0.4, 2, True, voices=4, vibrato=14, level=0.62, bright=0.3),
    "voice-chop": note(THROAT, 0.05, noisy=True, vibrato=0, attack_s=0.008),
    "plain-noise": note(SWEEP, 0.15, 2, True, to_hz=-1, from_level=1, curve=1),
    "noise-riser": note(SWEEP, 0.05, 2, True),
    "tone-riser": note(SWEEP, 0.05, 2, True, tone=0.8, from_hz=500, to_hz=7000, damp=1.5, from_level=0.08),
    "pulse-riser": note(SWEEP, 0.05, 2, True, tone=0.4, octaves=1, from_hz=400, from_level=0.25, damp=1.0),
    "falling-sweep": note(SWEEP, 0.4, 2, True, from_level=1, to_level=0.02),
    "deep-impact": hit(BOOM, 4.0, 2),
    "sub-drop": hit(BOOM, 5.0, 2, False, burst=0, attack=300),
    "reversed-swell": note(SWEEP, 0.03, 2, True, from_hz=300, damp=1.6, from_level=0, hiss=0.7, apart=0.9),
    "reversed-crash": note(METAL, 0.02, 2, True, apart=0.8, edge=0.3, rise=1),
    "rain": note(GRAINS, 0.5, 2, True),
    "sea": note(GRAINS, 0.8, 2, True, hiss=1.6, depth=0.9, drop=0, level=0.6),
    "crackle": note(GRAINS, 0.3, 2, True, hiss=0.10, low_hz=900, high_hz=5000, drop_low=900, drop_high=5000, drop_s=0.0012),
    "static": note(GRAINS, 0.3, 2, True, hiss=1.0, low_hz=1200, depth=0.7, drop=0, level=0.5),
    "crowd": note(MURMUR, 0.6, 2, True),
    "night-insects": note(CHIRPS, 0.6, 2, True),
}  # fmt: skip

RECORDED = Voice(SKIN, {}, channels=2)  # no kernel plays it

LENGTHS = ("body_s", "wires_s", "room_s", "tail_s", "fast_s", "slow_s", "fall_s")
LONGEST = 4.0


@dataclass(frozen=True, eq=False)
class Patch:
    """A sound with its settings applied: what the engine plays."""

    key: str
    voice: Voice
    vector: NDArray[np.float64]
    ring_s: float
    release_s: float
    values: dict[str, float]

    @property
    def program(self) -> int | None:
        """The bank's program that plays it; None for a sound of the palette, and where no bank is."""
        return bank_program(self.key) if bank() is not None else None

    @property
    def noisy(self) -> bool:
        return self.voice.noisy

    @property
    def channels(self) -> int:
        return self.voice.channels


@lru_cache(maxsize=2048)
def patch(sound_key: str, settings: Settings = ()) -> Patch:
    """The voice of a sound with its parameters in the kernel's order."""
    if is_recorded(sound_key):
        return Patch(sound_key, RECORDED, np.zeros(0), 0.0, 0.0, {})
    own = sound_key if sound_key in VOICES else played_by(sound_key)
    voice, sound = VOICES[own], BY_KEY[own]
    if own != sound_key and bank() is not None:
        voice = Voice(voice.model, voice.fixed, release_s=RELEASE.default, channels=2)
    defaults = {p.key: p.default for p in sound.parameters}
    values = {**voice.model.defaults, **voice.fixed, **defaults, **dict(settings)}
    if voice.model is THROAT and values["to_vowel"] < 0:
        values["to_vowel"] = values["vowel"]
    if voice.model is SWEEP and values["to_hz"] < 0:
        values["to_hz"] = values["from_hz"]
    longer = [v / defaults[key] for key, v in settings if key in LENGTHS]
    ring_s = voice.ring_s * min(LONGEST, max([1.0, *longer]))
    vector = np.array([values[name] for name in voice.model.defaults], np.float64)
    return Patch(sound_key, voice, vector, ring_s, values.get("release_s", voice.release_s), values)
