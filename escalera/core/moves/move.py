"""Moves: arrangement operations with a name and an effect that is known before they are made.

A kind of move is a row in KINDS: a function from (song, section) to candidates, with a plain description and the part of the
song it changes. A move is edits, applied as one step.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from escalera.core.document.song import Layer, Placement, Section, Song, Variation
from escalera.core.edits.edit import Edit, section_of
from escalera.core.edits.protection import keep_protected
from escalera.core.edits.tile_edits import Vary
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

HERE, NEIGHBOUR, ELSEWHERE, FORM = "this section", "the section before", "other sections", "the form"


@dataclass(frozen=True)
class Move:
    """Something to do. `key` names it again: its kind, and what it is done to."""

    key: str
    label: str
    edits: tuple[Edit, ...]


Find = Callable[[Song, Section], Iterator[Move]]


@dataclass(frozen=True, slots=True)
class MoveKind:
    """`touches` is the part of the song it may change; `said` tells what it does and why one would."""

    key: str
    label: str
    said: str
    touches: str
    way: int  # 1 where it can only raise the energy, -1 where it can only lower it, 0 where it depends
    room: bool  # makes room between layers: a mend, never advice about energy
    find: Find

    def __call__(self, song: Song, section: Section) -> Iterator[Move]:
        return self.find(song, section)


KINDS: dict[str, MoveKind] = {}


def kind(
    key: str, label: str, said: str, touches: str = HERE, way: int = 0, room: bool = False
) -> Callable[[Find], Find]:
    """Register a function as a kind of move: what it may touch, and whether it raises (1) or lowers (−1) energy or promises
    neither (0); `room` where it mends what lies in the way of something."""

    def register(find: Find) -> Find:
        KINDS[key] = MoveKind(key, label, said, touches, way, room, find)
        return find

    return register


@dataclass(frozen=True)
class MoveStep:
    """A step of a move that has no edit of its own: song in, song out."""

    label: str
    act: Callable[[Song], Song]

    def apply(self, song: Song) -> Song:
        return self.act(song)

    def summary(self, song: Song) -> str:
        return self.label


def apply_move(song: Song, move: Move) -> Song:
    """The song with a move made. Raises EditError when it does not apply, or would change what somebody sent."""
    after = song
    for edit in move.edits:
        after = edit.apply(after)
    return keep_protected(song, after)


def moves_for(song: Song, section: Section, kinds: tuple[str, ...] = ()) -> Iterator[Move]:
    """All candidates for a section, of some kinds or of all."""
    for name, each in KINDS.items():
        if not kinds or name in kinds:
            yield from each(song, section)


def find_move(song: Song, section_id: int, key: str) -> Move:
    """The move of that name as it applies now. Raises EditError with the reason when it does not."""
    section, name = section_of(song, section_id), key.partition(":")[0]
    for move in KINDS[name](song, section) if name in KINDS else ():
        if move.key == key:
            return move
    what = f"“{KINDS[name].label}”" if name in KINDS else "This"
    raise EditError(f"{what} does not apply to {section.name} as it is now. Ask again what would help.")


# what moves ask of a song ------------------------------------------------------------------------------------------------


def span_of(song: Song, section: Section) -> Span:
    """Where a section lies in the song."""
    return timeline(song).span_of(section.id)


def bare(song: Song, section: Section, layer: Layer) -> list[int]:
    """Phrases in which the layer plays nothing."""
    phrases = span_of(song, section).phrase_ticks()
    mine = [p for p in section.placements if p.layer_id == layer.id]
    return [
        i for i, (low, high) in enumerate(phrases) if not any(p.start_ticks < high and p.end_ticks > low for p in mine)
    ]


def plays(section: Section, layer: Layer) -> bool:
    """Whether a layer has places in the section and is not muted."""
    return any(p.layer_id == layer.id for p in section.placements) and not layer.muted


def playing(song: Song, section: Section) -> list[Layer]:
    """Layers heard in a section, in the order of the song."""
    return [x for x in song.layers if plays(section, x)]


def silent(song: Song, section: Section) -> list[Layer]:
    """Layers that could come in: not muted, no risers, with a pattern to take."""
    placed = {p.layer_id for s in song.sections for p in s.placements}
    return [
        x
        for x in song.layers
        if not x.muted and not x.sound.rise and not plays(section, x) and (x.pattern_id or x.id in placed)
    ]


def is_pitched(layer: Layer) -> bool:
    """Whether a layer can be moved to other octaves: no drum, and a register of more than one note."""
    return not layer.sound.is_drum and layer.sound.register[0] < layer.sound.register[1]


def changed(section: Section, layer: Layer, change: Callable[[Placement], dict[str, Any]]) -> tuple[Edit, ...]:
    """Edits that change something of how a layer plays and leave the rest of its variations as they are."""
    mine = [p for p in section.placements if p.layer_id == layer.id]
    return tuple(
        Vary(
            section.id,
            layer.id,
            start_ticks=p.start_ticks,
            end_ticks=p.end_ticks,
            **{**fields_of(p.variation), **change(p)},
        )
        for p in mine
    )


def fields_of(variation: Variation) -> dict[str, Any]:
    """All fields of a variation by name."""
    return {name: getattr(variation, name) for name in Variation.__dataclass_fields__}


def index_of(song: Song, section: Section) -> int:
    """Place of a section in the song, from 0."""
    return song.index_of(section.id)


def before_of(song: Song, section: Section) -> Section | None:
    """The section before, None at the beginning."""
    index = song.index_of(section.id)
    return song.sections[index - 1] if index else None
