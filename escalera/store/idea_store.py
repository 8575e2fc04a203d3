"""The list of ideas: ideas without a place, the newest first."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from escalera.errors import InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.store.models import IdeaRow

MOST = 300
CARD = (IdeaRow.id, IdeaRow.kind, IdeaRow.name, IdeaRow.text, IdeaRow.source, IdeaRow.created_at, IdeaRow.placed, IdeaRow.seconds)  # fmt: skip


@dataclass(frozen=True, slots=True)
class ParkedIdea:
    """An idea without its data."""

    id: int
    kind: str
    name: str
    text: str
    source: str
    created_at: datetime
    placed: str
    seconds: float


def all_ideas(session: Session) -> list[ParkedIdea]:
    """The newest first; those that found a place come last."""
    rows = session.execute(select(*CARD).order_by(IdeaRow.placed != "", IdeaRow.id.desc()))
    return [ParkedIdea(*row) for row in rows]


def keep_idea(
    session: Session, kind: str, name: str, text: str, source: str, data: bytes = b"", seconds: float = 0.0
) -> int:
    """The new idea's id. Raises InputError when no more fit."""
    if (session.scalar(select(func.count()).select_from(IdeaRow)) or 0) >= MOST:
        raise InputError(f"{MOST} ideas are saved; no more fit. Delete some first.")
    row = IdeaRow(kind=kind, name=name, text=text, source=source, data=data, seconds=seconds)
    session.add(row)
    session.flush()
    return row.id


def _row(session: Session, idea_id: int) -> IdeaRow:
    row = session.get(IdeaRow, idea_id)
    if row is None:
        raise NotFound("This idea was deleted already, perhaps in another window. The list shows what there is.")
    return row


def find_idea(session: Session, idea_id: int) -> ParkedIdea:
    """Raises NotFound."""
    row = _row(session, idea_id)
    return ParkedIdea(row.id, row.kind, row.name, row.text, row.source, row.created_at, row.placed, row.seconds)


def waiting(session: Session) -> int:
    """How many ideas have no place yet."""
    return session.scalar(select(func.count()).select_from(IdeaRow).where(IdeaRow.placed == "")) or 0


def idea_data(session: Session, idea_id: int) -> bytes:
    return _row(session, idea_id).data


def set_placed(session: Session, idea_id: int, where: str) -> str:
    """Say where an idea found its place; '' offers it again. Returns its name."""
    row = _row(session, idea_id)
    row.placed = where[:240]
    return row.name


def forget_idea(session: Session, idea_id: int) -> str:
    """Its name."""
    row = _row(session, idea_id)
    session.delete(row)
    return row.name
