"""Edits of what plays where: placing, lifting, varying; and of patterns."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.limits import (
    MAX_FILTER_HZ,
    MAX_LEVEL_DB,
    MAX_NOTES,
    MAX_SHIFT_SEMITONES,
    MIN_FILTER_HZ,
    MIN_LEVEL_DB,
)
from escalera.core.document.names import clean_name
from escalera.core.document.song import Ids, Placement, Section, Song, Variation
from escalera.core.edits.edit import edit, layer_of, pattern_of, section_of, whole_number, within
from escalera.core.reading.placements import add_pattern, cleared, clip, joined, moved, nearest_phrase, span_ticks
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.rhythm.notation import parse_pattern
from escalera.core.rhythm.pattern import pattern_from_list
from escalera.errors import EditError


def _put(
    song: Song, section: Section, layer_id: int, low: int, high: int, placements: list[Placement], ids: Ids
) -> Song:
    """The section with a layer's span replaced by placements."""
    rest = cleared(section.placements, layer_id, low, high, ids)
    changed = replace(section, placements=joined([*rest, *placements]))
    return replace(song.with_section(changed), next_id=ids.next_id)


def _where(song: Song, section_id: int, layer_id: int, phrase: int | None) -> str:
    section = section_of(song, section_id)
    part = "" if phrase is None else f", phrase {phrase + 1}"
    return f"{layer_of(song, layer_id).name} in {section.name}{part}"


@edit("toggle_tile", "placements")
class ToggleTile:
    """Silence a layer in a phrase, or in one bar of it, or fill what is bare with what it plays nearby."""

    section_id: int
    layer_id: int
    phrase: int
    bar: int | None = None  # of the phrase, from 0

    def _span(self, song: Song) -> tuple[int, int]:
        section = section_of(song, self.section_id)
        low, high = span_ticks(song, section, self.phrase, None, None)
        if self.bar is None:
            return low, high
        edges = [t for t in section_bar_ticks(section, song.metre) if low <= t <= high]
        bar = whole_number(self.bar, f"bar of phrase {self.phrase + 1}", 0, len(edges) - 2)
        return edges[bar], edges[bar + 1]

    def _sounds(self, song: Song) -> bool:
        return bool(_inside(section_of(song, self.section_id), self.layer_id, *self._span(song)))

    def apply(self, song: Song) -> Song:
        section, layer, ids = section_of(song, self.section_id), layer_of(song, self.layer_id), Ids(song.next_id)
        low, high = self._span(song)
        phrase = span_ticks(song, section, self.phrase, None, None)
        if self._sounds(song):
            return _put(song, section, layer.id, low, high, [], ids)
        beside = _inside(section, layer.id, *phrase)
        if beside:  # the rest of the phrase plays: its bare bar takes part in what is next to it
            near = min(beside, key=lambda p: min(abs(p.start_ticks - high), abs(p.end_ticks - low)))
            return _put(
                song, section, layer.id, low, high, [replace(near, id=ids(), start_ticks=low, end_ticks=high)], ids
            )
        filling = _filling(song, section, layer.id, self.phrase, *phrase, ids)
        inside = [c for c in (clip(p, low, high) for p in filling) if c]
        return _put(song, section, layer.id, low, high, inside, ids)

    def summary(self, song: Song) -> str:
        where = _where(song, self.section_id, self.layer_id, self.phrase)
        where += "" if self.bar is None else f", bar {self.bar + 1}"
        return f"Lifted {where}" if self._sounds(song) else f"Placed {where}"


def _inside(section: Section, layer_id: int, low: int, high: int) -> list[Placement]:
    """What a layer plays between two ticks of a section."""
    return [p for p in section.placements if p.layer_id == layer_id and p.start_ticks < high and p.end_ticks > low]


def _filling(
    song: Song, section: Section, layer_id: int, phrase: int, low: int, high: int, ids: Ids
) -> list[Placement]:
    layer = layer_of(song, layer_id)
    found = nearest_phrase(song, section, layer, phrase)
    if found:
        copies = [replace(moved(p, low - start, song), id=ids()) for start, p in found]
        return [c for c in (clip(copy, low, high) for copy in copies) if c]
    if layer.pattern_id in song.pattern_by_id:
        return [Placement(ids(), layer_id, layer.pattern_id, low, high)]
    raise EditError(f"{layer.name} has no pattern yet. Choose one under “place a pattern”.")


@edit("place", "placements")
class Place:
    """Let a layer play a pattern on a phrase, a span of ticks or the whole section."""

    section_id: int
    layer_id: int
    pattern_id: int
    phrase: int | None = None
    start_ticks: int | None = None
    end_ticks: int | None = None

    def apply(self, song: Song) -> Song:
        section, layer, ids = section_of(song, self.section_id), layer_of(song, self.layer_id), Ids(song.next_id)
        pattern_of(song, self.pattern_id)
        low, high = span_ticks(song, section, self.phrase, self.start_ticks, self.end_ticks)
        return _put(song, section, layer.id, low, high, [Placement(ids(), layer.id, self.pattern_id, low, high)], ids)

    def summary(self, song: Song) -> str:
        return (
            f"{pattern_of(song, self.pattern_id).name} on {_where(song, self.section_id, self.layer_id, self.phrase)}"
        )


@edit("place_new", "notes placements")
class PlaceNew:
    """Bring a pattern into the song and place it in one step."""

    section_id: int
    layer_id: int
    name: str
    length_ticks: int
    rows: list[Any]
    phrase: int | None = None
    start_ticks: int | None = None
    end_ticks: int | None = None

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        pattern = pattern_from_list(self.length_ticks, self.rows)
        _check_notes(song.note_count + len(pattern))
        song, pattern_id = add_pattern(song, clean_name(self.name), layer.family, pattern)
        if not layer.pattern_id:
            song = song.with_layer(replace(layer, pattern_id=pattern_id))
        return Place(self.section_id, self.layer_id, pattern_id, self.phrase, self.start_ticks, self.end_ticks).apply(
            song
        )

    def summary(self, song: Song) -> str:
        return f"{clean_name(self.name)} on {_where(song, self.section_id, self.layer_id, self.phrase)}"


def _check_notes(count: int) -> None:
    if count > MAX_NOTES:
        raise EditError(
            f"The song would have {count:,} notes; at most {MAX_NOTES:,} fit. Remove patterns that play nowhere."
        )


@edit("lift", "placements")
class Lift:
    """Silence a layer on a phrase, a span of ticks or the whole section."""

    section_id: int
    layer_id: int
    phrase: int | None = None
    start_ticks: int | None = None
    end_ticks: int | None = None

    def apply(self, song: Song) -> Song:
        section, ids = section_of(song, self.section_id), Ids(song.next_id)
        low, high = span_ticks(song, section, self.phrase, self.start_ticks, self.end_ticks)
        return _put(song, section, layer_of(song, self.layer_id).id, low, high, [], ids)

    def summary(self, song: Song) -> str:
        return f"Lifted {_where(song, self.section_id, self.layer_id, self.phrase)}"


@edit("vary", "placements")
class Vary:
    """Change how a layer plays a phrase, a span or a section: thinner, twice as fast, shifted, filtered, faded."""

    section_id: int
    layer_id: int
    phrase: int | None = None
    start_ticks: int | None = None
    end_ticks: int | None = None
    transpose_semitones: int = 0
    keep: float = 1.0
    double: bool = False
    reverse: bool = False
    level_start_db: float = 0.0
    level_end_db: float = 0.0
    lowpass_start_hz: float | None = None
    lowpass_end_hz: float | None = None
    cut: bool = False

    def _variation(self) -> Variation:
        within(self.transpose_semitones, -MAX_SHIFT_SEMITONES, MAX_SHIFT_SEMITONES, "A shift of", "semitones")
        within(self.keep, 0.05, 1.0, "Keeping a share of")
        for level in (self.level_start_db, self.level_end_db):
            within(level, MIN_LEVEL_DB, MAX_LEVEL_DB, "A level of", "dB")
        start = self.lowpass_end_hz if self.lowpass_start_hz is None else self.lowpass_start_hz
        end = start if self.lowpass_end_hz is None else self.lowpass_end_hz
        for cutoff in (start, end):
            if cutoff is not None:
                within(cutoff, MIN_FILTER_HZ, MAX_FILTER_HZ, "A low-pass of", "Hz")
        return Variation(
            self.transpose_semitones,
            self.keep,
            self.double,
            self.reverse,
            self.level_start_db,
            self.level_end_db,
            start,
            end,
            self.cut,
        )

    def apply(self, song: Song) -> Song:
        section, variation, ids = section_of(song, self.section_id), self._variation(), Ids(song.next_id)
        low, high = span_ticks(song, section, self.phrase, self.start_ticks, self.end_ticks)
        inside = [clip(p, low, high) for p in section.placements if p.layer_id == self.layer_id]
        found = [p for p in inside if p]
        if not found:
            where = _where(song, self.section_id, self.layer_id, self.phrase)
            raise EditError(f"{where} is silent, so there is nothing to vary. Place a pattern first.")
        curves = [_share_of_curve(variation, p, low, high) for p in found]
        return _put(
            song,
            section,
            self.layer_id,
            low,
            high,
            [replace(p, id=ids(), variation=v) for p, v in zip(found, curves)],
            ids,
        )

    def summary(self, song: Song) -> str:
        return f"Varied {_where(song, self.section_id, self.layer_id, self.phrase)}"


def _share_of_curve(variation: Variation, placement: Placement, low: int, high: int) -> Variation:
    """The part of a curve over [low, high) that one placement in it plays."""
    whole = replace(placement, start_ticks=low, end_ticks=high, variation=variation)
    part = clip(whole, placement.start_ticks, placement.end_ticks)
    return variation if part is None else part.variation


@edit("set_pattern", "notes")
class SetPattern:
    """Replace the notes of a pattern wherever it plays."""

    pattern_id: int
    length_ticks: int
    rows: list[Any]
    name: str = ""

    def apply(self, song: Song) -> Song:
        entry = pattern_of(song, self.pattern_id)
        pattern = pattern_from_list(self.length_ticks, self.rows)
        _check_notes(song.note_count - len(entry.pattern) + len(pattern))
        changed = replace(entry, pattern=pattern, name=clean_name(self.name) if self.name else entry.name)
        return replace(song, patterns=tuple(changed if p.id == entry.id else p for p in song.patterns))

    def summary(self, song: Song) -> str:
        return f"Notes of {pattern_of(song, self.pattern_id).name} changed"


@edit("set_tiles", "placements")
class SetTiles:
    """Set or lift several tiles as one step; tiles that nothing can fill stay bare."""

    cells: list[Any]  # [section id, layer id, phrase]
    sounding: bool = True

    def apply(self, song: Song) -> Song:
        done = 0
        for cell in self.cells:
            if not isinstance(cell, list) or len(cell) != 3:
                raise EditError("The tiles cannot be read. Load the page again.")
            toggle = ToggleTile(*(whole_number(v) for v in cell))
            if toggle._sounds(song) != self.sounding:
                try:
                    song = toggle.apply(song)
                except EditError:
                    if len(self.cells) == 1:
                        raise
                    continue
                done += 1
        if not done:
            what = "sound" if self.sounding else "are bare"
            raise EditError(f"All of these tiles already {what}, or have no pattern to take. Choose others.")
        return song

    def summary(self, song: Song) -> str:
        count = len(self.cells)
        return f"{count} {'tile' if count == 1 else 'tiles'} {'set' if self.sounding else 'lifted'}"


@edit("copy_tiles", "placements")
class CopyTiles:
    """Let a section play what another one plays, over and over where it is longer."""

    from_id: int
    to_id: int

    def apply(self, song: Song) -> Song:
        source, target = section_of(song, self.from_id), section_of(song, self.to_id)
        if source.id == target.id:
            raise EditError(f"{source.name} already plays what it plays. Choose another section to copy to.")
        if not source.placements:
            raise EditError(f"{source.name} plays nothing, so there is nothing to copy. Choose another section.")
        length, end, ids = (
            section_bar_ticks(source, song.metre)[-1],
            section_bar_ticks(target, song.metre)[-1],
            Ids(song.next_id),
        )
        placed = []
        for start in range(0, end, length):
            for p in source.placements:
                part = clip(moved(p, start, song), 0, end)
                if part:
                    placed.append(replace(part, id=ids()))
        return replace(song.with_section(replace(target, placements=joined(placed))), next_id=ids.next_id)

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.to_id).name} plays as {section_of(song, self.from_id).name}"


@edit("set_pattern_text", "notes")
class SetPatternText:
    """Replace the notes of a pattern by notes written as text, over a length in beats; `layer_id` says whose drum they hit."""

    pattern_id: int
    layer_id: int
    notes: str
    length: float
    name: str = ""

    def _written(self, song: Song) -> SetPattern:
        sound = layer_of(song, self.layer_id).sound
        pattern = parse_pattern(self.notes, self.length, sound.is_drum, sound.drum_note)
        return SetPattern(self.pattern_id, pattern.length_ticks, pattern.to_list(), self.name)

    def apply(self, song: Song) -> Song:
        return self._written(song).apply(song)

    def summary(self, song: Song) -> str:
        return self._written(song).summary(song)
