"""What sounds in a section of a mix, as far as a mix tells: a row for each sign, with the measure it is told by and how much of it is enough."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.study.heard_track import BarHeard, StudyReading
from escalera.lazy_dataclasses import dataclass

FLOOR_DB = -75.0  # what is fainter is not there
FADE = 0.5  # share of what is enough, from which on it is there faintly


@dataclass(frozen=True, slots=True)
class Sign:
    """Something that is heard or not: `measure` of a bar, and from where on it is there."""

    key: str
    label: str
    measure: Callable[[BarHeard], float]
    enough: float


SIGNS: dict[str, Sign] = {sign.key: sign for sign in (
    Sign("kick", "the kick", lambda b: b.kicks, 0.55),
    Sign("hits", "the drums", lambda b: b.hits, 1.0),
    Sign("bass", "the low end", lambda b: b.bands_db[1] + 60.0, 32.0),
    Sign("sub", "the lowest octave", lambda b: b.bands_db[0] + 60.0, 32.0),
    Sign("held", "held chords", lambda b: b.held_db + 60.0, 31.0),
    Sign("middle", "what moves in the middle", lambda b: b.onsets[1], 1.6),
    Sign("air", "air above 8 kHz", lambda b: b.bands_db[5] + 90.0, 32.0),
    Sign("sides", "wide sounds", lambda b: b.width, 0.1),
)}  # fmt: skip


def mean_of(reading: StudyReading, low: int, high: int, measure: Callable[[BarHeard], float]) -> float:
    """The mean of a measure over bars from `low` to before `high`."""
    return float(np.mean([measure(b) for b in reading.bars[low:high]])) if high > low else 0.0


def mean_bands_db(bars: Sequence[BarHeard]) -> NDArray[np.float64]:
    """Mean levels of some bars in the six bands, in dB; shape (6,)."""
    power = np.mean([[10 ** (max(FLOOR_DB, x) / 10) for x in b.bands_db] for b in bars], axis=0)
    return np.asarray(10 * np.log10(power))


def sounding(reading: StudyReading, section: int) -> dict[str, float]:
    """How far every sign is there in a section: 1 and above for what is."""
    s = reading.sections[section]
    return {
        k: mean_of(reading, s.first_bar, s.first_bar + s.bars, sign.measure) / sign.enough for k, sign in SIGNS.items()
    }


def enters(reading: StudyReading, section: int, key: str) -> int | None:
    """The bar of a section, from 0, in which a sign is first there; None where it never is, or from the start."""
    s, sign = reading.sections[section], SIGNS[key]
    there = [sign.measure(b) >= sign.enough for b in reading.bars[s.first_bar : s.first_bar + s.bars]]
    if not any(there) or there[0]:
        return None
    first = there.index(True)
    return first if sum(there[first:]) >= 0.6 * len(there[first:]) else None
