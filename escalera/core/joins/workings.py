"""A song under work: notes, silences, curves and throws are laid into its sections at ticks counted from the one of a join.

Nothing here is stored: ids are negative, and the song that comes out is for what plays, measures and exports.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import cast

import numpy as np

from escalera.core.document.devices import Curve, Point, Throw
from escalera.core.document.lanes import lane_parameter, lane_value, layer_value
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Ids, Layer, NamedPattern, Placement, Progression, Section, Song, Variation
from escalera.core.reading.events import DURATION, PITCH, START, VELOCITY, layer_events
from escalera.core.reading.placements import clip, ordered
from escalera.core.reading.timeline import Span, tempo_points, timeline
from escalera.core.rhythm.pattern import FIXED, Pattern
from escalera.lazy_dataclasses import dataclass

Note = tuple[int, int, int, int]  # start counted from the one, duration in ticks, sounding pitch, velocity
PLAIN = Variation()
EDGE_TICKS = 4  # before a silence in which the mix is faded


@dataclass
class PassingIds(Ids):
    """Hands out ids that no stored song has: below zero."""

    def __call__(self) -> int:
        self.next_id -= 1
        return self.next_id


@dataclass(frozen=True, eq=False)
class Join:
    """The join into a section: its place among the sections, and the spans on both sides (None before the first)."""

    index: int
    left: Span | None
    right: Span


class Workings:
    """What is added to a song's sections. `playing` are ids of placements that a device brought, which no silence touches."""

    def __init__(self, song: Song, ids: Ids | None = None):
        self.song, self.line = song, timeline(song)
        self.ids = ids or PassingIds(0)
        self.patterns: list[NamedPattern] = []
        self.placements: dict[int, list[Placement]] = {}
        self.curves: dict[int, dict[str, Curve]] = {}
        self.throws: dict[int, list[Throw]] = {}
        self.playing: set[int] = set()
        self.progressions: dict[int, Progression] = {}

    def join(self, index: int) -> Join:
        spans = self.line.spans
        return Join(index, spans[index - 1] if index else None, spans[index])

    def layers(self) -> Iterator[Layer]:
        """Layers that can be heard."""
        return (x for x in self.song.layers if not x.muted)

    def layer(self, layer_id: int) -> Layer | None:
        found = self.song.layer_by_id.get(layer_id)
        return found if found is not None and not found.muted else None

    # where ------------------------------------------------------------------------------------------------------------

    def earliest(self, join: Join) -> int:
        """The song's first tick, counted from the one."""
        return -sum(span.length_ticks for span in self.line.spans[: join.index])

    def latest(self, join: Join) -> int:
        return join.right.length_ticks

    def pieces(self, join: Join, low: int, high: int) -> Iterator[tuple[Span, int, int, int]]:
        """Parts of [low, high) by section: the span, its ticks from and to, and where its first tick lies from the one."""
        at = self.earliest(join)
        for span in self.line.spans[: join.index + 1]:
            a, b = max(low, at), min(high, at + span.length_ticks)
            if a < b:
                yield span, a - at, b - at, at
            at += span.length_ticks

    def of(self, section: Section) -> list[Placement]:
        return self.placements.setdefault(section.id, list(section.placements))

    # notes ------------------------------------------------------------------------------------------------------------

    def play(self, join: Join, layer: Layer, notes: Iterable[Note], low: int, high: int, early: bool = False) -> None:
        """A layer plays notes over [low, high) instead of what it plays there; `early` ones belong to what follows, as pickups."""
        low, high = max(low, self.earliest(join)), min(high, self.latest(join))
        notes = [n for n in notes if low <= n[0] < high]
        if low >= high or not notes:
            return
        if early:
            self._pickup(join, layer, notes)
            return
        for span, a, b, at in self.pieces(join, low, high):
            self.clear(span.section, layer, a, b)
            mine = [n for n in notes if a <= n[0] - at < b]
            if mine:
                self._lay(span.section, layer, [(n[0] - at - a, *n[1:]) for n in mine], a, b)

    def _lay(self, section: Section, layer: Layer, notes: Sequence[Note], low: int, high: int) -> None:
        shift = 0 if layer.sound.is_drum else section.shift_semitones
        rows = [(start, duration, FIXED, pitch - shift, 0, velocity) for start, duration, pitch, velocity in notes]
        self.place(section, layer, Pattern(high - low, rows), low, high)

    def place(
        self, section: Section, layer: Layer, pattern: Pattern, low: int, high: int, variation: Variation = PLAIN
    ) -> None:
        """A pattern on a span of a section, from its first tick on."""
        named = NamedPattern(self.ids(), f"{layer.name} at a join", layer.family, pattern)
        placement = Placement(self.ids(), layer.id, named.id, low, high, low % pattern.length_ticks, variation)
        self.patterns.append(named)
        self.of(section).append(placement)
        self.playing.add(placement.id)

    def go_on(self, section: Section, before: Placement, high: int, offset: int, variation: Variation) -> None:
        """What played at the end of the section before plays on in this one until a tick."""
        placement = Placement(self.ids(), before.layer_id, before.pattern_id, 0, high, offset, variation)
        self.of(section).append(placement)
        self.playing.add(placement.id)

    def _pickup(self, join: Join, layer: Layer, notes: Sequence[Note]) -> None:
        section = join.right.section
        shift = 0 if layer.sound.is_drum else section.shift_semitones
        rows = [(n[0], n[1], FIXED, n[2] - shift, 0, n[3]) for n in notes]
        named = NamedPattern(
            self.ids(), f"{layer.name} at a join", layer.family, Pattern(join.right.length_ticks, rows)
        )
        self.patterns.append(named)
        for p in self.of(section):  # one placement at a time: what plays there already takes the pickup along
            if p.layer_id == layer.id and p.start_ticks == 0:
                return
        placement = Placement(self.ids(), layer.id, named.id, 0, 1)
        self.of(section).append(placement)
        self.playing.add(placement.id)

    def events(self, span: Span, layer: Layer) -> list[Note]:
        """What a layer plays in a section as it is stored, in the section's ticks."""
        table = layer_events(self.song, span, layer).table
        return cast(list[Note], [tuple(row) for row in table[:, [START, DURATION, PITCH, VELOCITY]].tolist()])

    # silence ----------------------------------------------------------------------------------------------------------

    def clear(self, section: Section, layer: Layer, low: int, high: int, cut: bool = True) -> None:
        """A layer plays nothing in [low, high) of a section; with `cut` its notes end there too. What devices play is spared."""
        kept: list[Placement] = []
        for p in self.of(section):
            if p.layer_id != layer.id or p.id in self.playing or p.end_ticks <= low or p.start_ticks >= high:
                kept.append(p)
                continue
            before, after = clip(p, 0, low), clip(p, high, p.end_ticks)
            if before:
                kept.append(replace(before, variation=replace(before.variation, cut=True)) if cut else before)
            if after:
                kept.append(replace(after, id=self.ids()) if before else after)
        self.placements[section.id] = kept

    def silence(self, join: Join, layers: Iterable[Layer], low: int, high: int) -> None:
        """Layers rest over [low, high): held notes end, struck ones ring out."""
        layers = list(layers)
        for span, a, b, _ in self.pieces(join, low, high):
            for layer in layers:
                self.clear(span.section, layer, a, b, cut=not layer.sound.is_drum)

    def mute(self, join: Join, low: int, high: int) -> None:
        """The mix is silent over [low, high), tails and all: faded within a few ticks before it."""
        parameter = lane_parameter(self.song, "master.level_db")
        for span, a, b, _ in self.pieces(join, low, high):
            base = self._base(span.section, "master.level_db")
            points = [p for p in (base.points if base else ()) if p[0] < a - EDGE_TICKS]
            level = base.one(a - EDGE_TICKS, parameter) if base else 0.0
            start = max(0, a - EDGE_TICKS)
            points += [(start, level, "line"), (max(start + 1, a - 2), parameter.low, "hold")]
            if b < span.length_ticks:
                points += [(b, base.one(b, parameter) if base else 0.0, "hold")]
            if points[0][0] > 0:
                points.insert(0, (0, base.one(0, parameter) if base else 0.0, "line"))
            self._keep(span.section, Curve("master.level_db", _in_order(points)))

    # curves -----------------------------------------------------------------------------------------------------------

    def _base(self, section: Section, lane: str) -> Curve | None:
        made = self.curves.get(section.id, {}).get(lane)
        return made or next((c for c in section.curves if c.lane == lane), None)

    def _keep(self, section: Section, curve: Curve) -> None:
        self.curves.setdefault(section.id, {})[curve.lane] = curve

    def value(self, section: Section, lane: str) -> float:
        """Where a parameter stands in a section without a curve."""
        if lane.startswith("layer."):
            _, number, path = lane.split(".", 2)
            layer = self.song.layer_by_id[int(number)]
            return layer_value(layer_in(self.song, section, layer), path)
        return lane_value(self.song, lane)

    def move(self, join: Join, lane: str, low: int, high: int, points: Sequence[tuple[int, float]]) -> None:
        """A parameter goes through points (ticks from the one, value) over [low, high) and is back where it stood after it."""
        parameter = lane_parameter(self.song, lane)
        for span, a, b, at in self.pieces(join, low, high):
            base, still = self._base(span.section, lane), self.value(span.section, lane)
            found: list[Point] = [p for p in (base.points if base else ()) if p[0] < a]
            if not found and a > 0:
                found.append((0, still, "hold"))
            elif found:
                found[-1] = (found[-1][0], found[-1][1], "hold") if found[-1][2] == "wave" else found[-1]
            inner = np.array(points, float)
            ticks = sorted({a, b, *(int(t) - at for t, _ in points if a < t - at < b)})
            for tick in ticks:
                value = float(np.interp(tick + at, inner[:, 0], _scaled(inner[:, 1], parameter.scale)))
                value = float(np.exp(value)) if parameter.scale == "log" else value
                found.append((tick, min(parameter.high, max(parameter.low, value)), "line"))
            if b < span.length_ticks:
                after = base.one(b + 1, parameter) if base else still
                found.append((b + 1, after, "hold"))
                found += [p for p in (base.points if base else ()) if p[0] > b + 1]
            self._keep(span.section, Curve(lane, _in_order(found)))

    def throw(self, join: Join, layer: Layer, low: int, high: int, to: str, level_db: float) -> None:
        for span, a, b, _ in self.pieces(join, low, high):
            self.throws.setdefault(span.section.id, list(span.section.throws)).append(
                Throw(layer.id, a, b, to, level_db)
            )

    # what comes out ---------------------------------------------------------------------------------------------------

    def song_made(self) -> Song:
        """The song with all of it in place and no devices left to be made."""
        return replace(
            self.song,
            sections=tuple(map(self._made, self.song.sections)),
            patterns=(*self.song.patterns, *self.patterns),
        )

    def written(self) -> Song:
        """The song with what was laid out as its own placements, patterns, curves and throws; devices stay as they are."""
        song = replace(self.song, patterns=(*self.song.patterns, *self.patterns), next_id=self.ids.next_id)
        for section in self.song.sections:
            kept = {name: getattr(section, name) for name in ("devices", "build", "moments", "tempo_changes")}
            song = song.with_section(replace(self._made(section), **kept))
        return song

    def _made(self, section: Section) -> Section:
        changed: dict[str, object] = {}
        if section.devices or section.build or section.moments:
            changed |= {"devices": (), "build": None, "moments": ()}
        if section.id in self.placements:
            changed["placements"] = ordered(self.placements[section.id])
        if section.id in self.curves:
            mine = self.curves[section.id]
            changed["curves"] = (*(c for c in section.curves if c.lane not in mine), *mine.values())
        if section.id in self.progressions:
            changed["progression"] = self.progressions[section.id]
        if section.id in self.throws:
            changed["throws"] = tuple(self.throws[section.id])
        points = self.line.span_of(section.id).tempo_points
        if points != tempo_points(section, self.song.tempo_bpm):
            changed["tempo_changes"] = points
        return replace(section, **changed) if changed else section  # type: ignore[arg-type]


def _scaled(values: np.ndarray, scale: str) -> np.ndarray:
    return np.log(values) if scale == "log" else values


def _in_order(points: Sequence[Point]) -> tuple[Point, ...]:
    """Points by tick, the later one of two at one tick."""
    by_tick = {round(tick): (round(tick), value, shape) for tick, value, shape in points}
    return tuple(by_tick[tick] for tick in sorted(by_tick))
