"""Readings of the document that people look at: tiles of the wall, lengths in words, where a section lies."""

from __future__ import annotations

from dataclasses import dataclass

from escalera.core.song.document import Layer, Song
from escalera.core.song.timeline import Span
from escalera.core.time.ticks import clock


@dataclass(frozen=True, slots=True)
class Tile:
    """One layer in one phrase. `state`: bare, full, part, thin, opening, closing; `varied` when a pattern is changed."""

    section_id: int
    layer_id: int
    phrase: int
    first_bar: int
    bars: int
    state: str
    varied: bool
    patterns: tuple[str, ...]


def tiles(song: Song, span: Span, layer: Layer) -> list[Tile]:
    """The tiles of a layer in a section, one a phrase."""
    placements = [p for p in span.section.placements if p.layer_id == layer.id]
    result, bar = [], span.first_bar
    for phrase, (low, high) in enumerate(span.phrase_ticks()):
        inside = [p for p in placements if p.start_ticks < high and p.end_ticks > low]
        covered = sum(min(p.end_ticks, high) - max(p.start_ticks, low) for p in inside)
        names = tuple(dict.fromkeys(song.pattern_by_id[p.pattern_id].name for p in inside))
        varied = any(
            v.transpose_semitones or v.double or v.reverse or _level(v.level_start_db)
            for v in (p.variation for p in inside)
        )
        bars = span.section.phrases[phrase]
        result.append(
            Tile(span.section.id, layer.id, phrase, bar, bars, _state(inside, covered, high - low), varied, names)
        )
        bar += bars
    return result


def _level(level_db: float) -> bool:
    return abs(level_db) > 0.01


def _state(inside: list, covered: int, length: int) -> str:  # type: ignore[type-arg]
    if not inside:
        return "bare"
    slopes = {p.variation.slope for p in inside}
    if 1 in slopes:
        return "opening"
    if -1 in slopes:
        return "closing"
    if any(p.variation.keep < 1.0 for p in inside):
        return "thin"
    return "full" if covered >= length * 0.99 else "part"


def where(span: Span) -> str:
    """'bars 29–36 · 8 bars · 1:05–1:23; the next starts at bar 37'."""
    s = span.section
    bars = f"bar {span.first_bar}" if s.bars == 1 else f"bars {span.first_bar}–{span.last_bar}"
    count = "1 bar" if s.bars == 1 else f"{s.bars} bars"
    return f"{bars} · {count} · {clock(span.start_seconds)}–{clock(span.end_seconds)}; the next starts at bar {span.last_bar + 1}"
