"""Reasons in numbers and words: a section against another, agreement of wanted and result, fitting the scale."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.schools import TERMS
from escalera.core.document.song import Section
from escalera.core.energy.attribution import layer_orders
from escalera.core.energy.model import SectionEnergy, SongEnergy
from escalera.core.energy.terms import compute_terms, school_scale, to_energy, weights
from escalera.lazy_dataclasses import dataclass

Values = NDArray[np.float64]
LEVEL = 0.5  # points within which a join counts as staying level
SHAPED = 1.0  # points between phrases of one target from which on it has a shape
INAUDIBLE = 0.05  # points below which a layer's absence would not be noticed


@dataclass(frozen=True, slots=True)
class LayerChange:
    """A layer against another section: 'in', 'out' or 'changed', and what that is worth in points."""

    layer_id: int
    name: str
    how: str
    points: float


@dataclass(frozen=True, slots=True)
class Explanation:
    """Why a section has the energy it has; differences are against `other` (None: no comparison)."""

    value: float
    terms: dict[str, float]
    differences: dict[str, float]
    layers: list[LayerChange]

    def sentence(self, other_name: str = "") -> str:
        """'6.8 = drive 2.0 + weight 1.4 + …; against the verse: +0.8 from the kick'."""
        parts = [
            f"{name} {points:.1f}" for name, points in self.terms.items() if abs(points) >= 0.05 and name != "ground"
        ]
        ground = self.terms.get("ground", 0.0)
        text = f"{self.value:.1f} = " + (" + ".join(parts) or "nothing sounds")
        if abs(ground) >= 0.05 and parts:
            text += f" − {abs(ground):.1f} ground"
        moved = [f"{c.points:+.1f} from {c.name}".replace("-", "−") for c in self.layers if abs(c.points) >= 0.1][:4]
        return f"{text}; against {other_name}: {', '.join(moved)}" if other_name and moved else text


def explain(section: SectionEnergy, other: SectionEnergy | None = None) -> Explanation:
    """Terms of a section in points, against another section, with the layers that make the difference."""
    terms = section.contributions()
    if other is None:
        return Explanation(section.value, terms, {}, [])
    before = other.contributions()
    differences = {name: terms[name] - before[name] for name in TERMS}
    return Explanation(section.value, terms, differences, layer_changes(section, other))


def layer_changes(section: SectionEnergy, other: SectionEnergy) -> list[LayerChange]:
    """Layers in, out and changed, each with its share of the difference; the points add up to about that.

    The two sections are compared by their mean stats: layers are exchanged one by one in many orders, and
    each is given the mean of what its exchange changes.
    """
    layers = list({layer.id: layer for layer in (*other.layers, *section.layers)}.values())
    if not layers:
        return []
    silent = np.zeros(section.stats.shape[-1])
    a, b = (np.stack([s.core.layer_means.get(layer.id, silent) for layer in layers]) for s in (other, section))

    def energy(terms: Values) -> Values:
        return to_energy(terms, section.measure)

    base = np.concatenate(((b - a)[:, None, :], a.sum(axis=0)[None, None, :]))  # the last row is what both start from
    points = _exchange(base, energy) * _reach(section, other, a, b, energy)
    changes = []
    for layer, before, after, value in zip(layers, a, b, points):
        how = "in" if not before.any() else "out" if not after.any() else "changed"
        if how != "changed" or not np.allclose(before, after, rtol=0.02):
            changes.append(LayerChange(layer.id, layer.name, how, float(value)))
    return sorted(changes, key=lambda c: -abs(c.points))


def _exchange(base: Values, energy: Callable[[Values], Values]) -> Values:
    """Shares of the change, with the common start entering first in every order."""
    moves, start = base[:-1, 0], base[-1, 0]
    orders = layer_orders(len(moves))
    path = np.maximum(np.cumsum(moves[orders], axis=1) + start, 0.0)
    values = energy(compute_terms(np.concatenate((np.broadcast_to(start, (len(orders), 1, len(start))), path), axis=1)))
    total = np.zeros(len(moves))
    np.add.at(total, orders.ravel(), np.diff(values, axis=1).ravel())
    return total / len(orders)


def _reach(
    section: SectionEnergy, other: SectionEnergy, a: Values, b: Values, energy: Callable[[Values], Values]
) -> float:
    """Scales shares of mean stats to the true difference of the sections' mean energies."""
    apart = float(energy(compute_terms(b.sum(axis=0))) - energy(compute_terms(a.sum(axis=0))))
    true = section.value - other.value
    return true / apart if abs(apart) > 0.05 and 0.5 < true / apart < 2.0 else 1.0


@dataclass(frozen=True, slots=True)
class Shape:
    """What a section's target asks between two of its phrases (from 0), the lowest and the highest there, and what comes of it."""

    section_id: int
    low_phrase: int
    high_phrase: int
    wanted: float
    got: float

    @property
    def as_meant(self) -> bool:
        return self.got >= 0.3 * self.wanted


@dataclass(frozen=True, slots=True)
class Agreement:
    """How well the result follows the targets: joins and shapes that move as meant, mean distance, the worst section."""

    joins_as_meant: int
    joins: int
    mean_distance: float
    worst_section_id: int | None
    as_meant: tuple[bool, ...]
    shapes: tuple[Shape, ...]


def _as_wanted(wanted: float, step: float) -> bool:
    """Whether a step in energy is the one wanted, within LEVEL or seven tenths of it."""
    return abs(step - wanted) <= max(LEVEL, 0.7 * abs(wanted))


def agreement(sections: tuple[Section, ...], values: list[float], phrases: Sequence[Sequence[float]]) -> Agreement:
    """Compare energies of sections and of their phrases with targets.

    The distance is that of phrases, by bars; a section whose target changes by SHAPED or more has a shape to keep.
    """
    meant = tuple(
        _as_wanted(b.target.mean - a.target.mean, y - x) for (a, b), (x, y) in zip(pairwise(sections), pairwise(values))
    )
    wanted = [_wanted_by_phrase(s) for s in sections]
    distances = [
        float(np.average(np.abs(np.subtract(w, got)), weights=s.phrases))
        for s, w, got in zip(sections, wanted, phrases)
    ]
    mean = float(np.average(distances, weights=[s.bars for s in sections])) if distances else 0.0
    worst = max(zip(distances, sections), key=lambda row: row[0], default=(0.0, None))[1]
    shapes = tuple(s for s in map(_shape, sections, wanted, phrases) if s is not None)
    return Agreement(sum(meant), len(meant), mean, worst.id if worst else None, meant, shapes)


def arranged_agreement(energy: SongEnergy) -> Agreement:
    """How well an arranged song follows its targets."""
    sections = energy.sections
    return agreement(
        tuple(s.span.section for s in sections), [s.value for s in sections], [s.phrases.tolist() for s in sections]
    )


def _wanted_by_phrase(section: Section) -> list[float]:
    edges = np.cumsum((0, *section.phrases)) / section.bars
    return [section.target.mean_of(float(a), float(b)) for a, b in pairwise(edges)]


def _shape(section: Section, wanted: list[float], got: Sequence[float]) -> Shape | None:
    low, high = int(np.argmin(wanted)), int(np.argmax(wanted))
    step = wanted[high] - wanted[low]
    return Shape(section.id, low, high, step, float(got[high] - got[low])) if step >= SHAPED else None


def fitted_scale(energy: SongEnergy) -> tuple[float, float]:
    """Gain and offset that bring the song's lowest and highest sections to the lowest and highest targets.

    The offset never lifts silence above 0, and the gain stays within a quarter and four times the school's.
    """
    raw = [float(s.mean_terms @ weights(energy.song.school)) for s in energy.sections]
    wanted = [s.span.section.target.mean for s in energy.sections]
    usual, _ = school_scale(energy.song.school)
    if not raw or max(raw) <= 0:
        return school_scale(energy.song.school)
    spread = max(raw) - min(raw)
    gain = (max(wanted) - min(wanted)) / spread if spread > 0.05 else usual
    gain = float(np.clip(gain, usual / 4, usual * 4))
    offset = max(wanted) - gain * max(raw)
    if offset > 0:
        gain, offset = max(wanted) / max(raw), 0.0
    return round(gain, 4), round(offset, 4)
