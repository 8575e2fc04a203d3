"""Feedback as pages and commands list it: by the places of the song, and as plain data."""

from __future__ import annotations

from escalera.core.document.remarks import Remark
from escalera.core.document.song import Song
from escalera.core.feedback.disagreement import disagreements
from escalera.core.reading.timeline import Timeline, timeline
from escalera.core.time.ticks import clock
from escalera.lazy_dataclasses import dataclass


def remarks_by_place(song: Song) -> list[tuple[str, int, list[Remark]]]:
    """(name, section id, remarks in the order of their bars), of the whole song first, then section by section; what is silent is left out."""
    there = song.section_by_id
    rows = [("the whole song", 0, [r for r in song.feedback if r.section_id not in there])]
    rows += [
        (s.name, s.id, sorted((r for r in song.feedback if r.section_id == s.id), key=lambda r: r.bar))
        for s in song.sections
    ]
    return [row for row in rows if row[2]]


def where(song: Song, line: Timeline, remark: Remark) -> str:
    """The place of a remark in words: section, bar and clock; or that its place is not in the song."""
    if remark.section_id not in song.section_by_id:
        return f"{remark.heard_at}, which is not in the song" if remark.heard_at else "the whole song"
    span = line.span_of(remark.section_id)
    if not remark.bar:
        return span.section.name
    bar = min(remark.bar, span.section.bars)
    return f"bar {span.first_bar + bar - 1} ({clock(span.start_seconds + span.grid.bar_seconds[bar - 1])})"


@dataclass(frozen=True, slots=True)
class ToldRemark:
    """A remark as it is listed."""

    id: int
    who: str
    place: str
    said: str
    state: str
    reason: str


@dataclass(frozen=True, slots=True)
class ToldClash:
    """What two remarks contradict each other about: `more` and `less` are what was said."""

    about: str
    thing: str
    more: str
    less: str


@dataclass(frozen=True, slots=True)
class FeedbackTold:
    """Remarks in their order, and contradictions between listeners."""

    remarks: tuple[ToldRemark, ...]
    contradictions: tuple[ToldClash, ...]


def feedback_as_data(song: Song) -> FeedbackTold:
    """All feedback of a song, as commands tell it."""
    line = timeline(song)
    rows = tuple(ToldRemark(r.id, r.who, where(song, line, r), r.said, r.state, r.reason) for r in song.feedback)
    clashes = tuple(
        ToldClash(c.about, c.thing, *(f"“{r.said}” ({r.who or 'somebody'})" for r in (c.one, c.other)))
        for c in disagreements(song)
    )
    return FeedbackTold(rows, clashes)
