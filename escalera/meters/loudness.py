"""Loudness and true peak: ITU-R BS.1770-4, EBU Tech 3341 (momentary, short-term) and Tech 3342 (range).

Silence has no loudness: it is -inf, never NaN.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass

SILENCE = float("-inf")
ABSOLUTE_GATE_LUFS = -70.0
SILENT_POWER = 1e-12
PEAK_BLOCK = 64  # as the kernel has it
Audio = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Loudness:
    """Of a whole recording. `range_lu` is None below 60 s, where the document does not define it usefully."""

    integrated_lufs: float
    max_momentary_lufs: float
    max_short_term_lufs: float
    range_lu: float | None
    momentary_lufs: NDArray[np.float64]
    short_term_lufs: NDArray[np.float64]


def k_coefficients(rate_hz: float) -> NDArray[np.float64]:
    """Both stages of the K filter at any rate, from their analogue prototypes (BS.1770-4 gives them at 48 kHz).

    Two second-order sections (b0, b1, b2, 1, a1, a2), shape (2, 6).
    """
    k = np.tan(np.pi * 1681.974450955533 / rate_hz)
    q, gain = 0.7071752369554196, 10.0 ** (3.999843853973347 / 20.0)
    bridge = gain**0.4996667741545416
    norm = 1.0 + k / q + k * k
    shelf = [
        (gain + bridge * k / q + k * k) / norm,
        2 * (k * k - gain) / norm,
        (gain - bridge * k / q + k * k) / norm,
        2 * (k * k - 1) / norm,
        (1 - k / q + k * k) / norm,
    ]
    k, q = np.tan(np.pi * 38.13547087602444 / rate_hz), 0.5003270373238773
    norm = 1.0 + k / q + k * k
    high = [1.0, -2.0, 1.0, 2 * (k * k - 1) / norm, (1 - k / q + k * k) / norm]
    return np.array(shelf + high)


def k_energy(audio: Audio, rate_hz: float, edges: NDArray[np.int64]) -> NDArray[np.float64]:
    """K-weighted energy summed over channels between consecutive sample edges. `audio` is (channels, n).

    `edges` holds m+1 rising sample positions; shape (m,), energy as sum of squares.
    """
    energy = np.zeros(len(edges) - 1)
    left = np.ascontiguousarray(audio[0])
    right = np.ascontiguousarray(audio[1]) if len(audio) > 1 else np.zeros(0, np.float32)
    from escalera.meters import kernels  # compiled: loaded when the first sound is measured

    kernels.k_weighted_energy(left, right, k_coefficients(rate_hz), edges, energy)
    return energy


def lufs(power: NDArray[np.float64] | float) -> NDArray[np.float64]:
    """Loudness of a K-weighted mean square, equation 2 of BS.1770-4; -inf below SILENT_POWER (about -121 LUFS).

    `power` of any shape, full scale 1.0.
    """
    power = np.asarray(power, dtype=np.float64)
    with np.errstate(divide="ignore"):
        return -0.691 + 10.0 * np.log10(np.where(power < SILENT_POWER, 0.0, power))


def _windows(energy: NDArray[np.float64], steps: int, samples: float) -> NDArray[np.float64]:
    """Mean square over sliding windows of so many steps, moving on by one; a step has so many samples."""
    if len(energy) < steps:
        return np.zeros(0)
    sums = np.lib.stride_tricks.sliding_window_view(energy, steps).sum(axis=1)
    return sums / (steps * samples)


def _gated_mean(power: NDArray[np.float64], relative_lu: float) -> float:
    """Mean of the blocks above -70 LUFS and above the mean of those less `relative_lu`."""
    loud = power[lufs(power) > ABSOLUTE_GATE_LUFS]
    if not len(loud):
        return 0.0
    kept = loud[lufs(loud) > lufs(loud.mean()) - relative_lu]
    return float(kept.mean()) if len(kept) else 0.0


def _range(short: NDArray[np.float64]) -> float:
    """Loudness range of Tech 3342: from the 10th to the 95th percentile of gated short-term loudness."""
    loud = short[lufs(short) > ABSOLUTE_GATE_LUFS]
    if not len(loud):
        return 0.0
    kept = np.sort(lufs(loud[lufs(loud) > lufs(loud.mean()) - 20.0]))
    low, high = kept[round((len(kept) - 1) * 0.10)], kept[round((len(kept) - 1) * 0.95)]
    return float(high - low)


def loudness(audio: Audio, rate_hz: int) -> Loudness:
    """Loudness figures of (channels, n) float32 samples at `rate_hz`, one or two channels.

    Gated blocks and the curves move on by 100 ms; the maxima are looked for every 10 ms, so that a short sound is
    not missed between two windows.
    """
    step = rate_hz / 100.0
    count = int(audio.shape[1] // step)
    energy = k_energy(audio, rate_hz, np.rint(np.arange(count + 1) * step).astype(np.int64))
    return loudness_of(energy, audio.shape[1] / rate_hz, step)


def loudness_of(energy: NDArray[np.float64], seconds: float, step: float) -> Loudness:
    """As `loudness`, from the K-weighted energy of every hundredth of a second, shape (m,), of `step` samples each."""
    fine, fine_short = _windows(energy, 40, step), _windows(energy, 300, step)
    momentary, short = fine[::10], fine_short[::10]
    return Loudness(
        float(lufs(_gated_mean(momentary, 10.0))),
        float(lufs(fine.max(initial=0.0))),
        float(lufs(fine_short.max(initial=0.0))),
        _range(short) if seconds >= 60.0 else None,
        lufs(momentary),
        lufs(short),
    )


def _phases(taps: int = 48, ratio: int = 4) -> NDArray[np.float32]:
    """Interpolators between samples: a Kaiser-windowed sinc, each phase summing to 1."""
    offsets = np.arange(taps) - taps // 2
    rows = []
    for p in range(1, ratio):
        x = offsets - p / ratio
        window = np.i0(7.0 * np.sqrt(np.maximum(0.0, 1.0 - (x / (taps / 2 + 0.5)) ** 2))) / np.i0(7.0)
        row = np.sinc(x) * window
        rows.append(row / row.sum())
    return np.ascontiguousarray(rows, dtype=np.float32)


PHASES = _phases()


def true_peak_dbtp(audio: Audio, aside: int = 0) -> float:
    """True peak of (channels, n) samples, four times oversampled (BS.1770-4, annex 2); of a cutting without its `aside` blocks of
    PEAK_BLOCK samples at either end, which are heard for what lies between."""
    from escalera.meters import kernels

    top, bound = 0.0, float(np.abs(PHASES).sum(axis=1).max())
    for channel in audio:
        top = kernels.true_peak(np.ascontiguousarray(channel), PHASES, bound, top, aside)
    return 20.0 * float(np.log10(top)) if top > 0 else SILENCE
