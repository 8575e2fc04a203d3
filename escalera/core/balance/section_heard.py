"""One section as it is heard: its layers, its spaces and the whole by third-octave and time, its levels, its low end."""

from __future__ import annotations

from dataclasses import field
from functools import cached_property

import numpy as np

from escalera.core.balance.masking import Hearing, Hiding
from escalera.core.balance.thirds import FLOOR_OF, SILENT, THIRD_EDGES_HZ, TINY, Floats, Levels, by_floor, level_db
from escalera.core.energy.terms import decibels
from escalera.lazy_dataclasses import dataclass

NOT_HEARD = 0.15  # share below which a layer is said not to be heard
LOST_DB = 1.0  # lost in mono, from which it is said
LOW_BANDS = int(np.searchsorted(THIRD_EDGES_HZ, 120.0, side="right")) - 1  # third-octaves that lie below 120 Hz


@dataclass(frozen=True, slots=True)
class Loud:
    """Levels of a section. `limiter_db` is how much softer the limiter makes it, `limiter_most_db` in its hardest 400 ms; both 0 or less.

    Loudness is None where the section is silent; `short_lufs` moves on by 100 ms.
    """

    integrated_lufs: float | None
    before_lufs: float | None
    max_short_lufs: float | None
    range_lu: float | None
    peak_to_loudness_lu: float | None
    true_peak_dbtp: float | None
    limiter_db: float = 0.0
    limiter_most_db: float = 0.0
    headroom_db: float = 0.0
    short_lufs: Floats = field(default_factory=lambda: np.zeros(0))


@dataclass(frozen=True, slots=True)
class LowMeeting:
    """The low end of a section as it sounds: owner of every sixteenth (layer id, 0 for nobody) with its level; what kick and bass add up to
    beside the sum of their powers (0 where they know nothing of each other); how much the lowest octave's level varies."""

    ticks: tuple[int, ...]
    owners: tuple[int, ...]
    levels_db: tuple[float, ...]
    sum_db: float | None = None
    kick_id: int = 0
    bass_id: int = 0
    varies_db: float | None = None

    def shares(self) -> dict[int, float]:
        """Share of the sixteenths that somebody owns, by owner."""
        owned = [i for i in self.owners if i]
        return {i: owned.count(i) / len(owned) for i in dict.fromkeys(owned)}


@dataclass(frozen=True, eq=False)
class LayerHeard:
    """A layer in a section, dry, after ducking and its place in the mix; `wet_db` is what it sends into spaces beside what stays dry."""

    id: int
    name: str
    family: str
    levels: Levels
    wet_db: float | None = None
    pan: float = 0.0
    broken: bool = False  # its sound held what is no number, and was left out

    @cached_property
    def mean(self) -> Floats:
        """Mean power by third-octave, (28,)."""
        return np.asarray(self.levels.total.mean(axis=0))

    @property
    def silent(self) -> bool:
        return float(self.mean.sum()) < SILENT

    @property
    def correlation(self) -> float:
        return correlation(self.levels)

    @property
    def mono_loss_db(self) -> float:
        return mono_loss_db(self.levels)

    @property
    def side_db(self) -> float:
        """Level of left over right, dB; above 0 it lies left."""
        return level_db(self.levels.left.mean(axis=0).sum()) - level_db(self.levels.right.mean(axis=0).sum())


def correlation(levels: Levels) -> float:
    """Correlation of left and right, −1 to 1; 1 for silence."""
    both = np.sqrt(levels.left.sum() * levels.right.sum())
    return float(np.clip(levels.cross.sum() / both, -1.0, 1.0)) if both > TINY else 1.0


def correlation_by_floor(levels: Levels) -> Floats:
    """The same in the six bands, (6,)."""
    left, right, cross = (by_floor(x.sum(axis=0)) for x in (levels.left, levels.right, levels.cross))
    both = np.sqrt(left * right)
    return np.where(both > TINY, np.clip(cross / np.maximum(both, TINY), -1.0, 1.0), 1.0)


def mono_loss_db(levels: Levels) -> float:
    """Level that folding to one channel costs, beside the same in both, dB, 0 or less; −3 for two channels that know nothing of each other."""
    total, mono = float(levels.total.sum()), float(levels.mono.sum())
    return min(0.0, level_db(mono) - level_db(total)) if total > TINY else 0.0


@dataclass(frozen=True, eq=False)
class HeardSection:
    """What is heard of a section. `total` is the mix before the limiter with whatever reaches into it; `spaces` what rooms and echoes bring."""

    section_id: int
    name: str
    layers: tuple[LayerHeard, ...]
    spaces: Levels
    total: Levels
    loud: Loud
    low: LowMeeting

    @property
    def nbytes(self) -> int:
        return sum(x.levels.nbytes for x in self.layers) + self.spaces.nbytes + self.total.nbytes + 4096

    @property
    def silent(self) -> bool:
        return float(self.total.total.sum()) < SILENT

    @cached_property
    def sounding(self) -> tuple[LayerHeard, ...]:
        return tuple(x for x in self.layers if not x.silent)

    def layer(self, layer_id: int) -> LayerHeard | None:
        return next((x for x in self.layers if x.id == layer_id), None)

    @cached_property
    def hearing(self) -> Hearing:
        return Hearing({x.id: x.levels for x in self.sounding}, self.spaces)

    @cached_property
    def hidings(self) -> tuple[Hiding, ...]:
        return tuple(self.hearing.hidings())

    def with_layer(self, layer_id: int, levels: Levels) -> Hearing:
        """Heard with another sound of one layer."""
        return self.with_layers({layer_id: levels})

    def with_layers(self, changed: dict[int, Levels]) -> Hearing:
        return self.hearing.changed(changed)

    def floors(self) -> Floats:
        """Mean power of every sounding layer in the six bands, then of the spaces, (layers + 1, 6)."""
        rows = [by_floor(x.mean) for x in self.sounding] + [by_floor(self.spaces.total.mean(axis=0))]
        return np.stack(rows)

    def floor_db(self) -> Floats:
        """The whole in the six bands, dB, (6,)."""
        return decibels(by_floor(self.total.total.mean(axis=0)))

    def wet_db(self) -> float | None:
        """Spaces beside all that is dry, dB; None where one of them is silent."""
        wet, dry = float(self.spaces.total.sum()), sum(float(x.levels.total.sum()) for x in self.layers)
        return level_db(wet / dry) if wet > TINY and dry > TINY else None

    def covered(self) -> list[tuple[LayerHeard, float]]:
        """Layers of which rooms and echoes hide something, with the share, the most first."""
        dry = Hearing({x.id: x.levels for x in self.sounding}).shares
        rows = [(x, dry[x.id] - self.hearing.shares[x.id]) for x in self.sounding]
        return sorted((r for r in rows if r[1] >= 0.03), key=lambda r: -r[1])

    @property
    def low_bands(self) -> int:
        """How many third-octaves lie below 120 Hz."""
        return LOW_BANDS

    def low_sides_db(self) -> float | None:
        """Side beside the whole below 120 Hz, dB; None where nothing sounds there."""
        low = float(self.total.total[:, : self.low_bands].sum())
        return level_db(float(self.total.side[:, : self.low_bands].sum()) / low) if low > SILENT else None


def floor_name(band: int) -> int:
    """The number of the named band that a third-octave lies in."""
    return int(FLOOR_OF[band])
