"""What polishing a take would do to each of its notes: the pitch it goes to, the moment it moves to."""

from __future__ import annotations

from escalera.core.document.singing import Polish, Take
from escalera.core.document.song import Song
from escalera.core.palette.voice_parts import LEAD
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.voices.comp import ticks_at
from escalera.core.voices.melody import guide_of, melody_of
from escalera.core.voices.take_judgement import NoteJudged, judge_take
from escalera.lazy_dataclasses import dataclass

MOST_CENTS = 150.0  # further off, it was meant to be another note
GRID_TICKS = 240


@dataclass(frozen=True, slots=True)
class PolishedNote:
    """A note of a take in seconds of the recording: where it begins and ends, by how many cents and seconds it is moved."""

    start_s: float
    end_s: float
    cents: float
    later_s: float


def polished_notes(song: Song, span: Span, take: Take, polish: Polish) -> tuple[PolishedNote, ...]:
    """Every note of a take with what the polish moves: toward the melody where it is sung, else toward key and sixteenths."""
    judged, found = judged_by_number(song, span, take), []
    for number, note in enumerate(take.sung):
        known = judged.get(number)
        cents = known.cents if known else _off_key(song, span, take, note.start_s, note.pitch)
        late_s = known.late_ms / 1000.0 if known else _off_grid(span, note.start_s - take.zero_s)
        cents = cents if abs(cents) <= MOST_CENTS else 0.0
        found.append(
            PolishedNote(note.start_s, note.end_s, -polish.tune_of(number) * cents + 0.0, -polish.timing * late_s + 0.0)
        )
    return tuple(found)


def judged_by_number(song: Song, span: Span, take: Take) -> dict[int, NoteJudged]:
    """Notes of a take that sing a note of the melody, by their number in the take from 0."""
    part = take.voice if guide_of(song, span.section, take.voice) else LEAD
    found = judge_take(take, melody_of(song, span, part), span).notes
    starts = [note.start_s for note in take.sung]
    return {min(range(len(starts)), key=lambda i: abs(starts[i] - n.sung.start_s - take.zero_s)): n for n in found}


def _off_key(song: Song, span: Span, take: Take, at_s: float, pitch: float) -> float:
    """Cents from the nearest note of the key that sounds there."""
    classes = section_harmony(song, span).key.classes
    near = min(
        (p for p in range(round(pitch) - 2, round(pitch) + 3) if p % 12 in classes),
        key=lambda p: abs(p - pitch),
        default=round(pitch),
    )
    return 100.0 * (pitch - near)


def _off_grid(span: Span, at_s: float) -> float:
    """Seconds from the nearest sixteenth."""
    tick = ticks_at(span, at_s)
    return at_s - span.seconds_at(round(tick / GRID_TICKS) * GRID_TICKS)
