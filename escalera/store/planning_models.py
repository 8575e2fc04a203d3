"""Tables of what is planned over songs."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import Date, DateTime, ForeignKey, LargeBinary, String, Text
from sqlalchemy.orm import Mapped, mapped_column

from escalera.store.models import Base, now


class SongFactsRow(Base):
    """What was read of a song's state, to be read anew when `state` differs. It can be thrown away at any time."""

    __tablename__ = "song_facts"
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True)
    state: Mapped[str] = mapped_column(String(120))
    facts: Mapped[bytes] = mapped_column(LargeBinary)


class TimedStepRow(Base):
    """A step that was begun with the timer. `minutes` is None where the time cannot be told; a step that runs has no end."""

    __tablename__ = "timed_steps"
    id: Mapped[int] = mapped_column(primary_key=True)
    song_id: Mapped[int] = mapped_column(index=True)
    kind: Mapped[str] = mapped_column(String(40))
    step: Mapped[str] = mapped_column(String(120), default="")  # names it among what lies open in the song
    said: Mapped[str] = mapped_column(String(300))
    planned_min: Mapped[int]
    began_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    paused_at: Mapped[datetime | None] = mapped_column(DateTime, default=None)
    paused_s: Mapped[float] = mapped_column(default=0.0)
    ended_at: Mapped[datetime | None] = mapped_column(DateTime, default=None, index=True)
    minutes: Mapped[float | None] = mapped_column(default=None)
    outcome: Mapped[str] = mapped_column(String(20), default="")


class SkippedStepRow(Base):
    """A step that was put off until a day, or for good where there is none, with the reason."""

    __tablename__ = "skipped_steps"
    id: Mapped[int] = mapped_column(primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    step: Mapped[str] = mapped_column(String(120))
    said: Mapped[str] = mapped_column(String(300))
    reason: Mapped[str] = mapped_column(String(300))
    at: Mapped[datetime] = mapped_column(DateTime, default=now)
    until: Mapped[date | None] = mapped_column(Date, default=None)


class SongSetRow(Base):
    """A set of songs. `head_id` is its present state."""

    __tablename__ = "song_sets"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    head_id: Mapped[int | None] = mapped_column(default=None)
    deleted_at: Mapped[datetime | None] = mapped_column(DateTime, default=None)


class SetStateRow(Base):
    """A state of a set, as JSON. States of a set follow each other by their ids."""

    __tablename__ = "set_states"
    id: Mapped[int] = mapped_column(primary_key=True)
    set_id: Mapped[int] = mapped_column(ForeignKey("song_sets.id", ondelete="CASCADE"), index=True)
    summary: Mapped[str] = mapped_column(String(300))
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    document: Mapped[str] = mapped_column(Text)


class OwnPromptRow(Base):
    """A prompt of one's own; `rules` are pairs as JSON."""

    __tablename__ = "own_prompts"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    words: Mapped[str] = mapped_column(String(300), default="")
    rules: Mapped[str] = mapped_column(Text, default="[]")
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)


class ChoiceRow(Base):
    """A choice of the user that holds for the whole program, as JSON."""

    __tablename__ = "choices"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[str] = mapped_column(Text)
