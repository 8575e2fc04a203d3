"""Tables. A revision is a small structure document; patterns are stored once by content hash."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import DateTime, ForeignKey, LargeBinary, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


def now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


class Base(DeclarativeBase):
    pass


class SongRow(Base):
    __tablename__ = "songs"
    id: Mapped[int] = mapped_column(primary_key=True)
    title: Mapped[str] = mapped_column(String(200))
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    touched_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    deleted_at: Mapped[datetime | None] = mapped_column(DateTime, default=None)
    card: Mapped[str] = mapped_column(Text, default="{}")


class VersionRow(Base):
    """A line of revisions, or a state kept under a name. `head_id` is the current state, `tip_id` the furthest one that redo can reach."""

    __tablename__ = "versions"
    id: Mapped[int] = mapped_column(primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(100), default="main")
    head_id: Mapped[int | None] = mapped_column(default=None)
    tip_id: Mapped[int | None] = mapped_column(default=None)
    reason: Mapped[str] = mapped_column(Text, default="")
    created_at: Mapped[datetime | None] = mapped_column(DateTime, default=now)


class RevisionRow(Base):
    __tablename__ = "revisions"
    id: Mapped[int] = mapped_column(primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("revisions.id"), default=None)
    summary: Mapped[str] = mapped_column(String(300))
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    document: Mapped[bytes] = mapped_column(LargeBinary, deferred=True)  # read only where it is not remembered


class PatternRow(Base):
    __tablename__ = "patterns"
    hash: Mapped[str] = mapped_column(String(40), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class PrintRow(Base):
    """Audio that a layer was printed to, once by content: 24-bit FLAC of the audio divided by `scale`."""

    __tablename__ = "prints"
    hash: Mapped[str] = mapped_column(String(40), primary_key=True)
    scale: Mapped[float]
    flac: Mapped[bytes] = mapped_column(LargeBinary)


class FavouriteRow(Base):
    __tablename__ = "favourites"
    sound: Mapped[str] = mapped_column(String(60), primary_key=True)


class IdeaRow(Base):
    """An idea without a place. `data` is a packed project for patterns and sections, FLAC for samples, empty for words.

    `source` tells where it came from (for a sample: whose it is), `placed` where it found its place.
    """

    __tablename__ = "ideas"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    name: Mapped[str] = mapped_column(String(120))
    text: Mapped[str] = mapped_column(Text, default="")
    source: Mapped[str] = mapped_column(String(240), default="")
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    placed: Mapped[str] = mapped_column(String(240), default="")
    seconds: Mapped[float] = mapped_column(default=0.0)
    data: Mapped[bytes] = mapped_column(LargeBinary, default=b"")


class SessionLineRow(Base):
    """A line of one's own for a session of work, which is known by its first step."""

    __tablename__ = "session_lines"
    id: Mapped[int] = mapped_column(primary_key=True)
    began_at: Mapped[datetime] = mapped_column(DateTime, unique=True)
    text: Mapped[str] = mapped_column(String(400))


class UpkeepRow(Base):
    """A piece of upkeep that was done once."""

    __tablename__ = "upkeep"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)


class JobRow(Base):
    """A piece of long work. This table is the truth about it: a message in the queue only says that there may be something to do.

    `state` is waiting, running, done, failed or stopped; `beat_at` is when its worker was last heard of.
    """

    __tablename__ = "jobs"
    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    song_id: Mapped[int] = mapped_column(index=True)
    revision_id: Mapped[int]
    options: Mapped[str] = mapped_column(Text, default="{}")
    label: Mapped[str] = mapped_column(String(120), default="")
    state: Mapped[str] = mapped_column(String(10), default="waiting", index=True)
    share: Mapped[float] = mapped_column(default=0.0)
    trouble: Mapped[str] = mapped_column(Text, default="")
    file: Mapped[str] = mapped_column(String(200), default="")
    mimetype: Mapped[str] = mapped_column(String(60), default="")
    tries: Mapped[int] = mapped_column(default=0)
    worker: Mapped[str] = mapped_column(String(80), default="")
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    beat_at: Mapped[datetime] = mapped_column(DateTime, default=now)


class SampleRow(Base):
    """A recording in the library. Its audio lies beside the database under its content; `reading` is what was read of it, `own` what
    a person set by hand over that. The other columns repeat what is looked for most, corrections included."""

    __tablename__ = "samples"
    id: Mapped[int] = mapped_column(primary_key=True)
    content: Mapped[str] = mapped_column(String(40), unique=True)
    name: Mapped[str] = mapped_column(String(200))
    file: Mapped[str] = mapped_column(String(300), default="")
    added_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    size_bytes: Mapped[int] = mapped_column(default=0)
    favourite: Mapped[bool] = mapped_column(default=False)
    rejected: Mapped[str] = mapped_column(Text, default="")  # songs in which it was tried and left, by id
    source: Mapped[str] = mapped_column(String(240), default="")
    licence: Mapped[str] = mapped_column(String(20), default="unknown")
    credit: Mapped[str] = mapped_column(String(240), default="")
    made: Mapped[str] = mapped_column(String(300), default="")
    seconds: Mapped[float] = mapped_column(default=0.0)
    kind: Mapped[str] = mapped_column(String(20), default="loop")
    tempo_bpm: Mapped[float | None] = mapped_column(default=None)
    key: Mapped[str] = mapped_column(String(40), default="")
    pitch_hz: Mapped[float | None] = mapped_column(default=None)
    has_kick: Mapped[bool] = mapped_column(default=False)
    leaves_middle: Mapped[bool] = mapped_column(default=False)
    bands: Mapped[str] = mapped_column(String(80), default="")  # six levels in dB
    envelope: Mapped[str] = mapped_column(Text, default="")  # 96 levels 0..99, two digits each: how it is drawn
    reading: Mapped[str] = mapped_column(Text, default="{}", deferred=True)
    own: Mapped[str] = mapped_column(Text, default="{}")
    doubts: Mapped[int] = mapped_column(default=0)  # contradictions between its name or tags and what is heard
    beats_a_bar: Mapped[int] = mapped_column(default=4)
    file_says: Mapped[str] = mapped_column(Text, default="{}")  # tempo, key and note of its tags


class WantedRow(Base):
    """A sound that was looked for and not found; `stand_in` names what plays in its place, `layer_id` where in the song."""

    __tablename__ = "wanted"
    id: Mapped[int] = mapped_column(primary_key=True)
    words: Mapped[str] = mapped_column(String(200))
    song_id: Mapped[int] = mapped_column(default=0)
    stand_in: Mapped[str] = mapped_column(String(120), default="")
    layer_id: Mapped[int] = mapped_column(default=0)
    created_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    content: Mapped[str] = mapped_column(String(40), default="")


class BounceRow(Base):
    """A mix of a song made elsewhere. Its audio is a sample's; `form` says which bars it was laid over, `report` what was found."""

    __tablename__ = "bounces"
    id: Mapped[int] = mapped_column(primary_key=True)
    song_id: Mapped[int] = mapped_column(index=True)
    content: Mapped[str] = mapped_column(String(40))
    name: Mapped[str] = mapped_column(String(200))
    note: Mapped[str] = mapped_column(String(300), default="")
    made_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    form: Mapped[str] = mapped_column(String(40), default="")
    report: Mapped[str] = mapped_column(Text, default="")
    trouble: Mapped[str] = mapped_column(String(400), default="")


class StudyRow(Base):
    """A finished track taken apart. Its audio is a sample's; `given` is what a person corrected, `read_with` the corrections that
    `report` was read with, `notes` own words and the checklist, `songs` those that were built on it; all JSON."""

    __tablename__ = "studies"
    id: Mapped[int] = mapped_column(primary_key=True)
    content: Mapped[str] = mapped_column(String(40), index=True)
    name: Mapped[str] = mapped_column(String(200))
    made_at: Mapped[datetime] = mapped_column(DateTime, default=now)
    given: Mapped[str] = mapped_column(Text, default="{}")
    read_with: Mapped[str] = mapped_column(Text, default="")
    report: Mapped[str] = mapped_column(Text, default="")
    notes: Mapped[str] = mapped_column(Text, default="{}")
    songs: Mapped[str] = mapped_column(Text, default="[]")
    trouble: Mapped[str] = mapped_column(String(400), default="")
