"""Grooves in a song: which one a phrase plays, the beat that it plays, where a groove is used."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import Groove, Layer, Section, Song
from escalera.core.reading.events import START, VELOCITY, Events, layer_events, sounding_layers
from escalera.core.reading.timeline import Span, section_metres, timeline
from escalera.core.rhythm.beat import RANK, Beat, Hit, beat, beat_of_patterns, shortest
from escalera.core.rhythm.measures import swing_of
from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass


def groove_beat(song: Song, groove: Groove, metre: Metre | None = None) -> Beat:
    """The groove as one beat."""
    parts = {drum: song.pattern_by_id[i].pattern for drum, i in groove.parts}
    return beat_of_patterns(parts, metre or song.metre)


def drum_layers(song: Song) -> dict[str, Layer]:
    """The first layer of every drum role."""
    if "drum layers" not in song.memo:
        found: dict[str, Layer] = {}
        for layer in song.layers:
            if layer.sound.is_drum and layer.sound.drum in RANK:
                found.setdefault(layer.sound.drum, layer)
        song.memo["drum layers"] = found
    return song.memo["drum layers"]


def groove_at(song: Song, section: Section, low: int, high: int) -> Groove | None:
    """The groove whose patterns play between two ticks of a section, the one most heard there; None for another beat."""
    playing: dict[int, int] = {}
    owner = {pattern: g.id for g in song.grooves for _, pattern in g.parts}
    for p in section.placements:
        span = min(p.end_ticks, high) - max(p.start_ticks, low)
        if span > 0 and p.pattern_id in owner:
            playing[owner[p.pattern_id]] = playing.get(owner[p.pattern_id], 0) + span
    return song.groove_by_id[max(playing, key=lambda g: playing[g])] if playing else None


def phrase_beat(song: Song, span: Span, phrase: int) -> Beat:
    """What the drums play in a phrase, as its shortest beat: the first layer of every role, straight (swing left out)."""
    key = ("beat", span.section.id, phrase)
    if key not in song.memo:
        song.memo[key] = _phrase_beat(song, span, phrase)
    return song.memo[key]


def _phrase_beat(song: Song, span: Span, phrase: int) -> Beat:
    key = (_drums_of(song, span), *_place(song, span, phrase))
    return _kept.get_or_make(key, lambda: _beat_of(*key))


_kept: Results[Beat] = Results(512)


def _drums_of(song: Song, span: Span) -> tuple[tuple[str, Events], ...]:
    """What the first layer of every drum role plays in a section, straight."""
    key = ("drums", span.section.id)
    if key not in song.memo:
        plain = song.with_section(replace(span.section, swings=())) if span.section.swings else song
        there = timeline(plain).span_of(span.section.id)
        song.memo[key] = tuple((drum, layer_events(plain, there, x)) for drum, x in drum_layers(song).items())
    return song.memo[key]


def _place(song: Song, span: Span, phrase: int) -> tuple[int, int, Metre]:
    """Where a phrase starts and ends in its section, and its metre."""
    low, high = span.phrase_ticks()[phrase]
    return low, high, section_metres(span.section, song.metre)[sum(span.section.phrases[:phrase])]


def plays_alike(song: Song, a: tuple[Span, int], b: tuple[Span, int]) -> bool:
    """Whether the drums play the same beat in two phrases, also where one of them is longer."""
    (low, high, metre), (other_low, other_high, other_metre) = _place(song, *a), _place(song, *b)
    if high - low != other_high - other_low or metre != other_metre:
        return phrase_beat(song, *a) == phrase_beat(song, *b)
    first, second = (dict(_drums_of(song, span)) for span, _ in (a, b))
    return all(np.array_equal(_hits(first[d], low, high), _hits(second[d], other_low, other_high)) for d in first)


def _hits(events: Events, low: int, high: int) -> NDArray[np.int32]:
    """Ticks from the start, and velocities, of what is played between two ticks."""
    inside = events.table[(events.table[:, START] >= low) & (events.table[:, START] < high)][:, [START, VELOCITY]]
    return inside - np.array([low, 0], np.int32)


def _beat_of(played: tuple[tuple[str, Events], ...], low: int, high: int, metre: Metre) -> Beat:
    hits = []
    for drum, events in played:
        hits += [Hit(tick, drum, max(1, min(127, loud))) for tick, loud in _hits(events, low, high).tolist()]
    longest = 16 * metre.bar_ticks
    return shortest(beat(min(high - low, longest), metre, (h for h in hits if h.tick < longest)))


def used_in(song: Song, groove: Groove) -> list[tuple[Section, int]]:
    """The phrases that play a groove: (section, phrase from 0)."""
    mine = {pattern for _, pattern in groove.parts}
    found = []
    for span in timeline(song).spans:
        for index, (low, high) in enumerate(span.phrase_ticks()):
            placed = (p for p in span.section.placements if p.pattern_id in mine)
            if any(p.start_ticks < high and p.end_ticks > low for p in placed):
                found.append((span.section, index))
    return found


@dataclass(frozen=True, slots=True)
class Fill:
    """A fill at the end of a phrase (from 0), over its last bar."""

    phrase: int
    groove: Groove
    bar_ticks: int


FILL = "fill"  # the feel of grooves that end a phrase


def fill_in(song: Song, section: Section, phrase: int) -> Fill | None:
    """The fill that ends a phrase, or None."""
    low, high = timeline(song).span_of(section.id).phrase_ticks()[phrase]
    bar = section_metres(section, song.metre)[sum(section.phrases[: phrase + 1]) - 1].bar_ticks
    found = groove_at(song, section, max(low, high - bar), high)
    return Fill(phrase, found, bar) if found is not None and found.feel == FILL else None


def fills_in(song: Song, section: Section) -> list[Fill]:
    """The fills of a section, phrase by phrase."""
    return [f for p in range(len(section.phrases)) if (f := fill_in(song, section, p)) is not None]


def family_of(song: Song, groove: Groove) -> list[Groove]:
    """A groove with all that was varied from the same one, the first of them first."""
    root = groove.variant_of or groove.id
    return [g for g in song.grooves if g.id == root or g.variant_of == root]


@dataclass(frozen=True, slots=True)
class SwingClash:
    """Layers of a section that play the same subdivision straight and swung."""

    subdivision: str
    straight: tuple[str, ...]
    swung: tuple[str, ...]


def swing_clashes(song: Song, span: Span) -> list[SwingClash]:
    """Where some layers play a subdivision straight and others swing it, by what really sounds."""
    found = []
    for ticks, name in ((480, "eighths"), (240, "sixteenths")):
        straight, swinging = [], []
        for layer in sounding_layers(song, span.section):
            ratio = swing_of(layer_events(song, span, layer).table[:, START], ticks)
            if ratio is not None and abs(ratio - 0.5) < 0.02:
                straight.append(layer.name)
            elif ratio is not None and 0.54 <= ratio <= 0.72:  # beyond that it is a dotted figure
                swinging.append(layer.name)
        if straight and swinging:
            found.append(SwingClash(name, tuple(straight), tuple(swinging)))
    return found
