"""Edits of groups: several layers that are one part (a stack of body, width and top; all harmonies; a kit)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from escalera.core.bench.mix_places import PLACES, loudness_at_zero, whole_section
from escalera.core.bench.seats import seats
from escalera.core.document.devices import Treatment
from escalera.core.document.limits import MAX_LEVEL_DB, MAX_NAME, MIN_LEVEL_DB
from escalera.core.document.names import clean_name
from escalera.core.document.song import Layer, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, within
from escalera.core.edits.tile_edits import Lift, SetTiles
from escalera.core.reading.placements import span_ticks
from escalera.errors import EditError, shown

MOVED = {"level_db": ("Level", -24.0, 24.0, "dB"), "pan": ("Place", -2.0, 2.0, "")}


def members(song: Song, group: str) -> list[Layer]:
    """The layers of a group, in the song's order. EditError where there is none of that name."""
    found = [x for x in song.layers if x.group == group and group]
    if not found:
        raise EditError(f"There is no group called “{shown(group)}”. Choose one from the wall.")
    return found


def _each(song: Song, group: str, change: Callable[[Layer], Layer]) -> Song:
    for layer in members(song, group):
        song = song.with_layer(change(song.layer_by_id[layer.id]))
    return song


@edit("group_layers", "layers")
class GroupLayers:
    """Let several layers be one part under a name; an empty name takes them out of their groups."""

    layer_ids: list[int]
    name: str = ""

    def apply(self, song: Song) -> Song:
        layers = [layer_of(song, x) for x in dict.fromkeys(self.layer_ids)]
        name = clean_name(self.name, "name", MAX_NAME) if self.name.strip() else ""
        if name and len(layers) < 2 and not any(x.group == name for x in song.layers):
            raise EditError("A group has two layers or more. Choose another one as well.")
        for layer in layers:
            song = song.with_layer(replace(layer, group=name))
        counts = [x.group for x in song.layers]
        left = tuple(replace(x, group="") if x.group and counts.count(x.group) < 2 else x for x in song.layers)
        return replace(song, layers=left)

    def summary(self, song: Song) -> str:
        names = ", ".join(layer_of(song, x).name for x in self.layer_ids[:4])
        return f"Group {self.name.strip()}: {names}" if self.name.strip() else f"{names}: in no group"


@edit("move_group", "layers")
class MoveGroup:
    """Raise, lower or pan all layers of a group by as much, so that their balance stays."""

    group: str
    control: str
    by: float

    def apply(self, song: Song) -> Song:
        label, low, high, unit = MOVED[one_of(self.control, list(MOVED), "control")]
        by = within(self.by, low, high, f"{label} by", unit)
        if self.control == "pan":
            return _each(song, self.group, lambda x: replace(x, pan=max(-1.0, min(1.0, round(x.pan + by, 3)))))
        return _each(
            song,
            self.group,
            lambda x: replace(x, level_db=max(MIN_LEVEL_DB, min(MAX_LEVEL_DB, round(x.level_db + by, 2)))),
        )

    def summary(self, song: Song) -> str:
        return f"{self.group}: {MOVED[self.control][0].lower()} {self.by:+g}"


@edit("mute_group", "layers")
class MuteGroup:
    """Mute all layers of a group, or let them sound again."""

    group: str
    muted: bool = True

    def apply(self, song: Song) -> Song:
        return _each(song, self.group, lambda x: replace(x, muted=self.muted))

    def summary(self, song: Song) -> str:
        return f"{self.group} {'muted' if self.muted else 'sounds again'}"


@edit("treat_group", "shaping")
class TreatGroup:
    """Let a group be louder or softer in one section only."""

    group: str
    section_id: int
    by_db: float

    def apply(self, song: Song) -> Song:
        by = within(self.by_db, -24.0, 24.0, "A level of", "dB")
        section = section_of(song, self.section_id)
        ids = {x.id for x in members(song, self.group)}
        rest = tuple(t for t in section.treatments if not (t.layer_id in ids and t.lane == "level_db"))
        levels = (
            Treatment(x.id, "level_db", max(MIN_LEVEL_DB, min(MAX_LEVEL_DB, round(x.level_db + by, 2))))
            for x in members(song, self.group)
        )
        return song.with_section(replace(section, treatments=(*rest, *(levels if by else ()))))

    def summary(self, song: Song) -> str:
        return f"{self.group} in {section_of(song, self.section_id).name}: {self.by_db:+g} dB"


@edit("toggle_group", "placements")
class ToggleGroup:
    """Fill a phrase with all layers of a group, or clear it of all of them where any plays."""

    group: str
    section_id: int
    phrase: int

    def apply(self, song: Song) -> Song:
        section, found = section_of(song, self.section_id), members(song, self.group)
        low, high = span_ticks(song, section, self.phrase, None, None)
        ids = {x.id for x in found}
        playing = {
            p.layer_id for p in section.placements if p.layer_id in ids and p.start_ticks < high and p.end_ticks > low
        }
        if playing:
            for layer_id in sorted(playing):
                song = Lift(section.id, layer_id, self.phrase).apply(song)
            return song
        return SetTiles([[section.id, x.id, self.phrase] for x in found]).apply(song)

    def summary(self, song: Song) -> str:
        return f"{self.group} in {section_of(song, self.section_id).name}, phrase {self.phrase + 1}"


@edit("balance_group", "layers")
class BalanceGroup:
    """Balance a group's layers among each other by their jobs; the loudest keeps its level."""

    group: str

    def apply(self, song: Song) -> Song:
        found = members(song, self.group)
        parts = {s.layer.id: s.part for s in seats(song)}
        fullest = max(song.sections, key=lambda s: sum(p.layer_id in {x.id for x in found} for p in s.placements))
        wanted: dict[int, float] = {}
        for layer in found:
            own = loudness_at_zero(song, fullest, layer, whole_section(song, fullest, layer))
            if own is not None and layer.id in parts:
                wanted[layer.id] = PLACES[parts[layer.id]].level_db - own
        if len(wanted) < 2:
            raise EditError(f"{self.group} has fewer than two layers that sound, so there is nothing to balance.")
        loudest = max(wanted, key=lambda x: PLACES[parts[x]].level_db)
        offset = song.layer_by_id[loudest].level_db - wanted[loudest]
        for layer_id, level in wanted.items():
            level = float(np.clip(level + offset, MIN_LEVEL_DB, MAX_LEVEL_DB))
            song = song.with_layer(replace(song.layer_by_id[layer_id], level_db=round(level, 1)))
        return song

    def summary(self, song: Song) -> str:
        return f"{self.group} balanced by what each does"
