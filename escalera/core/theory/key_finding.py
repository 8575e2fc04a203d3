"""The key of notes: pitch-class profiles, helped by where the music begins and ends and by cadences.

The profiles are those of Albrecht and Shanahan (2013), shares of the pitch classes from the tonic up.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import MODES, Key
from escalera.core.theory.pitch import nearest_fifths
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
MAJOR = np.array([0.238, 0.006, 0.111, 0.006, 0.137, 0.094, 0.016, 0.214, 0.009, 0.080, 0.008, 0.081])
MINOR = np.array([0.220, 0.006, 0.104, 0.123, 0.019, 0.103, 0.012, 0.214, 0.062, 0.022, 0.061, 0.052])
# What a cue is worth, in units of correlation: found by a search over generated progressions and corpus pieces.
FIRST_TRIAD, FIRST_BASS, LAST_TRIAD, LAST_BASS = 0.44, 0.37, 0.08, 0.48
CADENCE, CLOSE, AT_HOME = 0.34, 0.23, 0.11


MOST_NOTES, RUNS = 8_000, 8


@dataclass(frozen=True)
class Slice:
    """What sounds between two moments: weights of the pitch classes (12,), the lowest pitch class, and its length."""

    weights: tuple[float, ...]
    bass: int
    length: float

    @cached_property
    def classes(self) -> frozenset[int]:
        strongest = max(self.weights)
        return (
            frozenset(c for c, w in enumerate(self.weights) if w > 0.15 * strongest) if strongest > 0 else frozenset()
        )


@dataclass(frozen=True, slots=True)
class KeyCandidate:
    key: Key
    score: float


@dataclass(frozen=True, slots=True)
class KeyReading:
    """Candidates, best first. `margin` is the distance of the first two; `relative` is the best key's relative."""

    candidates: tuple[KeyCandidate, ...]

    @property
    def best(self) -> Key:
        return self.candidates[0].key

    @property
    def second(self) -> Key:
        return self.candidates[1].key

    @property
    def margin(self) -> float:
        return self.candidates[0].score - self.candidates[1].score

    @property
    def is_close(self) -> bool:
        return self.margin < 0.06

    def score_of(self, key: Key) -> float | None:
        """Score of a key with that tonic and third; None for a mode that is neither major nor minor like."""
        want = (key.tonic_class, key.is_minor)
        return next((c.score for c in self.candidates if (c.key.tonic_class, c.key.is_minor) == want), None)


def find_key(slices: Sequence[Slice]) -> KeyReading | None:
    """The key of a row of slices, among all major and minor keys; None when nothing sounds."""
    total = np.zeros(12)
    for piece in slices:
        total += np.array(piece.weights)
    if total.sum() <= 0 or np.ptp(total) == 0:
        return None
    sounding = [s for s in slices if s.classes]
    rows = []
    for minor, profile in ((False, MAJOR), (True, MINOR)):
        for tonic in range(12):
            fit = float(np.corrcoef(np.roll(profile, tonic), total)[0, 1])
            mode = "minor" if minor else "major"
            key = Key(nearest_fifths(tonic, -MODES[mode][1]), mode)
            rows.append(KeyCandidate(key, round(fit + _cues(sounding, tonic, minor), 4)))
    return KeyReading(tuple(sorted(rows, key=lambda r: -r.score)))


def _cues(slices: Sequence[Slice], tonic: int, minor: bool) -> float:
    """Where the music begins and ends, how often a dominant leads home, and whether the third fits."""
    home = frozenset((tonic, (tonic + (3 if minor else 4)) % 12, (tonic + 7) % 12))
    other_third = (tonic + (4 if minor else 3)) % 12

    def is_home(piece: Slice) -> bool:
        return tonic in piece.classes and len(home & piece.classes) >= 2 and other_third not in piece.classes

    first, last = slices[0], slices[-1]
    worth = LAST_TRIAD * is_home(last) + FIRST_TRIAD * is_home(first)
    worth += LAST_BASS * (last.bass == tonic) + FIRST_BASS * (first.bass == tonic)
    at_home = sum(s.length for s in slices if is_home(s)) / max(sum(s.length for s in slices), 1e-9)
    return worth + AT_HOME * at_home + _cadences(slices, tonic, is_home)


def _cadences(slices: Sequence[Slice], tonic: int, is_home: Callable[[Slice], bool]) -> float:
    """Dominants with their leading tone, or diminished chords on it, that move to the tonic chord."""
    leading, dominant = (tonic + 11) % 12, (tonic + 7) % 12
    pulls = {leading, dominant}
    arrivals = [b for a, b in zip(slices, slices[1:]) if is_home(b) and pulls <= a.classes and not is_home(a)]
    at_end = bool(arrivals) and arrivals[-1] is slices[-1]
    return CADENCE * min(1.0, 0.5 * len(arrivals)) + CLOSE * at_end


def slices_of_chords(chords: Sequence[tuple[Chord, float]]) -> list[Slice]:
    """Slices of chords with their lengths: the root and fifth count a little more than the other tones."""
    found = []
    for chord, length in chords:
        weights = np.zeros(12)
        for tone in chord.tones:
            weights[(chord.root_class + tone) % 12] += length * (1.2 if tone in (0, 7) else 1.0)
        weights[chord.bass_class] += 0.5 * length
        found.append(Slice(tuple(weights), chord.bass_class, length))
    return found


def slices_of_notes(notes: NDArray[np.int64]) -> list[Slice]:
    """Slices of notes, an array (n, 3) of start, end and MIDI pitch, cut where the harmony may change.

    Cuts lie at onsets of the lowest sounding part or of two notes at once; notes may overlap in any order. Of more than
    MOST_NOTES some runs are read, the first and the last among them.
    """
    if not len(notes):
        return []
    notes = notes[np.argsort(notes[:, 0], kind="stable")]
    if len(notes) > MOST_NOTES:
        run = MOST_NOTES // RUNS
        starts = np.linspace(0, len(notes) - run, RUNS).astype(int)
        return [piece for at in starts for piece in slices_of_notes(notes[at : at + run])]
    cuts = _cuts(notes)
    found = []
    for low, high in zip(cuts, cuts[1:]):
        inside = notes[(notes[:, 0] < high) & (notes[:, 1] > low)]
        if not len(inside):
            continue
        lengths = np.minimum(inside[:, 1], high) - np.maximum(inside[:, 0], low)
        weights = np.bincount(inside[:, 2] % 12, weights=lengths, minlength=12)
        found.append(Slice(tuple(weights.tolist()), int(inside[:, 2].min() % 12), float(high - low)))
    return found


def _cuts(notes: NDArray[np.int64]) -> list[int]:
    starts, counts = np.unique(notes[:, 0], return_counts=True)
    lowest = {int(s): int(notes[notes[:, 0] == s, 2].min()) for s in starts}
    cuts = [int(s) for s, n in zip(starts, counts) if n >= 2 or lowest[int(s)] <= _sounding_low(notes, int(s))]
    return [*cuts, int(notes[:, 1].max())] if cuts else [int(starts[0]), int(notes[:, 1].max())]


def _sounding_low(notes: NDArray[np.int64], at: int) -> int:
    """The lowest pitch that sounds at a moment."""
    inside = notes[(notes[:, 0] <= at) & (notes[:, 1] > at), 2]
    return int(inside.min()) if len(inside) else 127
