"""Moves of groups of layers as one step, and of what lies parked."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.body_edits import ExchangeBody
from escalera.core.edits.tile_edits import Lift, ToggleTile
from escalera.core.moves.move import Move, bare, kind, playing, silent

Group = Callable[[Song, list[Layer]], list[Layer]]  # what of some layers belongs to it


def _hats(song: Song, layers: list[Layer]) -> list[Layer]:
    return [x for x in layers if x.sound.drum in ("closed hat", "open hat")]


def _small_percussion(song: Song, layers: list[Layer]) -> list[Layer]:
    kit = ("kick", "snare", "clap", "closed hat", "open hat", "crash", "ride")
    return [x for x in layers if x.sound.is_drum and x.sound.drum not in kit]


def _second_voices(song: Song, layers: list[Layer]) -> list[Layer]:
    """All voices but the first one."""
    first = next((x for x in song.layers if x.family == "voices" and not x.muted), None)
    return [x for x in layers if x.family == "voices" and x is not first]


def _copies(song: Song, layers: list[Layer]) -> list[Layer]:
    """Layers that play what a layer above them plays: doubles of a line."""
    played: dict[int, set[int]] = {x.id: set() for x in song.layers}
    for section in song.sections:
        for p in section.placements:
            played[p.layer_id].add(p.pattern_id)
    above: set[int] = set()
    found = set()
    for layer in song.layers:
        if played[layer.id] and played[layer.id] <= above and not layer.sound.is_drum:
            found.add(layer.id)
        above |= played[layer.id]
    return [x for x in layers if x.id in found]


GROUPS: dict[str, tuple[str, Group]] = {
    "hats": ("the hats", _hats),
    "percussion": ("the small percussion", _small_percussion),
    "second voices": ("the second voices", _second_voices),
    "copies": ("the copies of lines", _copies),
}


@kind("group out", "Take a group out", "Layers that belong together leave together.", way=-1)
def group_out(song: Song, section: Section) -> Iterator[Move]:
    for key, (said, group) in GROUPS.items():
        found = group(song, playing(song, section))
        if len(found) > 1:
            yield Move(f"group out:{key}", f"Take out {said}", tuple(Lift(section.id, x.id) for x in found))


@kind("group in", "Bring in a group", "Layers that belong together come in together, as they play nearby.", way=1)
def group_in(song: Song, section: Section) -> Iterator[Move]:
    for key, (said, group) in GROUPS.items():
        found = group(song, silent(song, section))
        if len(found) > 1:
            edits = tuple(ToggleTile(section.id, x.id, i) for x in found for i in bare(song, section, x))
            yield Move(f"group in:{key}", f"Bring in {said}", edits)


@kind(
    "take option",
    "Take a parked option",
    "What was kept for this place is there already: it is exchanged for what stands.",
)
def take_option(song: Song, section: Section) -> Iterator[Move]:
    for parked in section.parked:
        if parked.body.bars == section.bars:
            step = ExchangeBody(section.id, parked.id)
            yield Move(f"take option:{parked.id}", f"Take the option “{parked.name}”", (step,))
