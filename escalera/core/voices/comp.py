"""The comp of a voice in a section: which take plays from where to where. It is read from the clips that the voice's layer plays."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from escalera.core.document.singing import BREATHS, Take
from escalera.core.document.song import Layer, Section, Song
from escalera.core.reading.events import unroll
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.pattern import CLIP
from escalera.core.voices.word_places import words_laid
from escalera.lazy_dataclasses import dataclass

FADE_MS = 12.0  # of a seam between two takes
REST_S = 0.06  # between two notes, in which a seam can lie where nobody breathes
NEAR_SEAM_S = 0.35  # how far a seam is moved to lie in a breath


@dataclass(frozen=True, slots=True)
class CompPart:
    """A stretch of a comp in ticks of its section; `take_id` is 0 for a recording that is no take."""

    low: int
    high: int
    take_id: int


def sung_layer(song: Song, part: str) -> Layer | None:
    """The layer that plays the takes of a voice."""
    return next((x for x in song.layers if x.voice == part and x.clips), None)


def comp_of(song: Song, section: Section, part: str) -> tuple[CompPart, ...]:
    """The pieces of a voice's comp in a section, in order."""
    layer = sung_layer(song, part)
    if layer is None:
        return ()
    by_content = {t.content: t.id for t in song.takes} | {t.played: t.id for t in song.takes}
    rows = []
    for placement in (p for p in section.placements if p.layer_id == layer.id):
        low, high = placement.start_ticks, placement.end_ticks
        played = unroll(song.pattern_by_id[placement.pattern_id].pattern, placement)
        for start, duration, kind, value, _, _ in played.tolist():
            a, b = max(low, start), min(high, start + duration)
            if kind == CLIP and value < len(layer.clips) and a < b:
                rows.append((a, b, by_content.get(layer.clips[value].sample, 0)))
    rows.sort()
    ends = [min(end, after[0]) for (_, end, _), after in zip(rows, [*rows[1:], (10**9,)])]  # seams overlap
    return tuple(CompPart(low, high, take_id) for (low, _, take_id), high in zip(rows, ends))


def laid_over(pieces: Sequence[CompPart], new: CompPart) -> tuple[CompPart, ...]:
    """A comp with another piece laid over what was there; take 0 leaves a hole. Neighbours of one take that meet are one piece."""
    kept: list[CompPart] = []
    for p in pieces:
        if p.high <= new.low or p.low >= new.high:
            kept.append(p)
            continue
        if p.low < new.low:
            kept.append(CompPart(p.low, new.low, p.take_id))
        if p.high > new.high:
            kept.append(CompPart(new.high, p.high, p.take_id))
    rows = sorted([*kept, *([new] if new.take_id else [])], key=lambda p: p.low)
    found: list[CompPart] = []
    for p in rows:
        if found and found[-1].take_id == p.take_id and found[-1].high >= p.low:
            found[-1] = CompPart(found[-1].low, max(found[-1].high, p.high), p.take_id)
        elif p.high - p.low > 1:
            found.append(p)
    return tuple(found)


def covered(pieces: Sequence[CompPart]) -> int:
    """How many ticks a comp fills."""
    return sum(p.high - p.low for p in pieces)


def seam_near(take: Take, span: Span, tick: int, reach_s: float = NEAR_SEAM_S) -> int:
    """A tick near a wished one at which a take breathes or rests, where there is one; else the tick itself."""
    at = take.zero_s + span.seconds_at(tick)
    breaths = [(a + b) / 2.0 for a, b in take.noise(BREATHS)]
    rests = [(a.end_s + b.start_s) / 2.0 for a, b in zip(take.sung, take.sung[1:]) if b.start_s - a.end_s > REST_S]
    near = next((rows for kind in (breaths, rests) if (rows := [q for q in kind if abs(q - at) <= reach_s])), [])
    if not near:
        return tick
    best = min(near, key=lambda q: abs(q - at))
    moved = ticks_at(span, best - take.zero_s)
    return min(max(0, moved), span.length_ticks)


def ticks_at(span: Span, seconds: float) -> int:
    """The tick of a section at so many seconds from its start."""
    return round(float(span.grid.tempo.ticks_at(np.array([seconds]))[0]))


def takes_of(song: Song, section: Section, part: str) -> list[Take]:
    """The takes of a voice that can sing in a section, in the order in which they were sung: its own, and where it is a copy those of
    the section whose takes its comp plays."""
    known = song.take_by_id
    homes = {known[p.take_id].section_id for p in comp_of(song, section, part) if p.take_id in known} | {section.id}
    return [t for t in song.takes if t.section_id in homes and t.voice == part]


def take_number(song: Song, take: Take) -> int:
    """A take's number among those of its section, from 1."""
    mine = [t.id for t in song.takes if t.section_id == take.section_id]
    return mine.index(take.id) + 1


def cuts_of(song: Song, span: Span, by: str) -> list[tuple[int, int]]:
    """Stretches of a section that a comp is made by: its phrases, the lines of its words, or its words."""
    if by == "phrase":
        return list(span.phrase_ticks())
    laid = words_laid(song, span)
    if by == "line":
        starts = [line.start for line in laid.lines]
    else:
        starts = sorted({min(p.start for p in laid.places if p.word == w) for w in {p.word for p in laid.places}})
    edges = [0, *starts[1:], span.length_ticks] if starts else []
    return [(a, b) for a, b in zip(edges, edges[1:]) if a < b]
