"""How much of one line is in another: the same steps in the same rhythm, from any note, at any place, slower or faster."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

Ints = NDArray[np.int64]
WHOLE, PIECE = "whole", "piece"
WHOLE_SHARE, PIECE_SHARE = 0.75, 0.35
LEAST_NOTES = 3
ALONE = (
    0.6  # share of the notes between the first and the last that was found which belong to it: a pulse carries no tune
)
PACES = (1, 2)  # as it is, and twice as slow or as fast


@dataclass(frozen=True, slots=True)
class Kin:
    """`state` is whole, piece or nothing; `share` of the tune's notes that are there; `pace` 0.5, 1 or 2."""

    state: str
    share: float
    pace: float = 1.0


NOTHING = Kin("", 0.0)
Notes = tuple[tuple[int, int], ...]  # (tick, step) by tick


def steps_of(notes: list[tuple[int, int]], key: Key) -> Notes:
    """Notes (tick, pitch) as steps of the key, the highest of every onset; what is foreign takes the step below."""
    top: dict[int, int] = {}
    for tick, pitch in notes:
        top[tick] = max(top.get(tick, -1), pitch)
    return tuple((tick, _step(pitch, key)) for tick, pitch in sorted(top.items()))


def _step(pitch: int, key: Key) -> int:
    octave, place = divmod(pitch - key.tonic_class, 12)
    return 7 * octave + max(i for i, d in enumerate(key.degrees) if d <= place)


@lru_cache(maxsize=8192)
def kinship(tune: Notes, other: Notes) -> Kin:
    """How much of a tune is in another line. Steps and ticks may be shifted, but all by the same."""
    if len(tune) < LEAST_NOTES or len(other) < LEAST_NOTES:
        return NOTHING
    a, b = np.array(tune, np.int64), np.array(other, np.int64)
    best = NOTHING
    for pace in PACES:
        for slow, fast, ratio in ((a * (pace, 1), b, float(pace)), (a, b * (pace, 1), 1.0 / pace)):
            found = _matched(slow, fast)
            if len(found) >= LEAST_NOTES and _tells(found, a[:, 1]) and len(found) / len(a) > best.share:
                best = Kin("", len(found) / len(a), ratio)
    state = WHOLE if best.share >= WHOLE_SHARE else PIECE if best.share >= PIECE_SHARE else ""
    return Kin(state, round(best.share, 3), best.pace) if state else NOTHING


def _matched(a: Ints, b: Ints) -> Ints:
    """Indices in `a` of the notes that meet one of `b` under the shift that most of them agree on."""
    shifts = (b[None, :, 0] - a[:, None, 0]) * 256 + (b[None, :, 1] - a[:, None, 1]) + 128
    values, counts = np.unique(shifts, return_counts=True)
    met = shifts == values[np.argmax(counts)]
    there = np.flatnonzero(met.any(axis=0))
    alone = len(there) / (there[-1] - there[0] + 1)
    return np.flatnonzero(met.any(axis=1)) if alone >= ALONE else np.zeros(0, np.int64)


def _tells(found: Ints, steps: Ints) -> bool:
    """Whether what was found says something: three notes in a row, and three different steps where the tune has them."""
    kinds = len(set(steps.tolist()))
    in_a_row = any(a + 2 == c for a, c in zip(found, found[2:]))
    return in_a_row and kinds > 1 and len(set(steps[found].tolist())) >= min(3, kinds)
