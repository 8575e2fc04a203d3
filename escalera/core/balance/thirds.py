"""Powers by third-octave and time: the figures on which everything about balance rests."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import BAND_EDGES_HZ
from escalera.core.energy.terms import decibels
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[Any]  # of either precision
THIRDS_HZ = np.array([10.0 ** (n / 10.0) for n in range(15, 43)])  # 31.6 Hz to 15.8 kHz, as IEC 61260-1 has them
THIRD_EDGES_HZ = np.concatenate(([20.0], np.sqrt(THIRDS_HZ[:-1] * THIRDS_HZ[1:]), [20_000.0]))
NOMINAL_HZ = (
    31.5, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250, 1600, 2000, 2500, 3150, 4000, 5000, 6300, 8000, 10_000,
    12_500, 16_000,
)  # fmt: skip
OCTAVE = 3  # bands
FLOORS = ("sub", "low", "low middle", "middle", "presence", "air")  # the six bands of energy, as people name them
FLOOR_OF = np.clip(np.searchsorted(BAND_EDGES_HZ, THIRDS_HZ, side="right") - 1, 0, len(FLOORS) - 1)
FLOOR_SAID = tuple(
    f"above {a / 1000:g} kHz" if i == 5 else f"{a:g}–{b:g} Hz" if b < 1000 else f"{a if a < 1000 else a / 1000:g}{' Hz' if a < 1000 else ''}–{b / 1000:g} kHz"
    for i, (a, b) in enumerate(zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:]))
)  # fmt: skip
SILENT = 1e-10  # of a mean square: −100 dB, below which nothing is said
TINY = 1e-14


@dataclass(frozen=True, eq=False)
class Levels:
    """Mean squares of left and right, and their cross term, each of shape (slots, 28), full scale 1.0; a slot lasts `slot_s`."""

    left: Floats
    right: Floats
    cross: Floats
    slot_s: float

    @property
    def total(self) -> Floats:
        """Power of one channel, averaged over both, (slots, 28)."""
        return (self.left + self.right) / 2.0

    @property
    def mono(self) -> Floats:
        """Power of the two channels folded to one, (slots, 28)."""
        return np.maximum((self.left + self.right + 2.0 * self.cross) / 4.0, 0.0)

    @property
    def side(self) -> Floats:
        """Power of half the difference of the channels, (slots, 28)."""
        return np.maximum((self.left + self.right - 2.0 * self.cross) / 4.0, 0.0)

    @property
    def nbytes(self) -> int:
        return self.left.nbytes + self.right.nbytes + self.cross.nbytes

    def times(self, left: float | Floats, right: float | Floats) -> Levels:
        """With its channels multiplied by amplitudes: numbers, or arrays that fit (slots, 28)."""
        return Levels(self.left * left**2, self.right * right**2, self.cross * left * right, self.slot_s)

    def through(self, power: Floats) -> Levels:
        """Through a filter with a power response by third-octave, (28,), or a gain by slot, (slots, 1)."""
        return Levels(self.left * power, self.right * power, self.cross * power, self.slot_s)

    def moved(self, bands: int) -> Levels:
        """Transposed by so many third-octaves; what leaves the range is lost."""
        rows = (np.roll(x, bands, axis=1) for x in (self.left, self.right, self.cross))
        gone = slice(0, bands) if bands > 0 else slice(len(THIRDS_HZ) + bands, None)
        left, right, cross = rows
        for x in (left, right, cross):
            x[:, gone] = 0.0
        return Levels(left, right, cross, self.slot_s)


def silence(slots: int, slot_s: float) -> Levels:
    """Levels of nothing."""
    nothing = np.zeros((slots, len(THIRDS_HZ)))
    return Levels(nothing, nothing, nothing, slot_s)


def summed(rows: list[Levels], slots: int, slot_s: float) -> Levels:
    """Powers added up, as of sounds that know nothing of each other."""
    if not rows:
        return silence(slots, slot_s)
    return Levels(sum(r.left for r in rows), sum(r.right for r in rows), sum(r.cross for r in rows), slot_s)  # type: ignore[arg-type]


def hertz(band: int) -> str:
    """A third-octave by its nominal frequency."""
    hz = NOMINAL_HZ[band]
    return f"{hz:g} Hz" if hz < 1000 else f"{hz / 1000:g} kHz"


def level_db(power: float) -> float:
    """Of one mean square, floor −140 dB."""
    return float(decibels(np.array(power)))


def by_floor(thirds: Floats) -> Floats:
    """Sums over the six bands that people name; the last axis goes from 28 to 6."""
    found = np.zeros((*thirds.shape[:-1], len(FLOORS)))
    for i in range(len(FLOORS)):
        found[..., i] = thirds[..., i == FLOOR_OF].sum(axis=-1)
    return found
