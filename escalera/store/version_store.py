"""Named versions: bookmarks of states, each with its reason. The line that edits append to is the row called 'main'."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from escalera.errors import InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.store.models import VersionRow

MAIN = "main"
MOST = 60


@dataclass(frozen=True, slots=True)
class Named:
    """A state under a name, and why it was kept."""

    id: int
    name: str
    reason: str
    revision_id: int
    created_at: datetime | None


def named_versions(session: Session, song_id: int) -> list[Named]:
    """The newest first."""
    mine = (VersionRow.song_id == song_id, VersionRow.name != MAIN)
    rows = session.scalars(select(VersionRow).where(*mine).order_by(VersionRow.id.desc()))
    return [Named(r.id, r.name, r.reason, r.head_id or 0, r.created_at) for r in rows]


def keep_version(session: Session, song_id: int, revision_id: int, name: str, reason: str) -> None:
    """Raises InputError when the name is taken, or too many are kept."""
    there = named_versions(session, song_id)
    if name.casefold() in {MAIN, *(v.name.casefold() for v in there)}:
        raise InputError(f"A version called “{name}” is kept already. Choose another name, or delete that one first.")
    if len(there) >= MOST:
        raise InputError(f"{MOST} versions of this song are kept; no more fit. Delete one first.")
    session.add(VersionRow(song_id=song_id, name=name, reason=reason, head_id=revision_id, tip_id=revision_id))


def forget_version(session: Session, song_id: int, version_id: int) -> str:
    """Its name. The state stays in the history. Raises NotFound."""
    row = session.get(VersionRow, version_id)
    if row is None or row.song_id != song_id or row.name == MAIN:
        raise NotFound("This version was deleted already, perhaps in another window. The list shows what there is.")
    session.delete(row)
    return row.name
