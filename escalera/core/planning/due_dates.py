"""Due dates backwards from a release: a template of gaps, and what contradicts the calendar or the pace so far."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, timedelta
from itertools import combinations

from escalera.core.document.days import days_said
from escalera.core.document.limits import MAX_DUE, MAX_NAME
from escalera.core.document.names import clean_name
from escalera.core.document.work_state import MASTERED, MIXED, RECORDED, RELEASED, STAGES, DueDate, WorkState
from escalera.core.edits.edit import one_of, whole_number
from escalera.core.planning.stages import WORKED, StageStanding, UsualTime
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

MOST_BEFORE = 730


@dataclass(frozen=True, slots=True)
class DueGap:
    """A line of the template: what is due, how many days before the release, and the stage that is then reached."""

    what: str
    days_before: int
    stage: str = ""


# Usual gaps of a release that is distributed by somebody else, in days: editable, since they are only usual.
USUAL_GAPS = (
    DueGap("Recording done", 70, RECORDED),
    DueGap("Mix done", 49, MIXED),
    DueGap("Master done", 42, MASTERED),
    DueGap("Artwork done", 35),
    DueGap("Sent to the distributor", 28),
    DueGap("Announced", 14),
    DueGap("Release", 0, RELEASED),
)


def read_gaps(rows: Sequence[tuple[str, str, str]]) -> tuple[DueGap, ...]:
    """A template from rows of what, days and stage; rows without words are left out. Raises EditError."""
    found = []
    for what, days, stage in rows:
        if what.strip():
            number = whole_number(days.strip(), "number of days", 0, MOST_BEFORE)
            found.append(
                DueGap(
                    clean_name(what, "due date", MAX_NAME),
                    number,
                    one_of(stage, ["", *STAGES], "stage") if stage else "",
                )
            )
    if not found:
        raise EditError("The template is empty. Write at least one line.")
    if len(found) > MAX_DUE:
        raise EditError(f"The template has {len(found)} lines; {MAX_DUE} fit. Leave some out.")
    names = [g.what.casefold() for g in found]
    twice = next((g.what for g in found if names.count(g.what.casefold()) > 1), "")
    if twice:
        raise EditError(f"“{twice}” stands there twice. Give one of them another name.")
    return tuple(sorted(found, key=lambda g: -g.days_before))


def due_from(release_on: date, gaps: Sequence[DueGap], work: WorkState) -> tuple[DueDate, ...]:
    """Due dates for a release. What was done stays done, stages that were reached are done, and dates of their own stay as they are."""
    reached = {stage for m in work.marks[-1:] if m.stage in WORKED for stage in WORKED[: WORKED.index(m.stage) + 1]}
    done = {d.what.casefold() for d in work.due if d.done} | {g.what.casefold() for g in gaps if g.stage in reached}
    own = [d for d in work.due if d.days_before < 0]
    named = {d.what.casefold() for d in own}
    made = [
        DueDate(g.what, release_on - timedelta(days=g.days_before), g.stage, g.days_before, g.what.casefold() in done)
        for g in gaps
        if g.what.casefold() not in named
    ]
    return tuple(sorted((*made, *own), key=lambda d: d.on))


@dataclass(frozen=True, slots=True)
class Conflict:
    """Something about the dates that cannot stay: what, and what to do."""

    said: str
    remedy: str


def conflicts(work: WorkState, now: StageStanding, usual: Mapping[str, UsualTime], today: date) -> list[Conflict]:
    """Dates in the past, dates in the wrong order, and dates that the pace so far does not reach."""
    waiting = [d for d in work.due if not d.done and not _reached(d, now)]
    return [*_past(waiting, work, today), *_order(work.due), *_pace(waiting, now, usual, today)]


def _reached(due: DueDate, now: StageStanding) -> bool:
    return bool(due.stage) and now.stage in WORKED and WORKED.index(now.stage) >= WORKED.index(due.stage)


def _past(waiting: list[DueDate], work: WorkState, today: date) -> list[Conflict]:
    late = [d for d in waiting if d.on < today]
    if not late:
        return []
    first = min(late, key=lambda d: d.on)
    more = f", and {len(late) - 1} more" if len(late) > 1 else ""
    release = work.release_on
    remedy = "Do it, or move it."
    if release is not None and all(d.days_before >= 0 for d in late):
        earliest = max(today + timedelta(days=d.days_before) for d in late)
        remedy = f"The earliest release that keeps every gap is {earliest}; or move the dates."
    ago = days_said((today - first.on).days)
    return [Conflict(f"{first.what} was due on {first.on}, {ago} ago{more}.", remedy)]


def _order(due: Sequence[DueDate]) -> list[Conflict]:
    """A later stage that is due before an earlier one."""
    staged = [d for d in due if d.stage in WORKED]
    found = []
    for a, b in combinations(staged, 2):
        first, last = sorted((a, b), key=lambda d: WORKED.index(d.stage))
        if first.stage != last.stage and first.on > last.on:
            found.append(
                Conflict(
                    f"{first.what} is due on {first.on}, after {last.what.lower()} on {last.on}.", "Exchange the dates."
                )
            )
    return found[:3]


def expected_days(now: StageStanding, usual: Mapping[str, UsualTime], today: date) -> list[tuple[str, date, date]]:
    """When each stage to come would be reached at the pace so far: the middle, and the day by which three of four songs would.

    The stage at which the song stands counts for what is left of its usual time, and never for less than a tenth of it.
    """
    found, middle, late = [], 0.0, 0.0
    at = now
    while at.stage in usual and at.next:
        time = usual[at.stage]
        spent = at.days(today)
        middle += max(time.days - spent, 0.1 * time.days)
        late += max(time.high - spent, 0.1 * time.high)
        found.append((at.next, today + timedelta(days=round(middle)), today + timedelta(days=round(late))))
        at = StageStanding(at.next, today)
    return found


def _pace(waiting: list[DueDate], now: StageStanding, usual: Mapping[str, UsualTime], today: date) -> list[Conflict]:
    expected = {stage: middle for stage, middle, _ in expected_days(now, usual, today)}
    found = []
    for due in waiting:
        day = expected.get(due.stage)
        if day is not None and due.on >= today and day > due.on:
            over = days_said((day - due.on).days)
            rests = usual[now.stage].said if now.stage in usual else ""
            found.append(
                Conflict(
                    f"{due.what} is due on {due.on}; at the pace so far “{due.stage}” would be reached on {day}, {over} later.",
                    f"From {now.stage} on it takes {rests}. Leave something out, get help, or move the date.",
                )
            )
    return found[:3]
