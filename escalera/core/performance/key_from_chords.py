"""Key and mode of what was played: which seven notes it keeps to, and which of them is home by chords, bass, ends and cadences."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from escalera.core.performance.chord_reading import Beats, ReadChord
from escalera.core.performance.played import Floats
from escalera.core.theory.keys import MODES, Key
from escalera.core.theory.pitch import nearest_fifths

CHURCH = ("major", "minor", "dorian", "mixolydian", "phrygian", "lydian")
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
    share = weights / total
    rows = []
    for mode in CHURCH:
        for tonic in range(12):
            rows.append((_score(share, chords, lengths, tonic, mode), tonic, mode))
    rows.sort(key=lambda r: -r[0])
    best, second = rows[0], rows[1]
    keys = [Key(nearest_fifths(tonic, -MODES[mode][1]), mode) for _, tonic, mode in (best, second)]
    return KeyFound(keys[0], float(np.clip((best[0] - second[0]) / 0.8, 0.0, 1.0)), keys[1])


def _score(share: Floats, chords: Sequence[ReadChord], lengths: Sequence[float], tonic: int, mode: str) -> float:
    degrees = MODES[mode][0]
    scale = {(tonic + d) % 12 for d in degrees}
    outside = sum(float(share[c]) for c in range(12) if c not in scale)
    if mode == "minor":
        outside -= LEADING * min(float(share[(tonic + 11) % 12]), 0.06)
    third = degrees[2]
    telling = {"dorian": 9, "mixolydian": 10, "phrygian": 1, "lydian": 6}.get(mode)
    score = -OUTSIDE * outside - (RARE if telling is not None else 0.0)
    if telling is not None:
        score += min(0.25, 3.0 * float(share[(tonic + telling) % 12])) - 0.2
    score += 0.8 * float(share[tonic]) + 0.4 * float(share[(tonic + 7) % 12])
    if not chords:
        return score

    def home(chord: ReadChord) -> bool:
        c = chord.chord
        return c.root_class == tonic and ((tonic + third) % 12 in c.classes or c.quality in ("5", "sus4", "sus2"))

    span = max(1e-9, float(sum(lengths)))
    at_home = sum(n for c, n in zip(chords, lengths) if home(c)) / span
    ends = LOOPED if _is_one_loop(chords) else 1.0  # where one loop goes round, it may begin anywhere
    score += AT_HOME * at_home + ends * (FIRST * home(chords[0]) + LAST * home(chords[-1]))
    score += CADENCE * _cadences(chords, tonic, mode, home) + ends * LOOPS_HOME * _at_starts(chords, home)
    if telling is not None:
        score -= SELDOM * max(0.0, 1.0 - at_home / SETTLED)
    return score


def _is_one_loop(chords: Sequence[ReadChord]) -> bool:
    """Whether the whole is one short row of chords, over and over."""
    names = [(c.chord.root_class, c.chord.quality) for c in chords]
    return any(len(names) >= 3 * p and all(a == b for a, b in zip(names, names[p:])) for p in range(2, 9))


def _cadences(chords: Sequence[ReadChord], tonic: int, mode: str, home) -> float:  # type: ignore[no-untyped-def]
    """Share of the arrivals at home that come from where this mode closes: five, or its own telling neighbour."""
    closes = {(tonic + 7) % 12} | {
        (tonic + d) % 12 for d in {"mixolydian": (10,), "dorian": (5, 10), "phrygian": (1, 10), "lydian": (2,), "minor": (10,)}.get(mode, (5,))
    }  # fmt: skip
    arrivals = [a for a, b in zip(chords, chords[1:]) if home(b) and not home(a)]
    if not arrivals:
        return 0.0
    strong = sum(
        1.0 if (a.chord.root_class - tonic) % 12 == 7 else 0.6 for a in arrivals if a.chord.root_class in closes
    )
    return min(1.0, strong / len(arrivals)) * min(1.0, len(arrivals) / 3)


def _at_starts(chords: Sequence[ReadChord], home) -> float:  # type: ignore[no-untyped-def]
    """Share of the fourth bars that begin at home."""
    starts = [c for c in chords if c.beat == 0 and c.bar % 4 == 0]
    return sum(map(home, starts)) / len(starts) if starts else 0.0


def weights_of(beats: Beats, low: int = 0, high: int | None = None) -> Floats:
    """What sounds in some beats, by pitch class (12,)."""
    total: Floats = beats.weights[low:high].sum(axis=0)
    return total
