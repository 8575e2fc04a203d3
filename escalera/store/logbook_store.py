"""What the logbook keeps and reads: steps of all songs, and a line of one's own for a session."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from escalera.core.logbook.work_sessions import StepDone
from escalera.store.models import RevisionRow, SessionLineRow, SongRow

MOST_STEPS = 40_000  # that are looked at, the newest


def steps_done(session: Session) -> tuple[list[StepDone], dict[int, str]]:
    """The newest steps of all songs that are not in the bin, the undone ones too, and the songs' titles."""
    rows = session.execute(
        select(RevisionRow.id, RevisionRow.parent_id, RevisionRow.song_id, RevisionRow.created_at, RevisionRow.summary)
        .join(SongRow, SongRow.id == RevisionRow.song_id)
        .where(SongRow.deleted_at.is_(None))
        .order_by(RevisionRow.id.desc())
        .limit(MOST_STEPS)
    ).all()
    titles = {row.id: row.title for row in session.execute(select(SongRow.id, SongRow.title))}
    return [StepDone(*row) for row in rows], titles


def newest_steps(session: Session, most: int = 200) -> list[datetime]:
    """When the newest steps of all songs were made."""
    return list(session.scalars(select(RevisionRow.created_at).order_by(RevisionRow.id.desc()).limit(most)))


def own_lines(session: Session) -> dict[datetime, str]:
    """What was written down for sessions, by when they began."""
    return {row.began_at: row.text for row in session.scalars(select(SessionLineRow))}


def keep_own_line(session: Session, began_at: datetime, text: str) -> None:
    """Write a line down for a session; an empty one takes it away."""
    row = session.scalar(select(SessionLineRow).where(SessionLineRow.began_at == began_at))
    if row is not None and text:
        row.text = text
    elif row is not None:
        session.delete(row)
    elif text:
        session.add(SessionLineRow(began_at=began_at, text=text))
