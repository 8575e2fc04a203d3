"""Studies of finished tracks: their audio among the samples, what was read, corrected and noted as JSON."""

from __future__ import annotations

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from escalera.errors import NotFound
from escalera.store.models import StudyRow


def all_studies(session: Session) -> list[StudyRow]:
    """The newest first."""
    return list(session.scalars(select(StudyRow).order_by(StudyRow.id.desc())))


def count_studies(session: Session) -> int:
    return session.scalar(select(func.count()).select_from(StudyRow)) or 0


def study_of(session: Session, content: str) -> StudyRow | None:
    """The study of some audio."""
    return session.scalars(select(StudyRow).where(StudyRow.content == content)).first()


def study_row(session: Session, study_id: int) -> StudyRow:
    """Raises NotFound."""
    row = session.get(StudyRow, study_id)
    if row is None:
        raise NotFound("This study is not kept any more. The list of studies shows those that are.")
    return row


def add_study(session: Session, row: StudyRow) -> int:
    session.add(row)
    session.flush()
    return row.id


def remove_study(session: Session, study_id: int) -> None:
    session.execute(delete(StudyRow).where(StudyRow.id == study_id))


def studied_contents(session: Session) -> set[str]:
    """The audio that studies need."""
    return set(session.scalars(select(StudyRow.content)))
