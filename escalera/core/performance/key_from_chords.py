"""Key and mode of what was played: which seven notes it keeps to, and which of them is home by chords, bass, ends and cadences."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.performance.chord_reading import Beats, ReadChord
from escalera.core.performance.played import Floats
from escalera.core.theory.keys import MODES, Key
from escalera.core.theory.pitch import nearest_fifths
from escalera.lazy_dataclasses import dataclass

CHURCH = ("major", "minor", "dorian", "mixolydian", "phrygian", "lydian")
# the degree that tells a mode from major and minor, in semitones; and the roots from which it closes beside the fifth
TELLING = {"dorian": 9, "mixolydian": 10, "phrygian": 1, "lydian": 6}
CLOSES = {"mixolydian": (10,), "dorian": (5, 10), "phrygian": (1, 10), "lydian": (2,), "minor": (10,)}
# What speaks for a home, fitted on performances made for it
FIT, OUTSIDE, AT_HOME, FIRST, LAST, CADENCE, LOOPS_HOME, RARE = 3.0, 6.0, 1.6, 0.5, 0.9, 0.8, 0.8, 0.12
LOOPED = 0.35  # what first and last chords count in one loop that goes round
SELDOM, SETTLED = 0.9, 0.42  # a church mode is heard where its home chord takes so much of the time
LEADING = 0.75  # share of what lies outside that a minor key may have as its raised seventh without loss


@dataclass(frozen=True, slots=True)
class KeyFound:
    """A key with its mode, and how sure it is, 0..1."""

    key: Key
    confidence: float
    second: Key | None = None


def find_mode(chords: Sequence[ReadChord], lengths: Sequence[float], weights: Floats) -> KeyFound | None:
    """The key of chords (their lengths in beats) and of the weights of pitch classes (12,). None where nothing sounds."""
    total = float(weights.sum())
    if total <= 0:
        return None
    share, row = weights / total, _Row.of(chords, lengths)
    homes = {(tonic, third): row.home(tonic, third) for tonic in range(12) for third in (3, 4) if len(row.roots)}
    rows = []
    for mode in CHURCH:
        for tonic in range(12):
            home = homes.get((tonic, MODES[mode][0][2]))
            rows.append((_score(share, row, home, tonic, mode), tonic, mode))
    rows.sort(key=lambda r: -r[0])
    best, second = rows[0], rows[1]
    keys = [Key(nearest_fifths(tonic, -MODES[mode][1]), mode) for _, tonic, mode in (best, second)]
    return KeyFound(keys[0], float(np.clip((best[0] - second[0]) / 0.8, 0.0, 1.0)), keys[1])


@dataclass(frozen=True, eq=False)
class _Row:
    """A row of chords as arrays: roots, tones (n, 12), whether they leave the third open, lengths, which begin a fourth bar."""

    roots: NDArray[np.int64]
    tones: NDArray[np.bool_]
    is_open: NDArray[np.bool_]
    lengths: Floats
    at_starts: NDArray[np.bool_]
    loop: int  # how many chords go round and round, 0 where they do not

    @classmethod
    def of(cls, chords: Sequence[ReadChord], lengths: Sequence[float]) -> _Row:
        tones = np.zeros((len(chords), 12), bool)
        for i, c in enumerate(chords):
            tones[i, list(c.chord.classes)] = True
        return cls(
            np.array([c.chord.root_class for c in chords], np.int64),
            tones,
            np.array([c.chord.quality in ("5", "sus4", "sus2") for c in chords], bool),
            np.array(lengths, float),
            np.array([c.beat == 0 and c.bar % 4 == 0 for c in chords], bool),
            _one_loop(chords),
        )

    def home(self, tonic: int, third: int) -> _Home:
        """How the chord on the tonic stands in the row, once it is not empty."""
        at: NDArray[np.bool_] = (self.roots == tonic) & (self.tones[:, (tonic + third) % 12] | self.is_open)
        arrives = at[1:] & ~at[:-1]
        return _Home(
            float(self.lengths[at].sum() / max(1e-9, self.lengths.sum())),
            float(at[0]),
            float(at[-1]),
            float(at[self.at_starts].mean()) if self.at_starts.any() else 0.0,
            np.bincount((self.roots[:-1][arrives] - tonic) % 12, minlength=12),
        )


@dataclass(frozen=True, eq=False)
class _Home:
    """A chord taken for home: its share of the time, whether the row begins and ends with it, its share of the fourth bars'
    beginnings, and from which degrees (12,) it is come to how often."""

    share: float
    first: float
    last: float
    starts: float
    arrivals: NDArray[np.int64]


def _score(share: Floats, row: _Row, home: _Home | None, tonic: int, mode: str) -> float:
    degrees = MODES[mode][0]
    outside = 1.0 - sum(float(share[(tonic + d) % 12]) for d in degrees)
    if mode == "minor":
        outside -= LEADING * min(float(share[(tonic + 11) % 12]), 0.06)
    telling = TELLING.get(mode)
    score = -OUTSIDE * outside - (RARE if telling is not None else 0.0)
    if telling is not None:
        score += min(0.25, 3.0 * float(share[(tonic + telling) % 12])) - 0.2
    score += 0.8 * float(share[tonic]) + 0.4 * float(share[(tonic + 7) % 12])
    if home is None:
        return score
    ends = (
        LOOPED if row.loop > 2 else 1.0
    )  # where one loop goes round, it may begin anywhere; of two chords the first is home
    last = LOOPED if row.loop else 1.0
    score += AT_HOME * home.share + ends * FIRST * home.first + last * LAST * home.last
    score += CADENCE * _cadences(home, mode) + ends * LOOPS_HOME * home.starts
    if telling is not None:
        score -= SELDOM * max(0.0, 1.0 - home.share / SETTLED)
    return score


def _one_loop(chords: Sequence[ReadChord]) -> int:
    """Over how many chords the whole goes round, three times at least; 0 where it does not."""
    names = [(c.chord.root_class, c.chord.quality) for c in chords]
    return next((p for p in range(2, 9) if len(names) >= 3 * p and all(a == b for a, b in zip(names, names[p:]))), 0)


def _cadences(home: _Home, mode: str) -> float:
    """Share of the arrivals at home that come from where this mode closes: five, or its own telling neighbour."""
    count = int(home.arrivals.sum())
    if not count:
        return 0.0
    strong = float(home.arrivals[7]) + 0.6 * float(home.arrivals[list(CLOSES.get(mode, (5,)))].sum())
    return min(1.0, strong / count) * min(1.0, count / 3)


def weights_of(beats: Beats, low: int = 0, high: int | None = None) -> Floats:
    """What sounds in some beats, by pitch class (12,)."""
    total: Floats = beats.weights[low:high].sum(axis=0)
    return total
