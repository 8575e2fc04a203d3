"""The melody that voices follow in a section: whose notes they are, and the lines it is sung in."""

from __future__ import annotations

from collections.abc import Sequence

from escalera.core.document.song import Layer, Section, Song
from escalera.core.palette.voice_parts import LEAD
from escalera.core.reading.events import DURATION, PITCH, START, layer_events
from escalera.core.reading.timeline import Span, timeline
from escalera.lazy_dataclasses import dataclass

REST_TICKS = 480  # between two notes: a breath
TUNEFUL = ("voices", "leads")


@dataclass(frozen=True, slots=True)
class MelodyNote:
    """A note to be sung: ticks of its section, MIDI pitch."""

    start: int
    end: int
    pitch: int


def guide_of(song: Song, section: Section | None = None, part: str = LEAD) -> Layer | None:
    """The layer whose notes a voice follows: the one that was named as its guide, else for the lead the tune of the voices, or of the
    leads, that plays in a section (or anywhere)."""
    written = [x for x in song.layers if not x.clips and not x.sound.is_drum]
    named = next((x for x in written if x.voice == part), None)
    if named is not None or part != LEAD:
        return named
    bodies = (section,) if section is not None else song.sections
    playing = {p.layer_id for s in bodies for p in s.placements}
    sings = any(x.family == "voices" for x in written)
    for family in TUNEFUL[:1] if sings else TUNEFUL:
        found = [x for x in written if x.family == family and x.job != "width" and not x.voice and x.id in playing]
        if found:
            return max(found, key=lambda x: (x.job == "hook", -x.id))
    return None


def melody_of(song: Song, span: Span, part: str = LEAD) -> tuple[MelodyNote, ...]:
    """The notes that a voice is to sing in a section, in order, one at a time; none where there is no guide."""
    key = ("melody", span.section, part)
    if key not in song.memo:
        song.memo[key] = _melody_of(song, span, part)
    found: tuple[MelodyNote, ...] = song.memo[key]
    return found


def _melody_of(song: Song, span: Span, part: str) -> tuple[MelodyNote, ...]:
    layer = guide_of(song, span.section, part)
    if layer is None:
        return ()
    rows = sorted(
        (int(r[START]), int(r[START] + r[DURATION]), int(r[PITCH])) for r in layer_events(song, span, layer).table
    )
    notes: list[MelodyNote] = []
    for start, end, pitch in rows:
        if notes and start - notes[-1].start < 30:  # of a chord the highest is the tune
            notes[-1] = MelodyNote(notes[-1].start, max(end, notes[-1].end), max(pitch, notes[-1].pitch))
            continue
        if notes and notes[-1].end > start:
            notes[-1] = MelodyNote(notes[-1].start, start, notes[-1].pitch)
        notes.append(MelodyNote(start, end, pitch))
    return tuple(n for n in notes if n.start < span.length_ticks)


def sung_lines(notes: Sequence[MelodyNote], rest_ticks: int = REST_TICKS) -> list[tuple[int, int]]:
    """Where a melody is sung in one breath: index of the first note and of the one after the last."""
    edges = [0, *(i for i in range(1, len(notes)) if notes[i].start - notes[i - 1].end >= rest_ticks), len(notes)]
    return [(a, b) for a, b in zip(edges, edges[1:]) if a < b]


def span_in(song: Song, section_id: int) -> Span | None:
    """Where a section lies in a song, None where it is gone."""
    return timeline(song).span_of(section_id) if section_id in song.section_by_id else None
