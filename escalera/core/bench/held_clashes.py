"""Held notes of two layers that rub: semitones that the chord does not name, and minor ninths, longer than half a beat."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import product

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer, Section, Song
from escalera.core.reading.events import DURATION, PITCH, START, layer_events
from escalera.core.reading.section_harmony import Harmony, section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.voicings import INVERSIONS

Table = NDArray[np.int64]
MELODIC = ("leads", "voices")  # what goes on by a step within a beat is led, not held
STEP = 2  # semitones
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
    """The notes of a layer in a section that may be held against others, shape (n, columns of events), by start."""
    table = layer_events(song, span, layer).table.astype(np.int64)
    if layer.family not in MELODIC or len(table) < 2:
        return table
    beat = span.bar_metres[0].beat_ticks
    step = np.abs(np.diff(table[:, PITCH]))
    wait = table[1:, START] - (table[:-1, START] + table[:-1, DURATION])
    led = (step >= 1) & (step <= STEP) & (wait < beat / 2) & (table[:-1, DURATION] <= beat)
    return table[~np.append(led, False)]


def clashes_between(a: Table, b: Table, harmony: Harmony, beat_ticks: int) -> list[HeldClash]:
    """What two layers hold against each other, in order of time."""
    if not len(a) or not len(b):
        return []
    start = np.maximum(a[:, None, START], b[None, :, START])
    end = np.minimum(a[:, None, START] + a[:, None, DURATION], b[None, :, START] + b[None, :, DURATION])
    near = np.isin(np.abs(a[:, None, PITCH] - b[None, :, PITCH]), RUBS) & (2 * (end - start) > beat_ticks)
    found = []
    for i, j in zip(*np.nonzero(near)):
        low, high = sorted((int(a[i, PITCH]), int(b[j, PITCH])))
        tick = int(start[i, j])
        named = {low % 12, high % 12} <= harmony.chords[harmony.index_at(tick)].classes
        if high - low != 1 or not named:
            found.append(HeldClash(tick, int(end[i, j]) - tick, low, high))
    return sorted(found, key=lambda c: c.tick)


def clearest(song: Song, section: Section, layer: Layer) -> Layer:
    """A chord layer voiced without clashes of its own, its lowest tone and what it leaves out chosen so that it rubs least against the others.

    What it plays in the section decides; where all are alike, voices move least and nothing is left out.
    """
    span = timeline(song).span_of(section.id)
    playing = {p.layer_id for p in section.placements}
    others = [x for x in song.layers if x.id in playing and x.id != layer.id and x.family in PITCHED and not x.muted]
    harmony, beat = section_harmony(song, span), span.bar_metres[0].beat_ticks
    tables = [held_notes(song, span, x) for x in others]

    def rubbing(candidate: Layer) -> int:
        mine = held_notes(song.with_layer(candidate), span, candidate)
        return sum(c.ticks for t in tables for c in clashes_between(mine, t, harmony, beat))

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
