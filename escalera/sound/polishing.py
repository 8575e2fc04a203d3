"""A take polished: notes tuned and moved by amounts, sibilance and breaths turned down, loudness ridden. The take itself is kept."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.singing import Polish
from escalera.core.voices.polish_plan import PolishedNote
from escalera.sound.formants import kept
from escalera.sound.schedule import RATE_HZ
from escalera.sound.stretching import HELD, stretched

SEAM = 441  # samples over which a moved note takes over from the one before
LEAST_CENTS, LEAST_S = 1.0, 0.002  # below which nothing is moved
FORMANTS_FROM = 1.0  # semitones from which on a shift would change the vowel
ROOM = 4410  # heard by the stretcher before and after a note
MOST_RIDE_DB = 9.0
RAMP_S = 0.012
Audio = NDArray[np.float32]
Stretch = tuple[float, float]


def polished(
    audio: Audio, notes: Sequence[PolishedNote], hisses: Sequence[Stretch], breaths: Sequence[Stretch], polish: Polish
) -> Audio:
    """A take (channels, n) at 44.1 kHz after its polish, as long as before: levels first, then pitch and time note by note."""
    gain = np.zeros(audio.shape[1])
    for rows, db in ((hisses, polish.sibilance_db), (breaths, polish.breaths_db)):
        for start, end in rows if db else ():
            _ramp(gain, start, end, db)
    if polish.rides:
        _ride(gain, audio, notes, polish.rides)
    out = (audio * (10.0 ** (gain / 20.0)).astype(np.float32)).astype(np.float32)
    return _moved(out, notes) if any(abs(n.cents) >= LEAST_CENTS or abs(n.later_s) >= LEAST_S for n in notes) else out


def _ramp(gain: NDArray[np.float64], start_s: float, end_s: float, db: float) -> None:
    """A gain in dB over a stretch, eased in and out; stretches that meet take the stronger one."""
    a, b, ease = round((start_s - RAMP_S) * RATE_HZ), round((end_s + RAMP_S) * RATE_HZ), round(RAMP_S * RATE_HZ)
    a, b = max(0, a), min(len(gain), b)
    if b <= a:
        return
    t = np.arange(b - a)
    shape = np.minimum(1.0, np.minimum((t + 1) / ease, (b - a - t) / ease))
    gain[a:b] = np.where(np.abs(gain[a:b]) > np.abs(db * shape), gain[a:b], db * shape)


def _ride(gain: NDArray[np.float64], audio: Audio, notes: Sequence[PolishedNote], amount: float) -> None:
    """Every note toward the loudness of the middle one, by a share."""
    levels = []
    for n in notes:
        part = audio[:, round(n.start_s * RATE_HZ) : max(round(n.start_s * RATE_HZ) + 1, round(n.end_s * RATE_HZ))]
        levels.append(10.0 * np.log10(float((part.astype(np.float64) ** 2).mean()) + 1e-10) if part.size else -100.0)
    middle = float(np.median(levels)) if levels else 0.0
    for n, level in zip(notes, levels):
        change = float(np.clip(amount * (middle - level), -MOST_RIDE_DB, MOST_RIDE_DB))
        a, b = max(0, round(n.start_s * RATE_HZ)), min(len(gain), round(n.end_s * RATE_HZ))
        ease = max(1, min(round(0.03 * RATE_HZ), (b - a) // 2))
        t = np.arange(max(0, b - a))
        gain[a:b] += change * np.minimum(1.0, np.minimum((t + 1) / ease, (b - a - t) / ease))


def _moved(audio: Audio, notes: Sequence[PolishedNote]) -> Audio:
    """Pieces from one note's beginning to the next one's, each stretched to its new length at its new pitch, seams crossfaded."""
    count = audio.shape[1]
    before = [0, *(round(n.start_s * RATE_HZ) for n in notes), count]
    after = [0, *(round((n.start_s + n.later_s) * RATE_HZ) for n in notes), count]
    for i in range(1, len(after)):  # moved notes stay in order
        after[i] = min(count, max(after[i], after[i - 1] + SEAM))
    out = np.zeros_like(audio)
    cents = [0.0, *(n.cents for n in notes)]
    for i, (a, b) in enumerate(zip(before, before[1:])):
        start, end = after[i], after[i + 1]
        if b - a < SEAM or end <= start:
            continue
        part = _piece(audio, a, b, end - start + SEAM, cents[i] / 100.0)
        lead = min(SEAM, start)
        ramp = np.ones(part.shape[1], np.float32)
        if i:
            ramp[:SEAM] = np.linspace(0.0, 1.0, SEAM, dtype=np.float32)
        if end < count:
            ramp[-SEAM:] *= np.linspace(1.0, 0.0, min(SEAM, len(ramp)), dtype=np.float32)
        at = start - lead if i else start
        room = min(part.shape[1], count - at)
        out[:, at : at + room] += part[:, :room] * ramp[:room]
    return out


def _piece(audio: Audio, low: int, high: int, length: int, semitones: float) -> Audio:
    """Samples from `low` to `high` and a seam before them, `length` samples long and moved by semitones; shape (channels, length)."""
    first = max(0, low - SEAM)
    source = audio[:, first : high + SEAM][:, : high - first]
    if abs(semitones) * 100.0 < LEAST_CENTS and abs(length - source.shape[1]) <= 2:
        made = source
    else:
        room = min(ROOM, first)
        ratio = length / max(1, source.shape[1])
        wide = audio[:, first - room : min(audio.shape[1], high + ROOM)]
        whole = stretched(wide, max(1, round(wide.shape[1] * min(4.0, max(0.25, ratio)))), semitones, HELD)
        made = whole[:, round(room * ratio) :]
        if abs(semitones) >= FORMANTS_FROM:
            made = kept(source, made, semitones)
    made = made[:, :length]
    return np.pad(made, ((0, 0), (0, length - made.shape[1]))) if made.shape[1] < length else made
