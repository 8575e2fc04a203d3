"""Placements on tick spans: clipping, clearing, moving. The arithmetic that edits share."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from escalera.core.document.shaping import at_other_ticks
from escalera.core.document.song import Ids, Layer, NamedPattern, Placement, Section, Song, Variation
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.rhythm.pattern import Pattern
from escalera.core.time.metre import Metre
from escalera.errors import EditError


def clip(placement: Placement, low: int, high: int) -> Placement | None:
    """The part of a placement inside [low, high); its curves keep their values there. None when nothing is left."""
    start, end = max(placement.start_ticks, low), min(placement.end_ticks, high)
    if start >= end:
        return None
    if (start, end) == (placement.start_ticks, placement.end_ticks):
        return placement
    length = placement.end_ticks - placement.start_ticks
    first, last = (start - placement.start_ticks) / length, (end - placement.start_ticks) / length
    return replace(placement, start_ticks=start, end_ticks=end, variation=_part(placement.variation, first, last))


def _part(variation: Variation, first: float, last: float) -> Variation:
    if not variation.slope and variation.lowpass_start_hz is None:
        return variation

    def level(share: float) -> float:
        return variation.level_start_db + (variation.level_end_db - variation.level_start_db) * share

    def cutoff(share: float) -> float | None:
        a, b = variation.lowpass_start_hz, variation.lowpass_end_hz
        return None if a is None or b is None else a * (b / a) ** share

    return replace(
        variation,
        level_start_db=level(first),
        level_end_db=level(last),
        lowpass_start_hz=cutoff(first),
        lowpass_end_hz=cutoff(last),
    )


def cleared(placements: Iterable[Placement], layer_id: int, low: int, high: int, ids: Ids) -> list[Placement]:
    """Placements with one layer silent in [low, high); what reaches over the span is cut in two."""
    kept = []
    for placement in placements:
        if placement.layer_id != layer_id or placement.end_ticks <= low or placement.start_ticks >= high:
            kept.append(placement)
            continue
        before, after = clip(placement, 0, low), clip(placement, high, placement.end_ticks)
        if before:
            kept.append(before)
        if after:
            kept.append(replace(after, id=ids()) if before else after)
    return kept


def without_patterns(section: Section, gone: set[int]) -> Section:
    """A section in which some patterns fall silent."""
    return replace(section, placements=tuple(p for p in section.placements if p.pattern_id not in gone))


def ordered(placements: Iterable[Placement]) -> tuple[Placement, ...]:
    """Placements by layer, then by start: the one order in which sections keep them."""
    return tuple(sorted(placements, key=lambda p: (p.layer_id, p.start_ticks)))


def joined(placements: Iterable[Placement]) -> tuple[Placement, ...]:
    """Neighbours that play the same pattern in the same way become one placement."""
    result: list[Placement] = []
    for p in ordered(placements):
        last = result[-1] if result else None
        if last and _continues(last, p):
            result[-1] = replace(last, end_ticks=p.end_ticks)
        else:
            result.append(p)
    return tuple(result)


def _continues(a: Placement, b: Placement) -> bool:
    same = (a.layer_id, a.pattern_id, a.offset_ticks, a.variation) == (
        b.layer_id,
        b.pattern_id,
        b.offset_ticks,
        b.variation,
    )
    return same and a.end_ticks == b.start_ticks and not a.variation.slope


def moved(placement: Placement, ticks: int, song: Song) -> Placement:
    """A placement shifted in its section, cycles shifted along."""
    length = song.pattern_by_id[placement.pattern_id].pattern.length_ticks
    return replace(
        placement,
        start_ticks=placement.start_ticks + ticks,
        end_ticks=placement.end_ticks + ticks,
        offset_ticks=(placement.offset_ticks + ticks) % length,
    )


def span_ticks(song: Song, section: Section, phrase: int | None, start: int | None, end: int | None) -> tuple[int, int]:
    """Ticks of a phrase (from 0), of an explicit span, or of the whole section. Raises EditError."""
    bars = section_bar_ticks(section, song.metre)
    if phrase is not None:
        if not 0 <= phrase < len(section.phrases):
            raise EditError(
                f"{section.name} has {len(section.phrases)} phrases, no phrase {phrase + 1}. Choose one of them."
            )
        first = sum(section.phrases[:phrase])
        return bars[first], bars[min(first + section.phrases[phrase], section.bars)]
    low = 0 if start is None else start
    high = bars[-1] if end is None else end
    if not 0 <= low < high <= bars[-1]:
        raise EditError(
            f"Ticks {low} to {high} do not lie in {section.name}, which has {bars[-1]} ticks. Choose a span inside it."
        )
    return low, high


def remap_bars(old: Section, old_metre: Metre, new: Section, new_metre: Metre) -> Section:
    """`new` (the same bars in another metre) with the placements of `old` kept on their bars."""
    before, after = section_bar_ticks(old, old_metre), section_bar_ticks(new, new_metre)
    if before == after:
        return new

    def tick(value: int) -> int:
        bar = max(i for i in range(len(before)) if before[i] <= value)
        if bar >= old.bars:
            return after[-1]
        return min(after[bar] + value - before[bar], after[bar + 1])

    placements = []
    for p in old.placements:
        start, end = tick(p.start_ticks), tick(p.end_ticks)
        if start < end:
            placements.append(replace(p, start_ticks=start, end_ticks=end))
    points = tuple(p._replace(tick=tick(p.tick)) for p in old.tempo_changes)
    return at_other_ticks(replace(new, placements=ordered(placements), tempo_changes=points), tick)


def add_pattern(song: Song, name: str, family: str, pattern: Pattern) -> tuple[Song, int]:
    """The song with the pattern in its list, and its id; equal content of the same family is stored once."""
    for entry in song.patterns:
        if entry.family == family and entry.pattern == pattern:
            return song, entry.id
    entry = NamedPattern(song.next_id, name, family, pattern)
    return replace(song, patterns=(*song.patterns, entry), next_id=song.next_id + 1), entry.id


def nearest_phrase(song: Song, section: Section, layer: Layer, phrase: int) -> list[tuple[int, Placement]]:
    """Placements to copy when a bare tile is filled: (start tick of their phrase, placement clipped to it).

    Looks in the same section outward from the phrase, then in sections of the same role, then anywhere.
    """
    others = sorted((s for s in song.sections if s.id != section.id), key=lambda s: s.role != section.role)
    for candidate in (section, *others):
        order = sorted(range(len(candidate.phrases)), key=lambda i: (abs(i - phrase), i))
        for index in order:
            if candidate is section and index == phrase:
                continue
            low, high = span_ticks(song, candidate, index, None, None)
            found = [clip(p, low, high) for p in candidate.placements if p.layer_id == layer.id]
            inside = [(low, p) for p in found if p is not None]
            if inside:
                return inside
    return []
