"""The notes of a layer in a phrase as they are written: what the note ladder shows and what its edits change."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

import numpy as np

from escalera.core.document.limits import MAX_NOTES
from escalera.core.document.names import clean_name
from escalera.core.document.song import Ids, Layer, Placement, Section, Song, Variation
from escalera.core.lines.note_encoding import WritingContext, Written, encode, how_written
from escalera.core.reading.events import pitches_of, player_of, unroll_from, varied
from escalera.core.reading.placements import add_pattern, cleared, clip, joined
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, section_bar_ticks
from escalera.core.rhythm.pattern import VOICE, Pattern
from escalera.core.theory.keys import Key
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

PLAIN = Variation()
Row = tuple[int, int, int, int, int, int]


@dataclass(frozen=True, slots=True)
class Note:
    """A note in ticks of its phrase: start (below 0 for a pickup), duration, sounding pitch, velocity.

    `kind`, `value`, `octave` are as written; `index` is its row in the pattern, `cycle` where that cycle starts.
    """

    tick: int
    duration: int
    pitch: int
    velocity: int
    kind: int
    value: int
    octave: int
    index: int
    cycle: int

    @property
    def end(self) -> int:
        return self.tick + self.duration

    @property
    def row(self) -> Row:
        return self.tick, self.duration, self.kind, self.value, self.octave, self.velocity


@dataclass(frozen=True, slots=True)
class PhraseNotes:
    """What a layer plays in a phrase [low, high) of section ticks.

    `pattern_id` names the pattern when one alone plays the whole phrase as it is written, so that it can be changed
    wherever it plays; else 0. Swing is left out: notes stand where they are written.
    """

    low: int
    high: int
    notes: tuple[Note, ...]
    placements: tuple[Placement, ...]
    pattern_id: int = 0
    names: tuple[str, ...] = ()

    @property
    def length(self) -> int:
        return self.high - self.low

    def at(self, tick: int, pitch: int) -> Note | None:
        return next((n for n in self.notes if n.tick == tick and n.pitch == pitch), None)


def line_in(song: Song, span: Span, phrase: int, layer: Layer) -> PhraseNotes:
    """The written line of a layer in a phrase."""
    key = ("line", span.section.id, phrase, layer.id)
    if key not in song.memo:
        song.memo[key] = _line_in(song, span, phrase, layer)
    return song.memo[key]


def _line_in(song: Song, span: Span, phrase: int, layer: Layer) -> PhraseNotes:
    low, high = span.phrase_ticks()[phrase]
    mine = [p for p in span.section.placements if p.layer_id == layer.id]
    inside = tuple(q for q in (clip(p, low, high) for p in mine) if q)
    notes: list[Note] = []
    for placement in inside:
        pattern = song.pattern_by_id[placement.pattern_id].pattern
        found = _notes(song, span, layer, placement, varied(pattern, placement.variation), low)
        if placement.variation.transpose_semitones and not layer.sound.is_drum:
            found = [_rewritten(n, encoder(song, span, phrase, layer)) for n in found]
        notes += found
    shared = len(inside) == 1 and (inside[0].start_ticks, inside[0].end_ticks) == (low, high)
    shared = shared and not _bends(inside[0].variation)
    names = tuple(dict.fromkeys(song.pattern_by_id[p.pattern_id].name for p in inside))
    return PhraseNotes(
        low,
        high,
        tuple(sorted(notes, key=lambda n: (n.tick, n.pitch))),
        inside,
        inside[0].pattern_id if shared else 0,
        names,
    )


def _notes(song: Song, span: Span, layer: Layer, placement: Placement, pattern: Pattern, low: int) -> list[Note]:
    rows, source = unroll_from(pattern, placement)
    if layer.voicing.voices:
        kept = (rows[:, 2] != VOICE) | (rows[:, 3] < layer.voicing.voices)
        rows, source = rows[kept], source[kept]
    if not len(rows):
        return []
    pitch = pitches_of(rows, section_harmony(song, span), player_of(layer), span.section.shift_semitones)
    pitch = pitch + (0 if layer.sound.is_drum else placement.variation.transpose_semitones)
    columns = np.column_stack((rows[:, 0] - low, rows[:, 1], pitch, rows[:, 5], rows[:, 2:5], source))
    return [Note(*row) for row in columns.tolist()]


def _rewritten(note: Note, write: Callable[[int, int, str], Written]) -> Note:
    """A note that a placement transposes, written at the pitch where it sounds."""
    kind, value, octave = write(note.tick, note.pitch, how_written(note.kind))
    return replace(note, kind=kind, value=value, octave=octave)


def _bends(variation: Variation) -> bool:
    """Whether a placement changes which notes are played, not only how loud or bright."""
    v = variation
    return bool(v.transpose_semitones or v.keep < 1.0 or v.double or v.reverse)


def place_of(song: Song, layer: Layer) -> WritingContext:
    """Key and register in which a layer’s notes are written down."""
    return WritingContext(song.key, layer.register_low, layer.family == "low end")


def encoder(song: Song, span: Span, phrase: int, layer: Layer) -> Callable[[int, int, str], Written]:
    """(phrase tick, sounding pitch, how) -> how the note is written there."""
    low = span.phrase_ticks()[phrase][0]
    harmony, place, shift = section_harmony(song, span), place_of(song, layer), span.section.shift_semitones
    chords = harmony.home

    def write(tick: int, pitch: int, how: str) -> Written:
        return encode(pitch - shift, how, chords[harmony.index_at(tick + low)], place)

    return write


def put_rows(song: Song, span: Span, phrase: int, layer: Layer, rows: Iterable[Row], name: str) -> Song:
    """The song with a phrase of a layer written out anew, levels and filters of what played there kept."""
    line, written = line_in(song, span, phrase, layer), list(rows)
    section, ids = song.section_by_id[span.section.id], Ids(song.next_id)
    if not written:
        rest = cleared(section.placements, layer.id, line.low, line.high, ids)
        return replace(song.with_section(replace(section, placements=joined(rest))), next_id=ids.next_id)
    too_many(song.note_count + len(written))
    song, pattern_id = add_pattern(song, clean_name(name), layer.family, Pattern(line.length, written))
    ids, length = Ids(song.next_id), line.length
    spans = [(p.start_ticks, p.end_ticks, _levels(p.variation)) for p in line.placements]
    placed = [
        Placement(ids(), layer.id, pattern_id, a, b, line.low % length, v)
        for a, b, v in _filled(spans, line.low, line.high)
    ]
    rest = cleared(section.placements, layer.id, line.low, line.high, ids)
    if not layer.pattern_id:
        song = song.with_layer(replace(song.layer_by_id[layer.id], pattern_id=pattern_id))
    return replace(song.with_section(replace(section, placements=joined([*rest, *placed]))), next_id=ids.next_id)


def _levels(variation: Variation) -> Variation:
    """What of a variation is not already in the notes."""
    return replace(variation, transpose_semitones=0, keep=1.0, double=False, reverse=False)


def _filled(spans: list[tuple[int, int, Variation]], low: int, high: int) -> list[tuple[int, int, Variation]]:
    """Spans with the gaps between them, from low to high."""
    found, at = [], low
    for start, end, variation in sorted(spans, key=lambda s: s[0]):
        if start > at:
            found.append((at, start, PLAIN))
        found.append((start, end, variation))
        at = end
    return found if at >= high else [*found, (at, high, PLAIN)]


def too_many(count: int) -> None:
    """EditError where a song would hold more than MAX_NOTES notes."""
    if count > MAX_NOTES:
        raise EditError(f"The song would have {count:,} notes; at most {MAX_NOTES:,} fit. Take a shorter line.")


def played_in(song: Song, pattern_id: int) -> list[str]:
    """Names of the sections that play a pattern, with how many of their phrases do."""
    found = []
    for section in song.sections:
        count = sum(_phrases(song, section, p) for p in section.placements if p.pattern_id == pattern_id)
        if count:
            found.append(section.name if count == 1 else f"{section.name} {count}×")
    return found


def _phrases(song: Song, section: Section, placement: Placement) -> int:
    bars, at, count = section_bar_ticks(section, song.metre), 0, 0
    for length in section.phrases:
        end = min(at + length, section.bars)
        count += placement.start_ticks < bars[end] and placement.end_ticks > bars[at]
        at = end
    return count


def range_of(layer: Layer) -> tuple[int, int]:
    """Lowest and highest useful pitch of a layer's sound, its octave included."""
    return layer.register_low, layer.sound.register[1] + 12 * layer.octave


def outside(line: PhraseNotes, layer: Layer) -> tuple[int, int]:
    """How many notes of a line lie below and above the sound's useful range."""
    low, high = range_of(layer)
    return sum(n.pitch < low for n in line.notes), sum(n.pitch > high for n in line.notes)


def key_here(song: Song, span: Span) -> Key:
    """The key in which a section is written."""
    return section_harmony(song, span).key
