"""Readings of the document that people look at: tiles of the wall, lengths in words, where a section lies."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import accumulate

from escalera.core.document.song import Placement, Section, Song
from escalera.core.reading.timeline import Span
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

    @property
    def said(self) -> str:
        """'bars 13–16: Backbeat: kick, thin'."""
        what = ", ".join(self.patterns) or "empty"
        return f"bars {self.first_bar}–{self.first_bar + self.bars - 1}: {what}" + (
            f", {self.state}" if self.state not in ("empty", "full") else ""
        )


def tiles(song: Song, span: Span) -> dict[int, list[Tile]]:
    """The tiles of every layer in a section by layer id, one a phrase."""
    section, phrases = span.section, span.phrase_ticks()
    inside: dict[tuple[int, int], list[Placement]] = {}
    for p in section.placements:
        for phrase, (low, high) in enumerate(phrases):
            if p.start_ticks < high and p.end_ticks > low:
                inside.setdefault((p.layer_id, phrase), []).append(p)
    first_bars = list(accumulate(section.phrases, initial=span.first_bar))
    return {
        layer.id: [
            _tile(song, section, layer.id, i, first_bars[i], phrases[i], inside.get((layer.id, i), []))
            for i in range(len(phrases))
        ]
        for layer in song.layers
    }


def _tile(
    song: Song, section: Section, layer_id: int, phrase: int, bar: int, ticks: tuple[int, int], inside: list[Placement]
) -> Tile:
    bars = section.phrases[phrase]
    if not inside:
        return Tile(section.id, layer_id, phrase, bar, bars, "empty", False, ())
    low, high = ticks
    covered = sum(min(p.end_ticks, high) - max(p.start_ticks, low) for p in inside)
    names = tuple(dict.fromkeys(song.pattern_by_id[p.pattern_id].name for p in inside))
    changed = (p.variation for p in inside)
    varied = any(v.transpose_semitones or v.double or v.reverse or abs(v.level_start_db) > 0.01 for v in changed)
    return Tile(section.id, layer_id, phrase, bar, bars, _state(inside, covered, high - low), varied, names)


def _state(inside: list[Placement], covered: int, length: int) -> str:
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
    return (
        f"{bars} · {count} · {clock(span.start_seconds)}–{clock(span.end_seconds)}; the next "
        f"starts at bar {span.last_bar + 1}"
    )
