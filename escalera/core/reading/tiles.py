"""Readings of the document that people look at: tiles of the wall, lengths in words, where a section lies."""

from __future__ import annotations

from itertools import accumulate

from escalera.core.caching import Results
from escalera.core.document.song import Placement, Section, Song
from escalera.core.hashing import HashedOnce
from escalera.core.reading.timeline import Span
from escalera.core.time.ticks import bars_counted, clock
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Tile(HashedOnce):
    """One layer in one phrase. `state`: empty, full, part, thin, opening, closing; `varied` when a pattern is changed.

    `filled` are the stretches that sound, as shares of the phrase, where it does not sound throughout.
    """

    section_id: int
    layer_id: int
    phrase: int
    first_bar: int
    bars: int
    state: str
    varied: bool
    patterns: tuple[str, ...]
    filled: tuple[tuple[float, float], ...] = ()
    __hash__ = HashedOnce.__hash__

    @property
    def said(self) -> str:
        """'bars 13–16: Backbeat: kick, thin'."""
        what = ", ".join(self.patterns) or "empty"
        return f"{bars_said(self.first_bar, self.bars)}: {what}" + (
            f", {self.state}" if self.state not in ("empty", "full") else ""
        )


_kept: Results[dict[int, list[Tile]]] = Results(512)


def tiles(song: Song, span: Span) -> dict[int, list[Tile]]:
    """The tiles of every layer in a section by layer id, one a phrase; not to be changed."""
    section = span.section
    played = {p.pattern_id for p in section.placements}
    names = tuple((p.id, p.name) for p in song.patterns if p.id in played)
    layers = tuple(layer.id for layer in song.layers)
    key = (section.id, span.first_bar, section.phrases, span.phrase_ticks(), section.placements, layers, names)
    return _kept.get_or_make(key, lambda: _tiles(span, layers, dict(names)))


def _tiles(span: Span, layers: tuple[int, ...], names: dict[int, str]) -> dict[int, list[Tile]]:
    section, phrases = span.section, span.phrase_ticks()
    inside: dict[tuple[int, int], list[Placement]] = {}
    for p in section.placements:
        for phrase, (low, high) in enumerate(phrases):
            if p.start_ticks < high and p.end_ticks > low:
                inside.setdefault((p.layer_id, phrase), []).append(p)
    first_bars = list(accumulate(section.phrases, initial=span.first_bar))
    return {
        layer: [
            _tile(names, section, layer, i, first_bars[i], phrases[i], inside.get((layer, i), []))
            for i in range(len(phrases))
        ]
        for layer in layers
    }


def _tile(
    names: dict[int, str],
    section: Section,
    layer_id: int,
    phrase: int,
    bar: int,
    ticks: tuple[int, int],
    inside: list[Placement],
) -> Tile:
    bars = section.phrases[phrase]
    if not inside:
        return Tile(section.id, layer_id, phrase, bar, bars, "empty", False, ())
    low, high = ticks
    covered = sum(min(p.end_ticks, high) - max(p.start_ticks, low) for p in inside)
    called = tuple(dict.fromkeys(names[p.pattern_id] for p in inside))
    changed = (p.variation for p in inside)
    varied = any(v.transpose_semitones or v.double or v.reverse or abs(v.level_start_db) > 0.01 for v in changed)
    state = _state(inside, covered, high - low)
    filled = _filled(inside, low, high) if covered < (high - low) * 0.99 else ()
    return Tile(section.id, layer_id, phrase, bar, bars, state, varied, called, filled)


def _filled(inside: list[Placement], low: int, high: int) -> tuple[tuple[float, float], ...]:
    """Stretches of a phrase that sound, joined where they meet, as shares of its length."""
    found: list[tuple[int, int]] = []
    for start, end in sorted((max(p.start_ticks, low), min(p.end_ticks, high)) for p in inside):
        if found and start <= found[-1][1]:
            found[-1] = (found[-1][0], max(end, found[-1][1]))
        else:
            found.append((start, end))
    length = high - low
    return tuple((round((a - low) / length, 4), round((b - low) / length, 4)) for a, b in found)


def _state(inside: list[Placement], covered: int, length: int) -> str:
    slopes = {p.variation.slope for p in inside}
    if 1 in slopes:
        return "opening"
    if -1 in slopes:
        return "closing"
    if any(p.variation.keep < 1.0 for p in inside):
        return "thin"
    return "full" if covered >= length * 0.99 else "part"


def bars_said(first: int, count: int) -> str:
    """'bar 56', or 'bars 13–16'."""
    return f"bar {first}" if count == 1 else f"bars {first}–{first + count - 1}"


def where(span: Span) -> str:
    """'bars 29–36 · 8 bars · 1:05–1:23; the next starts at bar 37'."""
    s = span.section
    bars = bars_said(span.first_bar, s.bars)
    count = bars_counted(s.bars)
    return (
        f"{bars} · {count} · {clock(span.start_seconds)}–{clock(span.end_seconds)}; the next "
        f"starts at bar {span.last_bar + 1}"
    )
