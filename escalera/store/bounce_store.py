"""Bounces of songs: mixes made elsewhere, their audio among the samples, what was read of them as JSON."""

from __future__ import annotations

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from escalera.errors import NotFound
from escalera.store.models import BounceRow


def of_song(session: Session, song_id: int) -> list[BounceRow]:
    """The newest first."""
    return list(session.scalars(select(BounceRow).where(BounceRow.song_id == song_id).order_by(BounceRow.id.desc())))


def add(session: Session, row: BounceRow) -> int:
    session.add(row)
    session.flush()
    return row.id


def row_of(session: Session, bounce_id: int) -> BounceRow:
    """Raises NotFound."""
    row = session.get(BounceRow, bounce_id)
    if row is None:
        raise NotFound("This bounce is not kept any more. The list shows those that are.")
    return row


def remove(session: Session, bounce_id: int) -> None:
    session.execute(delete(BounceRow).where(BounceRow.id == bounce_id))


def songs_with(session: Session, name: str) -> list[int]:
    """The songs that have a bounce of some name."""
    return sorted(set(session.scalars(select(BounceRow.song_id).where(BounceRow.name == name))))


def contents(session: Session) -> set[str]:
    """The audio that bounces need."""
    return set(session.scalars(select(BounceRow.content)))
