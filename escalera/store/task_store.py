"""Tasks and submissions in the database."""

from __future__ import annotations

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from escalera.errors import NotFound
from escalera.store.task_models import SubmissionRow, TaskRow


def all_tasks(session: Session) -> list[TaskRow]:
    """The newest first."""
    return list(session.scalars(select(TaskRow).order_by(TaskRow.id.desc())))


def task_row(session: Session, task_id: int) -> TaskRow:
    """A task. Raises NotFound."""
    row = session.get(TaskRow, task_id)
    if row is None:
        raise NotFound("There is no such task. The list shows those there are.")
    return row


def add_task(session: Session, title: str, document: str) -> int:
    """Keep a task; its id."""
    row = TaskRow(title=title, document=document)
    session.add(row)
    session.flush()
    return row.id


def submissions(session: Session, task_id: int) -> list[SubmissionRow]:
    """What was judged by a task, by name."""
    return list(
        session.scalars(select(SubmissionRow).where(SubmissionRow.task_id == task_id).order_by(SubmissionRow.name))
    )


def submission(session: Session, task_id: int, submission_id: int) -> SubmissionRow:
    """A submission of a task. Raises NotFound."""
    row = session.get(SubmissionRow, submission_id)
    if row is None or row.task_id != task_id:
        raise NotFound("That submission is not in the list any more.")
    return row


def keep_submission(session: Session, task_id: int, name: str, marks: str, trouble: str, project: bytes) -> None:
    """Keep what was judged; the same name again replaces it."""
    session.execute(delete(SubmissionRow).where(SubmissionRow.task_id == task_id, SubmissionRow.name == name))
    session.add(SubmissionRow(task_id=task_id, name=name, marks=marks, trouble=trouble[:400], project=project))


def forget_submissions(session: Session, task_id: int) -> int:
    """Forget all that was judged by a task; how many."""
    count = len(submissions(session, task_id))
    session.execute(delete(SubmissionRow).where(SubmissionRow.task_id == task_id))
    return count
