"""Life: hits and notes that vary as hands vary them, the same each time a song is played.

Nothing is drawn by chance at play time: what a note has more or less follows from its tick, the hand that plays it and the layer's
seed. Kick and low end share one hand, so that they stay together; drums share the other; notes struck together stay a chord.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer
from escalera.core.time.ruler import RATE_HZ

TIMING_MS, VELOCITY_SHARE, SWELL = 9.0, 0.16, 0.05  # at full life
FEET, HANDS = 11, 23  # seeds of the hands that several layers share
PHRASE_TICKS = 4 * 3840
Ints = NDArray[np.int64]


def dice(seed: int, ticks: Ints) -> NDArray[np.float64]:
    """Numbers from -1 to 1, nearer to 0 than not, that follow from seed and tick; shape of `ticks`. After splitmix64."""
    x = ticks.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15) + np.uint64((seed * 0xBF58476D1CE4E5B9) & (2**64 - 1))
    found = np.zeros(ticks.shape)
    for _ in range(2):
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        x = x ^ (x >> np.uint64(31))
        found += (x >> np.uint64(11)).astype(np.float64) / 2.0**53
    return found - 1.0


def is_alive(layer: Layer) -> bool:
    """Whether a layer is played by hand: places and risers are not, nor a tuned kick, which repeats exactly; a print holds still."""
    return not (layer.prints or layer.clips or layer.sound.tuned_kick or layer.family in ("effects", "atmosphere"))


def _hand(layer: Layer) -> int:
    if layer.sound.is_kick or layer.family == "low end":
        return FEET
    return HANDS if layer.sound.is_drum else 100 + layer.seed


def late_samples(layer: Layer, ticks: Ints, life: float) -> Ints:
    """How many samples later (or earlier) than written every note comes, shape of `ticks`; what is accented is nearest to its place."""
    on_beat = np.where(ticks % 960 == 0, 0.6, 1.0)
    shift = life * TIMING_MS / 1000.0 * RATE_HZ * dice(_hand(layer), ticks) * on_beat
    return np.rint(shift).astype(np.int64)


def lively_velocities(layer: Layer, ticks: Ints, velocity: NDArray[np.int32], life: float) -> NDArray[np.int32]:
    """Velocities (1 to 127) as a hand varies them: less where it accents, and a little more or less from phrase to phrase. Shape of `ticks`."""
    accent = np.clip((velocity - 60) / 60.0, 0.0, 1.0)
    share = 1.0 + life * (
        VELOCITY_SHARE * (1.0 - 0.5 * accent) * dice(layer.seed, ticks)
        + SWELL * dice(7 + layer.seed, ticks // PHRASE_TICKS)
    )
    return np.clip(np.rint(velocity * share), 1, 127).astype(np.int32)
