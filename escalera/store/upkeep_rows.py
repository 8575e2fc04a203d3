"""Which upkeep a database has had."""

from __future__ import annotations

from sqlalchemy.orm import Session

from escalera.store.models import UpkeepRow


def is_done(session: Session, name: str) -> bool:
    return session.get(UpkeepRow, name) is not None


def set_done(session: Session, name: str) -> None:
    session.add(UpkeepRow(name=name))
