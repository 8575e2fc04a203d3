"""What would bring a section nearer to its target: small operations made of edits, with their exact effect.

A kind of move is a function from (song, section) to candidates; the registry KINDS names them. The effect that is
shown is the arranged energy after the edits less the one before, so it is what the stair will show.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from escalera.core.energy.model import section_energy
from escalera.core.song.document import Layer, Placement, Section, Song, Variation
from escalera.core.song.edits.base import Edit, section_of
from escalera.core.song.edits.tiles import Lift, ToggleTile, Vary
from escalera.core.song.timeline import timeline
from escalera.errors import EditError

SMALLEST = 0.1  # points below which a move is not worth a line
CLOSE = 0.3  # points from the target within which a section is where it should be
OPEN_HZ, CLOSED_HZ = 12_000.0, 500.0


@dataclass(frozen=True)
class Move:
    """Something to do to one section. `key` names it again: kind and layer."""

    key: str
    label: str
    edits: tuple[Edit, ...]


@dataclass(frozen=True)
class Suggestion:
    move: Move
    points: float


Kind = Callable[[Song, Section], Iterator[Move]]
KINDS: dict[str, Kind] = {}


def kind(name: str) -> Callable[[Kind], Kind]:
    def register(function: Kind) -> Kind:
        KINDS[name] = function
        return function

    return register


def _bare(song: Song, section: Section, layer: Layer) -> list[int]:
    """Phrases in which the layer plays nothing."""
    phrases = timeline(song).span_of(section.id).phrase_ticks()
    mine = [p for p in section.placements if p.layer_id == layer.id]
    return [
        i for i, (low, high) in enumerate(phrases) if not any(p.start_ticks < high and p.end_ticks > low for p in mine)
    ]


def _plays(section: Section, layer: Layer) -> bool:
    return any(p.layer_id == layer.id for p in section.placements) and not layer.muted


def _changed(section: Section, layer: Layer, change: Callable[[Placement], dict[str, Any]]) -> tuple[Edit, ...]:
    """Edits that change something of how a layer plays and leave the rest of its variations as they are."""
    mine = [p for p in section.placements if p.layer_id == layer.id]
    return tuple(
        Vary(
            section.id,
            layer.id,
            start_ticks=p.start_ticks,
            end_ticks=p.end_ticks,
            **{**_fields(p.variation), **change(p)},
        )
        for p in mine
    )


def _fields(variation: Variation) -> dict[str, Any]:
    return {name: getattr(variation, name) for name in Variation.__dataclass_fields__}


@kind("bring in")
def bring_in(song: Song, section: Section) -> Iterator[Move]:
    """A layer that is silent in the whole section plays in all of it, as it does nearby."""
    for layer in song.layers:
        if not layer.muted and not layer.sound.rise and len(_bare(song, section, layer)) == len(section.phrases):
            edits = tuple(ToggleTile(section.id, layer.id, i) for i in range(len(section.phrases)))
            yield Move(f"bring in:{layer.id}", f"Bring in {layer.name}", edits)


@kind("fill")
def fill(song: Song, section: Section) -> Iterator[Move]:
    """A layer that plays in some phrases plays in all of them."""
    for layer in song.layers:
        bare = _bare(song, section, layer)
        if _plays(section, layer) and bare and not layer.sound.rise:
            yield Move(
                f"fill:{layer.id}",
                f"{layer.name} in every phrase",
                tuple(ToggleTile(section.id, layer.id, i) for i in bare),
            )


@kind("lift")
def lift(song: Song, section: Section) -> Iterator[Move]:
    """A layer falls silent in the section."""
    for layer in song.layers:
        if _plays(section, layer):
            yield Move(f"lift:{layer.id}", f"Take out {layer.name}", (Lift(section.id, layer.id),))


@kind("thin")
def thin(song: Song, section: Section) -> Iterator[Move]:
    """A drum plays half of its hits, the strongest ones."""
    for layer in song.layers:
        if _plays(section, layer) and layer.sound.is_drum:
            yield Move(
                f"thin:{layer.id}",
                f"Thin {layer.name} to half",
                _changed(section, layer, lambda p: {"keep": p.variation.keep / 2}),
            )


@kind("double")
def double(song: Song, section: Section) -> Iterator[Move]:
    """A hat or shaker plays twice as fast."""
    for layer in song.layers:
        if _plays(section, layer) and layer.sound.drum in ("closed hat", "shaker"):
            yield Move(
                f"double:{layer.id}",
                f"{layer.name} twice as fast",
                _changed(section, layer, lambda p: {"double": True}),
            )


@kind("open")
def open_filter(song: Song, section: Section) -> Iterator[Move]:
    """A held sound opens its filter over the section."""
    length = timeline(song).span_of(section.id).length_ticks
    for layer in song.layers:
        if _plays(section, layer) and layer.family in ("chords", "atmosphere"):
            edits = _changed(section, layer, lambda p: _opening(p, length))
            yield Move(f"open:{layer.id}", f"Open {layer.name} over the section", edits)


def _opening(p: Placement, length_ticks: int) -> dict[str, Any]:
    """The part of one opening over the whole section that a placement plays."""
    span = OPEN_HZ / CLOSED_HZ
    ends = (p.start_ticks / length_ticks, p.end_ticks / length_ticks)
    return {"lowpass_start_hz": CLOSED_HZ * span ** ends[0], "lowpass_end_hz": CLOSED_HZ * span ** ends[1]}


@kind("close")
def close_filter(song: Song, section: Section) -> Iterator[Move]:
    """A held sound is dulled in the whole section."""
    for layer in song.layers:
        if _plays(section, layer) and layer.family in ("chords", "atmosphere"):
            edits = _changed(section, layer, lambda p: {"lowpass_start_hz": CLOSED_HZ, "lowpass_end_hz": CLOSED_HZ})
            yield Move(f"close:{layer.id}", f"Dull {layer.name}", edits)


def find_move(song: Song, section_id: int, key: str) -> Move:
    """The move of that name as it applies now. Raises EditError when it does not."""
    section, name = section_of(song, section_id), key.partition(":")[0]
    for move in KINDS[name](song, section) if name in KINDS else ():
        if move.key == key:
            return move
    raise EditError("This does not apply to the section any more. Ask again what would help.")


def apply_move(song: Song, move: Move) -> Song:
    for edit in move.edits:
        song = edit.apply(song)
    return song


def suggest(song: Song, section_id: int, count: int = 3) -> list[Suggestion]:
    """The moves that bring the section nearest to its target, best first; none when it is there already."""
    section = section_of(song, section_id)
    value = section_energy(song, timeline(song).span_of(section_id)).value
    wanted = section.target.mean
    if abs(wanted - value) < CLOSE:
        return []
    found = []
    for each in KINDS.values():
        for move in each(song, section):
            try:
                after = apply_move(song, move)
            except EditError:
                continue
            points = section_energy(after, timeline(after).span_of(section_id)).value - value
            gained = abs(wanted - value) - abs(wanted - value - points)
            if gained > SMALLEST:
                found.append((gained, Suggestion(move, points)))
    found.sort(key=lambda row: -row[0])
    return [suggestion for _, suggestion in found[:count]]
