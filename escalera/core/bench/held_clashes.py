"""Held notes of two layers that rub: semitones that the chord does not name, and minor ninths, longer than half a beat."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import product

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import Layer, Section, Song
from escalera.core.reading.events import DURATION, PITCH, START, heard_in, layer_events, sounding_layers
from escalera.core.reading.section_harmony import Harmony, section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.voicings import INVERSIONS
from escalera.lazy_dataclasses import dataclass

Table = NDArray[np.int64]
MELODIC = ("leads", "voices")  # what goes on within a beat is led, not held
RUBS = (1, 13)
PITCHED = ("low end", "chords", "leads", "voices")


@dataclass(frozen=True, slots=True)
class HeldClash:
    """Two notes together from a tick of the section on: how long, and their pitches."""

    tick: int
    ticks: int
    low: int
    high: int


def held_notes(song: Song, span: Span, layer: Layer) -> Table:
    """The notes of a layer in a section that may be held against others, shape (n, columns of events), by start: of tunes only those
    that last longer than a beat."""
    table = layer_events(song, span, layer).table.astype(np.int64)
    beat = span.bar_metres[0].beat_ticks
    return table[table[:, DURATION] > beat] if layer.family in MELODIC else table


def clashes_among(tables: Sequence[Table], harmony: Harmony, beat_ticks: int) -> dict[tuple[int, int], list[HeldClash]]:
    """What pairs of layers hold against each other, by their places in `tables`, in order of time."""
    rows = [np.column_stack((t[:, [START, DURATION, PITCH]], np.full(len(t), i))) for i, t in enumerate(tables)]
    notes = np.concatenate(rows) if rows else np.zeros((0, 4), np.int64)
    notes = notes[2 * notes[:, 1] > beat_ticks]  # what is shorter holds against nothing
    by_pitch = {int(p): notes[notes[:, 2] == p] for p in np.unique(notes[:, 2])}
    found: dict[tuple[int, int], list[HeldClash]] = {}
    for low, apart in product(by_pitch, RUBS):
        if low + apart in by_pitch:
            for tick, ticks, one, other in _together(by_pitch[low], by_pitch[low + apart], beat_ticks):
                named = {low % 12, (low + apart) % 12} <= harmony.chords[harmony.index_at(tick)].classes
                if apart != 1 or not named:
                    pair = (min(one, other), max(one, other))
                    found.setdefault(pair, []).append(HeldClash(tick, ticks, low, low + apart))
    return {pair: sorted(clashes, key=lambda c: (c.tick, c.low)) for pair, clashes in sorted(found.items())}


def _together(a: Table, b: Table, beat_ticks: int) -> Iterator[tuple[int, int, int, int]]:
    """Start and length of what two rows of notes sound together for more than half a beat, and whose they are; not of one layer."""
    start = np.maximum(a[:, None, 0], b[None, :, 0])
    ticks = np.minimum(a[:, None, 0] + a[:, None, 1], b[None, :, 0] + b[None, :, 1]) - start
    for i, j in zip(*np.nonzero((2 * ticks > beat_ticks) & (a[:, None, 3] != b[None, :, 3]))):
        yield int(start[i, j]), int(ticks[i, j]), int(a[i, 3]), int(b[j, 3])


_kept: Results[list[tuple[int, int, list[HeldClash]]]] = Results(512)


def clashes_in(song: Song, span: Span) -> list[tuple[int, int, list[HeldClash]]]:
    """Layers of a section by their ids, two by two, with what they hold against each other; muted layers left out."""
    layers = [x for x in sounding_layers(song, span.section) if not x.sound.is_drum and x.family in PITCHED]

    def made() -> list[tuple[int, int, list[HeldClash]]]:
        tables = [held_notes(song, span, x) for x in layers]
        found = clashes_among(tables, section_harmony(song, span), span.bar_metres[0].beat_ticks)
        return [(layers[i].id, layers[j].id, clashes) for (i, j), clashes in found.items()]

    return _kept.get_or_make((heard_in(song, span), tuple(x.id for x in layers)), made)


def clearest(song: Song, section: Section, layer: Layer) -> Layer:
    """A chord layer voiced without clashes of its own, its lowest tone and what it leaves out chosen so that it rubs least against other chords.

    What it plays in the section decides; where all are alike, voices move least and nothing is left out.
    """
    span = timeline(song).span_of(section.id)
    playing = {p.layer_id for p in section.placements}
    others = [x for x in song.layers if x.id in playing and x.id != layer.id and x.family == "chords" and not x.muted]
    harmony, beat = section_harmony(song, span), span.bar_metres[0].beat_ticks
    rest = [held_notes(song, span, x) for x in others]
    known = np.concatenate(rest) if rest else np.zeros((0, PITCH + 1), np.int64)

    def rubbing(candidate: Layer) -> int:
        mine = held_notes(song.with_layer(candidate), span, candidate)
        found = clashes_among((mine, known), harmony, beat)
        return sum(c.ticks for clashes in found.values() for c in clashes)

    best, least = layer, -1
    for candidate in _candidates(layer):
        rubs = rubbing(candidate)
        if rubs == 0:
            return candidate
        if least < 0 or rubs < least:
            best, least = candidate, rubs
    return best


def _candidates(layer: Layer) -> Iterator[Layer]:
    for omit, inversion in product(("", "root"), INVERSIONS[:4]):
        yield replace(layer, voicing=replace(layer.voicing, clear=True, omit=omit, inversion=inversion))
