"""What a beat does, in figures: density, syncopation, evenness, swing, looseness, and how kick and bass meet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.rhythm.beat import BACKBEAT, FEET, Beat
from escalera.core.time.ticks import TICKS_PER_QUARTER, ticks_to_seconds
from escalera.lazy_dataclasses import dataclass

SIXTEENTH = TICKS_PER_QUARTER // 4
TOGETHER = TICKS_PER_QUARTER // 16  # ticks apart at which two hits still sound as one


@dataclass(frozen=True, slots=True)
class Measures:
    """Hits a beat and a second; syncopation and evenness 0..1."""

    hits_per_beat: float
    hits_per_second: float
    syncopation: float
    evenness: float


def measures(played: Beat, tempo_bpm: float) -> Measures:
    """Hits a beat and a second, syncopation, evenness and swing of a beat at a tempo."""
    beats = played.length_ticks / played.metre.beat_ticks
    seconds = ticks_to_seconds(played.length_ticks, tempo_bpm)
    return Measures(len(played.hits) / beats, len(played.hits) / seconds, syncopation(played), evenness(played))


def strength(tick: int, played: Beat) -> int:
    """How strong a place is: 4 the bar, 3 a beat, 2 its half (or third), 1 a quarter of it, 0 between."""
    metre = played.metre
    place = tick % metre.bar_ticks
    if place == 0:
        return 4
    into = place % metre.beat_ticks
    if into == 0:
        return 3
    compound = metre.beat_ticks % 1440 == 0
    for level, parts in ((2, 3 if compound else 2), (1, 6 if compound else 4)):
        if into * parts % metre.beat_ticks == 0:
            return level
    return 0


def syncopation(played: Beat) -> float:
    """Share of the hits, weighed by velocity, that come before a stronger place which then stays empty on that drum's
    role (after Longuet-Higgins and Lee); snares on the backbeat are at home there and do not count."""
    total = off = 0.0
    for hit in played.hits:
        level = strength(hit.tick, played)
        total += hit.velocity
        if level >= 3 or (hit.drum in BACKBEAT and level == 3):
            continue
        step = SIXTEENTH * 2 if level == 2 else SIXTEENTH
        ahead = (hit.tick + step) % played.length_ticks
        if strength(ahead, played) > level and (hit.drum, ahead) not in played.at:
            off += hit.velocity * (0.6 + 0.2 * (strength(ahead, played) - level))
    return round(min(1.0, off / total), 4) if total else 0.0


def evenness(played: Beat) -> float:
    """1 for onsets at equal distances, toward 0 the more their distances differ (one minus their spread over their mean)."""
    onsets = np.unique([h.tick % played.length_ticks for h in played.hits])
    if len(onsets) < 2:
        return 1.0
    gaps = np.diff(np.append(onsets, onsets[0] + played.length_ticks))
    return round(float(max(0.0, 1.0 - gaps.std() / gaps.mean())), 4)


def swing_of(ticks: Sequence[int] | NDArray[Any], subdivision_ticks: int) -> float | None:
    """Where off-beat notes lie in their pair, 0.5 straight to 0.75; None where too few are played, or in several places.

    Ticks in any order. A note counts when it lies between 0.4 and 0.8 of a pair of subdivisions.
    """
    pair = 2 * subdivision_ticks
    places = (np.asarray(ticks, np.int64) % pair) / pair
    off = places[(places > 0.4) & (places < 0.8)]
    if len(off) < 2:
        return None
    middle = float(np.median(off))
    return round(middle, 4) if (np.abs(off - middle) < 0.05).mean() >= 0.7 else None


def looseness_ms(ticks: Sequence[float] | NDArray[np.float64], grid_ticks: int, tempo_bpm: float) -> float:
    """Standard deviation, in milliseconds, of notes from the nearest step of a grid, their common lag left out.

    Ticks of any order, shape (n,); 0 for fewer than two notes.
    """
    places = np.asarray(ticks, float)
    off = places - np.rint(places / grid_ticks) * grid_ticks
    return round(1000.0 * ticks_to_seconds(float(off.std()), tempo_bpm), 2) if len(off) else 0.0


@dataclass(frozen=True, slots=True)
class Meeting:
    """Kick and bass: kicks that a bass note joins, all kicks, bass notes, and what to call it."""

    together: int
    kicks: int
    notes: int
    said: str


def met(hits: Sequence[int], others: Sequence[int]) -> list[int]:
    """Those of the hits that another onset meets; both by time."""
    if not hits or not others:
        return []
    ordered, places = np.array(others), np.searchsorted(others, hits)
    before, after = ordered[np.maximum(places - 1, 0)], ordered[np.minimum(places, len(ordered) - 1)]
    gaps = np.minimum(np.abs(before - hits), np.abs(after - hits)).tolist()
    return [hit for hit, gap in zip(hits, gaps) if gap <= TOGETHER]


def kick_and_bass(kicks: Sequence[int], notes: Sequence[int], ducked_db: float) -> Meeting:
    """How the onsets of kick and bass meet; `ducked_db` is how far the bass steps back for the kick."""
    near = len(met(kicks, notes))
    if not kicks or not notes:
        said = "no kick here" if not kicks else "no bass here"
    elif near >= 0.6 * len(kicks):
        said = "lock: they start together" + (
            ", and the bass steps back" if ducked_db >= 3 else "; without ducking they mask each other in the lows"
        )
    elif near <= 0.15 * len(kicks):
        said = "apart: the bass answers the kick"
    else:
        said = "now together, now apart" + ("" if ducked_db >= 3 else "; where they meet they mask each other")
    return Meeting(near, len(kicks), len(notes), said)


def anchors(played: Beat) -> set[tuple[str, int]]:
    """The hits that carry the feel: kicks on strong places, the backbeat's loud strokes."""
    kept = set()
    for hit in played.hits:
        level = strength(hit.tick, played)
        if (hit.drum in FEET and level >= 3 and hit.velocity >= 80) or (
            hit.drum in BACKBEAT and hit.velocity >= 85 and level >= 2
        ):
            kept.add((hit.drum, hit.tick))
    return kept
