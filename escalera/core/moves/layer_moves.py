"""Moves of single layers: in, out, thinner, faster, brighter, darker."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from escalera.core.document.song import Placement, Section, Song
from escalera.core.edits.tile_edits import Lift, ToggleTile
from escalera.core.moves.move import Move, bare, changed, kind, plays, silent
from escalera.core.reading.timeline import timeline

OPEN_HZ, CLOSED_HZ = 12_000.0, 500.0


@kind(
    "bring in", "Bring in a layer", "A layer that is silent here plays in the whole section, as it does nearby.", way=1
)
def bring_in(song: Song, section: Section) -> Iterator[Move]:
    """A layer that is silent in the whole section plays in all of it, as it does nearby."""
    for layer in silent(song, section):
        if len(bare(song, section, layer)) == len(section.phrases):
            edits = tuple(ToggleTile(section.id, layer.id, i) for i in range(len(section.phrases)))
            yield Move(f"bring in:{layer.id}", f"Bring in {layer.name}", edits)


@kind("fill", "In every phrase", "A layer that plays in some phrases plays in all of them.", way=1)
def fill(song: Song, section: Section) -> Iterator[Move]:
    """A layer that plays in some phrases plays in all of them."""
    for layer in song.layers:
        missing = bare(song, section, layer)
        if plays(section, layer) and missing and not layer.sound.rise:
            yield Move(
                f"fill:{layer.id}",
                f"{layer.name} in every phrase",
                tuple(ToggleTile(section.id, layer.id, i) for i in missing),
            )


@kind("lift", "Take a layer out", "A layer falls silent here: less says more, and it can come back.", way=-1)
def lift(song: Song, section: Section) -> Iterator[Move]:
    """A layer falls silent in the section."""
    for layer in song.layers:
        if plays(section, layer):
            yield Move(f"lift:{layer.id}", f"Take out {layer.name}", (Lift(section.id, layer.id),))


@kind("thin", "Thin a drum", "A drum keeps half of its hits, the strongest ones.", way=-1)
def thin(song: Song, section: Section) -> Iterator[Move]:
    """A drum plays half of its hits, the strongest ones."""
    for layer in song.layers:
        if plays(section, layer) and layer.sound.is_drum:
            yield Move(
                f"thin:{layer.id}",
                f"Thin {layer.name} to half",
                changed(section, layer, lambda p: {"keep": p.variation.keep / 2}),
            )


@kind("double", "Twice as fast", "A hat or shaker plays twice as fast: more drive without a new sound.", way=1)
def double(song: Song, section: Section) -> Iterator[Move]:
    """A hat or shaker plays twice as fast."""
    for layer in song.layers:
        if plays(section, layer) and layer.sound.drum in ("closed hat", "shaker"):
            yield Move(
                f"double:{layer.id}",
                f"{layer.name} twice as fast",
                changed(section, layer, lambda p: {"double": True}),
            )


@kind("open", "Open a filter", "A held sound opens over the section and leads on.")
def open_filter(song: Song, section: Section) -> Iterator[Move]:
    """A held sound opens its filter over the section."""
    length = timeline(song).span_of(section.id).length_ticks
    for layer in song.layers:
        if plays(section, layer) and layer.family in ("chords", "atmosphere"):
            edits = changed(section, layer, lambda p: _opening(p, length))
            yield Move(f"open:{layer.id}", f"Open {layer.name} over the section", edits)


def _opening(p: Placement, length_ticks: int) -> dict[str, Any]:
    """The part of one opening over the whole section that a placement plays."""
    span = OPEN_HZ / CLOSED_HZ
    ends = (p.start_ticks / length_ticks, p.end_ticks / length_ticks)
    return {"lowpass_start_hz": CLOSED_HZ * span ** ends[0], "lowpass_end_hz": CLOSED_HZ * span ** ends[1]}


@kind("close", "Dull a sound", "A held sound loses its highs: it steps back without leaving.", way=-1)
def close_filter(song: Song, section: Section) -> Iterator[Move]:
    """A held sound is dulled in the whole section."""
    for layer in song.layers:
        if plays(section, layer) and layer.family in ("chords", "atmosphere"):
            edits = changed(section, layer, lambda p: {"lowpass_start_hz": CLOSED_HZ, "lowpass_end_hz": CLOSED_HZ})
            yield Move(f"close:{layer.id}", f"Dull {layer.name}", edits)
