"""Every parameter of a song by its path, so that edits, curves, treatments and pages address them alike.

`layer.12.level_db`, `layer.12.sound.detune`, `layer.12.fx.40.cutoff_hz`, `bus.drums.fx.41.mix`, `bus.low-end.level_db`,
`master.fx.42.amount`, `return.echo.feedback`. The part after the owner is a path of its own: it reads and writes the
owner's value.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from escalera.core.document.devices import Bus, Device
from escalera.core.document.fields import names, specs
from escalera.core.document.limits import MAX_SEND_DB
from escalera.core.document.song import OFF_DB, Layer, Song
from escalera.core.palette.effects import RETURN_BY_KEY, RETURNS
from escalera.core.palette.parameters import Parameter, Settings, choice, setting, with_setting
from escalera.core.palette.sound_kind import FAMILIES
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

LAYER = specs(Layer)
SENDS: dict[str, Parameter] = {
    row.key: Parameter(row.send, f"{row.label} send", OFF_DB, MAX_SEND_DB, OFF_DB, "dB") for row in RETURNS
}
# what a layer is set by beside its sound and chain, in the order in which inspectors show it
CONTROLS: dict[str, Parameter] = {key: spec.parameter for key, spec in LAYER.items() if spec.panel}
CONTROLS |= {parameter.key: parameter for parameter in SENDS.values()}
MOVED = (*names(Layer, "moved"), *(p.key for p in SENDS.values()))  # what of them a curve may move
FROZEN = names(Layer, "frozen")
BUS_LEVEL = specs(Bus)["level_db"].parameter
MASTER_LEVEL = replace(specs(Song)["master_gain_db"].parameter, key="level_db")


def is_frozen(path: str) -> bool:
    """Whether a path inside a layer names what a print holds still."""
    return path in FROZEN or path.startswith(("sound.", "fx."))


@dataclass(frozen=True, slots=True)
class Owner:
    """Who a chain belongs to: a layer by id, a family's bus, the master, or a shared space."""

    scope: str
    layer_id: int = 0
    name: str = ""

    @property
    def text(self) -> str:
        return {
            "layer": f"layer.{self.layer_id}",
            "bus": f"bus.{self.name.replace(' ', '-')}",
            "return": f"return.{self.name}",
        }.get(self.scope, "master")


def read_owner(text: str, song: Song) -> Owner:
    """Raises EditError when there is no such owner."""
    scope, _, rest = text.partition(".")
    if scope == "layer" and rest.isdecimal() and int(rest) in song.layer_by_id:
        return Owner("layer", int(rest))
    if scope == "bus" and rest.replace("-", " ") in FAMILIES:
        return Owner("bus", 0, rest.replace("-", " "))
    if scope == "return" and rest in RETURN_BY_KEY:
        return Owner("return", 0, rest)
    if text == "master":
        return Owner("master")
    raise EditError(f"“{shown(text)}” is not in this song any more. Choose a layer, a family or the mix.")


def split_lane(lane: str, song: Song) -> tuple[Owner, str]:
    """The owner of a lane and the rest of its path."""
    parts = lane.split(".")
    words = 1 if parts[0] == "master" else 2
    return read_owner(".".join(parts[:words]), song), ".".join(parts[words:])


def bus_of(song: Song, family: str) -> Bus:
    """A family's bus as the song has it, or an untouched one."""
    return next((bus for bus in song.buses if bus.family == family), Bus(family))


def return_settings(song: Song, key: str) -> Settings:
    """What a shared space was set to, empty where it stands as it comes."""
    return next((settings for name, settings in song.returns if name == key), ())


def owner_name(song: Song, owner: Owner) -> str:
    """What people call the owner of a chain of effects. KeyError for a layer that is not in the song."""
    if owner.scope == "layer":
        return song.layer_by_id[owner.layer_id].name
    return {
        "bus": f"all {owner.name}",
        "return": RETURN_BY_KEY[owner.name].label if owner.name in RETURN_BY_KEY else "",
    }.get(owner.scope, "the mix")


def devices_of(song: Song, owner: Owner) -> tuple[Device, ...]:
    """Effects of a layer, a bus or the mix, in order. KeyError for a layer that is not in the song."""
    if owner.scope == "layer":
        return song.layer_by_id[owner.layer_id].devices
    return bus_of(song, owner.name).devices if owner.scope == "bus" else song.master


def with_devices(song: Song, owner: Owner, devices: tuple[Device, ...]) -> Song:
    """The song with another chain of effects on a layer, a bus or the mix."""
    if owner.scope == "layer":
        return song.with_layer(replace(song.layer_by_id[owner.layer_id], devices=devices))
    if owner.scope == "bus":
        return with_bus(song, replace(bus_of(song, owner.name), devices=devices))
    return replace(song, master=devices)


def with_bus(song: Song, bus: Bus) -> Song:
    """The song with a family's bus changed; one that does nothing is not kept."""
    rest = tuple(b for b in song.buses if b.family != bus.family)
    kept = (*rest, bus) if bus != Bus(bus.family) else rest
    return replace(song, buses=tuple(sorted(kept, key=lambda b: FAMILIES.index(b.family))))


def with_return(song: Song, key: str, settings: Settings) -> Song:
    """The song with a shared space set anew; empty settings put it back as it comes."""
    rest = tuple(pair for pair in song.returns if pair[0] != key)
    return replace(song, returns=(*rest, (key, settings)) if settings else rest)


# a parameter inside its owner ------------------------------------------------------------------------------------


ON = choice("on", "On", ("off", "on"), 1)  # whether an effect works, so that a section may switch it


def device_parameter(devices: Sequence[Device], path: str) -> tuple[Device, Parameter]:
    """The effect and parameter of `fx.<id>.<key>`. Raises EditError."""
    _, _, rest = path.partition(".")
    number, _, key = rest.partition(".")
    found = next((d for d in devices if str(d.id) == number), None)
    if found is not None and key == ON.key:
        return found, ON
    if found is None or key not in found.kind.parameter_by_key:
        raise EditError("That effect is not in the chain any more. Load the page again.")
    return found, found.kind.parameter_by_key[key]


def layer_parameter(layer: Layer, path: str) -> Parameter:
    """What a path inside a layer names. Raises EditError."""
    if path in CONTROLS:
        return CONTROLS[path]
    if path.startswith("sound.") and path[6:] in layer.sound.parameter_by_key:
        return layer.sound.parameter_by_key[path[6:]]
    if path.startswith("fx."):
        return device_parameter(layer.devices, path)[1]
    raise EditError(f"{layer.name} has no parameter “{shown(path)}”. Choose one of its own.")


def layer_value(layer: Layer, path: str) -> float:
    """Present value of a layer at a path (`level_db`, `send.hall`, `sound.decay_s`, `fx.40.cutoff_hz`), in the unit of its parameter."""
    parameter = layer_parameter(layer, path)
    if path.startswith("sound."):
        return setting(layer.settings, parameter)
    if path.startswith("fx."):
        device = device_parameter(layer.devices, path)[0]
        return float(device.on) if parameter is ON else device.value(parameter.key)
    if path.startswith("send."):
        return layer.send_db(path[5:])
    return float(getattr(layer, path))


def with_layer_value(layer: Layer, path: str, value: float) -> Layer:
    """The layer with one parameter set. Raises EditError when the value does not fit."""
    parameter = layer_parameter(layer, path)
    if path.startswith("sound."):
        return replace(layer, settings=with_setting(layer.settings, parameter, value))
    if path.startswith("fx."):
        device, _ = device_parameter(layer.devices, path)
        return replace(layer, devices=_changed(layer.devices, device, parameter, value))
    if path.startswith("send."):
        return replace(layer, sends=with_setting(layer.sends, replace(parameter, key=path[5:]), value))
    new: dict[str, Any] = {
        path: int(parameter.checked(value)) if parameter.scale == "whole" else parameter.checked(value)
    }
    return replace(layer, **new)


def _changed(devices: tuple[Device, ...], device: Device, parameter: Parameter, value: float) -> tuple[Device, ...]:
    if parameter is ON:
        new = replace(device, on=parameter.checked(value) > 0.5)
    else:
        new = replace(device, settings=with_setting(device.settings, parameter, value))
    return tuple(new if d.id == device.id else d for d in devices)


# a parameter anywhere --------------------------------------------------------------------------------------------


def lane_parameter(song: Song, lane: str) -> Parameter:
    """What a lane names. Raises EditError."""
    owner, path = split_lane(lane, song)
    if owner.scope == "layer":
        return layer_parameter(song.layer_by_id[owner.layer_id], path)
    if owner.scope == "return":
        found = RETURN_BY_KEY[owner.name].parameter_by_key.get(path)
        if found is None:
            raise EditError(
                f"{RETURN_BY_KEY[owner.name].label} has no parameter “{shown(path)}”. Choose one of its own."
            )
        return found
    if path == "level_db":
        return BUS_LEVEL if owner.scope == "bus" else MASTER_LEVEL
    return device_parameter(devices_of(song, owner), path)[1]


def lane_value(song: Song, lane: str) -> float:
    """What a parameter stands at when no curve moves it."""
    owner, path = split_lane(lane, song)
    if owner.scope == "layer":
        return layer_value(song.layer_by_id[owner.layer_id], path)
    if owner.scope == "return":
        return setting(return_settings(song, owner.name), lane_parameter(song, lane))
    if path == "level_db":
        return bus_of(song, owner.name).level_db if owner.scope == "bus" else song.master_gain_db
    device, parameter = device_parameter(devices_of(song, owner), path)
    return device.value(parameter.key)


def with_lane_value(song: Song, lane: str, value: float) -> Song:
    """The song with a parameter set anywhere. Raises EditError."""
    owner, path = split_lane(lane, song)
    parameter = lane_parameter(song, lane)
    if owner.scope == "layer":
        return song.with_layer(with_layer_value(song.layer_by_id[owner.layer_id], path, value))
    if owner.scope == "return":
        return with_return(song, owner.name, with_setting(return_settings(song, owner.name), parameter, value))
    if path == "level_db":
        value = parameter.checked(value)
        return (
            with_bus(song, replace(bus_of(song, owner.name), level_db=value))
            if owner.scope == "bus"
            else replace(song, master_gain_db=value)
        )
    device, _ = device_parameter(devices_of(song, owner), path)
    return with_devices(song, owner, _changed(devices_of(song, owner), device, parameter, value))


def lane_label(song: Song, lane: str) -> str:
    """“Soft pad: cutoff of its moving filter”, as the history and the pages say it."""
    owner, path = split_lane(lane, song)
    parameter = lane_parameter(song, lane)
    label = parameter.label.lower()
    if path.startswith("fx."):
        label = f"{label} of the {device_parameter(devices_of(song, owner), path)[0].kind.label.lower()}"
    return f"{owner_name(song, owner)}: {label}"


def movable(song: Song, lane: str) -> Parameter:
    """The parameter of a lane that a curve may move. Raises EditError."""
    parameter, (owner, path) = lane_parameter(song, lane), split_lane(lane, song)
    if not parameter.movable or (path in CONTROLS and path not in MOVED) or owner.scope == "return":
        raise EditError(f"{parameter.label} does not move along a curve. Set it for a section instead.")
    return parameter


def lanes_of(song: Song, owner: Owner) -> list[tuple[str, str]]:
    """Every lane of an owner that a curve may move: (lane, label)."""
    base, found = owner.text, []
    if owner.scope == "layer":
        layer = song.layer_by_id[owner.layer_id]
        found += [(f"{base}.{key}", p.label) for key, p in CONTROLS.items() if key in MOVED]
        found += [(f"{base}.sound.{p.key}", f"{p.label} (sound)") for p in layer.sound.parameters if p.movable]
    else:
        found.append((f"{base}.level_db", "Level"))
    for device in devices_of(song, owner):
        found += [
            (f"{base}.fx.{device.id}.{p.key}", f"{p.label} ({device.kind.label.lower()})")
            for p in device.kind.parameters
            if p.movable
        ]
    return found
