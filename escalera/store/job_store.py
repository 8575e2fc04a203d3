"""Long work in the database. Every change of state is one statement that says which state it changes, so that two workers never share a job."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import CursorResult, delete, select, update
from sqlalchemy.orm import Session

from escalera.errors import NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.store.models import JobRow, now

OPEN = ("waiting", "running")


@dataclass(frozen=True, slots=True)
class Job:
    """What is known of a piece of long work. `share` is how far it is, 0..1."""

    id: str
    kind: str
    song_id: int
    revision_id: int
    options: dict[str, Any]
    label: str
    state: str
    share: float
    trouble: str
    file: str
    mimetype: str
    tries: int
    worker: str
    created_at: datetime

    @property
    def done(self) -> bool:
        return self.state not in OPEN


def _job(row: JobRow) -> Job:
    return Job(
        row.id, row.kind, row.song_id, row.revision_id, json.loads(row.options), row.label, row.state, row.share,
        row.trouble, row.file, row.mimetype, row.tries, row.worker, row.created_at,
    )  # fmt: skip


def add_job(
    session: Session, id: str, kind: str, song_id: int, revision_id: int, options: dict[str, Any], label: str
) -> None:
    session.add(
        JobRow(
            id=id, kind=kind, song_id=song_id, revision_id=revision_id, options=json.dumps(options), label=label[:120]
        )
    )


def find_job(session: Session, id: str) -> Job:
    """Raises NotFound for a job that is not there, or no more."""
    row = session.get(JobRow, id)
    if row is None:
        raise NotFound("That file is not being made, or was made too long ago. Ask for it again.")
    return _job(row)


def _change(session: Session, id: str, states: tuple[str, ...], held_by: str | None, **values: object) -> bool:
    """Change a job that is in one of these states, and with this worker. Says whether it was."""
    where = [JobRow.id == id, JobRow.state.in_(states)]
    if held_by is not None:
        where.append(JobRow.worker == held_by)
    changed: CursorResult[Any] = session.execute(update(JobRow).where(*where).values(**values))  # type: ignore[assignment]
    return bool(changed.rowcount)


def claim(session: Session, id: str, worker: str) -> bool:
    """Take a waiting job. False where another worker was first, or it is wanted no more."""
    tries = JobRow.tries + 1
    return _change(
        session, id, ("waiting",), None, state="running", worker=worker, tries=tries, share=0.0, beat_at=now()
    )


def beat(session: Session, id: str, worker: str, share: float) -> bool:
    """Say that a job is still being worked on. False where it is wanted no more, or was given to another worker."""
    return _change(session, id, ("running",), worker, share=share, beat_at=now())


def finish(session: Session, id: str, worker: str, file: str, mimetype: str) -> bool:
    return _change(session, id, ("running",), worker, state="done", share=1.0, file=file, mimetype=mimetype)


def fail(session: Session, id: str, worker: str, trouble: str) -> bool:
    return _change(session, id, ("running",), worker, state="failed", trouble=trouble)


def stop(session: Session, id: str) -> bool:
    return _change(session, id, OPEN, None, state="stopped", trouble="This was called off.")


def again(session: Session, id: str, worker: str | None = None) -> bool:
    """Put a job back that its worker left, or one that failed and is tried again by hand."""
    states = ("running",) if worker is not None else ("failed", "stopped")
    fresh = {} if worker is not None else {"tries": 0}
    return _change(session, id, states, worker, state="waiting", worker="", share=0.0, trouble="", **fresh)


def waiting(session: Session) -> list[str]:
    """Jobs that nobody works on, oldest first."""
    return list(session.scalars(select(JobRow.id).where(JobRow.state == "waiting").order_by(JobRow.created_at)))


def silent(session: Session, seconds: float) -> list[Job]:
    """Jobs whose worker was not heard of for so long."""
    since = now() - timedelta(seconds=seconds)
    return [_job(r) for r in session.scalars(select(JobRow).where(JobRow.state == "running", JobRow.beat_at < since))]


def running(session: Session) -> list[Job]:
    return [_job(r) for r in session.scalars(select(JobRow).where(JobRow.state == "running"))]


def ended(session: Session) -> list[Job]:
    """Jobs that are over, newest first."""
    rows = select(JobRow).where(JobRow.state.not_in(OPEN)).order_by(JobRow.created_at.desc(), JobRow.id)
    return [_job(r) for r in session.scalars(rows)]


def of_song(session: Session, song_id: int) -> list[Job]:
    return [_job(r) for r in session.scalars(select(JobRow).where(JobRow.song_id == song_id))]


def forget(session: Session, id: str) -> None:
    session.execute(delete(JobRow).where(JobRow.id == id))
