"""Edits of what carries a join: devices placed by counting from the one, and builds."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

from escalera.core.document.carriers import (
    MAX_JOIN_DEVICES,
    MAX_JOIN_TICKS,
    MAX_LOOPS,
    TENSION_SHAPES,
    Build,
    JoinDevice,
)
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.edit import Fields, edit, layer_of, one_of, section_of, whole_number, within
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.palette.join_kinds import JOIN_KINDS, JoinKind
from escalera.core.palette.parameters import with_setting
from escalera.core.reading.timeline import section_bar_ticks, section_metres
from escalera.core.time.metre import Metre
from escalera.errors import EditError, shown

UNITS = {"bar": "bar", "beat": "beat", "b": "beat", "tick": "tick", "sixteenth": "sixteenth"}
PART = re.compile(r"(\d+/\d+|\d+(?:[.,]\d+)?)\s*([a-z]*)")
LOOP = re.compile(r"(\d+(?:/\d+)?)\s*(bars?|beats?)?")


def distance_ticks(text: str, metre: Metre) -> int:
    """Ticks of a distance in words: `4`, `-2 bars`, `1 bar 2 beats`, `1/2 beat`, `120 ticks`. A plain number is beats. EditError."""
    words = text.strip().lower().replace("−", "-")
    sign = -1 if words.startswith("-") else 1
    found = PART.findall(words)
    if not found or PART.sub("", words).strip(" -+,and"):
        raise EditError(
            f"“{shown(text)}” is not a distance. Write beats, or bars and beats, for example -4, -2 bars or 1 bar 2 beats."
        )
    lengths = {"bar": metre.bar_ticks, "beat": metre.beat_ticks, "tick": 1, "sixteenth": 240}
    ticks = 0.0
    for number, unit in found:
        name = UNITS.get(unit.rstrip("s") or "beat")
        if name is None:
            raise EditError(f"“{shown(unit)}” is no length. Write bars, beats or ticks.")
        over, _, under = number.replace(",", ".").partition("/")
        ticks += float(over) / (float(under or 1) or 1.0) * lengths[name]
    return sign * round(ticks)


def join_metre(song: Song, section_id: int) -> Metre:
    """The time signature in which the bars before a section count; its own where nothing is before it."""
    index = song.index_of(section_of(song, section_id).id)
    return section_metres(song.sections[max(0, index - 1)], song.metre)[-1]


def device_of(section: Section, device_id: int) -> JoinDevice:
    """The device with this id. EditError where it is gone."""
    for device in section.devices:
        if device.id == device_id:
            return device
    raise EditError(f"Device {device_id} is not at the join into {section.name} any more. Choose one that is.")


def _places(fields: Fields, song: Song) -> Fields:
    """`start` and `length` in words become ticks."""
    metre = join_metre(song, whole_number(fields.get("section_id")))
    for name in ("start", "length"):
        if name in fields:
            fields = {**fields, f"{name}_ticks": distance_ticks(str(fields.pop(name)), metre)}
    return fields


def _checked(song: Song, section: Section, device: JoinDevice) -> JoinDevice:
    within(device.start_ticks, -MAX_JOIN_TICKS, MAX_JOIN_TICKS, "A start at", "ticks")
    within(device.length_ticks, 1, MAX_JOIN_TICKS, "A length of", "ticks")
    index = song.index_of(section.id)
    metre = join_metre(song, section.id)
    if device.start_ticks < 0 and not index:
        raise EditError(
            f"Nothing lies before {section.name}, so nothing can lead into it. Choose a later section, or a start at 0."
        )
    if not device.of.leads and -device.start_ticks > section_bars_ticks(song, index - 1):
        left = song.sections[index - 1]
        raise EditError(
            f"{device.of.label} would begin {-device.start_ticks / metre.beat_ticks:g} beats before {section.name}, but {left.name} is "
            f"{section_bars_ticks(song, index - 1) / metre.beat_ticks:g} beats long. Start it later."
        )
    return device


def section_bars_ticks(song: Song, index: int) -> int:
    """Length of a section in ticks, by its place."""
    return section_bar_ticks(song.sections[index], song.metre)[-1]


def with_device(section: Section, device: JoinDevice) -> Section:
    """The section with a device of the same id replaced, or a new one added; in order of their starts."""
    rest = [d for d in section.devices if d.id != device.id]
    return replace(section, devices=tuple(sorted([*rest, device], key=lambda d: (d.start_ticks, d.id))))


def _player(song: Song, section: Section, kind: JoinKind) -> tuple[Song, int]:
    """A layer that can play a device: one with its sound, else a new one; or of its families the first that plays beside the join."""
    if kind.sounds:
        found = next((x for key in kind.sounds for x in song.layers if x.sound_key == key and not x.muted), None)
        if found:
            return song, found.id
        song = AddLayer(kind.sounds[0]).apply(song)
        return song, max(x.id for x in song.layers)
    if not kind.plays:
        return song, 0
    index = song.index_of(section.id)
    beside = (section,) if kind.key == "pickup" else song.sections[max(0, index - 1) : index]
    playing = {p.layer_id for s in beside for p in s.placements}
    ranked = [
        x for family in kind.plays for x in song.layers if x.family == family and not x.muted and not x.sound.is_drum
    ]
    found = next((x for x in ranked if x.id in playing), None)
    if found is None:
        where = "in" if kind.key == "pickup" else "before"
        raise EditError(
            f"{kind.label} needs a layer of {' or '.join(kind.plays)} that plays {where} {section.name}, and none does. Let one play first."
        )
    return song, found.id


@edit("add_device", "joins layers", _places)
class AddDevice:
    """Let something carry the join into a section: a riser, a fill, a gap. Without more said it stands where it usually does."""

    section_id: int
    device: str
    start_ticks: int | None = None
    length_ticks: int | None = None
    layer_id: int = 0
    settings: dict[str, float] | None = None

    def apply(self, song: Song) -> Song:
        section, kind = section_of(song, self.section_id), JOIN_KINDS[one_of(self.device, tuple(JOIN_KINDS), "device")]
        if len(section.devices) >= MAX_JOIN_DEVICES:
            raise EditError(
                f"The join into {section.name} has {MAX_JOIN_DEVICES} devices, and no more fit. Take one away first."
            )
        song, layer_id = (song, layer_of(song, self.layer_id).id) if self.layer_id else _player(song, section, kind)
        beat = join_metre(song, section.id).beat_ticks
        start = round(kind.start_beats * beat) if self.start_ticks is None else self.start_ticks
        if self.start_ticks is None and start < 0 and song.index_of(section.id):
            start = max(start, -section_bars_ticks(song, song.index_of(section.id) - 1))
        length = self.length_ticks or (
            -start
            if kind.start_beats < 0 and start < 0 and kind.start_beats + kind.length_beats == 0
            else round(kind.length_beats * beat)
        )
        settings: Any = ()
        for key, value in (self.settings or {}).items():
            if key not in kind.parameter_by_key:
                raise EditError(f"{kind.label} has no parameter “{shown(key)}”. Choose one of its own.")
            settings = with_setting(settings, kind.parameter_by_key[key], value)
        device = _checked(song, section, JoinDevice(song.next_id, kind.key, start, length, layer_id, settings))
        song = song.with_section(with_device(song.section_by_id[section.id], device))
        return replace(song, next_id=song.next_id + 1)

    def summary(self, song: Song) -> str:
        name = JOIN_KINDS[self.device].label if self.device in JOIN_KINDS else self.device
        return f"{name} into {section_of(song, self.section_id).name}"


@edit("set_device", "joins", _places)
class SetDevice:
    """Let a device at a join begin elsewhere, last longer or shorter, or be played by another layer."""

    section_id: int
    device_id: int
    start_ticks: int | None = None
    length_ticks: int | None = None
    layer_id: int | None = None

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        old = device_of(section, self.device_id)
        layer = old.layer_id if self.layer_id is None else self.layer_id and layer_of(song, self.layer_id).id
        new = replace(
            old,
            start_ticks=old.start_ticks if self.start_ticks is None else self.start_ticks,
            length_ticks=old.length_ticks if self.length_ticks is None else self.length_ticks,
            layer_id=layer,
        )
        return song.with_section(with_device(section, _checked(song, section, new)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{device_of(section, self.device_id).of.label} into {section.name} placed anew"


@edit("nudge_device", "joins")
class NudgeDevice:
    """Move a device at a join earlier (below zero) or later by ticks; with `end` only its end moves, with `start` only its start."""

    section_id: int
    device_id: int
    by_ticks: int
    edge: str = "whole"

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        old, by = (
            device_of(section, self.device_id),
            whole_number(self.by_ticks, "number of ticks", -MAX_JOIN_TICKS, MAX_JOIN_TICKS),
        )
        edge = one_of(self.edge, ("whole", "start", "end"), "edge")
        start = old.start_ticks + (by if edge != "end" else 0)
        length = old.length_ticks + {"whole": 0, "start": -by, "end": by}[edge]
        new = replace(old, start_ticks=start, length_ticks=length)
        return song.with_section(with_device(section, _checked(song, section, new)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        way = "later" if self.by_ticks > 0 else "earlier"
        return f"{device_of(section, self.device_id).of.label} into {section.name} {way}"


@edit("set_device_value", "joins")
class SetDeviceValue:
    """Set a parameter of a device at a join."""

    section_id: int
    device_id: int
    parameter: str
    value: float

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        device = device_of(section, self.device_id)
        parameter = device.of.parameter_by_key.get(self.parameter)
        if parameter is None:
            raise EditError(f"{device.of.label} has no parameter “{shown(self.parameter)}”. Choose one of its own.")
        return song.with_section(
            with_device(section, replace(device, settings=with_setting(device.settings, parameter, self.value)))
        )

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        device = device_of(section, self.device_id)
        parameter = device.of.parameter_by_key[self.parameter]
        return f"{device.of.label} into {section.name}: {parameter.label.lower()} {parameter.said(self.value)}"


@edit("remove_device", "joins")
class RemoveDevice:
    """Take a device away from a join."""

    section_id: int
    device_id: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        gone = device_of(section, self.device_id)
        return song.with_section(replace(section, devices=tuple(d for d in section.devices if d.id != gone.id)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{device_of(section, self.device_id).of.label} into {section.name} taken away"


@edit("park_device", "joins")
class ParkDevice:
    """Let a device at a join rest without losing it, or let one that rests sound again."""

    section_id: int
    device_id: int
    parked: bool = True

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        device = replace(device_of(section, self.device_id), parked=self.parked)
        return song.with_section(with_device(section, device if self.parked else _checked(song, section, device)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        how = "parked" if self.parked else "sounds again"
        return f"{device_of(section, self.device_id).of.label} into {section.name} {how}"


@edit("copy_join", "joins")
class CopyJoin:
    """Carry a join by what carries another one: its devices and its build take the place of what is there."""

    section_id: int
    from_section_id: int

    def apply(self, song: Song) -> Song:
        section, other = section_of(song, self.section_id), section_of(song, self.from_section_id)
        if not other.devices and other.build is None:
            raise EditError(
                f"Nothing was placed at the join into {other.name}, so there is nothing to copy. Choose another join."
            )
        devices, next_id = [], song.next_id
        for device in other.devices:
            devices.append(replace(device, id=next_id))
            next_id += 1
        for device in devices:
            _checked(song, section, device)
        build = other.build and _checked_build(song, section, other.build)
        return replace(song.with_section(replace(section, devices=tuple(devices), build=build)), next_id=next_id)

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name} entered as {section_of(song, self.from_section_id).name} is"


# builds -----------------------------------------------------------------------------------------------------------------


def loop_ticks(text: str, metre: Metre) -> tuple[int, ...]:
    """Lengths of loops from words: `4 bars, 2, 1, 1/2, 1/4`: bars, and fractions of a bar. Raises EditError."""
    found, unit = [], "bar"
    for word in (w.strip() for w in re.split(r"[,;·]", text) if w.strip()):
        match = LOOP.fullmatch(word.lower())
        if not match:
            raise EditError(
                f"“{shown(word)}” is no loop length. Write bars, longest first, for example 4, 2, 1, 1/2, 1/4."
            )
        over, _, under = match.group(1).partition("/")
        unit = (match.group(2) or unit).rstrip("s")
        ticks = round(
            float(over) / (float(under or 1) or 1.0) * (metre.bar_ticks if unit == "bar" else metre.beat_ticks)
        )
        found.append(round(within(ticks, 60, MAX_JOIN_TICKS, "A loop of", "ticks")))
    if len(found) > MAX_LOOPS:
        raise EditError(f"{len(found)} loop lengths were written; at most {MAX_LOOPS} fit.")
    return tuple(found)


def loop_text(build: Build, metre: Metre) -> str:
    """Lengths of loops as `loop_ticks` reads them."""

    def said(ticks: int) -> str:
        for under in (1, 2, 4, 8, 16, 3, 6, 12):
            if ticks * under % metre.bar_ticks == 0:
                over = ticks * under // metre.bar_ticks
                return f"{over}/{under}" if under > 1 else str(over)
        return f"{ticks / metre.bar_ticks:.4g}"

    return ", ".join(map(said, build.loops_ticks))


def _build(fields: Fields, song: Song) -> Fields:
    metre = join_metre(song, whole_number(fields.get("section_id")))
    if "loops" in fields:
        fields = {**fields, "loops_ticks": list(loop_ticks(str(fields.pop("loops")), metre))}
    for name in ("lows_out", "gap"):
        if name in fields:
            fields = {**fields, f"{name}_ticks": distance_ticks(str(fields.pop(name)), metre)}
    return fields


def _checked_build(song: Song, section: Section, build: Build) -> Build:
    index = song.index_of(section.id)
    if not index:
        raise EditError(f"Nothing lies before {section.name}, so nothing can build into it. Choose a later section.")
    left = song.sections[index - 1]
    if build.bars > left.bars:
        raise EditError(
            f"A build of {build.bars} bars does not fit into {left.name}, which has {left.bars}. Make it {left.bars} bars at most, or lengthen {left.name}."
        )
    length = build.bars * join_metre(song, section.id).bar_ticks
    for ticks, what in ((build.gap_ticks, "stop"), (build.lows_out_ticks, "stretch without low end")):
        if not 0 <= ticks < length:
            raise EditError(
                f"A {what} of {ticks / join_metre(song, section.id).beat_ticks:g} beats does not fit into a build of {build.bars} bars. Make it shorter."
            )
    return build


@edit("set_build", "joins layers", _build)
class SetBuild:
    """Build into a section over its last bars: what plays, how its loop shortens, what rolls, opens, rises and leaves."""

    section_id: int
    bars: int = 4
    shape: str = "straight"
    keeps: list[int] | None = None
    shows: list[int] | None = None
    loops_ticks: list[int] | None = None
    doubles: bool = False
    rolls: bool = False
    roll_layer_id: int = 0
    filter_from_hz: float = 0.0
    level_from_db: float = 0.0
    rise_semitones: int = 0
    narrows: bool = False
    lows_out_ticks: int = 0
    gap_ticks: int = 0

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        roller = self.roll_layer_id and layer_of(song, self.roll_layer_id).id
        if self.rolls and not roller:
            song, roller = _player(song, section, JOIN_KINDS["roll"])
        ids = [layer_of(song, whole_number(i)).id for i in (*(self.keeps or ()), *(self.shows or ()))]
        kept = len(self.keeps or ())
        filter_hz = self.filter_from_hz and within(self.filter_from_hz, 40, 18_000, "A low-pass from", "Hz")
        build = Build(
            whole_number(self.bars, "number of bars", 1, 64),
            one_of(self.shape, TENSION_SHAPES, "shape of tension"),
            tuple(dict.fromkeys(ids[:kept])),
            tuple(dict.fromkeys(ids[kept:])),
            tuple(round(within(t, 60, MAX_JOIN_TICKS, "A loop of", "ticks")) for t in self.loops_ticks or ())[
                :MAX_LOOPS
            ],
            self.doubles,
            roller,
            float(filter_hz),
            within(self.level_from_db, -40, 0, "A level from", "dB"),
            whole_number(self.rise_semitones, "rise in semitones", 0, 24),
            self.narrows,
            whole_number(self.lows_out_ticks, "number of ticks", 0, MAX_JOIN_TICKS),
            whole_number(self.gap_ticks, "number of ticks", 0, MAX_JOIN_TICKS),
        )
        build = _checked_build(song, section, build)
        return song.with_section(replace(song.section_by_id[section.id], build=build))

    def summary(self, song: Song) -> str:
        return f"Build of {self.bars} bars into {section_of(song, self.section_id).name}"


@edit("remove_build", "joins")
class RemoveBuild:
    """Take a build away; what its section plays by itself stays."""

    section_id: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        if section.build is None:
            raise EditError(f"Nothing builds into {section.name}. Choose another join.")
        return song.with_section(replace(section, build=None))

    def summary(self, song: Song) -> str:
        return f"Build into {section_of(song, self.section_id).name} taken away"


def leading_layers(song: Song, section: Section) -> list[Layer]:
    """Layers of a section that a build may show or keep: pitched, and no effects."""
    placed = {p.layer_id for p in section.placements}
    return [x for x in song.layers if x.id in placed and not x.muted and x.family != "effects"]
