"""Edits of what happens in one section: curves, treatments, throws, and prints that freeze a layer."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.bodies import on_all_bodies
from escalera.core.document.devices import SHAPES, Curve, Point, Print, Throw, Treatment
from escalera.core.document.lanes import lane_label, lane_value, layer_parameter, layer_value, movable
from escalera.core.document.limits import MAX_POINTS, MAX_THROWS
from escalera.core.document.shaping import layer_in, stretched
from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import Fields, edit, layer_of, one_of, section_of, whole_number, within
from escalera.core.edits.sound_edits import check_filters, not_printed
from escalera.core.palette.effects import RETURN_BY_KEY, STRINGS
from escalera.core.reading.placements import span_ticks
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.core.theory.chords import Chord
from escalera.errors import EditError, shown


def length_ticks(song: Song, section: Section) -> int:
    """Length of a section in ticks."""
    return section_bar_ticks(section, song.metre)[-1]


def with_curve(section: Section, lane: str, curve: Curve | None) -> Section:
    """The section with one parameter's curve replaced, or taken away with None."""
    rest = tuple(c for c in section.curves if c.lane != lane)
    return replace(section, curves=(*rest, curve) if curve else rest)


def read_points(rows: list[Any], end: int, parameter: Any) -> tuple[Point, ...]:
    """Points from [tick, value, shape] rows: in order, inside the section, inside the parameter's range.

    Raises EditError for points outside either, none, or too many.
    """
    if not 1 <= len(rows) <= MAX_POINTS:
        raise EditError(f"A curve has {len(rows)} points; between 1 and {MAX_POINTS} fit.")
    found: dict[int, Point] = {}
    for row in rows:
        if (
            not isinstance(row, (list, tuple))
            or len(row) not in (2, 3)
            or not all(isinstance(x, (int, float)) for x in row[:2])
        ):
            raise EditError("A point of a curve is [tick, value, shape]. Draw it again.")
        within(row[0], 0, end, "A point at", "ticks")
        shape = one_of(str(row[2]) if len(row) == 3 else "line", SHAPES, "shape")
        found[round(row[0])] = (round(row[0]), parameter.checked(row[1]), shape)
    return tuple(found[t] for t in sorted(found))


def _points(fields: Fields, song: Song) -> Fields:
    """Without points, a new curve starts where the parameter stands, from the section's start to its end."""
    if "points" in fields:
        return fields
    section = section_of(song, whole_number(fields.get("section_id")))
    value, end = lane_value(song, fields.get("lane", "")), section_bar_ticks(section, song.metre)[-1]
    return {**fields, "points": [[0, value, "line"], [end, value, "line"]]}


@edit("set_curve", "shaping", reads=_points)
class SetCurve:
    """Move a parameter along a curve over a section: [tick, value, shape] points; waves and steps have a rate."""

    section_id: int
    lane: str
    points: list[Any]
    rate_beats: float = 1.0

    def apply(self, song: Song) -> Song:
        section, parameter = section_of(song, self.section_id), movable(song, self.lane)
        rate = round(960 * within(self.rate_beats, 0.0625, 64, "A rate of", "beats"))
        curve = Curve(self.lane, read_points(self.points, length_ticks(song, section), parameter), rate)
        return song.with_section(with_curve(section, self.lane, curve))

    def summary(self, song: Song) -> str:
        return f"{lane_label(song, self.lane)} moves in {section_of(song, self.section_id).name}"


@edit("tune_resonators", "shaping options")
class TuneResonators:
    """Let the strings of a layer's resonators follow the chords, in one section or (0) wherever the layer plays."""

    layer_id: int
    device_id: int
    section_id: int = 0

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        if not any(d.id == self.device_id and d.key == "resonators" for d in layer.devices):
            raise EditError(f"{layer.name} has no such resonators any more. Load the page again.")
        if self.section_id:
            return self._tuned(song, section_of(song, self.section_id))
        return on_all_bodies(song, self._everywhere)

    def _everywhere(self, song: Song) -> Song:
        for section in song.sections:
            if any(p.layer_id == self.layer_id for p in section.placements):
                song = self._tuned(song, section)
        return song

    def _tuned(self, song: Song, section: Section) -> Song:
        harmony = section_harmony(song, timeline(song).span_of(section.id))
        notes = [strings_of(chord) for chord in harmony.chords]
        for n, key in enumerate(STRINGS):
            points = [[max(0, int(t)), row[n], "hold"] for t, row in zip(harmony.ticks, notes)]
            song = SetCurve(section.id, f"layer.{self.layer_id}.fx.{self.device_id}.{key}", points).apply(song)
        return song

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: its resonators follow the chords"


def strings_of(chord: Chord) -> list[int]:
    """Four notes of a chord as MIDI, from C3 up: its first four tones, or three and its root an octave higher."""
    root = 48 + chord.root_class
    tones = [root + t for t in chord.tones][: len(STRINGS)]
    return tones + [root + 12 * (1 + i) for i in range(len(STRINGS) - len(tones))]


@edit("clear_curve", "shaping")
class ClearCurve:
    """Take a curve away; the parameter stands still again."""

    section_id: int
    lane: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        movable(song, self.lane)
        return song.with_section(with_curve(section, self.lane, None))

    def summary(self, song: Song) -> str:
        return f"{lane_label(song, self.lane)} stands still in {section_of(song, self.section_id).name}"


@edit("copy_curve", "shaping")
class CopyCurve:
    """Copy a curve to another section, stretched to its length."""

    section_id: int
    lane: str
    to_id: int

    def apply(self, song: Song) -> Song:
        section, target = section_of(song, self.section_id), section_of(song, self.to_id)
        curve = next((c for c in section.curves if c.lane == self.lane), None)
        if curve is None:
            raise EditError(f"Nothing moves there in {section.name}. Draw the curve first, then copy it.")
        points = stretched(curve.points, length_ticks(song, section), length_ticks(song, target))
        return song.with_section(with_curve(target, self.lane, replace(curve, points=points)))

    def summary(self, song: Song) -> str:
        return (
            f"{lane_label(song, self.lane)} copied from {section_of(song, self.section_id).name} "
            f"to {section_of(song, self.to_id).name}"
        )


@edit("sweep", "shaping")
class Sweep:
    """Move a parameter from one value to another over bars of the song, across joins."""

    lane: str
    first_bar: int
    last_bar: int
    start: float
    end: float
    shape: str = "line"

    def apply(self, song: Song) -> Song:
        parameter = movable(song, self.lane)
        a, b = parameter.checked(self.start), parameter.checked(self.end)
        shape = one_of(self.shape, ("line", "ease"), "shape for a way across joins")
        bar, end = 1 - song.lead_bars, song.bars - song.lead_bars
        if not bar <= self.first_bar <= self.last_bar <= end:
            raise EditError(
                f"Bars {self.first_bar}–{self.last_bar} do not lie in the song, which has bars "
                f"{bar}–{end}. Choose bars inside it."
            )
        pieces, ticks = [], 0
        for section in song.sections:
            edges = section_bar_ticks(section, song.metre)
            low, high = max(self.first_bar - bar, 0), min(self.last_bar - bar + 1, section.bars)
            if low < high:
                pieces.append((section, edges[low], edges[high], ticks))
                ticks += edges[high] - edges[low]
            bar += section.bars
        whole = Curve(self.lane, ((0, a, shape), (ticks, b, "line")))
        for section, low, high, before in pieces:
            points = tuple((t + low, v, s) for t, v, s in whole.cut(before, before + high - low, parameter))
            old = next((c for c in section.curves if c.lane == self.lane), Curve(self.lane, ()))
            kept = [p for p in old.points if p[0] < low], [p for p in old.points if p[0] > high]
            curve = replace(old, points=(*kept[0], *points, *kept[1]))
            song = song.with_section(with_curve(section, self.lane, curve))
        return song

    def summary(self, song: Song) -> str:
        return f"{lane_label(song, self.lane)} moves over bars {self.first_bar}–{self.last_bar}"


@edit("treat", "shaping")
class Treat:
    """Give one of a layer's parameters another value in one section only."""

    section_id: int
    layer_id: int
    lane: str
    value: float

    def apply(self, song: Song) -> Song:
        section, layer = section_of(song, self.section_id), layer_of(song, self.layer_id)
        if self.lane == "octave":
            raise EditError("The octave is the same in the whole song. Transpose the tile instead.")
        if self.lane.startswith(("sound.", "fx.")):
            not_printed(layer)
        value = layer_parameter(layer, self.lane).checked(self.value)
        rest = tuple(t for t in section.treatments if (t.layer_id, t.lane) != (layer.id, self.lane))
        if value != layer_value(layer, self.lane):
            rest = (*rest, Treatment(layer.id, self.lane, value))
        changed = replace(section, treatments=rest)
        check_filters(layer_in(song, changed, layer))
        return song.with_section(changed)

    def summary(self, song: Song) -> str:
        layer = layer_of(song, self.layer_id)
        parameter = layer_parameter(layer, self.lane)
        return (
            f"{layer.name} in {section_of(song, self.section_id).name}: {parameter.label.lower()} "
            f"{parameter.said(self.value)}"
        )


@edit("untreat", "shaping")
class Untreat:
    """Treat a layer in a section as everywhere again."""

    section_id: int
    layer_id: int
    lane: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        layer_of(song, self.layer_id)
        kept = tuple(
            t for t in section.treatments if t.layer_id != self.layer_id or (self.lane and t.lane != self.lane)
        )
        return song.with_section(replace(section, treatments=kept))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} in {section_of(song, self.section_id).name} as everywhere"


def _throw_in_beats(fields: Fields, song: Song) -> Fields:
    """A throw given as the song's bar, the beat in it and a length in beats, in ticks of its section."""
    if "at_bar" not in fields:
        return fields
    span = timeline(song).span_of(section_of(song, whole_number(fields.get("section_id"))).id)
    bar = whole_number(fields.pop("at_bar"), "bar number") - span.first_bar
    if not 0 <= bar < span.section.bars:
        raise EditError(
            f"That bar does not lie in {span.section.name}, which has bars "
            f"{span.first_bar}–{span.last_bar}. Choose one of them."
        )
    try:
        beat, long = float(fields.pop("at_beat", "1")), float(fields.pop("beats_long", "1"))
    except ValueError:
        raise EditError("A beat is a number, for example 3 or 2.5.") from None
    metre = span.bar_metres[bar]
    if not 1 <= beat < metre.beats + 1 or not 0 < long <= 64:
        raise EditError(
            f"Beat {beat:g} for {long:g} beats does not fit: the bar has beats 1 to {metre.beats}. Choose one of them."
        )
    start = span.bar_ticks[bar] + round((beat - 1) * metre.beat_ticks)
    end = min(span.length_ticks, start + max(1, round(long * metre.beat_ticks)))
    return {**fields, "start_ticks": start, "end_ticks": end}


@edit("throw", "shaping", reads=_throw_in_beats)
class AddThrow:
    """Send a stretch of a layer into a shared space, only there."""

    section_id: int
    layer_id: int
    start_ticks: int
    end_ticks: int
    to: str = "echo"
    level_db: float = -3.0

    def apply(self, song: Song) -> Song:
        section, layer = section_of(song, self.section_id), layer_of(song, self.layer_id)
        low, high = span_ticks(song, section, None, self.start_ticks, self.end_ticks)
        to = one_of(self.to, list(RETURN_BY_KEY), "shared space")
        level = within(self.level_db, -40, 6, "A throw of", "dB")
        rest = tuple(
            t
            for t in section.throws
            if t.layer_id != layer.id or t.to != to or t.end_ticks <= low or t.start_ticks >= high
        )
        if len(rest) >= MAX_THROWS:
            raise EditError(f"{section.name} has {MAX_THROWS} throws, and no more fit. Take one away first.")
        return song.with_section(replace(section, throws=(*rest, Throw(layer.id, low, high, to, level))))

    def summary(self, song: Song) -> str:
        return (
            f"{layer_of(song, self.layer_id).name} thrown into the "
            f"{RETURN_BY_KEY[self.to].label.lower()} in {section_of(song, self.section_id).name}"
        )


@edit("remove_throw", "shaping")
class RemoveThrow:
    """Take a throw away."""

    section_id: int
    layer_id: int
    start_ticks: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        kept = tuple(t for t in section.throws if (t.layer_id, t.start_ticks) != (self.layer_id, self.start_ticks))
        if len(kept) == len(section.throws):
            raise EditError("That throw is not there any more. Load the page again.")
        return song.with_section(replace(section, throws=kept))

    def summary(self, song: Song) -> str:
        return f"A throw of {layer_of(song, self.layer_id).name} taken away"


@edit("print_layer", "layers")
class PrintLayer:
    """Freeze a layer to audio that was rendered from it; its sound and chain stay as they are, underneath."""

    layer_id: int
    prints: list[Any]

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        rows = tuple(_print_of(row) for row in self.prints)
        if not rows:
            raise EditError(f"{layer.name} plays nothing yet. Set a tile, then print it.")
        return song.with_layer(replace(layer, prints=rows))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} printed to audio"


def _print_of(row: Any) -> Print:
    match row:
        case [str(notes), str(audio), int(offset)]:
            return Print(notes, audio, offset)
    raise EditError(f"“{shown(row)}” is not a print: notes, audio and where it begins. Print the layer again.")


@edit("unprint_layer", "layers")
class UnprintLayer:
    """Take a print back: the layer plays from its sound and chain again."""

    layer_id: int

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        if not layer.prints:
            raise EditError(f"{layer.name} is not printed. It plays from its sound already.")
        return song.with_layer(replace(layer, prints=()))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} plays from its sound again"
