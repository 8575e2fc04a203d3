"""What a change of a line would bring that one may not want: notes out of range, against the chords, a tune that stays less in the ear."""

from __future__ import annotations

from escalera.core.bench.line_choice import hook_of
from escalera.core.document.song import Layer, Song
from escalera.core.lines.line_reading import LineReading
from escalera.core.reading.phrase_frames import line_reading, phrase_frame
from escalera.core.reading.phrase_notes import PhraseNotes, line_in, outside
from escalera.core.reading.timeline import Span, timeline
from escalera.lazy_dataclasses import dataclass

LESS_CHORD, LEAST_CHORD = 0.15, 0.7  # share of strong beats on chord tones: a loss worth saying, and what is still well
LISTED = 3


@dataclass(frozen=True, slots=True)
class ChangedLine:
    """A line after a change: its harmony bar by bar in words, and warnings, none where all is as well as before."""

    harmony: tuple[str, ...]
    warnings: tuple[str, ...]


def changed_line(song: Song, after: Song, section_id: int, layer_id: int, phrase: int) -> ChangedLine:
    """What a change does to a layer's line in a phrase. Raises KeyError where the section or layer is gone."""
    before_span, span = timeline(song).span_of(section_id), timeline(after).span_of(section_id)
    layer = after.layer_by_id[layer_id]
    line = line_in(after, span, phrase, layer)
    old = line_reading(song, before_span, phrase, song.layer_by_id[layer_id])
    new = line_reading(after, span, phrase, layer)
    if not line.notes or new is None:
        return ChangedLine((), ("The line would be silent here.",))
    beat = span.bar_metres[0].beat_ticks
    on_beats = any(n.tick % beat == 0 for n in line.notes)
    told = [*_range(layer, line), *(_chords(old, new) if on_beats else []), *_ear(layer, old, new)]
    return ChangedLine(tuple(harmony_of(after, span, phrase, line)), tuple(told))


def harmony_of(song: Song, span: Span, phrase: int, line: PhraseNotes) -> list[str]:
    """Where notes on the beats are no tones of their chord: 'bar 3: D, E over C', as the line stands."""
    frame, shift = phrase_frame(song, span, phrase), span.section.shift_semitones
    found: dict[tuple[int, str], list[str]] = {}
    first = span.first_bar + sum(span.section.phrases[:phrase])
    for note in line.notes:
        if note.tick < 0 or note.tick % frame.metre.bar_ticks % frame.metre.beat_ticks:
            continue
        chord = frame.chord_at(note.tick)
        if (note.pitch - shift) % 12 not in chord.classes:
            place = (first + note.tick // frame.metre.bar_ticks, str(chord))
            name = song.key.spell((note.pitch - shift) % 12)
            found.setdefault(place, [])
            if name not in found[place]:
                found[place].append(name)
    return [f"bar {bar}: {', '.join(names)} over {chord}" for (bar, chord), names in found.items()]


def _range(layer: Layer, line: PhraseNotes) -> list[str]:
    count = sum(outside(line, layer))
    return [f"{count} {'note lies' if count == 1 else 'notes lie'} outside the range of {layer.sound.label}."] if count else []  # fmt: skip


def _chords(old: LineReading | None, new: LineReading) -> list[str]:
    if old is None or new.chord_share >= min(LEAST_CHORD, old.chord_share - LESS_CHORD):
        return []
    return [f"{100 * new.chord_share:.0f} % of its beats are on chord tones, {100 * old.chord_share:.0f} % before."]


def _ear(layer: Layer, old: LineReading | None, new: LineReading) -> list[str]:
    """What stays in the ear less than before: readings are in one order for lines of a kind."""
    if old is None:
        return []
    rows = zip(hook_of(layer, old), hook_of(layer, new))
    lost = [said for (helped, _), (helps, said) in rows if helped and not helps]
    return [f"{said[0].upper()}{said[1:]}." for said in lost][:LISTED]
