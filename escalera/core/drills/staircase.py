"""How difficult the next question is, and what a learner's threshold is.

Sizes move by a weighted staircase (Kaernbach 1991, "Simple adaptive testing with the weighted up-down method", Perception &
Psychophysics 49): up by three times what it goes down, which settles where 75 % are right. The threshold is the mean of a posterior over
all answers (Watson & Pelli 1983, "QUEST", Perception & Psychophysics 33), with a psychometric function that guesses right one time in so
many choices and lapses now and then.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from escalera.core.drills.question import DrillKind
from escalera.lazy_dataclasses import dataclass

RIGHT_AT_THRESHOLD = 0.75
DOWN = 0.09  # of the logarithm, after a right answer; UP follows from where it is to settle
UP = DOWN * RIGHT_AT_THRESHOLD / (1 - RIGHT_AT_THRESHOLD)
FIRST_STEPS, FASTER = 8, 2.0  # so many steps are larger, to find the region
LAPSE, SLOPE = 0.02, 3.0
POINTS = 241  # of the posterior


@dataclass(frozen=True, slots=True)
class Answered:
    """An answer: how large the difference was, and whether it was right."""

    size: float
    right: bool


def next_size(kind: DrillKind, answers: Sequence[Answered]) -> float:
    """The size of the next question. For kinds where a larger figure is harder (bars to count) the ladder runs the other way."""
    if not kind.graded:
        return 1.0
    hard, easy = math.log(kind.hard), math.log(kind.easy)
    way, low, high = (1.0 if easy > hard else -1.0), min(hard, easy), max(hard, easy)
    at = easy
    for number, each in enumerate(answers):
        step = (FASTER if number < FIRST_STEPS else 1.0) * (-DOWN if each.right else UP)
        at = min(high, max(low, at + way * step))
    return math.exp(at)


def share_right(size: float, threshold: float, choices: int, harder_up: bool = False) -> float:
    """Share of right answers at a size, for a learner with a threshold: a logistic function of the logarithm, that goes through 75 %."""
    guess = 1.0 / max(2, choices)
    inner = (RIGHT_AT_THRESHOLD - guess) / (1 - guess - LAPSE)
    shift = math.log(inner / (1 - inner))
    distance = SLOPE * math.log(threshold / size if harder_up else size / threshold) + shift
    return guess + (1 - guess - LAPSE) / (1 + math.exp(-distance))


def threshold(kind: DrillKind, answers: Sequence[Answered]) -> float | None:
    """The size at which this learner is right three times in four; None for kinds without sizes, or before six answers."""
    if not kind.graded or len(answers) < 6:
        return None
    low, high = sorted((np.log(kind.hard), np.log(kind.easy)))
    grid = np.linspace(low - 0.7, high + 0.7, POINTS)
    way, guess = (1.0 if kind.easy > kind.hard else -1.0), 1.0 / max(2, kind.choices)
    inner = (RIGHT_AT_THRESHOLD - guess) / (1 - guess - LAPSE)
    shift = np.log(inner / (1 - inner))
    sizes = np.log([a.size for a in answers])
    distance = SLOPE * way * (sizes[:, None] - grid[None, :]) + shift
    right = guess + (1 - guess - LAPSE) / (1 + np.exp(-distance))
    known = np.where(np.array([a.right for a in answers])[:, None], right, 1 - right)
    likely = np.exp(np.log(known).sum(axis=0) - np.log(known).sum(axis=0).max())
    return float(np.exp((likely * grid).sum() / likely.sum()))


# what was wrong comes again ---------------------------------------------------------------------------------------

AGAIN_DAYS = (0, 1, 3, 7, 21)  # after so many days, by how often it was right since


@dataclass(frozen=True, slots=True)
class AskedBefore:
    """A question that was answered: which it was, whether right, and on which day (counted from any first one)."""

    item: str
    right: bool
    day: int


def due_again(history: Sequence[AskedBefore], today: int) -> list[str]:
    """Questions that were once wrong and are to come again today, the longest due first: a day, three, seven, three weeks after they
    were last answered, by how often they were right since. One that was right four times in a row is known."""
    state: dict[str, tuple[int, int]] = {}
    for each in history:
        if not each.right:
            state[each.item] = (0, each.day)
        elif each.item in state:
            box, last = state[each.item]
            state[each.item] = (box + 1, each.day)
    rows = [(day + AGAIN_DAYS[min(box, 4)], item) for item, (box, day) in state.items() if box < len(AGAIN_DAYS) - 1]
    return [item for due, item in sorted(rows) if due <= today]
