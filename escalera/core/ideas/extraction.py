"""Cutting an idea out of a song: a small song of its own that sounds as it did there."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.chord_text import between_ticks
from escalera.core.document.names import clean_name
from escalera.core.document.shaping import tidied
from escalera.core.document.song import EnergyScale, Placement, Progression, Section, Song, default_phrases
from escalera.core.document.target import Target
from escalera.core.document.work_state import WorkState
from escalera.core.edits.body_edits import unparked
from escalera.core.edits.edit import layer_of, pattern_of, section_of
from escalera.core.reading.placements import span_ticks
from escalera.core.reading.timeline import section_bar_ticks, section_metres
from escalera.errors import EditError


def cut_section(song: Song, section_id: int, name: str = "") -> Song:
    """One section with all it needs: layers that play in it, their patterns, the chords. Raises EditError when it is bare."""
    section = section_of(song, section_id)
    if not section.placements:
        raise EditError(
            f"{section.name} plays nothing, so there is no idea in it to keep. Choose a section that plays."
        )
    chords = section.progression or song.progression
    alone = replace(unparked(section), progression=chords)
    return _alone(song, alone, name or section.name)


def cut_pattern(song: Song, section_id: int, layer_id: int, phrase: int, name: str = "") -> Song:
    """What a layer plays first in a phrase, over one cycle of its pattern, with the chords that are under it there.

    Raises EditError when the layer is silent in that phrase.
    """
    section, layer = section_of(song, section_id), layer_of(song, layer_id)
    low, high = span_ticks(song, section, phrase, None, None)
    placed = [p for p in section.placements if p.layer_id == layer.id and p.start_ticks < high and p.end_ticks > low]
    if not placed:
        raise EditError(
            f"{layer.name} is silent in this phrase of {section.name}, so there is nothing to "
            f"keep. Choose a tile that sounds."
        )
    first, entry = placed[0], pattern_of(song, placed[0].pattern_id)
    metre = section_metres(section, song.metre)[0]
    bar = -(-entry.pattern.length_ticks // metre.bar_ticks)
    length = bar * metre.bar_ticks
    end = section_bar_ticks(section, song.metre)[-1]
    chords = _chords(section.progression or song.progression, low, min(low + length, end), end)
    alone = Section(
        section.id,
        section.name,
        section.role,
        bar,
        default_phrases(bar),
        Target(section.target.mean, section.target.mean),
        shift_semitones=section.shift_semitones,
        progression=chords,
        placements=(Placement(first.id, layer.id, entry.id, 0, length, 0, first.variation),),
    )
    return _alone(replace(song, metre=metre), alone, name or f"{entry.name} on {layer.name}")


def _chords(progression: Progression | None, low: int, high: int, end: int) -> Progression | None:
    return between_ticks(progression, low, high, end) if progression else None


def _alone(song: Song, section: Section, name: str) -> Song:
    placed = section.placements
    layers, patterns = {p.layer_id for p in placed}, {p.pattern_id for p in placed}
    layers |= {d.layer_id for d in section.devices}  # a build belongs to what stood before it, and is left there
    section = replace(section, build=None)
    kept = tuple(
        replace(x, prints=(), muted=False, aside="", pattern_id=x.pattern_id if x.pattern_id in patterns else 0)
        for x in song.layers
        if x.id in layers
    )
    return tidied(
        replace(
            song,
            title=clean_name(name, "name"),
            sections=(section,),
            layers=kept,
            patterns=tuple(p for p in song.patterns if p.id in patterns),
            grooves=(),
            accepted=(),
            brief=(),
            feedback=(),
            work=WorkState(),
            people=(),
            prompt=(),
            task=None,
            hints=(),
            notes="",
            lead_bars=0,
            tune=(0, 0, 0),
            scale=EnergyScale(),
            progression=section.progression,
        )
    )
