"""A recording seen frame by frame: what every reading is made from, in one pass over blocks, so that memory does not grow with sound.

A frame is 10 ms. All input is 44.1 kHz, (channels, n) float32 with one or two channels.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import BAND_EDGES_HZ
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import SILENCE, k_energy, lufs, true_peak_dbtp

RATE_HZ = 44_100
HOP = 441
WINDOW = 1024
TONE_WINDOW, TONE_HOP = 16_384, 4_410
BLOCK_FRAMES = 1000  # 10 s
LOWEST_HZ, HIGHEST_HZ = 27.0, 4200.0
FAINT = 1e-3  # partials 30 dB below the strongest are not asked
START_DB = 20.0  # so far below its first frame is what lies before a recording
ZONE_EDGES_HZ = ((35.0, 150.0), (250.0, 4000.0), (5000.0, 16_000.0))
FLUX_BANDS = 30
LOW_STEP, LOW_WINDOW = 7, 576  # lows are told apart at 6,300 samples a second
Floats = NDArray[np.float64]
Audio = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Frames:
    """Everything that is read from a recording's sound.

    power : (n, 6) mean square in the bands of the energy model, a row every 10 ms
    zones : (n, 3) mean square in the low, middle and high zone
    flux : (n,) how much the spectrum rises, over all bands in dB
    side, whole : power of the sides and of all above 150 Hz
    k_energy : (n,) K-weighted energy summed over channels, for loudness
    fine : (10 n,) level of what changes from sample to sample, in dB, every millisecond
    partials : (m, 3) what stands out of the spectrum: the tenth of a second it is in, its frequency in hertz, its power
    """

    samples: int
    channels: int
    power: Floats
    zones: Floats
    flux: Floats
    side: float
    whole: float
    k_energy: Floats
    true_peak: float
    partials: Floats
    fine: Floats

    @property
    def seconds(self) -> float:
        return self.samples / RATE_HZ

    def loudness_lufs(self) -> float:
        """Integrated loudness: gated blocks of 400 ms where there are any, else the mean of what sounds."""
        steps = 40
        if len(self.k_energy) >= steps:
            power = np.lib.stride_tricks.sliding_window_view(self.k_energy, steps).sum(axis=1)[::10] / (steps * HOP)
            loud = power[lufs(power) > -70.0]
            kept = loud[lufs(loud) > lufs(loud.mean()) - 10.0] if len(loud) else loud
            return float(lufs(kept.mean())) if len(kept) else SILENCE
        return float(lufs(self.k_energy.sum() / max(1, self.samples)))


def read_frames(blocks: Iterable[Audio], light: bool = False) -> Frames:
    """One pass over blocks of sound, each (channels, any length); a `light` one leaves out partials, the true peak and what tells
    the lows apart finely, in a third of the time."""
    parts: dict[str, list[Floats]] = {name: [] for name in ("power", "zones", "flux", "k", "fine")}
    tones: list[Floats] = []
    row = 0
    side = whole = 0.0
    true_peak, samples, channels = SILENCE, 0, 1
    last: Floats | None = None
    for block, ahead in _blocks(blocks):
        channels = len(block)
        samples += block.shape[1]
        spectra, last_levels = _spectra(np.concatenate((block, ahead), axis=1), -(-block.shape[1] // HOP), last, light)
        for name in ("power", "zones", "flux"):
            parts[name].append(spectra[name])
        last = last_levels
        side += float(spectra["side"].sum())
        whole += float(spectra["whole"].sum())
        edges = np.minimum(np.arange(-(-block.shape[1] // HOP) + 1) * HOP, block.shape[1])
        parts["k"].append(k_energy(block, RATE_HZ, edges))
        parts["fine"].append(_fine(block))
        if not light:
            true_peak = max(true_peak, true_peak_dbtp(block))
            tones.append(_tones(np.concatenate((block, ahead), axis=1).mean(axis=0), block.shape[1], row))
        row += max(1, block.shape[1] // TONE_HOP)
    joined = {name: np.concatenate(rows) if rows else np.zeros(0) for name, rows in parts.items()}
    return Frames(
        samples, channels, joined["power"].reshape(-1, 6), joined["zones"].reshape(-1, 3), joined["flux"], side, whole,
        joined["k"], true_peak, np.concatenate(tones) if tones else np.zeros((0, 3)),
        joined["fine"],
    )  # fmt: skip


def _blocks(blocks: Iterable[Audio]) -> Iterator[tuple[Audio, Audio]]:
    """Blocks of 10 s, each with what follows it for the windows that begin in it."""
    size = BLOCK_FRAMES * HOP
    stock: Audio | None = None
    for block in blocks:
        stock = block if stock is None else np.concatenate((stock, block), axis=1)
        while stock.shape[1] >= size + TONE_WINDOW:
            yield stock[:, :size], stock[:, size : size + TONE_WINDOW]
            stock = stock[:, size:]
    if stock is not None and stock.shape[1]:
        for start in range(0, stock.shape[1], size):
            yield stock[:, start : start + size], stock[:, start + size : start + size + TONE_WINDOW]


def _spectra(audio: Audio, count: int, last: Floats | None, light: bool) -> tuple[dict[str, Floats], Floats]:
    """Features of `count` frames; windows are centred 256 samples after a frame begins, so that an onset shows at once."""
    from scipy import fft

    padded = np.pad(audio, ((0, 0), (WINDOW // 4, max(0, count * HOP + WINDOW - audio.shape[1]))))
    frames = np.lib.stride_tricks.sliding_window_view(padded, WINDOW, axis=1)[:, ::HOP][:, :count]
    window = np.hanning(WINDOW).astype(np.float32)
    scale = np.float32(np.sqrt(2.0 / (WINDOW * float((window**2).sum()))))
    made = fft.rfft(frames * (window * scale), axis=-1)
    power = (np.abs(made) ** 2).mean(axis=0)
    total = np.concatenate((np.zeros((len(power), 1)), np.cumsum(power, axis=1, dtype=np.float64)), axis=1)

    def between(low: float, high: float) -> Floats:
        a, b = (int(np.clip(round(hz * WINDOW / RATE_HZ), 1, WINDOW // 2)) for hz in (low, high))
        return total[:, max(b, a + 1)] - total[:, a]

    bands = np.stack([between(a, b) for a, b in zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:])], axis=1)
    if not light:
        bands[:, :2] = _lows(audio, count)
    zones = np.stack([between(a, b) for a, b in ZONE_EDGES_HZ], axis=1)
    edges = np.geomspace(60.0, 14_000.0, FLUX_BANDS + 1)
    levels = np.stack([between(a, b) for a, b in zip(edges, edges[1:])], axis=1)
    levels = 10.0 * np.log10(levels + 1e-9)
    known = np.repeat(levels[:1] - START_DB, 2, axis=0) if last is None else last
    before = np.concatenate((known, levels))
    flux = np.maximum(levels - before[: len(levels)], 0.0).mean(axis=1)
    wide = slice(round(150 * WINDOW / RATE_HZ), round(16_000 * WINDOW / RATE_HZ))
    apart = (np.abs(made[0] - made[-1]) ** 2 / 4)[:, wide].sum(axis=1)
    return (
        {"power": bands, "zones": zones, "flux": flux, "side": apart, "whole": power[:, wide].sum(axis=1)},
        levels[-2:] if len(levels) > 1 else np.repeat(levels, 2, axis=0),
    )


def _lows(audio: Audio, count: int) -> Floats:
    """Mean square in the two lowest bands of `count` frames, from windows of 91 ms at a seventh of the rate: (count, 2)."""
    import soxr
    from scipy import fft

    total = np.zeros((count, LOW_WINDOW // 2 + 1))
    window = np.hanning(LOW_WINDOW)
    scale = 2.0 / (LOW_WINDOW * float((window**2).sum()))
    for channel in audio:
        slow = soxr.resample(channel.astype(np.float64), LOW_STEP, 1)
        hop = HOP // LOW_STEP
        padded = np.pad(slow, (LOW_WINDOW // 2 - hop // 2, max(0, count * hop + LOW_WINDOW - len(slow))))
        frames = np.lib.stride_tricks.sliding_window_view(padded, LOW_WINDOW)[::hop][:count]
        total += np.abs(fft.rfft(frames * window, axis=-1)) ** 2 * scale / len(audio)
    hz = np.arange(LOW_WINDOW // 2 + 1) * RATE_HZ / LOW_STEP / LOW_WINDOW
    edges = [int(np.searchsorted(hz, x)) for x in BAND_EDGES_HZ[:3]]
    return np.stack([total[:, a:b].sum(axis=1) for a, b in zip(edges, edges[1:])], axis=1)


def _fine(block: Audio) -> Floats:
    """Level in dB of the steps from sample to sample, every millisecond: where it jumps, something begins."""
    steps = np.diff(block, axis=1, prepend=block[:, :1]) ** 2 + 1e-3 * block**2
    count = -(-block.shape[1] * 10 // HOP)
    edges = np.minimum(np.arange(count) * HOP // 10, block.shape[1] - 1)
    found: Floats = 10.0 * np.log10(np.add.reduceat(steps.mean(axis=0, dtype=np.float64), edges) + 1e-12)
    return found


def _tones(mono: Audio, length: int, first: int) -> Floats:
    """The partials that stand out every 100 ms, from row `first` on: rows of (row, frequency in hertz, power), shape (m, 3)."""
    from scipy import fft

    count = max(1, length // TONE_HOP)
    padded = np.pad(mono, (0, max(0, (count - 1) * TONE_HOP + TONE_WINDOW - len(mono))))
    frames = np.lib.stride_tricks.sliding_window_view(padded, TONE_WINDOW)[::TONE_HOP][:count]
    window = np.hanning(TONE_WINDOW).astype(np.float32)
    low, high = (int(hz * TONE_WINDOW / RATE_HZ) for hz in (LOWEST_HZ, HIGHEST_HZ))
    power = np.abs(fft.rfft(frames * window, axis=-1)[:, low - 1 : high + 1]) ** 2 / TONE_WINDOW
    inner = power[:, 1:-1]
    at, bins = np.nonzero(
        (inner > power[:, :-2]) & (inner >= power[:, 2:]) & (inner > power.max(axis=1)[:, None] * FAINT)
    )
    left, middle, right = (np.log(power[at, bins + i] + 1e-20) for i in range(3))
    shift = np.clip(0.5 * (left - right) / np.minimum(left - 2 * middle + right, -1e-9), -0.5, 0.5)
    return np.stack((first + at, (low + bins + shift) * RATE_HZ / TONE_WINDOW, inner[at, bins]), axis=1)
