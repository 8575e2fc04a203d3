"""Notes of a single voice: its pitch every 10 ms by normalised autocorrelation, gathered where it holds.

McLeod's square difference (McLeod and Wyvill, 2005) over 46 ms at 22 kHz; longer windows flatten vibrato, shorter ones lose basses.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import RATE_HZ, Audio

SLOW_HZ = RATE_HZ // 2
WINDOW, HOP, SIZE = 1024, 220, 2048
LOW_HZ, HIGH_HZ = 70.0, 1100.0
CLEAR = 0.8  # of the square difference, from which on a frame has a pitch
QUIET_DB = 36.0  # below the loudest frame
SHORTEST_FRAMES, BRIDGED = 8, 4
DIP, DIP_DB = 8, 3.5  # frames about a moment in which a held pitch is sung anew, and how far its level dips
SEEN_EARLY_S = (
    0.012  # by which a pitch is seen before its note begins after a silence, since a part of a frame shows it
)
WITHIN = 0.6  # semitones about the middle of a note
TOGETHER = 1000  # frames that are transformed at once
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class SungNote:
    """A note of a voice: when, which MIDI pitch, how far off it in cents, how loud in dB below the loudest, how clear its pitch is (0 to 1)."""

    start_s: float
    end_s: float
    pitch: int
    cents: float
    level_db: float
    clear: float = 1.0


def pitch_line(audio: Audio) -> tuple[Floats, Floats, Floats]:
    """MIDI pitch (nan where there is none), clearness 0 to 1 and level in dB every 10 ms, (n,) each, of (channels, n) at 44.1 kHz."""
    import soxr
    from scipy import fft

    slow = soxr.resample(audio.mean(axis=0).astype(np.float64), 2, 1)
    if len(slow) < WINDOW:
        return np.zeros(0), np.zeros(0), np.zeros(0)
    frames = np.lib.stride_tricks.sliding_window_view(slow, WINDOW)[::HOP]
    pitch, clear = np.full(len(frames), np.nan), np.zeros(len(frames))
    level = 10.0 * np.log10((frames**2).mean(axis=1) + 1e-12)
    loud = level > level.max() - QUIET_DB - 9.0  # what is quieter is no note, and need not be looked at
    low, high = int(SLOW_HZ / HIGH_HZ), min(int(SLOW_HZ / LOW_HZ), WINDOW - 2)
    for at in range(0, len(frames), TOGETHER):
        part = frames[at : at + TOGETHER] - frames[at : at + TOGETHER].mean(axis=1, keepdims=True)
        spectrum = fft.rfft(part, SIZE, axis=1)
        raw = fft.irfft(np.abs(spectrum) ** 2, SIZE, axis=1)[:, : high + 2]
        total = np.concatenate((np.zeros((len(part), 1)), np.cumsum(part**2, axis=1)), axis=1)
        lags = np.arange(high + 2)
        energy = total[:, WINDOW - lags] + (total[:, -1:] - total[:, lags])
        nsd = 2.0 * raw / np.maximum(energy, 1e-12)
        for i in np.flatnonzero(loud[at : at + TOGETHER]):
            clear[at + i], lag = _best(nsd[i], low, high)
            if lag > 0:
                pitch[at + i] = 69.0 + 12.0 * np.log2(SLOW_HZ / lag / 440.0)
    return pitch, clear, level - float(level.max(initial=-120.0))


def _best(row: Floats, low: int, high: int) -> tuple[float, float]:
    """The clearest period of a frame: the first peak nearly as high as the highest; its clearness and length in samples."""
    inner = np.flatnonzero((row[low:high] > row[low - 1 : high - 1]) & (row[low:high] >= row[low + 1 : high + 1])) + low
    if not len(inner):
        return 0.0, 0.0
    top = float(row[inner].max())
    lag = int(inner[np.argmax(row[inner] >= 0.965 * top)])
    a, b, c = row[lag - 1 : lag + 2]
    bend = min(a - 2 * b + c, -1e-12)
    return top, lag + float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5))


def sung_notes(audio: Audio, line: tuple[Floats, Floats, Floats] | None = None) -> tuple[SungNote, ...]:
    """The notes of a single voice in (channels, n) at 44.1 kHz; none for what has no single pitch. `line` is its pitch line, if it is known."""
    pitch, clear, level = line or pitch_line(audio)
    voiced = (clear > CLEAR) & (level > -QUIET_DB) & ~np.isnan(pitch)
    found: list[SungNote] = []
    begin = 0
    while begin < len(pitch):
        if not voiced[begin]:
            begin += 1
            continue
        end = _held(pitch, voiced, begin)
        edges = [begin, *_struck_again(level, begin, end), end]
        found += [
            _note(a, b, pitch, voiced, level, clear) for a, b in zip(edges, edges[1:]) if b - a >= SHORTEST_FRAMES
        ]
        begin = max(end, begin + 1)
    return tuple(found)


def _note(begin: int, end: int, pitch: Floats, voiced: NDArray[np.bool_], level: Floats, clear: Floats) -> SungNote:
    middle = float(np.median(pitch[begin:end][voiced[begin:end]]))
    half = WINDOW / 2  # a frame tells of its middle
    fresh = begin == 0 or not voiced[begin - 1]
    return SungNote(
        round((begin * HOP + half) / SLOW_HZ + (SEEN_EARLY_S if fresh else 0.0), 3), round((end * HOP + half) / SLOW_HZ, 3), round(middle),
        round(100.0 * (middle - round(middle)), 1), round(float(level[begin:end].max()), 1),
        round(float(np.clip(np.median(clear[begin:end]), 0.0, 1.0)), 2),
    )  # fmt: skip


def _struck_again(level: Floats, begin: int, end: int) -> list[int]:
    """Frames inside a held pitch at which it is sung anew: the level dips for a moment and comes back."""
    found: list[int] = []
    for at in range(begin + SHORTEST_FRAMES, end - SHORTEST_FRAMES):
        before, after = level[max(begin, at - DIP) : at].max(), level[at + 1 : at + 1 + DIP].max()
        lowest = level[at] <= level[max(begin, at - 3) : at + 4].min()
        if lowest and min(before, after) - level[at] > DIP_DB and (not found or at - found[-1] >= SHORTEST_FRAMES):
            found.append(at)
    return found


def _held(pitch: Floats, voiced: NDArray[np.bool_], begin: int) -> int:
    """Where a note that begins in a frame ends: its pitch leaves the note's own middle, or is gone for longer than a moment."""
    kept = [float(pitch[begin])]
    at, last = begin + 1, begin
    while at < len(pitch) and at - last <= BRIDGED:
        if voiced[at]:
            middle = float(np.median(kept[-12:]))
            if abs(pitch[at] - middle) > WITHIN:
                if at - last > 1 or abs(np.median(pitch[at : at + 3]) - middle) > WITHIN:
                    break
            else:
                kept.append(float(pitch[at]))
                last = at
        at += 1
    return last + 1
