"""Edits of what shapes sounds: parameters anywhere, chains of effects, stacked sounds, recipes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.devices import Device, StackPart, Treatment
from escalera.core.document.lanes import (
    ON,
    Owner,
    devices_of,
    is_frozen,
    lane_label,
    lane_parameter,
    owner_name,
    read_owner,
    split_lane,
    with_devices,
    with_lane_value,
)
from escalera.core.document.limits import MAX_CHAIN, MAX_NAME, MAX_RECIPE, MAX_STACK
from escalera.core.document.shaping import tidied
from escalera.core.document.song import EVERY_BEAT, Layer, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, sound_of, within
from escalera.core.palette.effects import EFFECT_BY_KEY, EffectKind
from escalera.core.palette.parameters import Settings, with_setting
from escalera.core.palette.recorded_sounds import BEAT, PART
from escalera.core.palette.sounds import BY_KEY
from escalera.errors import EditError


def with_sound(song: Song, layer: Layer, key: str, **changes: Any) -> Song:
    """The song with a layer that plays with another sound.

    Its settings go, stacked sounds that cannot lie on it, and curves and treatments of what it does not have.
    """
    sound = BY_KEY[key]
    alone = sound.mono or key in (BEAT, PART)
    stack = () if alone else tuple(p for p in layer.stack if BY_KEY[p.sound_key].is_drum == sound.is_drum)
    return tidied(song.with_layer(replace(layer, sound_key=key, settings=(), stack=stack, **changes)))


def not_printed(layer: Layer) -> None:
    """Raises EditError when the layer's sound is frozen."""
    if layer.prints:
        raise EditError(f"{layer.name} is printed, and its sound is frozen. Remove the print to change it.")


def check_filters(layer: Layer) -> Layer:
    """The layer itself if its filters leave something to hear; otherwise EditError."""
    if layer.highpass_hz > layer.lowpass_hz:
        raise EditError(
            f"High-pass {layer.highpass_hz:g} Hz lies above low-pass {layer.lowpass_hz:g} Hz, and "
            f"nothing would sound."
            " Bring them apart."
        )
    return layer


def _frozen(song: Song, lane: str) -> None:
    owner, path = split_lane(lane, song)
    if owner.scope == "layer" and is_frozen(path):
        not_printed(song.layer_by_id[owner.layer_id])


@edit("set_value", "layers")
class SetValue:
    """Set any parameter by its path: of a sound, an effect, a layer, a family's bus, a shared space, the mix."""

    lane: str
    value: float

    def apply(self, song: Song) -> Song:
        _frozen(song, self.lane)
        changed = with_lane_value(song, self.lane, self.value)
        owner, _ = split_lane(self.lane, song)
        if owner.scope == "layer":
            check_filters(changed.layer_by_id[owner.layer_id])
        return changed

    def summary(self, song: Song) -> str:
        return f"{lane_label(song, self.lane)} {lane_parameter(song, self.lane).said(self.value)}"


@edit("add_effect", "layers mix")
class AddEffect:
    """Put an effect at the end of a chain: of a layer, a family's bus or the mix."""

    owner: str
    effect: str
    section_id: int = 0  # works in this section only; 0 is everywhere

    def apply(self, song: Song) -> Song:
        owner = read_owner(self.owner, song)
        kind = EFFECT_BY_KEY[one_of(self.effect, list(EFFECT_BY_KEY), "effect")]
        if owner.scope not in kind.where:
            raise EditError(f"{kind.label} works on {' and '.join(kind.where)} only. Put it there.")
        if owner.scope == "layer":
            not_printed(layer_of(song, owner.layer_id))
        chain = devices_of(song, owner)
        if len(chain) >= MAX_CHAIN:
            raise EditError(f"The chain has {MAX_CHAIN} effects, and no more fit. Take one out first.")
        here = bool(self.section_id) and owner.scope == "layer"
        device = Device(song.next_id, kind.key, useful_settings(song, owner, kind), on=not here)
        song = replace(with_devices(song, owner, (*chain, device)), next_id=song.next_id + 1)
        if not here:
            return song
        section = section_of(song, self.section_id)
        treated = (*section.treatments, Treatment(owner.layer_id, f"fx.{device.id}.{ON.key}", 1.0))
        return song.with_section(replace(section, treatments=treated))

    def summary(self, song: Song) -> str:
        return f"{owner_name(song, read_owner(self.owner, song))}: {EFFECT_BY_KEY[self.effect].label.lower()} added"


def useful_settings(song: Song, owner: Owner, kind: EffectKind) -> Settings:
    """What an effect begins with where its plain values would do little: a compressor bites, and is as loud as before."""
    wanted: dict[str, float] = {}
    if kind.key == "compressor" and owner.scope == "layer":
        drum = layer_of(song, owner.layer_id).sound.is_drum
        wanted = {"match": 1.0} | (
            {"threshold_db": -30.0, "ratio": 4.0, "attack_ms": 1.0, "release_ms": 20.0, "listens": 1.0}
            if drum
            else {"threshold_db": -26.0}
        )
    found: Settings = ()
    for key, value in wanted.items():
        found = with_setting(found, kind.parameter_by_key[key], value)
    return found


def _device(song: Song, owner_text: str, device_id: int) -> tuple[tuple[Device, ...], Device]:
    owner = read_owner(owner_text, song)
    if owner.scope == "layer":
        not_printed(layer_of(song, owner.layer_id))
    chain = devices_of(song, owner)
    device = next((d for d in chain if d.id == device_id), None)
    if device is None:
        raise EditError("That effect is not in the chain any more. Load the page again.")
    return chain, device


@edit("remove_effect", "layers mix shaping options")
class RemoveEffect:
    """Take an effect out of its chain, its curves with it."""

    owner: str
    effect_id: int

    def apply(self, song: Song) -> Song:
        chain, device = _device(song, self.owner, self.effect_id)
        kept = tuple(d for d in chain if d.id != device.id)
        return tidied(with_devices(song, read_owner(self.owner, song), kept))

    def summary(self, song: Song) -> str:
        return (
            f"{owner_name(song, read_owner(self.owner, song))}: "
            f"{_device(song, self.owner, self.effect_id)[1].kind.label.lower()} taken out"
        )


@edit("move_effect", "layers")
class MoveEffect:
    """Move an effect earlier (negative) or later in its chain."""

    owner: str
    effect_id: int
    by: int

    def apply(self, song: Song) -> Song:
        chain, device = _device(song, self.owner, self.effect_id)
        index = chain.index(device) + self.by
        if not 0 <= index < len(chain):
            raise EditError(
                f"{device.kind.label} is already at the {'start' if self.by < 0 else 'end'} of the "
                f"chain. It stays there."
            )
        rest = [d for d in chain if d.id != device.id]
        return with_devices(song, read_owner(self.owner, song), (*rest[:index], device, *rest[index:]))

    def summary(self, song: Song) -> str:
        label = _device(song, self.owner, self.effect_id)[1].kind.label
        return f"{label} moved {'earlier' if self.by < 0 else 'later'} in the chain"


@edit("switch_effect", "layers")
class SwitchEffect:
    """Let an effect rest, or work again."""

    owner: str
    effect_id: int
    on: bool

    def apply(self, song: Song) -> Song:
        chain, device = _device(song, self.owner, self.effect_id)
        new = replace(device, on=self.on)
        return with_devices(song, read_owner(self.owner, song), tuple(new if d.id == device.id else d for d in chain))

    def summary(self, song: Song) -> str:
        return f"{_device(song, self.owner, self.effect_id)[1].kind.label} {'on' if self.on else 'off'}"


@edit("set_duck_by", "layers")
class SetDuckBy:
    """Say what ducks a layer: 0 every kick, −1 every beat, or another layer."""

    layer_id: int
    by: int

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        if self.by == layer.id:
            raise EditError(f"{layer.name} cannot be ducked by itself. Choose another layer.")
        if self.by not in (0, EVERY_BEAT):
            layer_of(song, self.by)
        return song.with_layer(replace(layer, duck_by=self.by))

    def summary(self, song: Song) -> str:
        who = {0: "the kick", EVERY_BEAT: "every beat"}.get(self.by) or layer_of(song, self.by).name
        return f"{layer_of(song, self.layer_id).name} ducked by {who}"


@edit("set_recipe", "layers")
class SetRecipe:
    """Write down how a layer's sound was made."""

    layer_id: int
    text: str = ""

    def apply(self, song: Song) -> Song:
        if len(self.text) > MAX_RECIPE:
            raise EditError(f"The note has {len(self.text):,} characters; at most {MAX_RECIPE:,} fit. Shorten it.")
        return song.with_layer(replace(layer_of(song, self.layer_id), recipe=self.text.replace("\r\n", "\n").strip()))

    def summary(self, song: Song) -> str:
        return f"Note on how {layer_of(song, self.layer_id).name} was made"


@edit("add_stack", "layers")
class AddStack:
    """Stack a further sound on a layer: the same notes play it too."""

    layer_id: int
    sound: str

    def apply(self, song: Song) -> Song:
        layer, sound = layer_of(song, self.layer_id), sound_of(self.sound)
        not_printed(layer)
        if layer.sound.mono or sound.mono:
            raise EditError(
                "A gliding sound is one voice and cannot be stacked. Add a second layer with the same line."
            )
        if sound.is_drum != layer.sound.is_drum:
            raise EditError(
                f"{sound.label} and {layer.sound.label} do not stack: one is played by hits, the other by pitches."
            )
        if len(layer.stack) >= MAX_STACK:
            raise EditError(f"{layer.name} has {MAX_STACK} stacked sounds, and no more fit. Take one out first.")
        part = StackPart(song.next_id, sound.key)
        return replace(song.with_layer(replace(layer, stack=(*layer.stack, part))), next_id=song.next_id + 1)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: {BY_KEY[self.sound].label.lower()} stacked on it"


def _part(song: Song, layer_id: int, part_id: int) -> tuple[Layer, StackPart]:
    layer = layer_of(song, layer_id)
    not_printed(layer)
    part = next((p for p in layer.stack if p.id == part_id), None)
    if part is None:
        raise EditError(f"That sound is not stacked on {layer.name} any more. Load the page again.")
    return layer, part


@edit("set_stack", "layers")
class SetStack:
    """Set a stacked sound's level, offset, polarity and place."""

    layer_id: int
    part_id: int
    level_db: float = 0.0
    offset_ms: float = 0.0
    inverted: bool = False
    pan: float = 0.0
    reason: str | None = None

    def apply(self, song: Song) -> Song:
        layer, part = _part(song, self.layer_id, self.part_id)
        reason = part.reason if self.reason is None else self.reason.strip()[:MAX_NAME]
        new = replace(
            part,
            reason=reason,
            level_db=within(self.level_db, -40, 12, "A level of", "dB"),
            inverted=self.inverted,
            offset_ms=within(self.offset_ms, 0, 100, "An offset of", "ms"),
            pan=within(self.pan, -1, 1, "A place of"),
        )
        return song.with_layer(replace(layer, stack=tuple(new if p.id == part.id else p for p in layer.stack)))

    def summary(self, song: Song) -> str:
        layer, part = _part(song, self.layer_id, self.part_id)
        return f"{layer.name}: stacked {BY_KEY[part.sound_key].label.lower()} set"


@edit("wide_pair", "layers")
class WidePair:
    """Stack one sound twice, left and right, a few milliseconds apart, so that it is wide and its middle stays free."""

    layer_id: int
    sound: str
    apart_ms: float = 11.0

    def apply(self, song: Song) -> Song:
        within(self.apart_ms, 1, 40, "A distance of", "ms")
        for pan, offset in ((-0.85, 0.0), (0.85, self.apart_ms)):
            song = AddStack(self.layer_id, self.sound).apply(song)
            part = layer_of(song, self.layer_id).stack[-1]
            song = SetStack(self.layer_id, part.id, -6.0, offset, False, pan, "wide pair").apply(song)
        return song

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: {sound_of(self.sound).label.lower()} left and right"


@edit("set_stack_value", "layers")
class SetStackValue:
    """Set one parameter of a stacked sound."""

    layer_id: int
    part_id: int
    parameter: str
    value: float

    def apply(self, song: Song) -> Song:
        layer, part = _part(song, self.layer_id, self.part_id)
        known = BY_KEY[part.sound_key].parameter_by_key
        parameter = known[one_of(self.parameter, list(known), "parameter of that sound")]
        new = replace(part, settings=with_setting(part.settings, parameter, self.value))
        return song.with_layer(replace(layer, stack=tuple(new if p.id == part.id else p for p in layer.stack)))

    def summary(self, song: Song) -> str:
        layer, part = _part(song, self.layer_id, self.part_id)
        return f"{layer.name}: stacked {BY_KEY[part.sound_key].label.lower()} changed"


@edit("remove_stack", "layers")
class RemoveStack:
    """Take a stacked sound off a layer."""

    layer_id: int
    part_id: int

    def apply(self, song: Song) -> Song:
        layer, part = _part(song, self.layer_id, self.part_id)
        return song.with_layer(replace(layer, stack=tuple(p for p in layer.stack if p.id != part.id)))

    def summary(self, song: Song) -> str:
        layer, part = _part(song, self.layer_id, self.part_id)
        return f"{layer.name}: {BY_KEY[part.sound_key].label.lower()} taken off"
