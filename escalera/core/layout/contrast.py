"""B parts: where a section is there to contrast, tunes that the program brought are turned over; nothing of one's own is touched."""

from __future__ import annotations

from collections.abc import Sequence

from escalera.core.bench.seats import MELODIC, Seat
from escalera.core.document.song import Section, Song
from escalera.core.edits.line_edits import TransformLine
from escalera.core.energy.model import section_energy
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError

CONTRASTING = ("bridge", "solo", "interlude", "breakdown")
FARTHER = 0.3  # points that a section may move away from its target for it
B_PART = "a contrasting part: turned over, and busier or calmer"


def with_b_parts(song: Song, sections: Sequence[Section], row: Sequence[Seat]) -> tuple[Song, dict[int, list[int]]]:
    """The song with stand-in tunes turned over in sections that contrast, and which layers of which section those are."""
    made: dict[int, list[int]] = {}
    melodic = [s.layer.id for s in row if s.part in MELODIC and s.layer.stand_in]
    for section in sections:
        if section.role not in CONTRASTING:
            continue
        for layer_id in melodic:
            after = _turned(song, section.id, layer_id)
            if after is not None and _away(after, section.id) <= _away(song, section.id) + FARTHER:
                song = after
                made.setdefault(section.id, []).append(layer_id)
    return song, made


def _turned(song: Song, section_id: int, layer_id: int) -> Song | None:
    """The song with a layer's line turned over in every phrase of a section in which it plays; None where it plays nowhere."""
    after, section = song, song.section_by_id[section_id]
    for phrase in range(len(section.phrases)):
        try:
            after = TransformLine(section_id, layer_id, phrase, "contrast").apply(after)
        except EditError:  # it rests in this phrase, or would be left empty
            continue
    return after if after is not song else None


def _away(song: Song, section_id: int) -> float:
    span = timeline(song).span_of(section_id)
    return abs(section_energy(song, span).value - span.section.target.mean)
