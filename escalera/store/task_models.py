"""Tables of tasks and of work that was judged."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import DateTime, ForeignKey, LargeBinary, String, Text
from sqlalchemy.orm import Mapped, mapped_column

from escalera.store.models import Base, now


class TaskRow(Base):
    """A task, as JSON."""

    __tablename__ = "tasks"
    id: Mapped[int] = mapped_column(primary_key=True)
    title: Mapped[str] = mapped_column(String(120))
    document: Mapped[str] = mapped_column(Text)
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)


class SubmissionRow(Base):
    """A piece of work as it was handed in: the name of its file, its marks as JSON, the project packed. `trouble` says why it could
    not be read; then it has neither."""

    __tablename__ = "submissions"
    id: Mapped[int] = mapped_column(primary_key=True)
    task_id: Mapped[int] = mapped_column(ForeignKey("tasks.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(200))
    judged_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    marks: Mapped[str] = mapped_column(Text, default="")
    trouble: Mapped[str] = mapped_column(String(400), default="")
    project: Mapped[bytes] = mapped_column(LargeBinary, default=b"", deferred=True)
