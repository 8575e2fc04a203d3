"""Which kernel plays which sound, how long it rings, and how many channels it fills. One row per palette key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from escalera.sound.kernels import drums, tonal


@dataclass(frozen=True, slots=True)
class Voice:
    """`ring_s` is the whole length of a drum hit; `release_s` what a pitched note adds after its end."""

    kernel: Callable[..., None]
    ring_s: float = 0.0
    release_s: float = 0.0
    channels: int = 1
    noisy: bool = False


VOICES: dict[str, Voice] = {
    "round-kick": Voice(drums.round_kick, ring_s=0.75, noisy=True),
    "room-snare": Voice(drums.room_snare, ring_s=0.6, channels=2, noisy=True),
    "loose-clap": Voice(drums.loose_clap, ring_s=0.45, channels=2, noisy=True),
    "tin-hat": Voice(drums.tin_hat, ring_s=0.22, noisy=True),
    "open-tin-hat": Voice(drums.open_tin_hat, ring_s=0.9, channels=2, noisy=True),
    "wide-crash": Voice(drums.wide_crash, ring_s=2.6, channels=2, noisy=True),
    "seed-shaker": Voice(drums.seed_shaker, ring_s=0.2, noisy=True),
    "sub-sine": Voice(tonal.sub_sine, release_s=0.07),
    "plucked-bass": Voice(tonal.plucked_bass, release_s=0.08),
    "wide-saws": Voice(tonal.wide_saws, release_s=0.18, channels=2),
    "soft-pad": Voice(tonal.soft_pad, release_s=0.7, channels=2),
    "tine-keys": Voice(tonal.tine_keys, release_s=0.16, channels=2),
    "glass-bell": Voice(tonal.glass_bell, release_s=1.6, channels=2),
    "plucked-lead": Voice(tonal.plucked_lead, release_s=0.14, channels=2),
    "vowel-voice": Voice(tonal.vowel_voice, release_s=0.16, noisy=True),
    "noise-riser": Voice(tonal.noise_riser, release_s=0.05, channels=2, noisy=True),
}
