"""Takes held against the melody and against each other: cents off, late or early, drift, what is missing; doubles that are near enough."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from escalera.core.document.singing import SungAt, Take
from escalera.core.reading.timeline import Grid, Span
from escalera.core.voices.melody import MelodyNote
from escalera.lazy_dataclasses import dataclass

NEAR_S = 0.4  # a note further from its place is another one
SAME_PITCH = 2.5  # semitones, whatever the octave
NEAR_MS, NEAR_CENTS = 30.0, 20.0  # of a double that is near enough
ALIKE_MS, ALIKE_CENTS = 3.0, 2.0  # throughout: that is the same recording
FEWEST = 3
HANDFUL, TOGETHER_MS = 5, 80.0  # strokes of two players that belong together
LEAST_SHARE = 0.6  # of notes that a double has in common
NEAR_ENOUGH, TOO_ALIKE, TOO_FAR, UNKNOWN = "near enough", "too alike", "too far", "not comparable"


Pairs = tuple[int, int, Any]  # a wanted note, its sung one, and the pair before


@dataclass(frozen=True, slots=True)
class NoteJudged:
    """A note of the melody as it was sung: `late_ms` is below 0 where it comes early, `cents` off its pitch, octaves aside."""

    melody: MelodyNote
    sung: SungAt
    late_ms: float
    cents: float
    octave: int = 0


@dataclass(frozen=True, slots=True)
class TakeJudged:
    """A take against the melody. Figures are None where nothing could be compared; `drift_cents` is from its first to its last note."""

    notes: tuple[NoteJudged, ...]
    missed: int
    late_ms: float | None = None
    cents: float | None = None
    loose_ms: float | None = None
    drift_cents: float | None = None

    def said(self) -> str:
        """In a few words."""
        if self.late_ms is None or self.cents is None:
            return "nothing to compare with"
        told = []
        if abs(self.cents) >= 5:
            told.append(f"{abs(self.cents):.0f} cents {'high' if self.cents > 0 else 'low'}")
        if abs(self.late_ms) >= 10:
            told.append(f"{abs(self.late_ms):.0f} ms {'late' if self.late_ms > 0 else 'early'}")
        if self.drift_cents is not None and abs(self.drift_cents) >= 15:
            told.append(f"{'rises' if self.drift_cents > 0 else 'sinks'} by {abs(self.drift_cents):.0f} cents")
        if self.missed:
            told.append(f"{self.missed} {'note' if self.missed == 1 else 'notes'} missing")
        return ", ".join(told) or "in time and in tune"


def sung_seconds(take: Take, notes: Sequence[SungAt] | None = None) -> list[SungAt]:
    """A take's notes in seconds from its section's start."""
    rows = take.sung if notes is None else notes
    return [SungAt(n.start_s - take.zero_s, n.end_s - take.zero_s, n.pitch) for n in rows]


def judge_take(take: Take, melody: Sequence[MelodyNote], span: Span) -> TakeJudged:
    """A take against the notes of its section that it was sung over."""
    return _judged(take, tuple(melody), span.grid)


@lru_cache(maxsize=4096)
def _judged(take: Take, melody: tuple[MelodyNote, ...], grid: Grid) -> TakeJudged:
    low, high = take.low_ticks, take.high_ticks or grid.length_ticks
    return judge_notes(sung_seconds(take), [n for n in melody if low <= n.start < high], grid)


def judge_notes(sung: Sequence[SungAt], wanted: Sequence[MelodyNote], span: Span | Grid) -> TakeJudged:
    """Notes in seconds of a section against a melody in its ticks."""
    pairs = paired([(span.seconds_at(n.start), float(n.pitch)) for n in wanted], [(n.start_s, n.pitch) for n in sung])
    found = []
    for i, j in pairs:
        off = sung[j].pitch - wanted[i].pitch
        octave = round(off / 12.0)
        late = sung[j].start_s - span.seconds_at(wanted[i].start)
        found.append(
            NoteJudged(wanted[i], sung[j], round(1000.0 * late, 1), round(100.0 * (off - 12 * octave), 1), octave)
        )
    if not found:
        return TakeJudged((), len(wanted))
    late_ms, cents = (np.array([getattr(n, name) for n in found]) for name in ("late_ms", "cents"))
    drift = None
    if len(found) >= 2 * FEWEST:
        third = max(FEWEST, len(found) // 3)
        drift = round(float(np.median(cents[-third:]) - np.median(cents[:third])), 1)
    return TakeJudged(
        tuple(found), len(wanted) - len(found), round(float(np.median(late_ms)), 1), round(float(np.median(cents)), 1),
        round(float(np.percentile(np.abs(late_ms - np.median(late_ms)), 75)), 1), drift,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Looseness:
    """How two who played together lie: by how much the second comes later in the middle, and how far its strokes scatter about that."""

    behind_ms: float
    spread_ms: float
    strokes: int

    def said(self) -> str:
        """In words."""
        far = f"{abs(self.behind_ms):.0f} ms {'behind' if self.behind_ms > 0 else 'ahead of'}"
        return f"{'together with' if abs(self.behind_ms) < 3 else far} it, within {self.spread_ms:.0f} ms"


def looseness(first: Sequence[float], second: Sequence[float]) -> Looseness | None:
    """Of strokes (seconds on one clock) of two players; None where fewer than a handful belong together. It is measured, and left alone."""
    if len(first) < HANDFUL or len(second) < HANDFUL:
        return None
    a, b = np.array(first), np.array(second)
    nearest = a[np.abs(b[:, None] - a[None]).argmin(axis=1)]
    apart = 1000.0 * (b - nearest)
    apart = apart[np.abs(apart) < TOGETHER_MS]
    if len(apart) < HANDFUL:
        return None
    middle = float(np.median(apart))
    return Looseness(round(middle, 1), round(float(np.percentile(np.abs(apart - middle), 75)), 1), len(apart))


def paired(wanted: Sequence[tuple[float, float]], sung: Sequence[tuple[float, float]]) -> list[tuple[int, int]]:
    """Which sung note (seconds, pitch) is which wanted one, both in order of time: none twice, the nearest together; octaves aside."""
    starts = [when for when, _ in sung]
    best = [0.0] * (len(sung) + 1)  # the most that pairs among the first sung notes are worth together
    chain: list[Pairs | None] = [None] * (len(sung) + 1)
    for i, (at, pitch) in enumerate(wanted):
        fresh: list[tuple[int, float, Pairs]] = []
        for j in range(bisect_left(starts, at - NEAR_S), bisect_right(starts, at + NEAR_S)):
            off = abs((sung[j][1] - pitch + 6.0) % 12.0 - 6.0)
            if off < SAME_PITCH:
                worth = 2.0 - abs(starts[j] - at) / NEAR_S - 0.5 * off / SAME_PITCH
                fresh.append((j, best[j] + worth, (i, j, chain[j])))
        for j, total, link in fresh:
            for k in range(j + 1, len(best)):
                if best[k] >= total:
                    break
                best[k], chain[k] = total, link
    found, last = [], chain[-1]
    while last is not None:
        found.append((last[0], last[1]))
        last = last[2]
    return found[::-1]


@dataclass(frozen=True, slots=True)
class Likeness:
    """How alike two takes are: middle difference of their notes in time and in pitch, the share they have in common, the verdict."""

    verdict: str
    apart_ms: float = 0.0
    apart_cents: float = 0.0
    share: float = 0.0

    def said(self) -> str:
        """In words."""
        if self.verdict == UNKNOWN:
            return "too few notes in common to compare"
        return f"{self.verdict}: {self.apart_ms:.0f} ms, {self.apart_cents:.0f} cents"


@lru_cache(maxsize=4096)
def likeness(one: Take, other: Take) -> Likeness:
    """How alike two takes of one section are, octaves aside: whether one can double the other."""
    if one.content == other.content:
        return Likeness(TOO_ALIKE, 0.0, 0.0, 1.0)
    a, b = sung_seconds(one), sung_seconds(other)
    pairs = paired([(n.start_s, n.pitch) for n in a], [(n.start_s, n.pitch) for n in b])
    if len(pairs) < FEWEST:
        return Likeness(UNKNOWN)
    share = len(pairs) / max(len(a), len(b))
    apart = np.array([1000.0 * abs(b[j].start_s - a[i].start_s) for i, j in pairs])
    off = np.array([abs((100.0 * (b[j].pitch - a[i].pitch) + 600.0) % 1200.0 - 600.0) for i, j in pairs])
    ms, cents = round(float(np.median(apart)), 1), round(float(np.median(off)), 1)
    if apart.max() < ALIKE_MS and off.max() < ALIKE_CENTS:
        return Likeness(TOO_ALIKE, ms, cents, share)
    near = ms <= NEAR_MS and cents <= NEAR_CENTS and share >= LEAST_SHARE
    return Likeness(NEAR_ENOUGH if near else TOO_FAR, ms, cents, round(share, 2))
