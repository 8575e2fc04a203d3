"""Edits that make further layers of a line: a second voice, or its notes dealt out to two."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from escalera.core.document.song import Layer, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, sound_of
from escalera.core.edits.layer_edits import AddLayer, as_copy
from escalera.core.edits.note_edits import chosen_notes, line_of, pitched, where
from escalera.core.lines.note_encoding import how_written
from escalera.core.lines.second_voices import INTERVALS, Bent, Parallel, parallel_line
from escalera.core.reading.events import sounding_layers
from escalera.core.reading.phrase_frames import phrase_frame
from escalera.core.reading.phrase_notes import Note, PhraseNotes, encoder, key_here, line_in, put_rows, range_of
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError

LISTED = 3  # bent notes that a summary names


def second_voice(
    song: Song, section_id: int, layer_id: int, phrase: int, interval: str
) -> tuple[PhraseNotes, Parallel]:
    """The line and its parallel, in the song's own key."""
    span, _, line = line_of(song, section_id, layer_id, phrase)
    shift = span.section.shift_semitones
    frame = phrase_frame(song, span, phrase)
    low = [
        x
        for x in sounding_layers(song, span.section)
        if x.family == "low end" and not x.sound.is_drum and x.id != layer_id
    ]
    bass = [(n.tick, n.end, n.pitch - shift) for x in low for n in line_in(song, span, phrase, x).notes]
    return line, parallel_line([(n.tick, n.pitch - shift) for n in line.notes], frame, interval, bass)


@edit("second_voice", "layers notes placements")
class SecondVoice:
    """Give a phrase of a line a second voice on another layer: chord tones on the beats, parallels in the key between."""

    section_id: int
    layer_id: int
    phrase: int
    interval: str
    onto: int = 0  # a layer, or 0 for a new one
    sound: str = ""

    def apply(self, song: Song) -> Song:
        one_of(self.interval, list(INTERVALS), "interval")
        layer = pitched(song, self.layer_id)
        line, found = second_voice(song, self.section_id, self.layer_id, self.phrase, self.interval)
        _something(line, layer)
        song, target = _target(song, layer, self.onto, self.sound, INTERVALS[self.interval][0])
        span = timeline(song).span_of(self.section_id)
        write, shift = encoder(song, span, self.phrase, target), span.section.shift_semitones
        rows = [
            (n.tick, n.duration, *write(n.tick, min(127, max(0, p + shift)), "chord"), max(1, n.velocity - 8))
            for n, p in zip(line.notes, found.pitches)
        ]
        return put_rows(song, span, self.phrase, target, rows, f"{line.names[0]}, {INTERVALS[self.interval][0]}"[-78:])

    def summary(self, song: Song) -> str:
        line, found = second_voice(song, self.section_id, self.layer_id, self.phrase, self.interval)
        span = timeline(song).span_of(self.section_id)
        said = (
            f"{where(song, self.section_id, self.layer_id, self.phrase)}: a second voice {INTERVALS[self.interval][0]}"
        )
        return said + bent_in_words(song, span, found.bent) + self._out_of_range(song, found)

    def _out_of_range(self, song: Song, found: Parallel) -> str:
        """How many notes the target's sound is not meant for."""
        layer = layer_of(song, self.onto or self.layer_id)
        low, high = range_of(layer)
        if not self.onto and self.sound and self.sound != layer.sound_key:
            low, high = sound_of(self.sound).register
        shift = section_of(song, self.section_id).shift_semitones
        count = sum(not low <= p + shift <= high for p in found.pitches)
        return f"; {count} {'note lies' if count == 1 else 'notes lie'} outside the range of the sound" if count else ""


def bent_in_words(song: Song, span, bent: tuple[Bent, ...]) -> str:  # type: ignore[no-untyped-def]
    """Which notes were bent to the chords, as the end of a sentence for the history."""
    if not bent:
        return ", no note bent"
    key, shift = key_here(song, span), span.section.shift_semitones
    metre = span.bar_metres[0]
    told = [
        f"{key.pitch_name(b.taken + shift)} for {key.pitch_name(b.wanted + shift)} at {b.tick // metre.bar_ticks + 1}."
        f"{b.tick % metre.bar_ticks / metre.beat_ticks + 1:.3g}"
        for b in bent[:LISTED]
    ]
    more = f" and {len(bent) - LISTED} more" if len(bent) > LISTED else ""
    return f"; {len(bent)} {'note' if len(bent) == 1 else 'notes'} bent: {', '.join(told)}{more}"


def _something(line: PhraseNotes, layer: Layer) -> None:
    if not line.notes:
        raise EditError(
            f"{layer.name} is silent in this phrase, so there is no line to take. Draw, make or record one first."
        )


def _target(song: Song, layer: Layer, onto: int, sound: str, what: str) -> tuple[Song, Layer]:
    """The layer that takes a part: a given one, or a new one beside the old, on the other side."""
    if onto:
        if onto == layer.id:
            raise EditError(f"{layer.name} plays the line itself. Choose another layer, or a new one.")
        return song, pitched(song, onto)
    before = {x.id for x in song.layers}
    song = AddLayer(sound or layer.sound_key, f"{layer.name}, {what}"[:78]).apply(song)
    made = next(x for x in song.layers if x.id not in before)
    if made.sound.is_drum:
        raise EditError(f"{made.sound.label} is a drum and plays no line. Choose a sound with a pitch.")
    made = as_copy(layer, made)
    made = replace(made, level_db=layer.level_db - 2.0, pan=-layer.pan if layer.pan else 0.25)
    return song.with_layer(made), made


Deal = Callable[[PhraseNotes, list[Note], int], set[Note]]  # line, chosen notes, ticks of a bar -> what goes over


def _high(line: PhraseNotes, notes: list[Note], bar_ticks: int) -> set[Note]:
    middle = sorted(n.pitch for n in notes)[len(notes) // 2]
    return {n for n in notes if n.pitch >= middle} if middle > min(n.pitch for n in notes) else set()


def _alternate(line: PhraseNotes, notes: list[Note], bar_ticks: int) -> set[Note]:
    onsets = sorted({n.tick for n in notes})
    return {n for n in notes if onsets.index(n.tick) % 2}


def _bars(line: PhraseNotes, notes: list[Note], bar_ticks: int) -> set[Note]:
    return {n for n in notes if n.tick // bar_ticks % 2}


def _chosen(line: PhraseNotes, notes: list[Note], bar_ticks: int) -> set[Note]:
    return set(notes) if len(notes) < len(line.notes) else set()


DEALS: dict[str, tuple[str, Deal]] = {
    "high-low": ("the upper half of the notes", _high),
    "in-turn": ("every second note", _alternate),
    "bars-in-turn": ("every second bar", _bars),
    "chosen": ("the chosen notes", _chosen),
}


@edit("split_line", "layers notes placements")
class SplitLine:
    """Deal a phrase's notes out to two layers: upper and lower, in turn, bar by bar, or the chosen ones."""

    section_id: int
    layer_id: int
    phrase: int
    deal: str
    sound: str = ""
    onto: int = 0
    notes: list[Any] | None = None

    def apply(self, song: Song) -> Song:
        what, deal = DEALS[one_of(self.deal, list(DEALS), "way of dealing notes out")]
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        _something(line, layer)
        over = deal(
            line, sorted(chosen_notes(line, self.notes), key=lambda n: (n.tick, n.pitch)), span.bar_metres[0].bar_ticks
        )
        if not over or len(over) == len(line.notes):
            raise EditError(
                f"Dealing out {what} would leave one of the two layers empty. Choose another way, or choose notes."
            )
        song = put_rows(song, span, self.phrase, layer, [n.row for n in line.notes if n not in over], line.names[0])
        song, target = _target(song, layer_of(song, layer.id), self.onto, self.sound, "the other part")
        span = timeline(song).span_of(self.section_id)
        write = encoder(song, span, self.phrase, target)
        rows = [(n.tick, n.duration, *write(n.tick, n.pitch, "chord"), n.velocity) for n in over]
        return put_rows(song, span, self.phrase, target, rows, f"{line.names[0]}, {what}"[-78:])

    def summary(self, song: Song) -> str:
        return f"{where(song, self.section_id, self.layer_id, self.phrase)}: {DEALS[self.deal][0]} go to another layer"


@edit("pass_notes", "notes placements")
class PassNotes:
    """Pass single notes of a line on to another layer's line in the same phrase, at their pitches; both lines go on otherwise."""

    section_id: int
    layer_id: int
    phrase: int
    onto: int
    notes: list[Any] | None = None

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        _something(line, layer)
        if not self.notes:
            raise EditError("No notes are chosen. Choose the ones that another layer is to play.")
        song, target = _target(song, layer, self.onto or layer.id, "", "")
        over = chosen_notes(line, self.notes)
        there = line_in(song, span, self.phrase, target)
        kept = [n.row for n in line.notes if n not in over]
        write = encoder(song, span, self.phrase, target)
        rows = [(n.tick, n.duration, *write(n.tick, n.pitch, how_written(n.kind)), n.velocity) for n in over]
        mine = [n.row for n in there.notes if (n.tick, n.pitch) not in {(o.tick, o.pitch) for o in over}]
        name = there.names[0] if there.names else f"Line of {target.name}"
        song = put_rows(song, span, self.phrase, target, [*mine, *rows], name)
        span = timeline(song).span_of(self.section_id)
        return put_rows(song, span, self.phrase, layer_of(song, layer.id), kept, line.names[0])

    def summary(self, song: Song) -> str:
        count = len(self.notes or ())
        said = f"{count} {'note' if count == 1 else 'notes'} passed on to {layer_of(song, self.onto).name}"
        return f"{where(song, self.section_id, self.layer_id, self.phrase)}: {said}"


@edit("answer_only", "notes placements")
class AnswerOnly:
    """Leave out the notes of a line that sound together with another layer's, so that it answers in the gaps."""

    section_id: int
    layer_id: int
    phrase: int
    other_id: int

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        other = layer_of(song, self.other_id)
        _something(line, layer)
        sung = [(n.tick, n.end) for n in line_in(song, span, self.phrase, other).notes]
        kept = [n.row for n in line.notes if not any(a < n.end and n.tick < b for a, b in sung)]
        if not kept or len(kept) == len(line.notes):
            what = "is never silent here" if not kept else "never sounds together with it here"
            raise EditError(
                f"{other.name} {what}, so {layer.name} would "
                f"{'fall silent' if not kept else 'stay as it is'}. Choose another phrase or layer."
            )
        return put_rows(song, span, self.phrase, layer, kept, line.names[0])

    def summary(self, song: Song) -> str:
        return (
            f"{where(song, self.section_id, self.layer_id, self.phrase)}: only in the gaps of "
            f"{layer_of(song, self.other_id).name}"
        )


@edit("fold_line", "notes placements")
class FoldLine:
    """Bring notes that lie outside the sound's range into it, by octaves."""

    section_id: int
    layer_id: int
    phrase: int

    def apply(self, song: Song) -> Song:
        span, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        low, high = range_of(layer)
        if not any(n.pitch < low or n.pitch > high for n in line.notes):
            raise EditError(f"Every note lies inside the range of {layer.sound.label}. Nothing needs to move.")
        rows = []
        for n in line.notes:
            octaves = (
                -(-(low - n.pitch) // 12) if n.pitch < low else -(-(n.pitch - high) // 12) if n.pitch > high else 0
            )
            up = octaves if n.pitch < low else -octaves
            value = n.value + 12 * up if n.kind == 0 else n.value
            rows.append((n.tick, n.duration, n.kind, value, n.octave + (0 if n.kind == 0 else up), n.velocity))
        return put_rows(song, span, self.phrase, layer, rows, line.names[0])

    def summary(self, song: Song) -> str:
        return (
            f"{where(song, self.section_id, self.layer_id, self.phrase)}: into the range of "
            f"{layer_of(song, self.layer_id).sound.label}"
        )
