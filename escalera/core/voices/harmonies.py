"""Other voices worked out from the lead: parallels inside key and chord, with every note where a strict one would clash; held vowels."""

from __future__ import annotations

from escalera.core.document.song import Song
from escalera.core.lines.second_voices import parallel_line
from escalera.core.palette.voice_parts import COLOUR, FREE, UNISON, VOICE_PARTS
from escalera.core.reading.phrase_frames import phrase_frame
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.voices.melody import MelodyNote, melody_of
from escalera.core.voices.voice_stack import gaps_of, singer_range
from escalera.lazy_dataclasses import dataclass

MIDDLE = 64  # about which held vowels lie where nothing is known of the singer
ANSWER, ANSWER_NOTES = "answer", 4


@dataclass(frozen=True, slots=True)
class Clashing:
    """A note where a strict parallel would be no tone of the chord: tick of the section, the strict pitch, what is sung, the chord."""

    tick: int
    strict: int
    sung: int
    why: str


@dataclass(frozen=True, slots=True)
class VoiceLine:
    """What a voice of the stack would sing in a section."""

    notes: tuple[MelodyNote, ...]
    clashes: tuple[Clashing, ...] = ()


def voice_line(song: Song, span: Span, part: str) -> VoiceLine:
    """The notes of a voice in a section, from the lead's; none where there is no lead. Ad libs have none of their own."""
    told = VOICE_PARTS[part]
    lead = melody_of(song, span)
    if told.sings == COLOUR:
        return VoiceLine(_held_vowels(song, span, 0 if part.endswith("left") else 1))
    if not lead or (told.sings == FREE and part != ANSWER):
        return VoiceLine(())
    if told.sings == UNISON:
        return VoiceLine(lead)
    if told.sings == FREE:
        return VoiceLine(_answers(song, span, lead))
    shift = span.section.shift_semitones
    notes: list[MelodyNote] = []
    clashes: list[Clashing] = []
    for phrase, (low, high) in enumerate(span.phrase_ticks()):
        mine = [n for n in lead if low <= n.start < high]
        found = parallel_line(
            [(n.start - low, n.pitch - shift) for n in mine], phrase_frame(song, span, phrase), told.interval
        )
        notes += [MelodyNote(n.start, n.end, min(127, max(0, p + shift))) for n, p in zip(mine, found.pitches)]
        clashes += [Clashing(b.tick + low, b.wanted + shift, b.taken + shift, b.why) for b in found.bent]
    return VoiceLine(tuple(notes), tuple(clashes))


def _held_vowels(song: Song, span: Span, which: int) -> tuple[MelodyNote, ...]:
    """A tone of every chord, held, near the one before it: the two sides sing different ones."""
    harmony = section_harmony(song, span)
    known = singer_range(song)
    near = (known.low + known.high) // 2 if known else MIDDLE
    found: list[MelodyNote] = []
    edges = [t for t in harmony.ticks if 0 < t < span.length_ticks]
    for start, end in zip([0, *edges], [*edges, span.length_ticks]):
        classes = harmony.at(start).classes
        pitches = sorted((p for p in range(near - 9, near + 10) if p % 12 in classes), key=lambda p: abs(p - near))
        pitch = pitches[min(which, len(pitches) - 1)]
        if found and found[-1].pitch == pitch:
            found[-1] = MelodyNote(found[-1].start, end, pitch)
        else:
            found.append(MelodyNote(start, end, pitch))
        near = pitch if which == 0 else near
    return tuple(found)


def _answers(song: Song, span: Span, lead: tuple[MelodyNote, ...]) -> tuple[MelodyNote, ...]:
    """The last notes before every gap of the lead again, lower and on tones of the chord that sounds there, once the lead is silent."""
    harmony, found = section_harmony(song, span), []
    beat = span.bar_metres[0].beat_ticks
    for low, high in gaps_of(song, span):
        before = [n for n in lead if n.end <= low][-ANSWER_NOTES:]
        if not before:
            continue
        at = -(-(low + beat // 2) // (beat // 2)) * (beat // 2)
        shift = at - before[0].start
        for note in before:
            start = note.start + shift
            end = min(note.end + shift, high)
            if end - start < beat // 4 or start >= high:
                break
            classes = harmony.at(start).classes
            wanted = note.pitch - 5
            pitch = min(
                (p for p in range(wanted - 6, wanted + 7) if p % 12 in classes), key=lambda p: (abs(p - wanted), p)
            )
            found.append(MelodyNote(start, end, pitch))
    return tuple(found)
