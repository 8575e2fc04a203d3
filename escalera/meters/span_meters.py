"""What is heard in spans of audio, in the columns of core.energy.stats, and as figures people read.

Each span is cut out exactly; nothing before or after it leaks in, but for the K filter's fraction of a second.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import BAND_CENTRES_HZ, BAND_EDGES_HZ, INDEX, Stats, empty
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import k_energy, lufs
from escalera.meters.onsets import count_onsets
from escalera.meters.spectra import power_of, summed_between

FRAME, HOP = 4096, 2048
THIRDS = tuple(np.geomspace(30.0, 18000.0, 37).tolist())
THIRD_CENTRES_LOG2 = np.log2(np.sqrt(np.multiply(THIRDS[:-1], THIRDS[1:])))
WIDE_FROM_HZ = 150.0
# The leading line is looked for in its harmonics' range; they lie about 9 semitones above the fundamental.
LEAD_LOW_HZ, LEAD_HIGH_HZ, LEAD_ABOVE = 250.0, 3000.0, 9.0
Audio = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class SpanMeters:
    """Figures of consecutive spans: `stats` (n, WIDTH), the others (n,)."""

    stats: Stats
    lufs: NDArray[np.float64]
    correlation: NDArray[np.float64]
    centroid_hz: NDArray[np.float64]

    @property
    def nbytes(self) -> int:
        return self.stats.nbytes + 3 * self.lufs.nbytes


def _spectra(audio: Audio) -> NDArray[np.complex64]:
    """Hann-windowed spectra of frames inside one span, shape (2, frames, FRAME // 2 + 1), scaled to mean squares."""
    from scipy import fft

    if audio.shape[1] < FRAME:
        audio = np.pad(audio, ((0, 0), (0, FRAME - audio.shape[1])))
    frames = np.lib.stride_tricks.sliding_window_view(audio, FRAME, axis=1)[:, ::HOP]
    window = np.hanning(FRAME).astype(np.float32)
    scale = np.sqrt(2.0 / (FRAME * float((window**2).sum())))
    return fft.rfft(frames * (window * np.float32(scale)), axis=-1)


@lru_cache(maxsize=16)
def _bins(rate_hz: float, edges_hz: tuple[float, ...]) -> tuple[int, ...]:
    return tuple(np.clip(np.rint(np.asarray(edges_hz) * FRAME / rate_hz).astype(int), 1, FRAME // 2).tolist())


def _one_span(audio: Audio, rate_hz: float, out: NDArray[np.float64]) -> tuple[float, float]:
    """Fill one row of stats; returns correlation and centroid in hertz."""
    left, right = _spectra(audio)
    power = (power_of(left) + power_of(right)) / 2
    mean = power.mean(axis=0)
    out[:6] = summed_between(mean, _bins(rate_hz, BAND_EDGES_HZ))
    wide = slice(*_bins(rate_hz, (WIDE_FROM_HZ, 16_000.0)))
    out[INDEX["above_150"]] = mean[wide].sum()
    out[INDEX["side"]] = _decorrelated(left[:, wide], right[:, wide]) / len(left)
    thirds = summed_between(power, _bins(rate_hz, THIRDS))
    third_means = thirds.mean(axis=0)
    held = np.minimum(np.median(thirds, axis=0), third_means)
    struck = third_means - held
    centres = 2.0**THIRD_CENTRES_LOG2
    for kind, part in (("sustained", held), ("struck", struck)):
        part = part * (centres > WIDE_FROM_HZ)
        out[INDEX[kind]], out[INDEX[f"{kind}_centre"]] = part.sum(), part @ THIRD_CENTRES_LOG2
    leading = third_means * ((centres > LEAD_LOW_HZ) & (centres < LEAD_HIGH_HZ))
    pitch = 69.0 + 12.0 * (THIRD_CENTRES_LOG2 - np.log2(440.0)) - LEAD_ABOVE
    out[INDEX["lead"]], out[INDEX["lead_pitch"]] = leading.sum(), leading @ pitch
    total = max(float(third_means.sum()), 1e-20)
    return _correlation(audio), float(2.0 ** (third_means @ THIRD_CENTRES_LOG2 / total)) if total > 1e-18 else 0.0


def _decorrelated(left: NDArray[np.complex64], right: NDArray[np.complex64]) -> float:
    """Side power that is not a scaled copy of the middle, summed over frames, taken in groups of eight bins.

    A sound panned hard has a side that is a copy of its middle: imbalance, not width. So the side is projected
    on the middle in every group, and what the projection leaves is width.
    """
    bins = left.shape[1] // 8 * 8
    mid, side = left[:, :bins] + right[:, :bins], left[:, :bins] - right[:, :bins]

    def grouped(rows: NDArray[Any]) -> NDArray[Any]:
        return rows.sum(axis=0).reshape(-1, 8).sum(axis=1)

    cross = grouped(side * mid.conj())
    left_over = grouped(power_of(side)) - power_of(cross) / np.maximum(grouped(power_of(mid)), 4e-20)
    return float(np.maximum(left_over, 0.0).sum()) / 4.0  # both were left at twice their level


def _correlation(audio: Audio) -> float:
    """Correlation of left and right, 1 for mono; 1 also for silence, which has no phase to be out of."""
    left, right = audio[0], audio[-1]
    energy = float(np.sqrt(np.dot(left, left) * np.dot(right, right)))
    return float(np.dot(left, right)) / energy if energy > 1e-12 else 1.0


def measure_spans(audio: Audio, rate_hz: int, edges: NDArray[np.int64]) -> SpanMeters:
    """Meters of the spans between consecutive sample edges of (2, n) audio. `edges` holds m+1 rising sample positions; every meter has m rows."""
    n = len(edges) - 1
    stats, correlation, centroid = empty(n), np.ones(n), np.zeros(n)
    power = k_energy(audio, rate_hz, edges) / np.maximum(np.diff(edges), 1)
    for i in range(n):
        correlation[i], centroid[i] = _one_span(audio[:, edges[i] : edges[i + 1]], rate_hz, stats[i])
    seconds = np.maximum(np.diff(edges) / rate_hz, 1e-9)
    for column, counts in count_onsets(audio, rate_hz, edges).items():
        stats[:, INDEX[column]] = counts / seconds
    return SpanMeters(stats, lufs(power), correlation, centroid)


def band_levels_db(stats: Stats) -> NDArray[np.float64]:
    """Level of the six bands, dB of full scale, floor −120. `stats` has shape (…, WIDTH); the answer (…, 6)."""
    return 10.0 * np.log10(np.maximum(stats[..., :6], 1e-12))


__all__ = ["BAND_CENTRES_HZ", "SpanMeters", "band_levels_db", "measure_spans"]
