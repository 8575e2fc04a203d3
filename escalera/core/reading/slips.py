"""Slips of a beat: what starts or ends a beat beside a bar line, where everything else keeps to it."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import replace
from typing import Any

from escalera.core.document.song import Section, Song
from escalera.core.reading.timeline import Span
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Slip:
    """A placement or throw whose start or end lies within a beat of a bar line: where, and by how many beats."""

    what: str  # placement, throw
    index: int
    end: bool
    tick: int
    line: int
    beats: float
    said: str


def find_slips(song: Song, span: Span) -> list[Slip]:
    """All slips of a section. A part that lasts less than two bars may begin and end where it likes."""
    section, found = span.section, []
    spans = [("placement", i, p.layer_id, p.start_ticks, p.end_ticks) for i, p in enumerate(section.placements)]
    spans += [("throw", i, t.layer_id, t.start_ticks, t.end_ticks) for i, t in enumerate(section.throws)]
    for what, index, layer_id, start, end in spans:
        bar = span.bar_ticks[1]
        if what == "placement" and end - start < 2 * bar:
            continue
        for is_end, tick in ((False, start), (True, end)):
            if what == "throw" and not is_end:
                continue
            line = _nearest(span.bar_ticks, tick)
            beat = span.bar_metres[min(span.bar_of(line), len(span.bar_metres) - 1)].beat_ticks
            off = (tick - line) / beat
            if what == "throw" and not start < line < tick:
                continue  # a throw may end anywhere, but one that runs over the bar line by a beat is a beat long
            if off and abs(off) <= 1:
                found.append(
                    Slip(what, index, is_end, tick, line, off, _said(song, span, layer_id, what, is_end, line, off))
                )
    return found


def _nearest(lines: tuple[int, ...], tick: int) -> int:
    i = bisect_left(lines, tick)
    return min(lines[max(0, i - 1) : i + 1], key=lambda line: abs(line - tick))


def _said(song: Song, span: Span, layer_id: int, what: str, end: bool, line: int, off: float) -> str:
    name = song.layer_by_id[layer_id].name
    bar = span.first_bar + span.bar_ticks.index(line)
    beats = f"{abs(off):.3g} {'beat' if abs(off) <= 1 else 'beats'}"
    verb = "ends" if end else "starts"
    part = f"The throw of {name}" if what == "throw" else name
    place = f"the end of bar {bar - 1}" if end else f"bar {bar}"
    return f"{part} {verb} {beats} {'late' if off > 0 else 'early'}, beside {place}"


def mended(section: Section, slips: list[Slip]) -> Section:
    """The section with every slip brought onto its bar line; what would overlap its neighbour stays."""
    placements, throws = list(section.placements), list(section.throws)
    for slip in slips:
        rows: list[Any] = placements if slip.what == "placement" else throws
        old = rows[slip.index]
        new = replace(old, end_ticks=slip.line) if slip.end else replace(old, start_ticks=slip.line)
        others = [r for i, r in enumerate(rows) if i != slip.index and r.layer_id == old.layer_id]
        if new.start_ticks < new.end_ticks and not any(
            r.start_ticks < new.end_ticks and r.end_ticks > new.start_ticks for r in others
        ):
            rows[slip.index] = new
    return replace(section, placements=tuple(placements), throws=tuple(throws))
