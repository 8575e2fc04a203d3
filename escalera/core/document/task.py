"""A task as it is kept: what is said, criteria with weights, and how it is written to a file and read from one."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import ConfigDict, ValidationError

from escalera.core.document.fields import adapter, number, part, text
from escalera.core.document.limits import MAX_NAME, MAX_TITLE
from escalera.errors import FormatError, shown
from escalera.lazy_dataclasses import dataclass

TASK_FORMAT, TASK_VERSION = "escalera-task", 1
MAX_CRITERIA, MAX_VALUES, MAX_TASK_TEXT, MAX_FEEDBACK, MAX_WEIGHT = 60, 8, 6000, 300, 100.0


@dataclass(frozen=True, slots=True)
class Criterion:
    """One thing that work is held against: its kind with its values, what it weighs, and a sentence for those who miss it."""

    kind: Annotated[str, text("Kind", 40, required=True)]
    values: Annotated[tuple[tuple[str, str], ...], part("Values", MAX_VALUES)] = ()
    weight: Annotated[float, number("Weight", 0, MAX_WEIGHT)] = 1.0
    feedback: Annotated[str, text("Feedback", MAX_FEEDBACK)] = ""

    __pydantic_config__ = ConfigDict(extra="forbid", allow_inf_nan=False)

    @property
    def given(self) -> dict[str, str]:
        return dict(self.values)


@dataclass(frozen=True, slots=True)
class Task:
    """A task. `said` is its text as it was written; what of it no criterion was read from is for people to judge."""

    title: Annotated[str, text("Title", MAX_TITLE, required=True)]
    said: Annotated[str, text("Text", MAX_TASK_TEXT, lines=True)] = ""
    criteria: Annotated[tuple[Criterion, ...], part("Criteria", MAX_CRITERIA)] = ()
    explanation: Annotated[str, text("Explanation", MAX_TASK_TEXT, lines=True)] = ""
    level: Annotated[int, number("Level", 0, 10, scale="whole")] = 0
    made_by: Annotated[str, text("Made by", MAX_NAME)] = ""

    __pydantic_config__ = ConfigDict(extra="forbid", allow_inf_nan=False)

    @property
    def weight(self) -> float:
        return sum(c.weight for c in self.criteria)


def task_to_plain(task: Task) -> dict[str, Any]:
    """The task as plain data, ready for JSON, with its format around it."""
    return {"format": TASK_FORMAT, "version": TASK_VERSION, "task": adapter(Task).dump_python(task, mode="json")}


def task_from_plain(plain: object) -> Task:
    """A task from plain data of outside. Raises FormatError that says what is wrong."""
    if not isinstance(plain, dict) or plain.get("format") != TASK_FORMAT:
        raise FormatError("The file is no task that Escalera wrote.")
    if plain.get("version") != TASK_VERSION:
        raise FormatError(f"The task has version {shown(plain.get('version'))}; version {TASK_VERSION} is read.")
    try:
        return adapter(Task).validate_python(plain.get("task"))
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(p) for p in first["loc"]) or "its form"
        raise FormatError(f"The task cannot be used: {where}: {shown(first['msg'], 80)}.") from error
