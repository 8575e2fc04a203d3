"""Onsets in audio, told apart by where in the spectrum they rise: low, broad, high only, middle only."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.meters.spectra import power_of, summed_between

FRAME = 1024
TOGETHER = 512  # frames that are transformed at once, so that a long section takes no more memory than a short one


@dataclass(frozen=True, slots=True)
class Zone:
    """A stretch of the spectrum in `bands` parts: how far they must climb together, and how loud it must be."""

    low_hz: float
    high_hz: float
    bands: int
    rise_db: float
    depth_db: float
    floor_db: float


ZONES = {
    "low": Zone(35.0, 130.0, 1, 7.0, 18.0, -42.0),
    "mid": Zone(250.0, 3000.0, 8, 2.2, 24.0, -52.0),
    "high": Zone(5500.0, 15000.0, 1, 5.0, 28.0, -62.0),
}
# What an onset of a kind is worth as a drum hit; middle-only ones count as other onsets.
KICK, BROAD, HIGH_ONLY = 1.0, 0.9, 0.33
NEAR = 3  # frames of 10 ms within which rises belong to one onset


def _levels(audio: NDArray[np.float32], rate_hz: int) -> dict[str, NDArray[np.float64]]:
    """Level of every zone's bands in dB of full scale, shape (frames, bands), one frame every 10 ms."""
    from scipy import fft

    hop = round(rate_hz / 100)
    count = -(-(audio.shape[1] + FRAME // 2 + 1) // hop)
    window = np.hanning(FRAME).astype(np.float32)
    scale = 2.0 / (FRAME * float((window**2).sum())) / len(audio)
    bins = {}
    for name, zone in ZONES.items():
        edges = np.geomspace(zone.low_hz, zone.high_hz, zone.bands + 1) * FRAME / rate_hz
        lows = np.maximum(np.rint(edges).astype(int), 1).tolist()
        bins[name] = [*lows[:-1], lows[-1] + 1]
    levels = {name: np.empty((count, zone.bands)) for name, zone in ZONES.items()}
    for at in range(0, count, TOGETHER):
        some = slice(at, min(count, at + TOGETHER))
        frames = _frames(audio, some, hop)
        power = power_of(fft.rfft(frames[0] * window, axis=-1))
        for channel in frames[1:]:
            power += power_of(fft.rfft(channel * window, axis=-1))
        for name, between in bins.items():
            levels[name][some] = 10.0 * np.log10(np.maximum(summed_between(power, between) * scale, 1e-12))
    return levels


def _frames(audio: NDArray[np.float32], some: slice, hop: int) -> NDArray[np.float32]:
    """Frames about every `hop` samples, shape (channels, frames, FRAME); outside of the audio is silence."""
    low, high = some.start * hop - FRAME // 2, (some.stop - 1) * hop + FRAME // 2
    inside = audio[:, max(0, low) : high]
    padded = np.pad(inside, ((0, 0), (max(0, -low), max(0, high - audio.shape[1]))))
    return np.lib.stride_tricks.sliding_window_view(padded, FRAME, axis=1)[:, ::hop]


def _peaks(level: NDArray[np.float64], zone: Zone) -> NDArray[np.int64]:
    """Frames at which the bands climb, on average, above the lowest of the frames 20–40 ms before; at most once in 60 ms."""
    total = 10.0 * np.log10((10.0 ** (level / 10.0)).sum(axis=1))
    quiet = np.maximum(level, zone.floor_db - 14.0)
    padded = np.concatenate((np.repeat(quiet[:1], 4, axis=0), quiet))
    before = np.min([padded[i : i + len(level)] for i in range(3)], axis=0)
    rise = np.maximum(quiet - before, 0.0).mean(axis=1)
    loud = (total > total.max(initial=-200.0) - zone.depth_db) & (total > zone.floor_db)
    around = np.lib.stride_tricks.sliding_window_view(np.pad(rise, 3, constant_values=-1.0), 7).max(axis=1)
    found = np.flatnonzero((rise >= zone.rise_db) & loud & (rise >= around))
    return found[np.concatenate(([True], np.diff(found) > 5))] if len(found) else found


def find_onsets(audio: NDArray[np.float32], rate_hz: int) -> dict[str, NDArray[np.int64]]:
    """Sample positions of onsets by kind: kicks, broad, high, middle. `audio` is (2, n); every kind has its positions in rising order."""
    levels = _levels(audio, rate_hz)
    peaks = {name: _peaks(levels[name], zone) for name, zone in ZONES.items()}

    def near(a: NDArray[np.int64], b: NDArray[np.int64]) -> NDArray[np.bool_]:
        return (np.abs(a[:, None] - b[None, :]) <= NEAR).any(axis=1) if len(b) else np.zeros(len(a), bool)

    with_mid = near(peaks["high"], peaks["mid"])
    kinds = {
        "kicks": peaks["low"],
        "broad": peaks["high"][with_mid],
        "high": peaks["high"][~with_mid],
        "middle": peaks["mid"],
    }
    return {kind: frames * round(rate_hz / 100) for kind, frames in kinds.items()}


def count_onsets(audio: NDArray[np.float32], rate_hz: int, edges: NDArray[np.int64]) -> dict[str, NDArray[np.float64]]:
    """Weighted onsets between consecutive edges, in the columns hits, kicks and onsets of core.energy.stats.

    `audio` is (2, n), `edges` m+1 rising sample positions; each column has shape (m,).
    """
    found = find_onsets(audio, rate_hz)
    counts = {kind: np.histogram(at, edges)[0].astype(float) for kind, at in found.items()}
    hits = KICK * counts["kicks"] + BROAD * counts["broad"] + HIGH_ONLY * counts["high"]
    return {"hits": hits, "kicks": counts["kicks"], "onsets": counts["middle"] - 0.5 * counts["broad"]}
