"""The energy of a song: arranged from the document, with shares, reasons and agreement.

`arranged` gives a SongEnergy; every number in it can be explained. Results are cached by content per section.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.schools import TERMS
from escalera.core.document.song import Layer, Song
from escalera.core.energy.attribution import shares, without_each
from escalera.core.energy.features import section_stats
from escalera.core.energy.felt import FeltBars, felt_bars
from escalera.core.energy.stats import Stats
from escalera.core.energy.tension import section_tension
from escalera.core.energy.terms import EnergyMeasure, compute_terms, scale_of, to_energy, weights
from escalera.core.joins import played_at
from escalera.core.reading.events import Events, heard_in, layer_events, sounding_layers
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, Timeline, timeline
from escalera.lazy_dataclasses import dataclass

Values = NDArray[np.float64]
SHARE_BLOCKS = 4


@dataclass(frozen=True, eq=False)
class SectionCore:
    """Arranged energy of what a section plays, wherever it stands and whatever it is called; shared between states.

    felt : per felt bar (n,);  terms : (n, 8);  stats : (layers, n, WIDTH)
    tension : per notated bar
    """

    span: Span
    felt_bars: FeltBars
    layers: list[Layer]
    stats: Stats
    terms: Values
    felt: Values
    tension: Values
    devices: dict[str, Values]
    measure: EnergyMeasure
    events: list[Events]  # of every layer
    heard: tuple[object, ...]  # all of it but levels and names, as a key

    @property
    def playing(self) -> Iterable[tuple[Layer, Events]]:
        """Sounding layers, and what they play."""
        return zip(self.layers, self.events)

    @cached_property
    def memo(self) -> dict[object, Any]:
        """What else was read from what this section plays (its low end, its jobs); shared between states as the core is."""
        return {}

    @cached_property
    def value(self) -> float:
        """Energy of the whole section, 0 to about 10: the mean over its time."""
        return float(np.average(self.felt, weights=self.felt_bars.lengths_s))

    @cached_property
    def mean_terms(self) -> Values:
        return np.average(self.terms, axis=0, weights=self.felt_bars.lengths_s)

    @cached_property
    def layer_means(self) -> dict[int, Values]:
        """Stats of every layer by id, as means over the section's time."""
        lengths = self.felt_bars.lengths_s
        means = np.tensordot(lengths / lengths.sum(), self.stats, axes=([0], [1]))
        return {layer.id: mean for layer, mean in zip(self.layers, means)}

    @cached_property
    def bars(self) -> Values:
        """Energy of every notated bar."""
        return self._per(np.array(self.span.grid.bar_seconds))

    @cached_property
    def phrases(self) -> Values:
        edges = [0.0, *(self.span.seconds_at(end) for _, end in self.span.phrase_ticks())]
        return self._per(np.array(edges))

    def _per(self, edges_s: Values) -> Values:
        return self.felt_bars.over(edges_s) @ self.felt

    def bar_terms(self) -> Values:
        return self.felt_bars.over(np.array(self.span.grid.bar_seconds)) @ self.terms

    @cached_property
    def shares(self) -> dict[int, float]:
        """Share of every layer by id; they add up to `value`.

        Long sections are averaged into SHARE_BLOCKS stretches first, and the shares brought to the exact sum.
        """
        values, lengths = _in_blocks(self.stats, self.felt_bars.lengths_s)
        found = (
            shares(values, lambda terms: to_energy(terms, self.measure)) @ (lengths / lengths.sum())
            if self.layers
            else []
        )
        total, value = float(np.sum(found)), self.value
        scale = value / total if total > 1e-9 else 0.0
        return {layer.id: float(share) * scale for layer, share in zip(self.layers, found)}

    @cached_property
    def without(self) -> dict[int, float]:
        """What the section would lose without each layer; may be negative or nothing."""
        values = without_each(self.stats, lambda terms: to_energy(terms, self.measure))
        return _by_layer(self.layers, values, self.felt_bars)

    def contributions(self) -> dict[str, float]:
        """Points of every term, and the ground that the scale takes off; they add up to `value` where that is above 0."""
        gain, offset = scale_of(self.measure)
        points = gain * weights(self.measure.school) * self.mean_terms
        return dict(zip(TERMS, points.tolist())) | {"ground": offset}


def _in_blocks(stats: Stats, lengths_s: Values) -> tuple[Stats, Values]:
    """Stats averaged over at most SHARE_BLOCKS stretches of neighbouring felt bars, and the stretches' lengths."""
    count = len(lengths_s)
    if count <= SHARE_BLOCKS:
        return stats, lengths_s
    starts = np.linspace(0, count, SHARE_BLOCKS, endpoint=False).astype(int)
    lengths = np.add.reduceat(lengths_s, starts)
    return np.add.reduceat(stats * lengths_s[:, None], starts, axis=1) / lengths[:, None], lengths


def _by_layer(layers: list[Layer], values: Values, bars: FeltBars) -> dict[int, float]:
    means = values @ bars.lengths_s / bars.lengths_s.sum() if len(layers) else np.zeros(0)
    return {layer.id: float(mean) for layer, mean in zip(layers, means)}


@dataclass(frozen=True, eq=False)
class SectionEnergy:
    """A section at its place in one state of the song, and what it plays."""

    span: Span
    core: SectionCore

    @property
    def felt_bars(self) -> FeltBars:
        return self.core.felt_bars

    @property
    def layers(self) -> list[Layer]:
        return self.core.layers

    @property
    def stats(self) -> Stats:
        return self.core.stats

    @property
    def measure(self) -> EnergyMeasure:
        return self.core.measure

    @property
    def value(self) -> float:
        """Energy of the whole section."""
        return self.core.value

    @property
    def felt(self) -> Values:
        return self.core.felt

    @property
    def mean_terms(self) -> Values:
        return self.core.mean_terms

    @property
    def tension(self) -> Values:
        """Tension of every notated bar, 0..1."""
        return self.core.tension

    @property
    def bars(self) -> Values:
        """Energy of every notated bar."""
        return self.core.bars

    @property
    def phrases(self) -> Values:
        return self.core.phrases

    @property
    def shares(self) -> dict[int, float]:
        return self.core.shares

    @property
    def without(self) -> dict[int, float]:
        return self.core.without

    def bar_terms(self) -> Values:
        return self.core.bar_terms()

    def contributions(self) -> dict[str, float]:
        return self.core.contributions()


@dataclass(frozen=True, eq=False)
class SongEnergy:
    song: Song
    line: Timeline
    sections: tuple[SectionEnergy, ...]

    def of(self, section_id: int) -> SectionEnergy:
        return next(s for s in self.sections if s.span.section.id == section_id)

    @property
    def raw_contrast(self) -> float:
        """Highest less lowest section in raw points, before the scale: it can be compared between songs."""
        raw = [float(s.mean_terms @ weights(self.song.school)) for s in self.sections]
        return max(raw) - min(raw) if raw else 0.0


# by all that they depend on; they hold no song, whose state would be kept with all that was read from it
_cores: Results[SectionCore] = Results(320)


def _core(song: Song, span: Span) -> SectionCore:
    layers, stats = section_stats(song, span)
    terms = compute_terms(stats.sum(axis=0))
    tension, devices = section_tension(song, span)
    felt = to_energy(terms, song)
    if not layers:
        felt = np.zeros_like(felt)
    measure, events = EnergyMeasure(song.school, song.scale), [layer_events(song, span, layer) for layer in layers]
    bars, heard = felt_bars(span.grid), heard_in(song, span)
    return SectionCore(span, bars, layers, stats, terms, felt, tension, devices, measure, events, heard)


def _key(song: Song, span: Span) -> tuple:  # type: ignore[type-arg]
    section = span.section
    patterns = tuple(song.pattern_by_id[p.pattern_id].pattern for p in section.placements)
    whole = (
        tuple(sounding_layers(song, section)),
        song.key,
        song.school,
        scale_of(song),
        song.master_gain_db,
        song.buses,
        song.master,
    )
    return (section, patterns, section_harmony(song, span), whole, span.grid)


def section_energy(song: Song, span: Span) -> SectionEnergy:
    """Arranged energy of a section, found again where its content and surroundings are the same."""
    heard, there = played_at(song, span)
    return SectionEnergy(span, _cores.get_or_make(_key(heard, there), lambda: _core(heard, there)))


def is_arranged(song: Song) -> bool:
    """Whether this state's energy has been computed."""
    return "arranged" in song.memo


def arranged(song: Song) -> SongEnergy:
    """Arranged energy of every section of a song, computed once per state; unchanged sections are taken from before."""
    if "arranged" not in song.memo:
        line = timeline(song)
        song.memo["arranged"] = SongEnergy(song, line, tuple(section_energy(song, span) for span in line.spans))
    return song.memo["arranged"]
