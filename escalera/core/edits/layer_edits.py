"""Edits of layers: which there are, their sound, level, place and filters."""

from __future__ import annotations

import hashlib
from dataclasses import replace
from typing import Any

from escalera.core.bench.mix_places import in_its_place
from escalera.core.document.bodies import each_body
from escalera.core.document.fields import names
from escalera.core.document.lanes import CONTROLS
from escalera.core.document.limits import MAX_LAYERS
from escalera.core.document.names import clean_name
from escalera.core.document.shaping import tidied
from escalera.core.document.song import Layer, Placement, Section, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, sound_of
from escalera.core.edits.sound_edits import SetValue, not_printed, with_sound
from escalera.core.palette.sounds import BY_KEY, FAMILIES, JOBS
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.rhythm.pattern import pattern_from_list
from escalera.errors import EditError


def seed_of(name: str, taken: set[int]) -> int:
    """A stable seed from a layer's first name; the next free one when another layer has it."""
    seed = int.from_bytes(hashlib.blake2b(name.encode(), digest_size=3).digest(), "big") or 1
    while seed in taken:
        seed += 1
    return seed


ADDED = "Added layer"  # how the step in the history begins


@edit("add_layer", "layers notes placements")
class AddLayer:
    """Add a layer with a sound; given notes, it has a pattern, and given a section too, it plays there at once."""

    sound: str
    name: str = ""
    family: str = ""
    job: str = ""
    pattern_name: str = ""
    length_ticks: int = 0
    rows: list[Any] | None = None
    section_id: int = 0
    in_place: bool = False  # at its job's level, side and filters in the present mix

    def apply(self, song: Song) -> Song:
        sound = sound_of(self.sound)
        if len(song.layers) >= MAX_LAYERS:
            raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
        family = one_of(self.family or sound.family, FAMILIES, "family")
        job = one_of(self.job or sound.job, JOBS, "job")
        pattern_id = 0
        if self.rows is not None:
            pattern = pattern_from_list(self.length_ticks, self.rows)
            song, pattern_id = add_pattern(song, clean_name(self.pattern_name or sound.label), family, pattern)
        name = free_layer_name(song, clean_name(self.name) if self.name else sound.label)
        layer = Layer(
            song.next_id,
            name,
            sound.key,
            family,
            job,
            seed_of(name, {x.seed for x in song.layers}),
            sound.level_db,
            pattern_id=pattern_id,
        )
        song = replace(song, layers=in_family_order(song.layers, layer), next_id=song.next_id + 1)
        song = self._placed(song, layer) if self.section_id and pattern_id else song
        return self._in_mix(song, layer.id) if self.in_place and song.sections else song

    def _in_mix(self, song: Song, layer_id: int) -> Song:
        fullest = max(song.sections, key=lambda s: len(s.placements))
        section = song.section_by_id.get(self.section_id, fullest)
        ducked = [x.duck_db for x in song.layers if x.family in ("chords", "low end") and x.id != layer_id]
        return song.with_layer(in_its_place(song, section, layer_id, max(ducked, default=0.0)))

    def _placed(self, song: Song, layer: Layer) -> Song:
        section = section_of(song, self.section_id)
        end = section_bar_ticks(section, song.metre)[-1]
        placement = Placement(song.next_id, layer.id, layer.pattern_id, 0, end)
        section = replace(section, placements=ordered([*section.placements, placement]))
        return replace(song.with_section(section), next_id=song.next_id + 1)

    def summary(self, song: Song) -> str:
        return f"{ADDED} {self.name or BY_KEY[self.sound].label}"


def as_copy(layer: Layer, made: Layer) -> Layer:
    """A new layer that takes along what belongs to another one's line; parameters and octave only with the same sound."""
    along = {name: getattr(layer, name) for name in names(Layer, "copied")}
    if made.sound_key != layer.sound_key:  # another sound has parameters and a register of its own
        del along["settings"], along["octave"], along["clips"]
    return replace(made, **along)


def free_layer_name(song: Song, name: str) -> str:
    """The name, with the lowest number from 2 that makes it differ from all layers."""
    taken, number, candidate = {x.name for x in song.layers}, 2, name
    while candidate in taken:
        candidate, number = f"{name} {number}", number + 1
    return candidate


def in_family_order(layers: tuple[Layer, ...], layer: Layer) -> tuple[Layer, ...]:
    """After the last layer of its family, else before the first of a later family."""
    rank = FAMILIES.index(layer.family)
    index = len(layers)
    while index and FAMILIES.index(layers[index - 1].family) > rank:
        index -= 1
    return (*layers[:index], layer, *layers[index:])


@edit("remove_layer", "layers placements shaping options")
class RemoveLayer:
    """Take a layer out with all that it plays; patterns stay in the song's list."""

    layer_id: int

    def apply(self, song: Song) -> Song:
        layer_of(song, self.layer_id)

        def without(section: Section) -> Section:
            return replace(section, placements=tuple(p for p in section.placements if p.layer_id != self.layer_id))

        return tidied(replace(each_body(song, without), layers=tuple(x for x in song.layers if x.id != self.layer_id)))

    def summary(self, song: Song) -> str:
        return f"Removed layer {layer_of(song, self.layer_id).name}"


@edit("rename_layer", "layers")
class RenameLayer:
    """Give a layer another name."""

    layer_id: int
    name: str

    def apply(self, song: Song) -> Song:
        layer, name = layer_of(song, self.layer_id), clean_name(self.name)
        if any(x.name == name and x.id != layer.id for x in song.layers):
            raise EditError(
                f"Another layer is called “{name}”. Take another name, for example “{free_layer_name(song, name)}”."
            )
        return song.with_layer(replace(layer, name=name))

    def summary(self, song: Song) -> str:
        return f"Layer {layer_of(song, self.layer_id).name} is now called {clean_name(self.name)}"


@edit("move_layer", "layers")
class MoveLayer:
    """Move a layer up (negative) or down in the list."""

    layer_id: int
    by: int

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        index = song.layers.index(layer) + self.by
        if not 0 <= index < len(song.layers):
            raise EditError(
                f"{layer.name} is already at the {'top' if self.by < 0 else 'bottom'} of the list. It "
                f"stays where it is."
            )
        rest = [x for x in song.layers if x.id != layer.id]
        return replace(song, layers=(*rest[:index], layer, *rest[index:]))

    def summary(self, song: Song) -> str:
        return f"Moved layer {layer_of(song, self.layer_id).name} {'up' if self.by < 0 else 'down'}"


@edit("set_sound", "layers shaping options")
class SetSound:
    """Let a layer play with another sound; its notes, effects and levels stay."""

    layer_id: int
    sound: str

    def apply(self, song: Song) -> Song:
        layer, sound = layer_of(song, self.layer_id), sound_of(self.sound)
        not_printed(layer)
        if layer.clips:
            raise EditError(
                f"{layer.name} plays a recording. Exchange that from Samples, or add another layer for the sound."
            )
        return with_sound(song, layer, sound.key)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} plays with {BY_KEY[self.sound].label}"


@edit("set_control", "layers")
class SetControl:
    """Set one number of a layer: level, pan, filters, sends, ducking, octave."""

    layer_id: int
    control: str
    value: float

    def apply(self, song: Song) -> Song:
        one_of(self.control, list(CONTROLS), "control")
        return SetValue(f"layer.{layer_of(song, self.layer_id).id}.{self.control}", self.value).apply(song)

    def summary(self, song: Song) -> str:
        return SetValue(f"layer.{self.layer_id}.{self.control}", self.value).summary(song)


@edit("set_muted", "layers")
class SetMuted:
    """Mute a layer in the whole song, or let it sound again."""

    layer_id: int
    muted: bool

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        return song.with_layer(replace(layer, muted=self.muted, aside=layer.aside if self.muted else ""))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} {'muted' if self.muted else 'sounds again'}"


@edit("set_family", "layers")
class SetFamily:
    """Say which family and job a layer has."""

    layer_id: int
    family: str
    job: str = ""

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        family, job = one_of(self.family, FAMILIES, "family"), one_of(self.job or layer.job, JOBS, "job")
        return song.with_layer(replace(layer, family=family, job=job))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: {self.family}"
