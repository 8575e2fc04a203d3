"""What in a voice has no pitch: breaths, sibilants; and whether it carries a room or an echo."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import RATE_HZ, Audio
from escalera.listen.sung_notes import HOP, SLOW_HZ, SungNote

HOP_S = HOP / SLOW_HZ
SIZE = 1024
SHARP_HZ = 3000.0
HISS_SHARE, HISS_DB = 0.45, -42.0  # of a frame that hisses: power above SHARP_HZ, level below the loudest
BREATH_DB = (-58.0, -18.0)
HISS_S, BREATH_S = (0.03, 0.35), (0.12, 1.2)
LIES_S = 0.5  # before a note, a breath ends at most so long
REST_S = 0.3
DRY_S = 0.16  # within which a dry voice has fallen by 20 dB
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class VoiceNoise:
    """A stretch without pitch, in seconds: `kind` is hiss or breath, `level_db` below the loudest moment of the voice."""

    start_s: float
    end_s: float
    kind: str
    level_db: float


def _frames(audio: Audio) -> tuple[Floats, Floats]:
    """Level in dB below the loudest, and the share of power above SHARP_HZ, every 10 ms of (channels, n); (n,) each."""
    mono = audio.mean(axis=0).astype(np.float64)
    step = 2 * HOP
    if len(mono) < SIZE:
        return np.zeros(0), np.zeros(0)
    frames = np.lib.stride_tricks.sliding_window_view(mono, SIZE)[::step]
    level, share = np.empty(len(frames)), np.empty(len(frames))
    window, sharp = np.hanning(SIZE), round(SHARP_HZ * SIZE / RATE_HZ)
    for at in range(0, len(frames), 2000):
        power = np.abs(np.fft.rfft(frames[at : at + 2000] * window, axis=1)) ** 2
        total = power[:, 4:].sum(axis=1) + 1e-9
        level[at : at + 2000], share[at : at + 2000] = total, power[:, sharp:].sum(axis=1) / total
    return 10.0 * np.log10(level / max(float(level.max()), 1e-9)), share


def voice_noises(audio: Audio, notes: tuple[SungNote, ...], clear: Floats) -> tuple[VoiceNoise, ...]:
    """Breaths and sibilants of a voice in (channels, n) at 44.1 kHz; `clear` (n,) is how clear its pitch is every 10 ms."""
    level, share = _frames(audio)
    count = min(len(level), len(clear))
    level, share, unvoiced = level[:count], share[:count], clear[:count] < 0.75
    hiss = unvoiced & (share > HISS_SHARE) & (level > HISS_DB)
    found = [VoiceNoise(a, b, "hiss", _top(level, a, b)) for a, b in _stretches(hiss, *HISS_S)]
    soft = unvoiced & ~hiss & (level > BREATH_DB[0]) & (level < BREATH_DB[1])
    starts = np.array([n.start_s for n in notes])
    for a, b in _stretches(soft, *BREATH_S):
        following = starts[starts > a + 0.05]
        if (
            len(following)
            and following[0] - b < LIES_S
            and not any(n.start_s + 0.05 < b and n.end_s - 0.05 > a for n in notes)
        ):
            found.append(VoiceNoise(a, b, "breath", _top(level, a, b)))
    return tuple(sorted(found, key=lambda n: n.start_s))


def _top(level: Floats, a: float, b: float) -> float:
    inside = level[int(a / HOP_S) : max(int(a / HOP_S) + 1, int(b / HOP_S))]
    return round(float(inside.max(initial=-120.0)), 1)


def _stretches(mask: NDArray[np.bool_], shortest_s: float, longest_s: float) -> list[tuple[float, float]]:
    """Runs of a mask in seconds, gaps of two frames bridged, that last between two lengths."""
    wide = np.convolve(mask.astype(int), np.ones(5, int), "same") >= 3
    edges = np.flatnonzero(np.diff(np.concatenate(([0], wide.astype(int), [0]))))
    middle = SIZE / 2 / RATE_HZ
    rows = [(a * HOP_S + middle, b * HOP_S + middle) for a, b in zip(edges[::2], edges[1::2])]
    return [(round(a, 3), round(b, 3)) for a, b in rows if shortest_s <= b - a <= longest_s]


def carries_room(audio: Audio, notes: tuple[SungNote, ...]) -> bool | None:
    """Whether a voice (channels, n) rings on where its notes end: an echo or a room is on it. None where it rests too seldom to say."""
    level, _ = _frames(audio)
    falls = []
    for note, after in zip(notes, (*notes[1:], None)):
        first = int((note.start_s + 0.06) / HOP_S)
        last = int(after.start_s / HOP_S) if after else len(level)
        fall = _fall_s(level[first:last], max(6, int(note.end_s / HOP_S) - first))
        if fall is not None:
            falls.append(fall)
    return bool(np.median(falls) > DRY_S) if len(falls) >= 2 else None


def _fall_s(level: Floats, sung: int) -> float | None:
    """Seconds that a note takes to fall by 20 dB once it lets go, (n,) levels every 10 ms, `sung` of them with its pitch; None where the
    next one comes too soon."""
    held = float(np.median(level[:sung])) if len(level) else 0.0
    loud = np.flatnonzero(level[:sung] > held - 6.0)
    after = level[loud[-1] :] if len(loud) else level[:0]
    if len(after) * HOP_S < REST_S:
        return None
    quiet = np.flatnonzero(after < held - 26.0)
    return float(quiet[0] if len(quiet) else len(after)) * HOP_S
