"""Measured energy: the same columns as arranged energy, from rendered audio before the master limiter."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.energy.felt import felt_bars
from escalera.core.energy.stats import INDEX
from escalera.core.reading.timeline import Timeline
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import PEAK_BLOCK, Loudness, k_energy, loudness_of, true_peak_dbtp
from escalera.meters.span_meters import SpanMeters, measure_spans
from escalera.sound.content import content_key
from escalera.sound.mix import Renderer, Window
from escalera.sound.schedule import RATE_HZ

MEASURE_VERSION = 2
STEP = RATE_HZ // 100  # samples that loudness moves on by


def measure_key(renderer: Renderer, song: Song, line: Timeline, index: int, chunk_key: str) -> str:
    """What the meters of a section depend on: its finished sound, where it and its felt bars lie, which units are voices."""
    span, low = line.spans[index], line.samples(RATE_HZ)[index]
    voices = [p.key for p in renderer.plan(song, span).parts if p.family == "voices"]
    return content_key(
        "measure", MEASURE_VERSION, chunk_key, low % STEP, felt_bars(span.grid).seconds.tobytes(), voices
    )


@dataclass(frozen=True, eq=False)
class SectionMeters:
    """A section's meters per felt bar, and what it adds to those of the song: its K-weighted energy under the ceiling, in pieces cut at
    every STEP of the song and at the section's ends, and its true peak. The last section's is that of its tail as well."""

    meters: SpanMeters
    energy: NDArray[np.float64]
    true_peak_dbtp: float

    @property
    def nbytes(self) -> int:
        return self.meters.nbytes + self.energy.nbytes


def measure_section(renderer: Renderer, song: Song, line: Timeline, index: int, chunk_key: str) -> SectionMeters:
    """What is heard of one section, kept in the renderer's cache.

    Voices cannot be told apart in a mix, so their column comes from the rendered voice layers by themselves, dry.
    """
    key = measure_key(renderer, song, line, index, chunk_key)
    return renderer.cache.get_or_make(key, lambda: _measure(renderer, song, line, index))


def song_loudness(heard: Sequence[SectionMeters], starts: Sequence[int], samples: int) -> Loudness:
    """Loudness of a song of so many samples, from what is heard of all its sections, and the sample at which each starts."""
    energy = np.zeros(samples // STEP + 1)
    for each, low in zip(heard, starts):
        energy[low // STEP : low // STEP + len(each.energy)] += each.energy
    return loudness_of(energy[: samples // STEP], samples / RATE_HZ, STEP)


def _voices(song: Song) -> frozenset[int]:
    return frozenset(layer.id for layer in song.layers if layer.family == "voices" and not layer.muted)


def _measure(renderer: Renderer, song: Song, line: Timeline, index: int) -> SectionMeters:
    starts, span = line.samples(RATE_HZ), line.spans[index]
    low, high = starts[index], starts[index + 1]
    edges = np.minimum(np.rint(felt_bars(span.grid).seconds * RATE_HZ).astype(np.int64), high - low)
    edges[-1] = high - low
    window = renderer.window(song, line, index)
    energy, peak_dbtp = _energy(window, low), _peak(window)
    meters = measure_spans(window.without_limiter(), RATE_HZ, edges)
    del window  # it is large, and voices are mixed next
    voices = _voices(song) & {p.layer_id for p in span.section.placements}
    if voices:
        meters.stats[:, INDEX["voice"]] = _powers(
            renderer.before_master(song, line, low, high, voices, wet=False), edges
        )
    return SectionMeters(meters, energy, peak_dbtp)


def _energy(window: Window, low: int) -> NDArray[np.float64]:
    """What lies before the section is what the filter has heard when it begins."""
    length = window.last - window.first
    cuts = np.arange(-low % STEP, length, STEP, dtype=np.int64)
    edges = np.unique(np.concatenate(([0], cuts, [length]))) + window.first
    return k_energy(window.audio, RATE_HZ, np.concatenate(([0], edges)))[1:]


def _peak(window: Window) -> float:
    blocks = -(-(window.last - window.first) // PEAK_BLOCK)
    return true_peak_dbtp(window.audio[:, window.first - PEAK_BLOCK : window.first + (blocks + 1) * PEAK_BLOCK], 1)


def _powers(audio: NDArray[np.float32], edges: NDArray[np.int64]) -> NDArray[np.float64]:
    """Mean square of both channels between edges."""
    return np.array([np.square(audio[:, low:high], dtype=np.float64).mean() for low, high in zip(edges, edges[1:])])
