"""Stages of a song: which it has reached, since when, and how long each usually takes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date

import numpy as np

from escalera.core.document.days import days_said
from escalera.core.document.work_state import DEMO, LEFT, RELEASED, STAGES, WorkState
from escalera.lazy_dataclasses import dataclass

WORKED = tuple(s for s in STAGES if s != LEFT)  # in order, from the first idea to the release
# days from one stage to the next where there is no history of one's own
USUAL_DAYS = {"demo": 14.0, "arranged": 14.0, "recorded": 21.0, "mixed": 10.0, "mastered": 30.0}
OWN_FROM = 2  # so many of one's own are more than a chance


@dataclass(frozen=True, slots=True)
class StageStanding:
    """The stage at which a song stands, and since which day."""

    stage: str
    since: date

    def days(self, today: date) -> int:
        return max(0, (today - self.since).days)

    @property
    def next(self) -> str:
        """The stage that comes next; empty after the release, and where the song was left."""
        place = WORKED.index(self.stage) + 1 if self.stage in WORKED else len(WORKED)
        return WORKED[place] if place < len(WORKED) else ""

    @property
    def done(self) -> bool:
        return self.stage in (RELEASED, LEFT)


def standing(work: WorkState, began: date) -> StageStanding:
    """Where a song stands that was begun on a day: at its last mark, or at the demo it began as."""
    last = work.marks[-1] if work.marks else None
    return StageStanding(last.stage, last.on) if last else StageStanding(DEMO, began)


def stage_days(work: WorkState, began: date) -> list[tuple[str, int]]:
    """How many days the song stood at each stage before the next one, in order; the stage at which it stands is not over."""
    rows = [(DEMO, began), *((m.stage, m.on) for m in work.marks)]
    return [(stage, max(0, (then - since).days)) for (stage, since), (_, then) in zip(rows, rows[1:])]


@dataclass(frozen=True, slots=True)
class UsualTime:
    """Days that a stage usually takes until the next is reached: the middle and the range of half of all, and of how many songs."""

    days: float
    low: float
    high: float
    count: int

    @property
    def said(self) -> str:
        """In words, with what it rests on."""
        if self.count < OWN_FROM:
            return f"usually about {days_said(round(self.days))}"
        low, high = days_said(round(self.low)), days_said(round(self.high))
        return f"{low if low == high else f'{low} to {high}'} in {self.count} songs of yours"


def usual_times(histories: Iterable[Sequence[tuple[str, int]]]) -> dict[str, UsualTime]:
    """By stage, how long it takes until the next one, over the songs of a user. `histories` hold (stage, days) each, as
    `stage_days` gives them; a song that went back to a stage counts its days together, one that was left counts not."""
    took: dict[str, list[float]] = {stage: [] for stage in USUAL_DAYS}
    for rows in histories:
        total: dict[str, float] = {}
        for stage, days in rows:
            total[stage] = total.get(stage, 0.0) + days
        for stage in took.keys() & total.keys():
            took[stage].append(total[stage])
    return {stage: _usual(USUAL_DAYS[stage], days) for stage, days in took.items()}


def _usual(usual: float, days: list[float]) -> UsualTime:
    if len(days) < OWN_FROM:
        return UsualTime(usual, usual / 2, 2 * usual, len(days))
    low, middle, high = (float(v) for v in np.percentile(days, (25, 50, 75)))
    return UsualTime(middle, low, high, len(days))
