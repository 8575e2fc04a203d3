"""Moves of voices: doubled, dropped to one, answered in the gaps, in harmony on the last line, simulated where they are missing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.edit import Edit
from escalera.core.edits.stack_edits import SimulateVoice, written_voice
from escalera.core.edits.tile_edits import Lift
from escalera.core.moves.move import HERE, Move, MoveStep, kind, playing, span_of
from escalera.core.palette.voice_parts import LEAD, VOICE_PARTS
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import guide_of, melody_of, sung_lines
from escalera.core.voices.voice_stack import MISSING, NOT_WANTED, breathless_s, gaps_of, missing_of, stack_of

PAIR = ("double left", "double right")


def _sings(song: Song, section: Section) -> bool:
    guide = guide_of(song, section)
    return guide is not None and guide.family == "voices" and bool(melody_of(song, span_of(song, section)))


def _there(song: Song, section: Section) -> set[str]:
    return {s.part.key for s in stack_of(song, section) if s.state not in (MISSING, NOT_WANTED)}


@kind(
    "double the lead",
    "Double the lead",
    "The lead is sung twice more, left and right, a little apart: wider and larger.",
    HERE,
    1,
)
def double_the_lead(song: Song, section: Section) -> Iterator[Move]:
    if _sings(song, section) and not _there(song, section) & set(PAIR):
        label = "Double the lead left and right"
        yield Move("double the lead", label, tuple(SimulateVoice(section.id, p) for p in PAIR))


@kind("one voice", "Drop to one voice", "Backings fall silent and the lead stands alone: close, and smaller.", way=-1)
def one_voice(song: Song, section: Section) -> Iterator[Move]:
    backings = [x for x in playing(song, section) if x.voice in VOICE_PARTS and VOICE_PARTS[x.voice].backing]
    if backings and _there(song, section) & {LEAD}:
        edits: tuple[Edit, ...] = tuple(Lift(section.id, x.id) for x in backings)
        yield Move(
            "one voice",
            f"Drop to one voice: {len(backings)} {'backing rests' if len(backings) == 1 else 'backings rest'}",
            edits,
        )


@kind(
    "answer the lead",
    "Answer in the gaps",
    "A second melody, far and narrow, fills the rests of the lead.",
    HERE,
    1,
)
def answer_the_lead(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    if _sings(song, section) and "answer" not in _there(song, section) and voice_line(song, span, "answer").notes:
        count = len(gaps_of(song, span))
        yield Move(
            "answer the lead",
            f"Answer in {count} {'gap' if count == 1 else 'gaps'} of the lead",
            (SimulateVoice(section.id, "answer"),),
        )


@kind(
    "last line",
    "Harmony on the last line only",
    "A third above joins for the last line: it is kept for where it counts.",
    HERE,
    1,
)
def last_line(song: Song, section: Section) -> Iterator[Move]:
    notes = melody_of(song, span_of(song, section))
    part = "third above left"
    if _sings(song, section) and len(sung_lines(notes)) > 1 and part not in _there(song, section):
        yield Move(
            "last line",
            "A third above on the last line",
            (SimulateVoice(section.id, part), MoveStep("Only on the last line", _only_last(section, part))),
        )


def _only_last(section: Section, part: str) -> Callable[[Song], Song]:
    def act(song: Song) -> Song:
        here = song.section_by_id[section.id]
        span = span_of(song, here)
        lead = melody_of(song, span)
        first = lead[sung_lines(lead)[-1][0]].start
        layer = guide_of(song, here, part)
        assert layer is not None
        kept = [n for n in voice_line(song, span, part).notes if n.start >= first]
        return written_voice(song, here, layer.id, kept, part)

    return act


@kind(
    "simulate voices",
    "Simulate what is missing",
    "Voices that are wanted and not sung yet are sung by the program.",
    HERE,
    1,
)
def simulate_voices(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    missing = [p for p in missing_of(song, section) if voice_line(song, span, p).notes]
    if missing:
        yield Move(
            "simulate voices",
            f"Simulate {', '.join(missing[:3])}" + (" and more" if len(missing) > 3 else ""),
            tuple(SimulateVoice(section.id, p) for p in missing),
        )


@kind(
    "sung gaps",
    "Leave room to breathe",
    "The last note of every line of the lead is shortened, so that it can be sung.",
    HERE,
    0,
)
def sung_gaps(song: Song, section: Section) -> Iterator[Move]:
    guide = guide_of(song, section)
    span = span_of(song, section)
    if guide is not None and guide.family == "voices" and breathless_s(song, span) > 6.0:
        yield Move(
            "sung gaps",
            f"Room to breathe in {guide.name}",
            (MoveStep(f"Room to breathe in {guide.name}", _shortened(section, guide)),),
        )


def _shortened(section: Section, guide: Layer) -> Callable[[Song], Song]:
    def act(song: Song) -> Song:
        here = song.section_by_id[section.id]
        span = span_of(song, here)
        notes = list(melody_of(song, span))
        edges = set(span.bar_ticks[2::2])
        for i, (note, after) in enumerate(zip(notes, [*notes[1:], None])):
            last = any(note.start < e <= (after.start if after else span.length_ticks) for e in edges)
            if last:
                rest = 0.3 / max(span.seconds_at(note.start + 960) - span.seconds_at(note.start), 1e-6) * 960
                until = (after.start if after else span.length_ticks) - round(rest)
                notes[i] = replace(note, end=max(note.start + 120, min(note.end, until)))
        return written_voice(song, here, guide.id, notes, guide.name)

    return act
