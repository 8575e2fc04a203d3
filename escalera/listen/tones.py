"""Key, tuning and settled pitch of a recording."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.performance.chord_reading import Beats, ReadChord, read_chords
from escalera.core.performance.key_from_chords import KeyFound, find_mode, weights_of
from escalera.core.performance.played import Played
from escalera.core.theory.keys import key_text
from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass
from escalera.listen.beat_tones import CONCERT_HZ, TONE_MIDDLE_S, TONE_S, beat_tones
from escalera.listen.frames import RATE_HZ, Audio, Frames

TONAL = 0.46  # agreement of partials on one tuning, from which there is a key
SHORTEST_BEAT_S = 0.4
NEAR_ROWS = 4  # tenths of a second before and after a change
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Tones:
    """Key and tuning; None where nothing tonal stands out."""

    key: str | None = None
    confidence: float = 0.0
    tuning_cents: float | None = None


@dataclass(frozen=True, slots=True)
class Pitch:
    """One pitch that the sound settles on, in hertz, with how much of it the pitch explains."""

    hz: float | None = None
    confidence: float = 0.0


def tuning_of(frames: Frames) -> tuple[float | None, float]:
    """Cents by which the partials lie off equal temperament at A 440, −50 to 50, and how far they agree (0..1).

    The mean of exp(2πi · semitones) over partials weighed by power is the circle's own average.
    """
    rows = frames.partials[:, 1:]
    rows = rows[(rows[:, 0] > 80.0) & (rows[:, 0] < 2000.0)]
    if len(rows) < 4:
        return None, 0.0
    weight = np.sqrt(rows[:, 1])
    circle = (weight * np.exp(2j * np.pi * 12.0 * np.log2(rows[:, 0] / CONCERT_HZ))).sum() / max(weight.sum(), 1e-12)
    first = float(np.angle(circle) / (2 * np.pi))
    off = (12.0 * np.log2(rows[:, 0] / CONCERT_HZ) - first + 0.5) % 1.0 - 0.5
    near = np.abs(off) < 0.2  # a partial of a chord's seventh lies elsewhere; the middle of those that agree is asked
    cents = 100.0 * (first + float(np.average(off[near], weights=weight[near]))) if near.any() else 100.0 * first
    return float((cents + 50.0) % 100.0 - 50.0), float(abs(circle))


def read_tones(frames: Frames, beat_s: float, beats_a_bar: int, downbeat_s: float) -> Tones:
    """The key with its mode, from the chords of every beat; nothing where partials agree on no tuning."""
    cents, agreed = tuning_of(frames)
    if cents is None or agreed < TONAL:
        return Tones()
    beats, metre = _steady_beats(frames, cents, beat_s, beats_a_bar, downbeat_s), Metre(beats_a_bar, 4)
    played = Played((), (), (metre,) * (int(beats.bars[-1]) + 1))
    found = _mode(read_chords(played, beats), beats)
    if found is not None:  # chords are read once more in the key they gave
        chords = read_chords(played, beats, found.key)
        found = _mode(chords, beats) or found
    if found is None:
        return Tones(None, 0.0, round(cents, 1))
    sure = float(np.clip(0.25 + 0.7 * found.confidence, 0.05, 0.95)) * min(1.0, agreed / 0.6)
    return Tones(key_text(found.key), round(sure, 2), round(cents, 1))


def changes_of(frames: Frames, least: float = TONAL) -> Floats | None:
    """How much the pitch classes change in every frame of 10 ms, shape (n,), its largest 1; None for what has no tones, whose
    partials agree less than `least` on a tuning."""
    cents, agreed = tuning_of(frames)
    if cents is None or agreed < least:
        return None
    count = max(1, int(np.ceil(frames.seconds / TONE_S)))
    rows = frames.partials
    pitch = np.rint(69.0 + 12.0 * np.log2(rows[:, 1] / CONCERT_HZ) - cents / 100.0).astype(int)
    chroma = np.zeros((count, 12))
    np.add.at(chroma, (np.minimum(rows[:, 0].astype(int), count - 1), pitch % 12), np.sqrt(rows[:, 2]))
    chroma /= np.maximum(np.linalg.norm(chroma, axis=1, keepdims=True), 1e-9)
    padded = np.pad(chroma, ((NEAR_ROWS, NEAR_ROWS), (0, 0)), mode="edge")
    total = np.concatenate((np.zeros((1, 12)), np.cumsum(padded, axis=0)))
    before, after = (
        total[NEAR_ROWS:-NEAR_ROWS] - total[: -2 * NEAR_ROWS],
        total[2 * NEAR_ROWS :] - total[NEAR_ROWS:-NEAR_ROWS],
    )
    novelty = np.linalg.norm(after - before, axis=1)[:count] / NEAR_ROWS
    around = np.lib.stride_tricks.sliding_window_view(np.pad(novelty, 2), 5).max(axis=1)
    novelty = np.where((novelty >= around) & (novelty > 0.25), novelty, 0.0)
    out = np.zeros(len(frames.flux))
    at = np.rint((np.arange(count) * TONE_S + TONE_MIDDLE_S - TONE_S / 2) * 100).astype(int)
    inside = at < len(out)
    np.maximum.at(out, at[inside], novelty[inside])
    out[0] = max(out[0], float(novelty.max(initial=0.0)))  # it begins with a chord
    return out / max(float(out.max()), 1e-9)


def _mode(chords: list[ReadChord], beats: Beats) -> KeyFound | None:
    if not chords:
        return None
    edges = [*(c.tick for c in chords), int(beats.ticks[-1]) + 960]
    return find_mode(chords, [(b - a) / 960 for a, b in zip(edges, edges[1:])], weights_of(beats))


def _steady_beats(frames: Frames, cents: float, beat_s: float, beats_a_bar: int, downbeat_s: float) -> Beats:
    """What sounds in every beat of a steady tempo."""
    while beat_s < SHORTEST_BEAT_S:
        beat_s *= 2
    count = max(1, round((frames.seconds - downbeat_s) / beat_s))
    return beat_tones(frames, cents, np.asarray(downbeat_s + beat_s * np.arange(count + 1), np.float64), beats_a_bar)


def settled_pitch(audio: Audio) -> Pitch:
    """The pitch a single sound settles on: the phase of its strongest low partial over the part where it holds.

    `audio` is (channels, n) at 44.1 kHz, at most a few seconds of it are heard. A sweep at the beginning is left out by
    taking what sounds after the first fifth, or after 60 ms.
    """
    mono = audio.mean(axis=0).astype(np.float64)
    level = np.sqrt(np.convolve(mono**2, np.full(882, 1 / 882), mode="same"))
    if not len(level) or level.max() < 1e-5:
        return Pitch()
    begin = int(np.argmax(level > 0.1 * level.max()))
    heard = np.flatnonzero(level > 0.02 * level.max())
    end = int(heard[-1])
    start = begin + max(int(0.06 * RATE_HZ), (end - begin) // 4)
    part = mono[start : min(end, start + 2 * RATE_HZ)]
    if len(part) < 2200:
        return Pitch()
    return _periodicity(part)


def _periodicity(part: Floats) -> Pitch:
    """The period by normalised autocorrelation (McLeod's square difference), then its exact length over many periods."""
    from scipy import fft

    part = part - part.mean()
    size = 1 << int(np.ceil(np.log2(2 * len(part))))
    spectrum = fft.rfft(part, size)
    raw = fft.irfft(np.abs(spectrum) ** 2, size)[: len(part)]
    squares = np.cumsum(part**2)
    total = squares[-1]
    lags = np.arange(len(part))
    energy = (total - np.concatenate(([0.0], squares[:-1]))[lags]) + squares[::-1][lags]
    nsd = 2.0 * raw / np.maximum(energy, 1e-12)
    low, high = int(RATE_HZ / 2200.0), min(int(RATE_HZ / 25.0), len(part) // 2)
    if high <= low + 2:
        return Pitch()
    window = nsd[:high]
    falls = np.flatnonzero(window < 0.0)
    first = max(low, int(falls[0]) if len(falls) else low)
    inner = (
        np.flatnonzero((window[first + 1 : -1] > window[first:-2]) & (window[first + 1 : -1] >= window[first + 2 :]))
        + first
        + 1
    )
    if not len(inner):
        return Pitch()
    best = window[inner].max()
    lag = int(inner[np.argmax(window[inner] >= 0.9 * best)])
    return Pitch(round(_exact(nsd, float(lag), len(part)), 3), round(float(np.clip(best, 0.0, 1.0)), 2))


def _exact(nsd: Floats, lag: float, length: int) -> float:
    """The period refined by peaks ever further away, as long as they hold: twice as far, twice as exact."""
    lag = _between(nsd, round(lag))
    times = 1
    while (times * 2) * lag < length * 0.55:
        times *= 2
        at = round(times * lag)
        near = nsd[max(1, at - 3) : at + 4]
        if len(near) < 3 or near.max() < 0.5:
            break
        lag = _between(nsd, max(1, at - 3) + int(np.argmax(near))) / times
    return RATE_HZ / lag


def _between(values: Floats, at: int) -> float:
    if not 0 < at < len(values) - 1:
        return float(at)
    a, b, c = values[at - 1], values[at], values[at + 1]
    bend = a - 2 * b + c
    return at + float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5)) if bend < 0 else float(at)


THIRD_FROM, THIRD_TO = (
    40,
    75,
)  # MIDI pitches among which the notes of a chord are looked for, below most of their own fifth partials
DEEPEST = 28
THIRD_DB = -11.0  # so much under the strongest note a third is still one, and no partial


def third_of(audio: Audio, root_class: int) -> str:
    """Whether a chord of (channels, n) at 44.1 kHz has a "minor" or "major" third over its root; empty for a note or a bare fifth."""
    mono = audio.mean(axis=0)[: 2 * RATE_HZ].astype(float)
    if len(mono) < 2048:
        return ""
    power = np.abs(np.fft.rfft(mono * np.hanning(len(mono)), 1 << 17)) ** 2
    pitches = np.arange(DEEPEST, THIRD_TO + 1)
    hz = 440.0 * 2.0 ** ((pitches - 69) / 12.0)
    edges = [np.rint(hz * 2.0 ** (cents / 1200.0) * (1 << 17) / RATE_HZ).astype(int) for cents in (-40, 40)]
    notes = np.array([power[a : max(b, a + 1)].max() for a, b in zip(*edges)])
    over_root = np.where(pitches >= THIRD_FROM, (pitches - root_class) % 12, -1)
    minor, major = (notes[over_root == third].max() for third in (3, 4))
    if max(minor, major) < notes.max() * 10.0 ** (THIRD_DB / 10.0):
        return ""
    return "minor" if minor > major else "major"
