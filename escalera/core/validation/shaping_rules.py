"""Whole validation of effects, stacks, curves, treatments and throws that come from outside."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

from escalera.core.document.carriers import MAX_JOIN_TICKS
from escalera.core.document.devices import SHAPES, Device
from escalera.core.document.lanes import layer_parameter, movable
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import EVERY_BEAT, Section, Song
from escalera.core.palette.effects import EFFECT_BY_KEY, RETURN_BY_KEY
from escalera.core.palette.parameters import Parameter, Settings
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.timeline import section_bar_ticks
from escalera.errors import EditError, shown

Need = Callable[[bool, str], None]


def chains(song: Song) -> Iterator[tuple[Device, ...]]:
    """Every chain of effects in the song."""
    yield song.master
    yield from (bus.devices for bus in song.buses)
    yield from (layer.devices for layer in song.layers)


def _settings(settings: Settings, known: Mapping[str, Parameter], what: str, need: Need) -> None:
    for key, value in settings:
        need(key in known, f"{what} has no parameter “{shown(key)}”")
        p = known[key]
        need(p.low <= value <= p.high, f"{what}: {p.label.lower()} {value:g} lies outside {p.low:g} to {p.high:g}")


def _chain(chain: Iterable[Device], scope: str, what: str, need: Need) -> None:
    for device in chain:
        need(device.key in EFFECT_BY_KEY, f"{what} asks for the effect “{shown(device.key)}”, which is not known")
        need(scope in device.kind.where, f"{device.kind.label} does not work on {what}")
        _settings(device.settings, device.kind.parameter_by_key, device.kind.label, need)


def shaping(song: Song, need: Need) -> None:
    """Calls `need(holds, sentence)` for everything that must hold."""
    _chain(song.master, "master", "the mix", need)
    need(len({b.family for b in song.buses}) == len(song.buses), "a family has two buses")
    for bus in song.buses:
        _chain(bus.devices, "bus", f"the bus of {bus.family}", need)
    for key, settings in song.returns:
        need(key in RETURN_BY_KEY, f"the shared space “{shown(key)}” is not known")
        _settings(settings, RETURN_BY_KEY[key].parameter_by_key, RETURN_BY_KEY[key].label, need)
    for layer in song.layers:
        _settings(layer.settings, layer.sound.parameter_by_key, layer.sound.label, need)
        _chain(layer.devices, "layer", layer.name, need)
        need(
            layer.duck_by in (0, EVERY_BEAT) or layer.duck_by in song.layer_by_id, f"{layer.name} is ducked by no layer"
        )
        for part in layer.stack:
            need(
                part.sound_key in BY_KEY, f"{layer.name} stacks “{shown(part.sound_key)}”, which is not in the palette"
            )
            need(
                BY_KEY[part.sound_key].is_drum == layer.sound.is_drum, f"{layer.name} stacks a drum on a pitched sound"
            )
            _settings(part.settings, BY_KEY[part.sound_key].parameter_by_key, BY_KEY[part.sound_key].label, need)
    for section in song.bodies:
        _section(song, section, need)
        _carriers(song, section, need)


def _section(song: Song, section: Section, need: Need) -> None:
    end = section_bar_ticks(section, song.metre)[-1]
    need(len({c.lane for c in section.curves}) == len(section.curves), f"a parameter of {section.name} has two curves")
    for curve in section.curves:
        try:
            parameter = movable(song, curve.lane)
        except EditError as error:
            need(False, str(error))
            return
        ticks = [t for t, _, _ in curve.points]
        need(
            ticks == sorted(set(ticks)) and all(0 <= t <= end for t in ticks),
            f"a curve of {section.name} is not in order",
        )
        need(all(s in SHAPES for _, _, s in curve.points), f"a curve of {section.name} has an unknown shape")
        need(
            all(parameter.low <= v <= parameter.high for _, v, _ in curve.points),
            f"a curve of {section.name} leaves {parameter.low:g} to {parameter.high:g}",
        )
    for t in section.treatments:
        need(t.layer_id in song.layer_by_id, f"{section.name} treats a layer that does not exist")
        try:
            layer_parameter(song.layer_by_id[t.layer_id], t.lane)
            layer_in(song, section, song.layer_by_id[t.layer_id])
        except EditError as error:
            need(False, str(error).rstrip("."))
    for throw in section.throws:
        need(
            throw.layer_id in song.layer_by_id and throw.to in RETURN_BY_KEY, f"a throw of {section.name} leads nowhere"
        )
        need(
            0 <= throw.start_ticks < throw.end_ticks <= end,
            f"a throw of {section.name} is out of range",
        )


def _carriers(song: Song, section: Section, need: Need) -> None:
    """What carries the join into a section: layers that are there, parameters inside their range, loops that shorten."""
    known = {0, *song.layer_by_id}
    for device in section.devices:
        need(device.layer_id in known, f"a device of {section.name} is played by a layer that does not exist")
        _settings(device.settings, device.of.parameter_by_key, device.of.label, need)
    if section.build:
        build = section.build
        need(
            {build.roll_layer_id, *build.keeps, *build.shows} <= known,
            f"the build into {section.name} has a layer that does not exist",
        )
        need(
            all(0 < t <= MAX_JOIN_TICKS for t in build.loops_ticks),
            f"a loop of the build into {section.name} has no length",
        )
        need(
            not build.filter_from_hz or build.filter_from_hz >= 40,
            f"the low-pass of the build into {section.name} lies below 40 Hz",
        )
