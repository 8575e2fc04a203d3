"""Edits of lines: made, transformed, doubled on another layer."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.bodies import each_body
from escalera.core.document.limits import MAX_NOTES, MIN_LEVEL_DB
from escalera.core.document.names import clean_name
from escalera.core.document.song import Ids, Layer, Placement, Section, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of
from escalera.core.edits.layer_edits import AddLayer, as_copy
from escalera.core.edits.note_edits import chosen_notes, line_of, pitched
from escalera.core.lines.makers import MAKERS, make_line
from escalera.core.lines.transformations import TRANSFORMATIONS, transform
from escalera.core.reading.phrase_frames import phrase_frame
from escalera.core.reading.phrase_notes import Row, put_rows
from escalera.core.reading.placements import add_pattern, cleared, joined, span_ticks
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import Pattern
from escalera.errors import EditError


def _inside(song: Song, section: Section, layer: Layer, phrase: int) -> tuple[int, int, list[Placement]]:
    low, high = span_ticks(song, section, phrase, None, None)
    mine = [p for p in section.placements if p.layer_id == layer.id and p.start_ticks < high and p.end_ticks > low]
    return low, high, mine


def _put(song: Song, section_id: int, layer: Layer, name: str, line: Pattern, low: int, high: int) -> Song:
    """A line on a span of a layer, its cycles counted from the span's start."""
    if song.note_count + len(line) > MAX_NOTES:
        raise EditError(
            f"The song would have {song.note_count + len(line):,} notes; at most {MAX_NOTES:,} "
            f"fit. Take a shorter line."
        )
    song, pattern_id = add_pattern(song, clean_name(name), layer.family, line)
    if not layer.pattern_id:
        song = song.with_layer(replace(song.layer_by_id[layer.id], pattern_id=pattern_id))
    section, ids = song.section_by_id[section_id], Ids(song.next_id)
    rest = cleared(section.placements, layer.id, low, high, ids)
    placed = Placement(ids(), layer.id, pattern_id, low, high, low % line.length_ticks)
    return replace(song.with_section(replace(section, placements=joined([*rest, placed]))), next_id=ids.next_id)


@edit("make_line", "notes placements")
class MakeLine:
    """Write a line for a layer in a phrase by a maker, from the chords there, the kick, or another layer's line."""

    section_id: int
    layer_id: int
    phrase: int
    maker: str
    options: dict[str, Any] | None = None
    other_id: int | None = None

    def apply(self, song: Song) -> Song:
        section, layer = section_of(song, self.section_id), pitched(song, self.layer_id)
        low, high = span_ticks(song, section, self.phrase, None, None)
        other = None if self.other_id is None else layer_of(song, self.other_id)
        frame = phrase_frame(song, timeline(song).span_of(section.id), self.phrase, other)
        made = make_line(frame, one_of(self.maker, list(MAKERS), "maker"), self.options or {})
        return _put(song, section.id, layer, MAKERS[self.maker].label, made, low, high)

    def summary(self, song: Song) -> str:
        return (
            f"{layer_of(song, self.layer_id).name} in {section_of(song, self.section_id).name}, "
            f"phrase {self.phrase + 1}: {MAKERS[self.maker].label.lower()}"
        )


@edit("transform_line", "notes placements")
class TransformLine:
    """Transform what a layer plays in a phrase; other places that play the same stay as they are."""

    section_id: int
    layer_id: int
    phrase: int
    transformation: str
    notes: list[Any] | None = None  # [tick, pitch] of the chosen ones

    def apply(self, song: Song) -> Song:
        section, layer = section_of(song, self.section_id), pitched(song, self.layer_id)
        one_of(self.transformation, list(TRANSFORMATIONS), "transformation")
        low, high, mine = _inside(song, section, layer, self.phrase)
        if not mine:
            raise EditError(
                f"{layer.name} is silent in this phrase, so there is nothing to change. Place or make a line first."
            )
        if self.notes:
            return self._of_chosen(song)
        for placement in mine:
            entry = song.pattern_by_id[placement.pattern_id]
            after = transform(entry.pattern, self.transformation)
            start, end = max(low, placement.start_ticks), min(high, placement.end_ticks)
            name = f"{entry.name}, {TRANSFORMATIONS[self.transformation].label.lower()}"[-78:]
            song = _put(song, section.id, layer, name, after, start, end)
        return song

    def _of_chosen(self, song: Song) -> Song:
        """Only the chosen notes, written out in this phrase."""
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        chosen = chosen_notes(line, self.notes)
        rest = [n.row for n in line.notes if n not in chosen]
        after = transform(Pattern(line.length, [n.row for n in chosen]), self.transformation)
        rows: list[Row] = [(r[0], r[1], r[2], r[3], r[4], r[5]) for r in after.to_list() if r[0] < line.length]
        return put_rows(song, span, self.phrase, layer, [*rest, *rows], line.names[0])

    def summary(self, song: Song) -> str:
        where = (
            f"{layer_of(song, self.layer_id).name} in {section_of(song, self.section_id).name}, "
            f"phrase {self.phrase + 1}"
        )
        return f"{where}: {TRANSFORMATIONS[self.transformation].label.lower()}"


@edit("double_line", "layers placements options")
class DoubleLine:
    """Give a layer's line to a new layer with another sound, octave or side, wherever it plays or in one section only."""

    layer_id: int
    sound: str
    octave: int = 0
    pan: float = 0.0
    section_id: int = 0  # 0 is wherever it plays, parked bodies among them
    softer_db: float = 0.0  # by how much the copy is softer than the line

    def apply(self, song: Song) -> Song:
        layer = pitched(song, self.layer_id)
        before = {x.id for x in song.layers}
        song = AddLayer(self.sound, f"{layer.name}, doubled").apply(song)
        made = next(x for x in song.layers if x.id not in before)
        if made.sound.is_drum:
            raise EditError(f"{made.sound.label} is a drum and plays no line. Choose a sound with a pitch.")
        octave, pan = max(-3, min(3, layer.octave + self.octave)), max(-1.0, min(1.0, self.pan))
        made = replace(as_copy(layer, made), octave=octave, pan=pan, pattern_id=layer.pattern_id)
        if self.softer_db and made.sound_key == layer.sound_key:
            made = replace(made, level_db=max(MIN_LEVEL_DB, layer.level_db - self.softer_db))
        song, ids = song.with_layer(made), Ids(song.next_id)

        def with_copies(body: Section) -> Section:
            copies = [replace(p, id=ids(), layer_id=made.id) for p in body.placements if p.layer_id == layer.id]
            placed = sorted((*body.placements, *copies), key=lambda p: (p.layer_id, p.start_ticks))
            return replace(body, placements=tuple(placed)) if copies else body

        if self.section_id:
            song = song.with_section(with_copies(section_of(song, self.section_id)))
        else:
            song = each_body(song, with_copies)
        return replace(song, next_id=ids.next_id)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} doubled on {self.sound.replace('-', ' ')}"
