"""Curves, treatments and throws when sections are cut, joined or stretched, and when what they name goes away."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TypedDict

from escalera.core.document.bodies import each_body
from escalera.core.document.carriers import MAX_JOIN_DEVICES, Build, JoinDevice
from escalera.core.document.devices import Curve, Point, Throw, Treatment
from escalera.core.document.lanes import lane_parameter, lane_value, layer_parameter, movable, with_layer_value
from escalera.core.document.song import Layer, Section, Song
from escalera.core.palette.parameters import Parameter
from escalera.errors import EditError


class Shaping(TypedDict):
    curves: tuple[Curve, ...]
    throws: tuple[Throw, ...]
    treatments: tuple[Treatment, ...]


def layer_in(song: Song, section: Section, layer: Layer) -> Layer:
    """The layer as this section treats it."""
    for treatment in section.treatments:
        if treatment.layer_id == layer.id:
            layer = with_layer_value(layer, treatment.lane, treatment.value)
    return layer


def between(song: Song, section: Section, low: int, high: int) -> Shaping:
    """What shapes a stretch of a section, ticks counted from its start."""
    curves = tuple(replace(c, points=c.cut(low, high, lane_parameter(song, c.lane))) for c in section.curves)
    throws = [
        replace(t, start_ticks=max(t.start_ticks, low) - low, end_ticks=min(t.end_ticks, high) - low)
        for t in section.throws
    ]
    return {
        "curves": curves,
        "throws": tuple(t for t in throws if t.start_ticks < t.end_ticks),
        "treatments": section.treatments,
    }


def after_each_other(song: Song, left: Section, right: Section, length: int, end: int) -> Shaping:
    """What shapes two sections put together; treatments that differ keep the first section's value."""
    curves = []
    for lane in dict.fromkeys(c.lane for c in (*left.curves, *right.curves)):
        a = next((c for c in left.curves if c.lane == lane), None)
        b = next((c for c in right.curves if c.lane == lane), None)
        still, parameter = lane_value(song, lane), lane_parameter(song, lane)
        first = a.cut(0, length, parameter) if a else ((0, still, "hold"), (length, still, "line"))
        second = b.cut(0, end - length, parameter) if b else ((0, still, "hold"),)
        points = {p[0]: p for p in first if p[0] < length}
        before = first[-1][1]
        if before != second[0][1]:  # the jump at the join stays a jump
            points[length - 1] = (length - 1, before, "hold")
        rate = (a or b).rate_ticks if (a or b) else 960  # type: ignore[union-attr]
        curves.append(Curve(lane, (*points.values(), *((t + length, v, s) for t, v, s in second)), rate))
    moved = (replace(t, start_ticks=t.start_ticks + length, end_ticks=t.end_ticks + length) for t in right.throws)
    named = {(t.layer_id, t.lane) for t in left.treatments}
    treatments = (*left.treatments, *(t for t in right.treatments if (t.layer_id, t.lane) not in named))
    return {"curves": tuple(curves), "throws": (*left.throws, *moved), "treatments": treatments}


def at_other_ticks(section: Section, tick: Callable[[int], int]) -> Section:
    """A section whose curves and throws are carried along when its ticks change."""

    def points(curve: Curve) -> tuple[Point, ...]:
        found: dict[int, Point] = {}
        for t, value, shape in curve.points:
            found[tick(t)] = (tick(t), value, shape)
        return tuple(found.values())

    throws = (replace(t, start_ticks=tick(t.start_ticks), end_ticks=tick(t.end_ticks)) for t in section.throws)
    return replace(
        section,
        curves=tuple(replace(c, points=points(c)) for c in section.curves),
        throws=tuple(t for t in throws if t.start_ticks < t.end_ticks),
    )


def stretched(points: tuple[Point, ...], before: int, after: int) -> tuple[Point, ...]:
    """Points over another length, in proportion; those that fall together keep the later one."""
    found = {round(t * after / before): (round(t * after / before), v, s) for t, v, s in points}
    return tuple(found[t] for t in sorted(found))


def tidied(song: Song) -> Song:
    """The song without curves, treatments, throws and duckings that name what is no longer there.

    What is there with another range, as after an exchange of sounds, is moved into that.
    """
    layers = song.layer_by_id

    def curve_held(curve: Curve) -> Curve | None:
        try:
            parameter = movable(song, curve.lane)
        except EditError:
            return None
        points = tuple((t, _into(value, parameter), shape) for t, value, shape in curve.points)
        return curve if points == curve.points else replace(curve, points=points)

    def treatment_held(treatment: Treatment) -> Treatment | None:
        try:
            value = _into(treatment.value, layer_parameter(layers[treatment.layer_id], treatment.lane))
        except (EditError, KeyError):
            return None
        return treatment if value == treatment.value else replace(treatment, value=value)

    def tidy(section: Section) -> Section:
        curves = tuple(held for c in section.curves if (held := curve_held(c)))
        treatments = tuple(kept for t in section.treatments if (kept := treatment_held(t)))
        throws = tuple(t for t in section.throws if t.layer_id in layers)
        swings = tuple(s for s in section.swings if s.layer_id == 0 or s.layer_id in layers)
        changed = replace(section, curves=curves, treatments=treatments, throws=throws, swings=swings)
        changed = _carried_by(changed, layers) if section.devices or section.build else changed
        return section if changed == section else changed

    song = each_body(song, tidy)
    if any(x.duck_by > 0 and x.duck_by not in layers for x in song.layers):
        kept = tuple(replace(x, duck_by=0) if x.duck_by > 0 and x.duck_by not in layers else x for x in song.layers)
        song = replace(song, layers=kept)
    return song


def _into(value: float, parameter: Parameter) -> float:
    return min(max(value, parameter.low), parameter.high)


def _carried_by(section: Section, layers: Mapping[int, Layer]) -> Section:
    """A section whose devices and build name layers that are there."""
    devices = tuple(d if d.layer_id in layers or not d.layer_id else replace(d, layer_id=0) for d in section.devices)
    return replace(section, devices=devices, build=section.build and _of_layers(section.build, layers))


def _of_layers(build: Build, layers: Mapping[int, Layer]) -> Build:
    keeps, shows = (tuple(i for i in ids if i in layers) for ids in (build.keeps, build.shows))
    return replace(
        build, keeps=keeps, shows=shows, roll_layer_id=build.roll_layer_id if build.roll_layer_id in layers else 0
    )


def parked_devices(section: Section) -> tuple[JoinDevice, ...]:
    """The devices of a join that goes away, to be kept where it was."""
    return tuple(replace(d, parked=True) for d in section.devices)


def with_parked_devices(section: Section, gone: Section) -> Section:
    """A section that keeps the devices, and where it has none the build, of a join beside it that went away. They make no sound."""
    devices = (*section.devices, *parked_devices(gone))[:MAX_JOIN_DEVICES]
    build = section.build or (replace(gone.build, parked=True) if gone.build else None)
    return replace(section, devices=devices, build=build)
