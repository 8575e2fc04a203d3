"""Edits of written notes: drawn, moved, taken out, recorded, quantised, made to follow or to stay."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from escalera.core.document.bodies import each_body
from escalera.core.document.song import Layer, NamedPattern, Song, Swing
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, whole_number, within
from escalera.core.lines.note_encoding import HOW_WORDS, HOWS, how_written
from escalera.core.reading.events import swing_of
from escalera.core.reading.phrase_notes import Note, PhraseNotes, Row, encoder, line_in, put_rows, too_many
from escalera.core.reading.placements import without_patterns
from escalera.core.reading.timeline import Span, timeline
from escalera.core.rhythm.pattern import Pattern
from escalera.core.time.note_values import VALUES
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import EditError

GRIDS = ("1/4", "1/8", "1/16", "1/32", "1/8 triplet", "1/16 triplet")
SHORTEST_TICKS = 30
RECORDED_VELOCITY = 96


def pitched(song: Song, layer_id: int) -> Layer:
    """The layer with this id, if it plays pitches. EditError for drums and for layers that are gone."""
    layer = layer_of(song, layer_id)
    if layer.sound.is_drum:
        raise EditError(
            f"{layer.name} is a drum, and lines have pitches. Choose a layer of another family, or the groove page."
        )
    return layer


def line_of(song: Song, section_id: int, layer_id: int, phrase: int) -> tuple[Span, Layer, PhraseNotes]:
    """Where an edit works. Raises EditError when the layer is a drum or the phrase is not there."""
    section, layer = section_of(song, section_id), pitched(song, layer_id)
    if not 0 <= phrase < len(section.phrases):
        raise EditError(
            f"{section.name} has {len(section.phrases)} phrases, no phrase {phrase + 1}. Choose one of them."
        )
    span = timeline(song).span_of(section.id)
    return span, layer, line_in(song, span, phrase, layer)


def where(song: Song, section_id: int, layer_id: int, phrase: int) -> str:
    """A phrase of a layer in words, for the history: “Bass in Verse 1, phrase 2”."""
    section = section_of(song, section_id)
    part = f", phrase {phrase + 1}" if len(section.phrases) > 1 else ""
    return f"{layer_of(song, layer_id).name} in {section.name}{part}"


def grid_ticks(grid: str) -> int:
    """Ticks of a step by its name (“1/16”). EditError for a name that is no step."""
    return round(VALUES[one_of(grid, list(GRIDS), "step")] * TICKS_PER_QUARTER)


@edit("change_notes", "notes placements")
class ChangeNotes:
    """Draw, move, stretch, strike harder or take out notes, wherever the line plays or only here."""

    section_id: int
    layer_id: int
    phrase: int
    changes: list[Any]  # [tick, pitch, new tick, new pitch, ticks long, velocity]; no tick draws, no new tick takes out
    how: str = "chord"
    here: bool = False

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        one_of(self.how, list(HOWS), "way of writing notes")
        write = encoder(song, span, self.phrase, layer)
        gone, new = [], []
        for change in self.changes:
            old, row = self._read(line, change, write)
            gone += [old] if old else []
            new += [(row, old)] if row else []
        if line.pattern_id and not self.here:
            return _changed_everywhere(song, line, gone, new)
        kept = [n.row for n in line.notes if n not in gone]
        name = line.names[0] if line.names else f"Line of {layer.name}"
        return put_rows(song, span, self.phrase, layer, _once([*kept, *(row for row, _ in new)]), name)

    def _read(self, line: PhraseNotes, change: object, write) -> tuple[Note | None, Row | None]:  # type: ignore[no-untyped-def]
        if not isinstance(change, list) or len(change) != 6:
            raise EditError("A change of notes cannot be read. Load the page again.")
        tick, pitch, new_tick, new_pitch, ticks_long, velocity = (
            None if v is None else whole_number(v) for v in change
        )
        old = None
        if tick is not None:
            old = line.at(tick, int(pitch or 0))
            if old is None:
                raise EditError("That note is not there any more. What is shown now is the newest state.")
        if new_tick is None:
            return old, None
        if not (old.tick if old and old.tick < 0 else 0) <= new_tick < line.length:
            raise EditError(
                f"A note at tick {new_tick} would lie outside the phrase of {line.length} ticks. "
                f"Choose a place inside it."
            )
        at = int(within(int(new_pitch or 0), 0, 127, "A pitch of"))
        loud = int(within(int(velocity or RECORDED_VELOCITY), 1, 127, "A velocity of"))
        written = (old.kind, old.value, old.octave) if old and (old.tick, old.pitch) == (new_tick, at) else None
        written = written or write(new_tick, at, how_written(old.kind) if old else self.how)
        return old, (new_tick, max(SHORTEST_TICKS, int(ticks_long or SHORTEST_TICKS)), *written, loud)

    def summary(self, song: Song) -> str:
        drawn = sum(c[0] is None for c in self.changes)
        taken = sum(c[2] is None for c in self.changes)
        changed = len(self.changes) - drawn - taken
        parts = [(drawn, "drawn"), (taken, "taken out"), (changed, "changed")]
        words = ", ".join(f"{n} {'note' if n == 1 else 'notes'} {what}" for n, what in parts if n)
        return f"{where(song, self.section_id, self.layer_id, self.phrase)}: {words or 'nothing changed'}"


def _changed_everywhere(song: Song, line: PhraseNotes, gone: list[Note], new: list[tuple[Row, Note | None]]) -> Song:
    """The pattern itself changed, wherever it plays."""
    entry, placement = song.pattern_by_id[line.pattern_id], line.placements[0]
    length, dropped = entry.pattern.length_ticks, {n.index for n in gone}
    rows = [tuple(r) for i, r in enumerate(entry.pattern.to_list()) if i not in dropped]
    for (tick, *rest), old in new:
        at = tick + line.low
        cycle = old.cycle if old else (at - placement.offset_ticks) // length * length + placement.offset_ticks
        start = at - cycle
        rows.append((start if old and old.tick < old.cycle - line.low and start < 0 else start % length, *rest))
    if not rows:
        return _without_pattern(song, entry)
    too_many(song.note_count - len(entry.pattern) + len(rows))
    changed = replace(entry, pattern=Pattern(length, _once(rows)))
    return replace(song, patterns=tuple(changed if p.id == entry.id else p for p in song.patterns))


def _once(rows: list[Any]) -> list[Any]:
    """Rows with one note at most at a start and pitch, the last one given."""
    return list({(r[0], r[2], r[3], r[4]): r for r in rows}.values())


def _without_pattern(song: Song, entry: NamedPattern) -> Song:
    """A pattern whose last note is gone plays nowhere any more; its notes stay in the song's list."""
    return each_body(song, lambda s: without_patterns(s, {entry.id}))


@edit("anchor_line", "notes placements")
class AnchorLine:
    """Let the notes of a phrase follow the chords or the scale, or stay at their pitch; now they sound the same."""

    section_id: int
    layer_id: int
    phrase: int
    how: str

    def apply(self, song: Song) -> Song:
        one_of(self.how, list(HOWS), "way of writing notes")
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        _sounds(line, layer)
        write = encoder(song, span, self.phrase, layer)
        rows = [(n.tick, n.duration, *write(n.tick, n.pitch, self.how), n.velocity) for n in line.notes]
        return put_rows(song, span, self.phrase, layer, rows, line.names[0])

    def summary(self, song: Song) -> str:
        return f"{where(song, self.section_id, self.layer_id, self.phrase)}: the notes {HOW_WORDS[self.how]}"


def _sounds(line: PhraseNotes, layer: Layer) -> None:
    if not line.notes:
        raise EditError(
            f"{layer.name} is silent in this phrase, so there is nothing to change. Draw, make or record a line first."
        )


@edit("transpose_line", "notes placements")
class TransposeLine:
    """Move the notes of a phrase by semitones; what still fits the key goes on following it."""

    section_id: int
    layer_id: int
    phrase: int
    semitones: int
    notes: list[Any] | None = None  # [tick, pitch] of the chosen ones

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        _sounds(line, layer)
        by = int(within(self.semitones, -24, 24, "Moving by", "semitones"))
        write, chosen = encoder(song, span, self.phrase, layer), chosen_notes(line, self.notes)
        rows = []
        for n in line.notes:
            if n in chosen:
                at = int(within(n.pitch + by, 0, 127, "A pitch of"))
                rows.append((n.tick, n.duration, *write(n.tick, at, how_written(n.kind)), n.velocity))
            else:
                rows.append(n.row)
        return put_rows(song, span, self.phrase, layer, _once(rows), line.names[0])

    def summary(self, song: Song) -> str:
        return f"{where(song, self.section_id, self.layer_id, self.phrase)}: {self.semitones:+d} semitones"


def chosen_notes(line: PhraseNotes, notes: list[Any] | None) -> set[Note]:
    """The notes that an edit is about: those named by [tick, pitch], else all."""
    if not notes:
        return set(line.notes)
    found = {line.at(whole_number(n[0]), whole_number(n[1])) for n in notes if isinstance(n, list) and len(n) == 2}
    return {n for n in found if n is not None} or set(line.notes)


@edit("quantise_line", "notes placements")
class QuantiseLine:
    """Move the notes of a phrase toward the nearest step by an amount; 1 is all the way."""

    section_id: int
    layer_id: int
    phrase: int
    amount: float = 1.0
    grid: str = "1/16"
    notes: list[Any] | None = None

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        _sounds(line, layer)
        step, amount = grid_ticks(self.grid), within(self.amount, 0, 1, "An amount of")
        write, chosen = encoder(song, span, self.phrase, layer), chosen_notes(line, self.notes)
        rows = []
        for n in line.notes:
            tick = nearer(n.tick, step, amount, line.length) if n in chosen and n.tick >= 0 else n.tick
            kept = (n.kind, n.value, n.octave) if tick == n.tick else write(tick, n.pitch, how_written(n.kind))
            rows.append((tick, n.duration, *kept, n.velocity))
        return put_rows(song, span, self.phrase, layer, _once(rows), line.names[0])

    def summary(self, song: Song) -> str:
        return (
            f"{where(song, self.section_id, self.layer_id, self.phrase)}: {100 * self.amount:.0f} % toward {self.grid}"
        )


def nearer(tick: float, step: int, amount: float, length: int) -> int:
    """A tick moved toward the nearest step; what rounds to the end belongs to the start of the next round."""
    moved = round(tick + amount * (round(tick / step) * step - tick))
    return moved % length if moved >= length else max(0, moved)


@edit("record_notes", "notes placements")
class RecordNotes:
    """Keep what was played on keys: moments and lengths in seconds from the phrase's start, quantised by an amount."""

    section_id: int
    layer_id: int
    phrase: int
    notes: list[Any]  # [seconds, seconds long, pitch, velocity]
    amount: float = 1.0
    grid: str = "1/16"
    how: str = "chord"
    anew: bool = False

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        one_of(self.how, list(HOWS), "way of writing notes")
        step, amount = grid_ticks(self.grid), within(self.amount, 0, 1, "An amount of")
        if not self.notes:
            raise EditError(
                "The recording holds no note, so nothing was changed. Press Record, wait for the "
                "count-in, and play letters"
                " (A to J are an octave) while it runs."
            )
        write = encoder(song, span, self.phrase, layer)
        swing = swing_of(span.section.swings, layer.id)
        rows: list[Row] = [] if self.anew else [n.row for n in line.notes]
        for start, ticks_long, pitch, velocity in _played(span, line, self.notes):
            tick = nearer(unswung(start, swing), step, amount, line.length)
            least = round(step * amount * 0.5)
            rows.append((tick, max(SHORTEST_TICKS, least, ticks_long), *write(tick, pitch, self.how), velocity))
        return put_rows(song, span, self.phrase, layer, _once(rows), f"Played on {layer.name}")

    def summary(self, song: Song) -> str:
        count = len(self.notes)
        return (
            f"{where(song, self.section_id, self.layer_id, self.phrase)}: {count} "
            f"{'note' if count == 1 else 'notes'} recorded"
        )


def _played(span: Span, line: PhraseNotes, notes: list[Any]) -> list[tuple[float, int, int, int]]:
    """Recorded notes as (tick in the phrase, ticks long, pitch, velocity), folded into the phrase."""
    try:
        table = np.array(notes, float).reshape(-1, 4)
    except ValueError:
        raise EditError("The recording cannot be read. Record again.") from None
    if not np.isfinite(table).all() or (table[:, 2] < 0).any() or (table[:, 2] > 127).any():
        raise EditError("The recording holds a note that is no pitch. Record again.")
    zero = span.seconds_at(line.low)
    starts = span.grid.tempo.ticks_at(table[:, 0] + zero) - line.low
    ends = span.grid.tempo.ticks_at(table[:, 0] + table[:, 1] + zero) - line.low
    return [
        (float(a % line.length), max(SHORTEST_TICKS, round(b - a)), int(p), int(np.clip(v, 1, 127)))
        for a, b, p, v in zip(starts, ends, table[:, 2], table[:, 3])
    ]


def unswung(tick: float, swing: Swing | None) -> float:
    """Where a played tick would be written, so that the section's swing puts it where it was played."""
    if swing is None:
        return tick
    pair = 2 * swing.subdivision_ticks
    start, share = tick // pair * pair, tick % pair / pair
    flat = share / swing.ratio / 2 if share < swing.ratio else 0.5 + (share - swing.ratio) / (1 - swing.ratio) / 2
    return start + flat * pair
