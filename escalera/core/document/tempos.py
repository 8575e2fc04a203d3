"""A section's own tempo: what of it lies between two ticks, and glides written into it."""

from __future__ import annotations

from escalera.core.document.song import Section
from escalera.core.time.tempo import TempoPoint, tempo_map

Points = tuple[TempoPoint, ...]


def _in_glide(points: Points, tick: int) -> bool:
    """Whether the tempo is on its way to another one at a tick."""
    before = [p for p in points if p.tick <= tick]
    return bool(before) and before[-1].glides and before[-1] is not points[-1]


def tempos_until(section: Section, tick: int) -> Points:
    """The tempo changes before a tick; a glide that is cut arrives where it had got to."""
    points = section.tempo_changes
    kept = tuple(p for p in points if p.tick < tick)
    if kept and kept[-1].glides and len(kept) < len(points):
        return (*kept, TempoPoint(tick, round(tempo_map(points).bpm_at(tick), 4)))
    return kept


def tempos_from(section: Section, tick: int) -> Points:
    """The tempo changes from a tick on, counted from it; a glide that is cut goes on from where it had got to."""
    points = section.tempo_changes
    later = tuple(p._replace(tick=p.tick - tick) for p in points if p.tick > tick)
    if not [p for p in points if p.tick <= tick]:
        return later
    return (TempoPoint(0, round(tempo_map(points).bpm_at(tick), 4), _in_glide(points, tick)), *later)


def with_glide(points: Points, start: int, end: int, to_bpm: float) -> Points:
    """Points (the first at tick 0) with a glide over a span; changes inside it go, and a glide that leads into it now ends at its start."""
    tempo = tempo_map(points)
    before = [p for p in points if p.tick < start]
    after = [p for p in points if p.tick > end]
    return (*before, TempoPoint(start, round(tempo.bpm_at(start), 4), True), TempoPoint(end, to_bpm), *after)


def without_glides(points: Points) -> Points:
    """Only the steps: glides and the tempos they arrive at are gone."""
    arrivals = {b.tick for a, b in zip(points, points[1:]) if a.glides}
    return tuple(p for p in points if not p.glides and p.tick not in arrivals)
