"""Edits of stand-ins, the layers that the program brought: exchanged for another sound of their job, or kept as one's own."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from escalera.core.bench.mix_places import loudness_at_zero, whole_section
from escalera.core.document.limits import MAX_LEVEL_DB, MIN_LEVEL_DB
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.edit import edit, layer_of, sound_of
from escalera.core.edits.layer_edits import AddLayer, SetSound, free_layer_name
from escalera.core.palette.sounds import BY_KEY, SOUNDS, Sound
from escalera.errors import EditError, shown

NEAR_SEMITONES = 14  # middles of two registers further apart than this are not exchanged


def alternatives_to(layer: Layer) -> list[Sound]:
    """Sounds that could stand in for a layer's, its own among them, in the palette's order: a drum's role, else its family near its register."""
    own = layer.sound
    if layer.clips:
        return []
    if own.is_drum:
        return [s for s in SOUNDS if s.drum == own.drum]
    near = [s for s in SOUNDS if s.family == own.family and s.rise == own.rise and not s.is_drum]
    return [s for s in near if s.hold == own.hold and abs(s.centre - own.centre) <= NEAR_SEMITONES or s.key == own.key]


@edit("add_stand_in", "layers notes placements")
class AddStandIn:
    """Let a sound play in a section in place of a recording that is still looked for, under that name."""

    sound: str
    name: str
    section_id: int
    length_ticks: int
    rows: list[Any]

    def apply(self, song: Song) -> Song:
        known = {x.id for x in song.layers}
        song = AddLayer(
            self.sound, self.name, "", "", self.name, self.length_ticks, self.rows, self.section_id, in_place=True
        ).apply(song)
        made = next(x for x in song.layers if x.id not in known)
        return song.with_layer(replace(made, stand_in=True, reason="until the recording is found"))

    def summary(self, song: Song) -> str:
        return f"{sound_of(self.sound).label} stands in for {shown(self.name)}"


@edit("exchange_sound", "layers")
class ExchangeSound:
    """Let a layer be played by the next sound of its kind, as loud as before; its notes and its place stay."""

    layer_id: int

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        found = alternatives_to(layer)
        if len(found) < 2:
            raise EditError(f"No other sound does what {layer.sound.label} does. Choose one from all sounds.")
        keys = [s.key for s in found]
        sound = BY_KEY[keys[(keys.index(layer.sound_key) + 1) % len(keys)]]
        return _as_loud(SetSound(layer.id, sound.key).apply(song), layer)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: another sound of its kind"


def _as_loud(song: Song, layer: Layer) -> Song:
    """The song with an exchanged layer at the level at which it is as loud as it was, and called by its sound if it was."""
    made = song.layer_by_id[layer.id]
    section = _where(song, layer)
    if section is not None:
        before, after = (loudness_at_zero(song, section, x, whole_section(song, section, x)) for x in (layer, made))
        if before is not None and after is not None:
            level = float(np.clip(layer.level_db + before - after, MIN_LEVEL_DB, MAX_LEVEL_DB))
            made = replace(made, level_db=round(level, 1))
    if layer.name.rstrip(" 0123456789") == layer.sound.label:
        rest = replace(song, layers=tuple(x for x in song.layers if x.id != layer.id))
        made = replace(made, name=free_layer_name(rest, made.sound.label))
    return song.with_layer(made)


def _where(song: Song, layer: Layer) -> Section | None:
    """The section in which a layer plays most."""
    playing = [s for s in song.sections if any(p.layer_id == layer.id for p in s.placements)]
    return max(playing, key=lambda s: sum(p.layer_id == layer.id for p in s.placements), default=None)


@edit("keep_stand_in", "layers")
class KeepStandIn:
    """Take a layer that the program brought as one's own, or mark it as a stand-in again."""

    layer_id: int
    stands_in: bool = False

    def apply(self, song: Song) -> Song:
        return song.with_layer(replace(layer_of(song, self.layer_id), stand_in=self.stands_in))

    def summary(self, song: Song) -> str:
        name = layer_of(song, self.layer_id).name
        return f"{name} is a stand-in" if self.stands_in else f"{name} is no stand-in any more"
