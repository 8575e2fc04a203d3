"""Tables of drills."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import DateTime, String, Text, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from escalera.store.models import Base, now


class DrillSessionRow(Base):
    """Five minutes of drills: which kinds (JSON), and the song and section they are made from where they were chosen (0: any)."""

    __tablename__ = "drill_sessions"
    id: Mapped[int] = mapped_column(primary_key=True)
    kinds: Mapped[str] = mapped_column(Text)
    song_id: Mapped[int] = mapped_column(default=0)
    section_id: Mapped[int] = mapped_column(default=0)
    began_at: Mapped[datetime] = mapped_column(DateTime, default=now)


class DrillAnswerRow(Base):
    """An answer. `item` is all that is needed to ask the same again: kind, seed, size, song, its revision, section."""

    __tablename__ = "drill_answers"
    __table_args__ = (UniqueConstraint("session_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    session_id: Mapped[int] = mapped_column(index=True)
    number: Mapped[int]
    kind: Mapped[str] = mapped_column(String(40), index=True)
    item: Mapped[str] = mapped_column(String(120))
    size: Mapped[float]
    right: Mapped[bool]
    answered_at: Mapped[datetime] = mapped_column(DateTime, default=now)
