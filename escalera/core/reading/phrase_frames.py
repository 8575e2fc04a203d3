"""Lines in a song: the frame of a phrase for makers and readings."""

from __future__ import annotations

import numpy as np

from escalera.core.document.song import Layer, Song
from escalera.core.lines.frame import Frame
from escalera.core.lines.line_reading import LineReading, read_line
from escalera.core.reading.events import DURATION, EMPTY, PITCH, START, layer_events, sounding_layers
from escalera.core.reading.section_harmony import progression_of, section_harmony
from escalera.core.reading.timeline import Span


def phrase_frame(song: Song, span: Span, phrase: int, other: Layer | None = None) -> Frame:
    """A phrase as makers see it: its chords in the song's own key, its kicks, the notes of another layer."""
    low, high = span.phrase_ticks()[phrase]
    harmony = section_harmony(song, span)
    index = harmony.index_at(low)
    rows = list(zip(harmony.ticks, harmony.home))[index:]
    chords = tuple((t - low, c) for t, c in rows if t < high)
    kicks: set[int] = set()
    for layer in sounding_layers(song, span.section):
        if layer.sound.is_kick and layer.sound.is_drum:
            kicks.update(int(t) - low for t in layer_events(song, span, layer).table[:, START] if low <= t < high)
    notes = layer_events(song, span, other).table if other else EMPTY.table
    inside = notes[(notes[:, START] >= low) & (notes[:, START] < high)]
    spans = tuple((int(s) - low, int(s + d) - low) for s, d in inside[:, [START, DURATION]])
    return Frame(
        high - low,
        span.bar_metres[span.bar_of(low)],
        song.key,
        chords,
        tuple(sorted(kicks)),
        spans,
        progression_of(song, span.section) is None,
    )


def line_reading(song: Song, span: Span, phrase: int, layer: Layer) -> LineReading | None:
    """What a layer's line in a phrase is, without the section's shift."""
    low, high = span.phrase_ticks()[phrase]
    table = layer_events(song, span, layer).table
    inside = table[(table[:, START] >= low) & (table[:, START] < high)][:, [START, DURATION, PITCH]].astype(np.int64)
    inside[:, 0] -= low
    inside[:, 2] -= span.section.shift_semitones
    register = (layer.register_low, layer.sound.register[1] + 12 * layer.octave)
    return read_line(inside, phrase_frame(song, span, phrase), register)
