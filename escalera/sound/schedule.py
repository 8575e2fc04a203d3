"""From events in ticks to notes in samples, counted from the section's first sample."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer, Song, Variation
from escalera.core.palette.sounds import CHOKES
from escalera.core.reading.events import (
    CLIP_OF,
    DURATION,
    NO_CLIP,
    PITCH,
    PLACEMENT,
    REVERSED,
    SKIP,
    START,
    VELOCITY,
    Events,
    layer_events,
    sounding_layers,
)
from escalera.core.reading.timeline import Grid, Span
from escalera.core.time.ruler import RATE_HZ as RATE_HZ
from escalera.lazy_dataclasses import dataclass
from escalera.sound.content import encoded
from escalera.sound.life import is_alive, late_samples, lively_velocities

RING = np.int64(1 << 40)


@dataclass(frozen=True, eq=False)
class Notes:
    """Notes of one layer in one section, in samples.

    start, hold : int64 (n,)   hold is RING for a drum that nothing chokes
    pitch, velocity : int32 (n,)
    curves : ((start, end, variation), …) in samples, for placements that filter or fade
    clips : None where notes only are played, else int64 (n, 3): number of the clip (NO_CLIP for a note, + REVERSED
        backwards), samples into it at which it is entered, samples that all of it takes here
    """

    start: NDArray[np.int64]
    hold: NDArray[np.int64]
    pitch: NDArray[np.int32]
    velocity: NDArray[np.int32]
    curves: tuple[tuple[int, int, Variation], ...]
    clips: NDArray[np.int64] | None = None

    @cached_property
    def content(self) -> bytes:
        """What the notes say, as bytes for a content key."""
        said = (self.start, self.hold, self.pitch, self.velocity, self.curves)
        return encoded(said if self.clips is None else (*said, self.clips))

    def some(self, rows: NDArray[np.int64] | list[int]) -> Notes:
        """Some of the notes, by their numbers (m,), in that order; every array has shape (m,) then."""
        clips = None if self.clips is None else self.clips[rows]
        return Notes(self.start[rows], self.hold[rows], self.pitch[rows], self.velocity[rows], self.curves, clips)


def ticks_to_samples(grid: Grid, ticks: NDArray[np.int64] | NDArray[np.int32]) -> NDArray[np.int64]:
    """Nearest samples of ticks in a section, its tempo changes respected.

    Ticks and samples from the section’s start; the shape of `ticks` is kept.
    """
    return np.rint(RATE_HZ * grid.tempo.seconds_at(np.asarray(ticks, np.float64))).astype(np.int64)


def schedule(song: Song, span: Span, layer: Layer) -> Notes:
    """The notes of a layer in a section. Cached by content."""
    stops = _choker_events(song, span, layer) if layer.sound.is_drum else ()
    events = layer_events(song, span, layer)
    lengths = tuple(clip.length_ticks for clip in layer.clips)
    notes = _schedule(events, span.grid, layer.sound.is_drum, stops, lengths)
    if song.life and len(events) and is_alive(layer):
        notes = _by_hand(notes, events, layer, song.life)
    return _late(notes, layer)


def _by_hand(notes: Notes, events: Events, layer: Layer, life: float) -> Notes:
    """The notes as hands vary them; none comes before its section that does not anyway."""
    ticks = events.table[:, START].astype(np.int64)
    start = np.maximum(notes.start + late_samples(layer, ticks, life), np.minimum(notes.start, 0))
    velocity = lively_velocities(layer, ticks, notes.velocity, life)
    order = np.argsort(start, kind="stable")
    return replace(notes, start=start, velocity=velocity).some(order)


def _late(notes: Notes, layer: Layer) -> Notes:
    """The notes as far behind (or ahead of) the beat as the layer is played."""
    by = round(layer.delay_ms / 1000 * RATE_HZ)
    return (
        replace(notes, start=notes.start + by, curves=tuple((a + by, b + by, v) for a, b, v in notes.curves))
        if by
        else notes
    )


@lru_cache(maxsize=1024)
def _schedule(
    events: Events, grid: Grid, is_drum: bool, stops: tuple[Events, ...], lengths: tuple[int, ...] = ()
) -> Notes:
    table = events.table
    start = ticks_to_samples(grid, table[:, START])
    end = ticks_to_samples(grid, table[:, START] + table[:, DURATION])
    hold = (
        _until_choked(start, [ticks_to_samples(grid, e.table[:, START]) for e in stops])
        if is_drum
        else np.maximum(end - start, 1)
    )
    curves = []
    for index, (low, high, variation) in enumerate(events.spans):
        if variation.cut and is_drum:  # pitched notes end there already
            mine = table[:, PLACEMENT] == index
            hold[mine] = np.minimum(hold, np.maximum(1, ticks_to_samples(grid, np.array([high]))[0] - start))[mine]
        if variation.lowpass_start_hz is not None or variation.level_start_db or variation.level_end_db:
            edges = ticks_to_samples(grid, np.array([low, high]))
            curves.append((int(edges[0]), int(edges[1]), variation))
    clips = _clips(table, grid, start, lengths) if lengths else None
    if clips is not None:
        hold = np.where(clips[:, 0] == NO_CLIP, hold, np.maximum(end - start, 1))
    return Notes(start, hold, table[:, PITCH], table[:, VELOCITY], tuple(curves), clips)


def _clips(
    table: NDArray[np.int32], grid: Grid, start: NDArray[np.int64], lengths: tuple[int, ...]
) -> NDArray[np.int64]:
    """The third column of `Notes.clips` and its company: where a clip is entered and how long all of it lasts, as the tempo goes."""
    number = table[:, CLIP_OF].astype(np.int64)
    known = (number >= 0) & (number % REVERSED < len(lengths))
    ticks = np.array(lengths, np.int64)[np.where(known, number % REVERSED, 0)]
    begin = table[:, START].astype(np.int64) - table[:, SKIP]
    first, last = ticks_to_samples(grid, begin), ticks_to_samples(grid, begin + ticks)
    return np.stack((np.where(known, number, NO_CLIP), start - first, np.maximum(last - first, 1)), axis=1)


def _choker_events(song: Song, span: Span, layer: Layer) -> tuple[Events, ...]:
    choker = CHOKES.get(layer.sound.drum)
    others = (o for o in song.layers if choker and o.sound.drum == choker and not o.muted)
    return tuple(layer_events(song, span, other) for other in others)


def _until_choked(start: NDArray[np.int64], stops: list[NDArray[np.int64]]) -> NDArray[np.int64]:
    """Samples from every hit to the next hit that damps it."""
    if not stops or not len(start):
        return np.full(len(start), RING)
    edges = np.append(np.unique(np.concatenate(stops)), 2 * RING)
    return np.minimum(edges[np.searchsorted(edges[:-1], start, side="right")] - start, RING)


def kick_onsets(song: Song, span: Span) -> NDArray[np.int64]:
    """Samples at which a kick sounds in the section; what ducking answers to. Found once per state.

    Rising positions from the section’s start, shape (n,).
    """
    key = ("kicks", span.section.id)
    if key not in song.memo:
        song.memo[key] = _kick_onsets(song, span)
    return song.memo[key]


def _kick_onsets(song: Song, span: Span) -> NDArray[np.int64]:
    found = [
        ticks_to_samples(span.grid, layer_events(song, span, layer).table[:, START])
        for layer in sounding_layers(song, span.section)
        if layer.sound.is_kick
    ]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)
