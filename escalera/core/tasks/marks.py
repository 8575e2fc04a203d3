"""Work judged: criterion by criterion, with what was measured, partial credit, and what would mend it; the same work always gets the same."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.song import Song
from escalera.core.document.task import Criterion, Task
from escalera.core.tasks.criteria import CRITERION_KINDS, Evidence, JudgedWork, Missing, Verdict
from escalera.core.tasks.task_text import said_of
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

MOST_POINTS = 100.0


@dataclass(frozen=True, slots=True)
class Mark:
    """One criterion as it was judged: in words, met or not (None: cannot be told), points of how many, the figures, where it shows.

    `override` is what a teacher gave instead, with `reason`.
    """

    said: str
    met: bool | None
    points: float
    of: float
    value: str
    limit: str
    evidence: tuple[Evidence, ...] = ()
    mend: str = ""
    override: float | None = None
    reason: str = ""

    @property
    def counts(self) -> float:
        return self.points if self.override is None else self.override


@dataclass(frozen=True, slots=True)
class Marks:
    """All of them. `of` is 100, less what cannot be told from what was handed in."""

    rows: tuple[Mark, ...]

    @property
    def points(self) -> float:
        return round(sum(m.counts for m in self.rows), 1)

    @property
    def of(self) -> float:
        return round(sum(m.of for m in self.rows if m.met is not None or m.override is not None), 1)


def judge(task: Task, song: Song, loudness_lufs: dict[int, float] | None = None) -> Marks:
    """Marks of a song. `loudness_lufs` are its sections by id as they were rendered; without them what needs sound cannot be told."""
    work, whole = JudgedWork(song, loudness_lufs), task.weight or 1.0
    return Marks(tuple(_mark(c, work, MOST_POINTS * c.weight / whole) for c in task.criteria))


def _mark(criterion: Criterion, work: JudgedWork, most: float) -> Mark:
    kind = CRITERION_KINDS.get(criterion.kind)
    if kind is None:
        return Mark(f"“{criterion.kind}”, which this program does not know", None, 0.0, round(most, 4), "unknown", "")
    try:
        verdict = kind.judge(work, criterion.given)
    except Missing as error:
        verdict = Verdict(0.0, str(error), kind.said(criterion.given), (), "Add it, or name a section so.")
    except EditError as error:
        verdict = Verdict(None, str(error), kind.said(criterion.given))
    share = verdict.share or 0.0
    mend = verdict.mend if verdict.met is not True else ""
    if verdict.met is False and criterion.feedback:
        mend = f"{criterion.feedback} {mend}".strip()
    return Mark(said_of(criterion), verdict.met, round(most * share, 4), round(most, 4), verdict.value, verdict.limit, verdict.evidence, mend)  # fmt: skip


def overridden(marks: Marks, number: int, points: float | None, reason: str) -> Marks:
    """The marks with a teacher's points for a criterion; None takes them back. Raises EditError."""
    if not 0 <= number < len(marks.rows):
        raise EditError("That criterion is not in the task.")
    row = marks.rows[number]
    if points is not None and not 0 <= points <= row.of + 0.05:
        raise EditError(f"{points:g} points lie outside 0 to {row.of:.1f}.")
    if points is not None and not reason.strip():
        raise EditError("Say why the points are others: who was judged will ask.")
    changed = replace(row, override=points, reason=reason.strip() if points is not None else "")
    return Marks((*marks.rows[:number], changed, *marks.rows[number + 1 :]))


def sections_to_hear(task: Task, song: Song) -> list[int]:
    """Ids of the sections whose rendered sound the task asks about; none where it asks about none."""
    work, found = JudgedWork(song), dict[int, None]()
    heard = [c for c in task.criteria if c.kind in CRITERION_KINDS and CRITERION_KINDS[c.kind].heard]
    for name in (v for c in heard for key, v in c.values if key in ("section", "other")):
        try:
            found |= {s.id: None for s in work.sections(name)}
        except EditError:
            continue  # it is not there, which is said when it is judged
    return list(found)


@dataclass(frozen=True, slots=True)
class BarComment:
    """What is to be said at a place of the work: bars, the criterion, what shows there, what would mend it."""

    first_bar: int
    last_bar: int
    said: str


def by_bar(marks: Marks) -> list[BarComment]:
    """What is missing, in the order of the bars where it shows."""
    rows = [
        BarComment(e.first_bar, e.last_bar, f"{m.said}: {e.said}. {m.mend}".strip())
        for m in marks.rows
        if m.met is False
        for e in m.evidence
        if e.first_bar
    ]
    return sorted(rows, key=lambda c: (c.first_bar, c.last_bar))
