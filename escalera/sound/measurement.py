"""Measured energy: the same columns as arranged energy, from rendered audio before the master limiter."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.energy.felt import felt_bars
from escalera.core.energy.stats import INDEX
from escalera.core.reading.timeline import Span, Timeline
from escalera.meters.span_meters import SpanMeters, measure_spans
from escalera.sound.content import content_key
from escalera.sound.mix import Renderer, Samples
from escalera.sound.schedule import RATE_HZ

MEASURE_VERSION = 2


def measure_key(renderer: Renderer, song: Song, span: Span, chunk_key: str) -> str:
    """What the meters of a section depend on: its finished sound, where its felt bars lie, which units are voices."""
    voices = [p.key for p in renderer.plan(song, span).parts if p.family == "voices"]
    return content_key("measure", MEASURE_VERSION, chunk_key, felt_bars(span.grid).seconds.tobytes(), voices)


def measure_section(
    renderer: Renderer, song: Song, line: Timeline, index: int, chunk_key: str, finished: Samples | None = None
) -> SpanMeters:
    """Meters of one section per felt bar, kept in the renderer's cache; `finished` is the song's sound, if it is at hand.

    Voices cannot be told apart in a mix, so their column comes from the rendered voice layers by themselves, dry.
    """
    key = measure_key(renderer, song, line.spans[index], chunk_key)
    return renderer.cache.get_or_make(key, lambda: _measure(renderer, song, line, index, chunk_key, finished))


def _voices(song: Song) -> frozenset[int]:
    return frozenset(layer.id for layer in song.layers if layer.family == "voices" and not layer.muted)


def _measure(
    renderer: Renderer, song: Song, line: Timeline, index: int, chunk_key: str, finished: Samples | None
) -> SpanMeters:
    starts, span = line.samples(RATE_HZ), line.spans[index]
    low, high = starts[index], starts[index + 1]
    edges = np.minimum(np.rint(felt_bars(span.grid).seconds * RATE_HZ).astype(np.int64), high - low)
    edges[-1] = high - low
    meters = measure_spans(renderer.before_limiter(song, line, index, chunk_key, finished), RATE_HZ, edges)
    voices = _voices(song) & {p.layer_id for p in span.section.placements}
    if voices:
        meters.stats[:, INDEX["voice"]] = _powers(
            renderer.before_master(song, line, low, high, voices, wet=False), edges
        )
    return meters


def _powers(audio: NDArray[np.float32], edges: NDArray[np.int64]) -> NDArray[np.float64]:
    """Mean square of both channels between edges."""
    squares = np.add.reduceat((audio.astype(np.float64) ** 2).mean(axis=0), edges[:-1])
    return squares / np.maximum(np.diff(edges), 1)
