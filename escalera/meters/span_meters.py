"""What is heard in spans of audio, in the columns of core.energy.stats, and as figures people read.

Each span is cut out exactly; nothing before or after it leaks in, but for the K filter's fraction of a second.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import BAND_CENTRES_HZ, BAND_EDGES_HZ, INDEX, Stats, empty
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import k_energy, lufs
from escalera.meters.onsets import count_onsets

FRAME, HOP = 4096, 2048
THIRDS = np.geomspace(30.0, 18000.0, 37)
THIRD_CENTRES_LOG2 = np.log2(np.sqrt(THIRDS[:-1] * THIRDS[1:]))
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


def _bins(rate_hz: float, edges_hz: NDArray[np.float64] | tuple[float, ...]) -> NDArray[np.int64]:
    return np.clip(np.rint(np.asarray(edges_hz) * FRAME / rate_hz).astype(np.int64), 1, FRAME // 2)


def _summed(power: NDArray[Any], edges: NDArray[np.int64]) -> NDArray[np.float64]:
    """Sums of the last axis between consecutive bin edges."""
    total = np.concatenate((np.zeros((*power.shape[:-1], 1)), np.cumsum(power, axis=-1, dtype=np.float64)), axis=-1)
    return total[..., edges[1:]] - total[..., edges[:-1]]


def _one_span(audio: Audio, rate_hz: float, out: NDArray[np.float64]) -> tuple[float, float]:
    """Fill one row of stats; returns correlation and centroid in hertz."""
    left, right = _spectra(audio)
    mid, side = (left + right) / 2, (left - right) / 2
    power = (np.abs(left) ** 2 + np.abs(right) ** 2) / 2
    out[:6] = _summed(power.mean(axis=0), _bins(rate_hz, BAND_EDGES_HZ))
    wide = slice(int(_bins(rate_hz, (WIDE_FROM_HZ,))[0]), int(_bins(rate_hz, (16000.0,))[0]))
    out[INDEX["above_150"]] = power[:, wide].mean(axis=0).sum()
    out[INDEX["side"]] = _decorrelated(mid[:, wide], side[:, wide]) / len(mid)
    thirds = _summed(power, _bins(rate_hz, THIRDS))
    held = np.minimum(np.median(thirds, axis=0), thirds.mean(axis=0))
    struck = thirds.mean(axis=0) - held
    centres = 2.0**THIRD_CENTRES_LOG2
    for kind, part in (("sustained", held), ("struck", struck)):
        part = part * (centres > WIDE_FROM_HZ)
        out[INDEX[kind]], out[INDEX[f"{kind}_centre"]] = part.sum(), part @ THIRD_CENTRES_LOG2
    leading = (thirds.mean(axis=0)) * ((centres > LEAD_LOW_HZ) & (centres < LEAD_HIGH_HZ))
    pitch = 69.0 + 12.0 * (THIRD_CENTRES_LOG2 - np.log2(440.0)) - LEAD_ABOVE
    out[INDEX["lead"]], out[INDEX["lead_pitch"]] = leading.sum(), leading @ pitch
    total = max(float(thirds.mean(axis=0).sum()), 1e-20)
    return _correlation(audio), float(
        2.0 ** (thirds.mean(axis=0) @ THIRD_CENTRES_LOG2 / total)
    ) if total > 1e-18 else 0.0


def _decorrelated(mid: NDArray[np.complex64], side: NDArray[np.complex64]) -> float:
    """Side power that is not a scaled copy of the middle, summed over frames, taken in groups of eight bins.

    A sound panned hard has a side that is a copy of its middle: imbalance, not width. So the side is projected
    on the middle in every group, and what the projection leaves is width.
    """
    bins = mid.shape[1] // 8 * 8
    groups = np.arange(0, bins, 8)
    cross = np.add.reduceat((side[:, :bins] * np.conj(mid[:, :bins])).sum(axis=0), groups)
    mm = np.add.reduceat((np.abs(mid[:, :bins]) ** 2).sum(axis=0), groups)
    ss = np.add.reduceat((np.abs(side[:, :bins]) ** 2).sum(axis=0), groups)
    left_over = ss - np.abs(cross) ** 2 / np.maximum(mm, 1e-20)
    return float(np.maximum(left_over, 0.0).sum())


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
