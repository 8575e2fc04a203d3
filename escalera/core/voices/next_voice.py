"""What could be done next for the voices of a section, each with its reason and, where the program can do it, the command."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import field
from typing import Any

from escalera.core.document.singing import Take
from escalera.core.document.song import Song
from escalera.core.palette.voice_parts import LEAD
from escalera.core.reading.timeline import Span
from escalera.core.voices.comp import comp_of, take_number
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import melody_of
from escalera.core.voices.take_judgement import NEAR_ENOUGH, Likeness, likeness
from escalera.core.voices.voice_stack import MISSING, SIMULATED, gaps_of, stack_of
from escalera.core.voices.word_places import lines_of
from escalera.lazy_dataclasses import dataclass

MOST = 5
PAIR = ("double left", "double right")


@dataclass(frozen=True, slots=True)
class NextVoice:
    """An offer: what, why, and a command (empty where a person has to sing or write)."""

    label: str
    why: str
    command: dict[str, Any] = field(default_factory=dict)
    button: str = "Do it"


def doubles_for(song: Song, section_id: int) -> list[tuple[Take, Likeness]]:
    """Takes that are not in the lead's comp, with how alike they are to the one that sings most of it."""
    section = song.section_by_id[section_id]
    pieces = comp_of(song, section, LEAD)
    if not pieces:
        return []
    sung = {p.take_id for p in pieces}
    main = max(sung, key=lambda i: sum(p.high - p.low for p in pieces if p.take_id == i))
    if main not in song.take_by_id:
        return []
    rest = [t for t in song.takes if t.section_id == section_id and t.voice == LEAD and t.id not in sung]
    return [(t, likeness(song.take_by_id[main], t)) for t in rest]


def next_voices(song: Song, span: Span) -> list[NextVoice]:
    """The first offers of each kind, most useful first."""
    return [offer for rule in RULES for offer in rule(song, span)][:MOST]


def _guide(song: Song, span: Span) -> Iterator[NextVoice]:
    if not melody_of(song, span):
        yield NextVoice("Find a melody", "nothing sings here yet: hum one, or write a guide on the bench")


def _lead(song: Song, span: Span) -> Iterator[NextVoice]:
    if melody_of(song, span) and not comp_of(song, span.section, LEAD):
        yield NextVoice(
            "Sing the lead", "no take of it yet; until somebody sings, the program can", {"kind": "sing_take", "section_id": span.section.id, "part": LEAD}, "Let it be sung"
        )  # fmt: skip


def _words(song: Song, span: Span) -> Iterator[NextVoice]:
    lines = lines_of(song, span.section)
    if melody_of(song, span) and not lines:
        yield NextVoice(
            "Nonsense first",
            "a syllable on every note, to be replaced as words are found",
            {"kind": "fill_nonsense", "section_id": span.section.id},
        )
    nonsense, total = sum(line.nonsense for line in lines), sum(len(line.words) for line in lines)
    if nonsense and total:
        yield NextVoice(
            "Find the words",
            f"{nonsense} of {total} words are still syllables: hear the guide dulled, and replace one by one",
        )


def _doubles(song: Song, span: Span) -> Iterator[NextVoice]:
    states = {s.part.key: s.state for s in stack_of(song, span.section)}
    free = [p for p in PAIR if states.get(p, MISSING) in (MISSING, SIMULATED)]
    for part, (take, found) in zip(
        free, [(t, k) for t, k in doubles_for(song, span.section.id) if k.verdict == NEAR_ENOUGH]
    ):
        yield NextVoice(
            f"Take {take_number(song, take)} as {part}",
            found.said(),
            {"kind": "use_as_double", "take_id": take.id, "part": part},
        )


def _missing(song: Song, span: Span) -> Iterator[NextVoice]:
    for place in stack_of(song, span.section):
        if place.state == MISSING and place.part.key != LEAD and voice_line(song, span, place.part.key).notes:
            yield NextVoice(
                f"Sing {place.part.key}", "wanted and missing; simulated, it can be heard and rehearsed",
                {"kind": "simulate_voice", "section_id": span.section.id, "part": place.part.key}, "Simulate",
            )  # fmt: skip


def _answer(song: Song, span: Span) -> Iterator[NextVoice]:
    gaps = gaps_of(song, span)
    there = any(s.part.key == "answer" and s.state != MISSING for s in stack_of(song, span.section))
    if gaps and not there and comp_of(song, span.section, LEAD):
        where = ", ".join(place_said(span, a) for a, _ in gaps[:3])
        yield NextVoice(
            "Second melody as answer",
            f"the lead rests at {where}",
            {"kind": "simulate_voice", "section_id": span.section.id, "part": "answer"},
        )


def place_said(span: Span, tick: int) -> str:
    """A tick of a section as bar and beat of the song: '41.3'."""
    bar = span.bar_of(tick)
    return f"{span.first_bar + bar}.{(tick - span.bar_ticks[bar]) / span.bar_metres[bar].beat_ticks + 1:.3g}"


RULES = (_guide, _lead, _words, _doubles, _missing, _answer)
