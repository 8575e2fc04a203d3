"""Transformations of a line: what is done to its notes as they are written. A row each in TRANSFORMATIONS."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from escalera.core.rhythm.pattern import DEGREE, FIXED, TONE, Pattern
from escalera.core.rhythm.pattern_variations import double_time, thin
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

Change = Callable[[Pattern], Pattern]


@dataclass(frozen=True, slots=True)
class Transformation:
    key: str
    label: str
    said: str
    change: Change


TRANSFORMATIONS: dict[str, Transformation] = {}


def transformation(key: str, label: str, said: str) -> Callable[[Change], Change]:
    """Register a function as the transformation `key`; `said` is its sentence in the history."""

    def register(change: Change) -> Change:
        TRANSFORMATIONS[key] = Transformation(key, label, said, change)
        return change

    return register


def transform(pattern: Pattern, key: str) -> Pattern:
    """A line transformed. Raises EditError where nothing would change or nothing be left."""
    after = TRANSFORMATIONS[key].change(pattern)
    if not len(after) or after == pattern:
        raise EditError(
            f"{TRANSFORMATIONS[key].label} would leave this line "
            f"{'empty' if not len(after) else 'as it is'}. Try another change."
        )
    return after


def _steps(pattern: Pattern, by: int) -> Pattern:
    """Degrees and chord tones moved by steps; fixed pitches by as many semitones."""
    rows = pattern.rows.copy()
    moved = np.isin(rows[:, 2], (DEGREE, TONE, FIXED))
    rows[moved, 3] += by
    return pattern.with_rows(rows)


@transformation("step-up", "A step up", "degrees and chord tones rise by one, fixed notes by a semitone")
def step_up(pattern: Pattern) -> Pattern:
    return _steps(pattern, 1)


@transformation("step-down", "A step down", "degrees and chord tones fall by one, fixed notes by a semitone")
def step_down(pattern: Pattern) -> Pattern:
    return _steps(pattern, -1)


def _octaves(pattern: Pattern, by: int) -> Pattern:
    rows = pattern.rows.copy()
    fixed = rows[:, 2] == FIXED
    rows[fixed, 3] += 12 * by
    rows[~fixed, 4] += by
    return pattern.with_rows(rows)


@transformation("octave-up", "An octave up", "every note an octave higher")
def octave_up(pattern: Pattern) -> Pattern:
    return _octaves(pattern, 1)


@transformation("octave-down", "An octave down", "every note an octave lower")
def octave_down(pattern: Pattern) -> Pattern:
    return _octaves(pattern, -1)


@transformation("invert", "Turned over", "what rose falls, about the first note")
def invert(pattern: Pattern) -> Pattern:
    rows = pattern.rows.copy()
    for kind in (DEGREE, TONE, FIXED):
        mine = rows[:, 2] == kind
        if mine.any():
            rows[mine, 3] = 2 * rows[mine, 3][0] - rows[mine, 3]
    return pattern.with_rows(rows)


@transformation("reverse", "Backwards", "the last note first; twice is the line again")
def reverse(pattern: Pattern) -> Pattern:
    rows = pattern.rows[pattern.start >= 0].copy()
    ends = np.minimum(rows[:, 0] + rows[:, 1], pattern.length_ticks)
    rows[:, 1] = ends - rows[:, 0]
    rows[:, 0] = pattern.length_ticks - ends
    return pattern.with_rows(rows)


@transformation("augment", "Twice as slow", "every note and rest twice as long")
def augment(pattern: Pattern) -> Pattern:
    rows = pattern.rows.copy()
    rows[:, :2] *= 2
    return pattern.with_rows(rows, 2 * pattern.length_ticks)


@transformation("double-time", "Twice as fast", "every note and rest half as long")
def faster(pattern: Pattern) -> Pattern:
    return double_time(pattern)


@transformation("thin", "Thinner", "half of the onsets, the strong ones first")
def thinner(pattern: Pattern) -> Pattern:
    return thin(pattern, 0.5)


def _half(pattern: Pattern, first: bool) -> Pattern:
    middle = pattern.length_ticks // 2
    return pattern.with_rows(pattern.rows[(pattern.start < middle) == first])


@transformation("first-half", "First half only", "the second half is silent")
def first_half(pattern: Pattern) -> Pattern:
    return _half(pattern, True)


@transformation("second-half", "Second half only", "the first half is silent")
def second_half(pattern: Pattern) -> Pattern:
    return _half(pattern, False)


@transformation("thirds", "With thirds", "a third above every degree and chord tone, inside the key")
def thirds(pattern: Pattern) -> Pattern:
    rows = pattern.rows[np.isin(pattern.rows[:, 2], (DEGREE, TONE))].copy()
    rows[:, 3] += np.where(rows[:, 2] == DEGREE, 2, 1)
    rows[:, 5] = np.maximum(1, rows[:, 5] - 10)
    return pattern.with_rows(np.concatenate((pattern.rows, rows)))


@transformation("sixths", "With sixths below", "a sixth below every degree, inside the key")
def sixths(pattern: Pattern) -> Pattern:
    rows = pattern.rows[pattern.rows[:, 2] == DEGREE].copy()
    rows[:, 3] -= 5
    rows[:, 5] = np.maximum(1, rows[:, 5] - 10)
    return pattern.with_rows(np.concatenate((pattern.rows, rows)))


@transformation("chords", "Thickened to chords", "two chord tones above every chord tone")
def thicken(pattern: Pattern) -> Pattern:
    added = []
    for step in (1, 2):
        rows = pattern.rows[pattern.rows[:, 2] == TONE].copy()
        rows[:, 3] += step
        rows[:, 5] = np.maximum(1, rows[:, 5] - 8)
        added.append(rows)
    return pattern.with_rows(np.concatenate((pattern.rows, *added)))


CHOP = (1, 0, 1, 1, 0, 1, 1, 0)  # which sixteenths of half a bar of four sound of what is held


@transformation("chop", "Chopped", "what is held sounds in short pieces, in one rhythm for all notes")
def chop(pattern: Pattern) -> Pattern:
    step, rows = TICKS_PER_QUARTER // 4, []
    for start, length, *rest in pattern.to_list():
        if length < 2 * step:
            rows.append((start, length, *rest))
            continue
        first = -(-start // step)
        ticks = [t * step for t in range(first, -(-(start + length) // step)) if CHOP[t % len(CHOP)]]
        rows += [(t, min(step - 40, start + length - t), *rest) for t in ticks or [start]]
    return pattern.with_rows(rows)


@transformation(
    "mute", "Muted between the beats", "strokes off the beat are short and soft, as with the palm on the strings"
)
def mute(pattern: Pattern) -> Pattern:
    rows = pattern.rows.copy()
    off = rows[:, 0] % TICKS_PER_QUARTER != 0
    rows[off, 1] = np.minimum(rows[off, 1], 90)
    rows[off, 5] = np.maximum(1, rows[off, 5] * 11 // 20)
    return pattern.with_rows(rows)


@transformation(
    "contrast", "Contrasting part", "turned over, a third higher, and sparser where it is busy, busier where it is calm"
)
def contrast(pattern: Pattern) -> Pattern:
    moved = _steps(invert(pattern), 2)
    busy = len(np.unique(pattern.start)) * TICKS_PER_QUARTER > 1.5 * pattern.length_ticks
    return thin(moved, 0.5) if busy else _halved(moved)


def _halved(pattern: Pattern) -> Pattern:
    """Every note of a quarter or more struck twice."""
    rows = []
    for start, length, *rest in pattern.to_list():
        if length < TICKS_PER_QUARTER // 2:
            rows.append((start, length, *rest))
        else:
            half = length // 2
            rows += [(start, half - 20, *rest), (start + half, half - 20, *rest)]
    return pattern.with_rows(rows)


@transformation("shorter", "Shorter notes", "every note half as long")
def shorter(pattern: Pattern) -> Pattern:
    rows = pattern.rows.copy()
    rows[:, 1] = np.maximum(30, rows[:, 1] // 2)
    return pattern.with_rows(rows)
