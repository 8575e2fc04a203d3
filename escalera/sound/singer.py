"""A simulated singer: notes, vowels and consonants to sound, with human timing and pitch, by seed.

Harmonics of the pitch are weighted by the formants of the vowel voice and added up (source and filter, Fant 1960); consonants are bands
of noise before a note, breaths are noise before a line. What was really sung comes back with the sound, as the truth to hold readings to.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.sound.schedule import RATE_HZ

FRAME = 220  # samples between two values of pitch and vowel
WIDTHS_HZ = np.array([80.0, 100.0, 130.0])
HIGHEST_HZ = 7000.0
VOWEL_PLACES = {
    "a": 0.0, "A": 0.3, "x": 0.15, "o": 3.2, "c": 0.4, "y": 0.3, "e": 1.0, "R": 0.8, "E": 1.2, "i": 1.8, "I": 2.0, "O": 3.0, "Y": 3.2, "u": 3.8, "U": 4.0,
}  # fmt: skip
# of each phone that hisses: where its noise begins in Hz, and how strong it is
HISSES = {
    "s": (5200.0, 1.0), "z": (5200.0, 0.6), "S": (3200.0, 0.9), "C": (3400.0, 0.8), "j": (3200.0, 0.5), "Z": (3000.0, 0.5), "f": (4500.0, 0.25),
    "T": (4800.0, 0.25), "h": (1600.0, 0.2),
}  # fmt: skip
STOPS = frozenset("pbtdkgC")
HISS_S, BREATH_S = 0.085, 0.28
LOOSE_S, OFF_CENTS = 0.012, 9.0  # of a person who sings well: spread of timing and of pitch
LATE_S = 0.008
Audio = NDArray[np.float32]
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class ToSing:
    """A note to be sung: seconds, MIDI pitch, the phones of its syllable (empty: ah), whether a breath comes before it."""

    start_s: float
    end_s: float
    pitch: float
    phones: str = ""
    breath: bool = False


@dataclass(frozen=True, slots=True)
class Sung:
    """Sound of shape (1, n) at 44.1 kHz with what was sung: start, end and pitch of every note, in order; breaths as (start, end)."""

    audio: Audio
    notes: tuple[tuple[float, float, float], ...]
    breaths: tuple[tuple[float, float], ...]


def sing(notes: list[ToSing], seconds: float, seed: int, loose: float = 1.0, detune_cents: float = 0.0) -> Sung:
    """Notes as somebody sings them; `loose` 0 is exact, 1 is usual. The same seed sings the same."""
    rng = np.random.default_rng(seed)
    count = round(seconds * RATE_HZ)
    frames = -(-count // FRAME) + 1
    pitch, vowel, level = np.full(frames, np.nan), np.zeros(frames), np.zeros(frames)
    noise = np.zeros(count, np.float32)
    told, breaths = [], []
    drift = _slowly(rng, frames, 2.5 * loose)
    shifts = loose * (LATE_S + rng.normal(0.0, LOOSE_S, len(notes)))
    offs = loose * rng.normal(0.0, OFF_CENTS, len(notes)) + detune_cents
    for i, note in enumerate(notes):
        start = max(0.0, note.start_s + shifts[i])
        free = note.end_s + shifts[i] * 0.5
        end = min(free, notes[i + 1].start_s + shifts[i + 1] - 0.004) if i + 1 < len(notes) else free
        end = min(max(end, start + 0.06), seconds - 0.02)
        if end <= start:
            continue
        if note.breath and start > BREATH_S + 0.05:
            at = start - BREATH_S - 0.06
            breaths.append((at, at + BREATH_S))
            _add(noise, at, _band(rng, BREATH_S, 900.0, 3800.0) * np.float32(0.02))
        _one_note(pitch, vowel, level, start, end, note, offs[i] / 100.0, loose, rng)
        _consonants(noise, level, note.phones, start, rng)
        told.append((start, end, note.pitch + offs[i] / 100.0))
    voiced = ~np.isnan(pitch)
    pitch = (
        np.interp(np.arange(frames), np.flatnonzero(voiced), pitch[voiced]) + drift / 100.0
        if voiced.any()
        else np.full(frames, 60.0)
    )
    audio = _harmonics(pitch, vowel, level, count, rng) + noise
    return Sung(audio[None].astype(np.float32), tuple(told), tuple(breaths))


def _slowly(rng: np.random.Generator, frames: int, size: float) -> Floats:
    """A wandering line of about `size` about 0, shape (frames,)."""
    knots = rng.normal(0.0, size, max(2, frames // 60))
    found: Floats = np.interp(np.linspace(0, len(knots) - 1, frames), np.arange(len(knots)), knots)
    return found


def _one_note(
    pitch: Floats,
    vowel: Floats,
    level: Floats,
    start: float,
    end: float,
    note: ToSing,
    off: float,
    loose: float,
    rng: np.random.Generator,
) -> None:
    """Pitch, vowel and level of a note entered into rows of frames: scooped into, with a late vibrato, fading at both ends."""
    a, b = int(round(start * RATE_HZ / FRAME)), int(round(end * RATE_HZ / FRAME))
    b = min(max(b, a + 4), len(pitch))
    t = np.arange(b - a) * FRAME / RATE_HZ
    depth = 0.22 * np.clip((t - 0.35) / 0.4, 0.0, 1.0)
    scoop = -0.5 * loose * np.exp(-t / 0.02)
    pitch[a:b] = note.pitch + off + scoop + depth * np.sin(2 * np.pi * (5.4 * t + rng.random()))
    vowel[a:b] = next((VOWEL_PLACES[c] for c in note.phones if c in VOWEL_PLACES), 0.0)
    shape = np.minimum(1.0, np.minimum((t + 0.002) / 0.018, (t[-1] - t + 0.002) / 0.03)) if len(t) else t
    level[a:b] = shape * 10.0 ** (rng.normal(0.0, 1.2 * loose) / 20.0)


def _consonants(noise: Audio, level: Floats, phones: str, start: float, rng: np.random.Generator) -> None:
    """What stands before the vowel: hisses as bands of noise, stops as a moment of silence."""
    onset = phones[: next((i for i, c in enumerate(phones) if c in VOWEL_PLACES), 0)]
    at = start
    for c in reversed(onset):
        if c in HISSES:
            low, strength = HISSES[c]
            at -= HISS_S
            _add(noise, at, _band(rng, HISS_S, low, min(2.2 * low, 12_000.0)) * np.float32(0.11 * strength))
        if c in STOPS:
            a, b = (max(0, int(x * RATE_HZ / FRAME)) for x in (at - 0.035, at))
            level[a:b] = 0.0
    if onset and onset[-1] in HISSES:
        a, b = (max(0, int(x * RATE_HZ / FRAME)) for x in (start - HISS_S, start))
        level[a:b] = 0.0


def _band(rng: np.random.Generator, seconds: float, low_hz: float, high_hz: float) -> Audio:
    """A stretch of noise within a band, swelling and fading."""
    n = max(8, round(seconds * RATE_HZ))
    spectrum = np.fft.rfft(rng.normal(0.0, 1.0, n))
    hz = np.fft.rfftfreq(n, 1.0 / RATE_HZ)
    spectrum *= np.exp(
        -0.5
        * ((np.log(np.maximum(hz, 1.0)) - np.log(np.sqrt(low_hz * high_hz))) / (0.42 * np.log(high_hz / low_hz))) ** 2
    )
    made = np.fft.irfft(spectrum, n)
    made *= np.sin(np.pi * (np.arange(n) + 0.5) / n) ** 0.6
    return (made / max(np.abs(made).max(), 1e-9)).astype(np.float32)


def _add(out: Audio, at_s: float, part: Audio) -> None:
    at = max(0, round(at_s * RATE_HZ))
    room = min(len(part), len(out) - at)
    if room > 0:
        out[at : at + room] += part[:room]


def _between(row: Floats, count: int) -> Floats:
    """A row of frames as samples, straight from frame to frame, shape (count,)."""
    share = np.arange(FRAME) / FRAME
    found: Floats = (row[:-1, None] + np.diff(row)[:, None] * share).reshape(-1)[:count]
    return found


def _harmonics(pitch: Floats, vowel: Floats, level: Floats, count: int, rng: np.random.Generator) -> Floats:
    """The voice itself: harmonics of a pitch through a vowel, shape (count,)."""
    # not at the top: kernels bring their compiler along, which pages do without
    from escalera.sound.kernels.partials import FORMANTS

    hz = 440.0 * 2.0 ** ((pitch - 69.0) / 12.0)
    phase = 2.0 * np.pi * np.cumsum(_between(hz, count)) / RATE_HZ
    smooth = np.convolve(np.pad(vowel, 4, mode="edge"), np.ones(9) / 9.0, "valid")
    low = np.clip(smooth.astype(int), 0, 3)
    share = (smooth - low)[:, None]
    formants = FORMANTS[low] * (1.0 - share) + FORMANTS[low + 1] * share
    found, before, now, turn = np.zeros(count), np.zeros(count), np.sin(phase), 2.0 * np.cos(phase)
    for h in range(1, int(HIGHEST_HZ / max(float(hz.min()), 60.0)) + 1):
        x = h * hz[:, None]
        peaks = 1.0 / (1.0 + ((x - formants) / WIDTHS_HZ) ** 2)
        weight = (peaks * np.array([1.0, 0.6, 0.3])).sum(axis=1) + 0.01
        weight *= level * h**-0.6 * np.clip((HIGHEST_HZ - h * hz) / 1000.0, 0.0, 1.0)
        if weight.max() > 1e-4:
            found += _between(weight, count) * now
        before, now = now, turn * now - before  # the sine of the next multiple, without a sine
    breath = np.convolve(rng.normal(0.0, 1.0, count), np.array([1.0, -0.9]), "same")
    found += 0.004 * breath * _between(level, count)
    top = np.abs(found).max()
    return 0.3 * found / top if top > 0 else found
