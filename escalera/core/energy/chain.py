"""What effects do to the power in the six bands, near enough for arranged energy. One row an effect that matters.

Levels that answer to the sound (compressor, drive) and what only moves it about in time are left out: they change
little of what is asked here. Filters count as second-order responses averaged over each band.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import BAND_EDGES_HZ
from escalera.core.palette.effects import EFFECT_BY_KEY
from escalera.core.palette.parameters import Settings, setting
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
# five frequencies in every band at which a filter's response is averaged
POINTS_HZ = np.array([np.geomspace(a, b, 7)[1:-1] for a, b in zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:])])
OPEN_HZ, SHUT_HZ = 19_000.0, 20.5


@dataclass(frozen=True, slots=True)
class BandChange:
    """What a chain does: power factors of the bands (6,), factor and gain of the sides, space as a share of the power."""

    bands: Floats
    side: float = 1.0
    spread: float = 0.0
    space: float = 0.0


def _low_pass(cutoff_hz: Floats) -> Floats:
    """Power response at POINTS_HZ, shape (n, 6, 5): second-order Butterworth."""
    low = 1.0 / (1.0 + (POINTS_HZ[None] / np.maximum(cutoff_hz, 20.0)[:, None, None]) ** 4)
    low[cutoff_hz >= OPEN_HZ] = 1.0
    return low


def _high_pass(cutoff_hz: Floats) -> Floats:
    high = 1.0 / (1.0 + (cutoff_hz[:, None, None] / POINTS_HZ) ** 4)
    high[cutoff_hz <= SHUT_HZ] = 1.0
    return high


def filter_power(lowpass_hz: Floats, highpass_hz: Floats) -> Floats:
    """Mean power response of a layer's two filters in every band, shape (n, 6)."""
    return (_low_pass(lowpass_hz) * _high_pass(highpass_hz)).mean(axis=2)


Get = Callable[[str], float]
ONE = np.ones(6)
EQ_BANDS = (
    ("low_hz", "low_db", "low"),
    ("low_bell_hz", "low_bell_db", "bell"),
    ("high_bell_hz", "high_bell_db", "bell"),
    ("high_hz", "high_db", "high"),
)


def _band_pass(get: Get) -> BandChange:
    width = 1.4 * (1.0 - get("resonance")) + 0.06
    ratio = POINTS_HZ / get("cutoff_hz")
    return BandChange(np.mean(1.0 / (1.0 + ((ratio - 1.0 / ratio) / width) ** 2), axis=1))


def _moving(get: Get) -> BandChange:
    path = np.geomspace(get("low_hz"), get("high_hz"), 8)
    return BandChange(_low_pass(path).mean(axis=(0, 2)))


def _gate(get: Get) -> BandChange:
    steps = int(get("steps"))
    sounding = bin(steps & 0xFFFF).count("1") / 16.0
    shut = (1.0 - get("depth")) ** 2
    return BandChange(ONE * (sounding + (1.0 - sounding) * shut))


def _space(get: Get) -> BandChange:
    return BandChange(ONE, space=0.3 * get("mix") ** 2)


def equaliser_power(get: Get, hz: Floats) -> Floats:
    """Power response of the equaliser at frequencies of any shape: analogue shelves and bells as drawn, near enough below 15 kHz.

    Transfer functions of Bristow-Johnson's audio equaliser cookbook, before they are made digital; shape of `hz`.
    """
    total = np.ones(hz.shape)
    for edge, db, kind in EQ_BANDS:
        s, lift = 1j * hz / get(edge), 10.0 ** (get(db) / 40.0)
        root, q = np.sqrt(lift), get("narrowness")
        if kind == "bell":
            h = (s * s + s * lift / q + 1.0) / (s * s + s / (lift * q) + 1.0)
        elif kind == "low":
            h = lift * (s * s + root * 1.41421356 * s + lift) / (lift * s * s + root * 1.41421356 * s + 1.0)
        else:
            h = lift * (lift * s * s + root * 1.41421356 * s + 1.0) / (s * s + root * 1.41421356 * s + lift)
        total = total * np.abs(h) ** 2
    return total


EFFECT_POWER: dict[str, Callable[[Get], BandChange]] = {
    "low-pass": lambda get: BandChange(_low_pass(np.array([get("cutoff_hz")])).mean(axis=(0, 2))),
    "high-pass": lambda get: BandChange(_high_pass(np.array([get("cutoff_hz")])).mean(axis=(0, 2))),
    "band-pass": _band_pass,
    "moving-filter": _moving,
    "equaliser": lambda get: BandChange(equaliser_power(get, POINTS_HZ).mean(axis=1)),
    "worn-tape": lambda get: BandChange(
        _low_pass(np.array([17_000.0 * (4_500.0 / 17_000.0) ** get("wear")])).mean(axis=(0, 2))
    ),
    "chorus": lambda get: BandChange(ONE, spread=0.25 * get("mix")),
    "gate": _gate,
    "echo": _space,
    "room": _space,
    "widen": lambda get: BandChange(ONE, side=get("amount") ** 2),
    "double": lambda get: BandChange(ONE, spread=0.35 * get("mix")),
    "scatter": lambda get: BandChange(ONE, spread=0.15 * get("amount")),
}


def chain_power(devices: tuple[tuple[str, Settings], ...], moved: dict[str, float]) -> BandChange:
    """The change that a chain makes; `moved` gives values that curves hold here, by `<place>.<parameter>`."""
    bands, side, spread, space = ONE, 1.0, 0.0, 0.0
    for place, (key, settings) in enumerate(devices):
        row = EFFECT_POWER.get(key)
        if row is None:
            continue
        known = EFFECT_BY_KEY[key].parameter_by_key

        def get(name: str, place: int = place, settings: Settings = settings, known: dict = known) -> float:  # type: ignore[type-arg]
            return moved.get(f"{place}.{name}", setting(settings, known[name]))

        change = row(get)
        bands, side = bands * change.bands, side * change.side
        spread, space = spread + change.spread, space + change.space
    return BandChange(bands, side, spread, space)
