"""What belongs to no single song: printed audio by content, favourite sounds."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from escalera.errors import NotFound
from escalera.store.models import FavouriteRow, PrintRow


def keep_print(session: Session, name: str, scale: float, flac: bytes) -> None:
    if session.get(PrintRow, name) is None:
        session.add(PrintRow(hash=name, scale=scale, flac=flac))


def find_print(session: Session, name: str) -> tuple[float, bytes]:
    """Scale and FLAC of printed audio. Raises NotFound."""
    row = session.get(PrintRow, name)
    if row is None:
        raise NotFound("The printed audio is not in the store. Remove the print; the original is still there.")
    return row.scale, row.flac


def favourites(session: Session) -> set[str]:
    return set(session.scalars(select(FavouriteRow.sound)))


def set_favourite(session: Session, sound: str, liked: bool) -> None:
    row = session.get(FavouriteRow, sound)
    if liked and row is None:
        session.add(FavouriteRow(sound=sound))
    elif not liked and row is not None:
        session.delete(row)
