"""What a song keeps of the work on it: the stages it has reached and when, the day of its release, what is due before."""

from __future__ import annotations

from typing import Annotated

from escalera.core.document.days import Day
from escalera.core.document.fields import choice, number, part, text
from escalera.core.document.limits import MAX_DUE, MAX_NAME, MAX_OWED, MAX_REASON, MAX_STAGE_MARKS
from escalera.core.hashing import HashedOnce
from escalera.lazy_dataclasses import dataclass

DEMO, ARRANGED, RECORDED, MIXED, MASTERED, RELEASED, LEFT = STAGES = (
    "demo", "arranged", "recorded", "mixed", "mastered", "released", "left",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class StageMark(HashedOnce):
    """A stage that the song reached, went back to, or was left at, and the day."""

    __hash__ = HashedOnce.__hash__
    stage: Annotated[str, choice("Stage", STAGES)]
    on: Annotated[Day, part("Reached on")]
    reason: Annotated[str, text("Reason", MAX_REASON)] = ""


@dataclass(frozen=True, slots=True)
class DueDate(HashedOnce):
    """Something that is due on a day. `days_before` the release where it follows it, -1 where it has a day of its own."""

    __hash__ = HashedOnce.__hash__
    what: Annotated[str, text("What", MAX_NAME, required=True)]
    on: Annotated[Day, part("Due on")]
    stage: Annotated[str, choice("Stage", ("", *STAGES), help="that is then reached; empty for none")] = ""
    days_before: Annotated[int, number("Days before the release", -1, 730, scale="whole")] = -1
    done: Annotated[bool, part("Done")] = False


@dataclass(frozen=True, slots=True)
class WorkState(HashedOnce):
    """Where the work on the song stands. Marks are in the order in which they were made."""

    __hash__ = HashedOnce.__hash__
    marks: Annotated[tuple[StageMark, ...], part("Stages", MAX_STAGE_MARKS)] = ()
    release_on: Annotated[Day | None, part("Release")] = None
    due: Annotated[tuple[DueDate, ...], part("Due dates", MAX_DUE)] = ()
    archived: Annotated[bool, part("Archived", help="kept, but neither on the board nor in what to do next")] = False


@dataclass(frozen=True, slots=True)
class Collaborator(HashedOnce):
    """Somebody who works on the song. `share` is what was agreed of the writing; `signed` the note by which it was."""

    __hash__ = HashedOnce.__hash__
    id: int
    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    roles: Annotated[str, text("Roles", MAX_REASON)] = ""
    sent: Annotated[str, text("Sent", MAX_OWED, lines=True)] = ""
    owed: Annotated[str, text("Is owed", MAX_OWED, lines=True)] = ""
    share: Annotated[float, number("Share of the writing", 0, 100, "%")] = 0.0
    signed: Annotated[str, text("Signed off by", MAX_REASON, help="a message, a paper: how one will find it again")] = (
        ""
    )
    signed_on: Annotated[Day | None, part("Signed off on")] = None
