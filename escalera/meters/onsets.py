"""Onsets in audio, told apart by where in the spectrum they rise: low, broad, high only, middle only."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FRAME, HOP = 1024, 441
# (low, high) in hertz, rise in dB within 40 ms that counts as an onset, and how far below the loudest it may lie
ZONES = {"low": (35.0, 130.0, 6.0, 22.0), "mid": (250.0, 2500.0, 3.0, 26.0), "high": (5500.0, 15000.0, 5.0, 30.0)}
# What an onset of a kind is worth as a drum hit; middle-only ones count as other onsets.
KICK, BROAD, HIGH_ONLY = 1.0, 0.9, 0.33
NEAR = 3  # frames of 10 ms within which rises belong to one onset


def _levels(audio: NDArray[np.float32], rate_hz: int) -> dict[str, NDArray[np.float64]]:
    """Level of every zone in dB, one value every 10 ms, both channels summed in power."""
    from scipy import fft

    hop = round(rate_hz / 100)
    padded = np.pad(audio, ((0, 0), (FRAME // 2, FRAME)))
    frames = np.lib.stride_tricks.sliding_window_view(padded, FRAME, axis=1)[:, ::hop]
    window = np.hanning(FRAME).astype(np.float32)
    power = sum((np.abs(fft.rfft(channel * window, axis=-1)) ** 2 for channel in frames), np.zeros(1))
    levels = {}
    for zone, (low, high, *_) in ZONES.items():
        a, b = max(1, round(low * FRAME / rate_hz)), round(high * FRAME / rate_hz) + 1
        levels[zone] = 10.0 * np.log10(power[:, a:b].sum(axis=1) + 1e-7)
    return levels


def _peaks(level: NDArray[np.float64], rise_db: float, depth_db: float) -> NDArray[np.int64]:
    """Frames at which the level climbs by `rise_db` above the lowest of the four frames before, at most once in 60 ms."""
    padded = np.concatenate((np.full(4, level.min(initial=0.0)), level))
    before = np.min([padded[i : i + len(level)] for i in range(3)], axis=0)
    rise = level - before
    loud = level > level.max(initial=-200.0) - depth_db
    around = np.lib.stride_tricks.sliding_window_view(np.pad(rise, 3, constant_values=-1.0), 7).max(axis=1)
    found = np.flatnonzero((rise >= rise_db) & loud & (rise >= around))
    return found[np.concatenate(([True], np.diff(found) > 5))] if len(found) else found


def find_onsets(audio: NDArray[np.float32], rate_hz: int) -> dict[str, NDArray[np.int64]]:
    """Sample positions of onsets by kind: kicks, broad, high, middle."""
    levels = _levels(audio, rate_hz)
    peaks = {zone: _peaks(levels[zone], rise, depth) for zone, (_, _, rise, depth) in ZONES.items()}

    def near(a: NDArray[np.int64], b: NDArray[np.int64]) -> NDArray[np.bool_]:
        return (np.abs(a[:, None] - b[None, :]) <= NEAR).any(axis=1) if len(b) else np.zeros(len(a), bool)

    with_mid = near(peaks["high"], peaks["mid"])
    kinds = {
        "kicks": peaks["low"],
        "broad": peaks["high"][with_mid],
        "high": peaks["high"][~with_mid],
        "middle": peaks["mid"][~near(peaks["mid"], peaks["high"])],
    }
    return {kind: frames * round(rate_hz / 100) for kind, frames in kinds.items()}


def count_onsets(audio: NDArray[np.float32], rate_hz: int, edges: NDArray[np.int64]) -> dict[str, NDArray[np.float64]]:
    """Weighted onsets between consecutive edges, in the columns hits, kicks and onsets of core.energy.stats."""
    found = find_onsets(audio, rate_hz)
    counts = {kind: np.histogram(at, edges)[0].astype(float) for kind, at in found.items()}
    hits = KICK * counts["kicks"] + BROAD * counts["broad"] + HIGH_ONLY * counts["high"]
    return {"hits": hits, "kicks": counts["kicks"], "onsets": counts["middle"]}
