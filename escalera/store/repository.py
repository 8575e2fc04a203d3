"""Songs in the database: reading and writing revisions. Knows documents and patterns, no rules of the job."""

from __future__ import annotations

import json
import re
import zlib
from collections.abc import Iterable
from datetime import datetime

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from escalera.core.caching import Results
from escalera.core.document.codec import FORMAT_VERSION, Plain, from_plain, to_plain
from escalera.core.document.song import Song
from escalera.core.document.upgrades import upgraded
from escalera.core.energy.refit import with_present_scale
from escalera.core.rhythm.pattern import Pattern
from escalera.errors import DamagedState, InputError, NotFound, StaleRevision, shown
from escalera.lazy_dataclasses import dataclass
from escalera.store.models import PatternRow, PrintRow, RevisionRow, SongRow, VersionRow, now

CACHED_DOCUMENTS = 16  # states with what was computed from them, some megabytes each


@dataclass(frozen=True, slots=True)
class Head:
    """Where a song stands: its current revision, and whether there is something to undo and redo."""

    song_id: int
    revision_id: int
    can_undo: bool
    can_redo: bool
    song: Song


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of a song's history."""

    revision_id: int
    parent_id: int | None
    summary: str
    created_at: datetime
    state: str  # 'done', 'now', 'undone'


@dataclass(frozen=True, slots=True)
class Card:
    """A song as the shelf shows it."""

    id: int
    title: str
    touched_at: datetime
    picture: dict  # type: ignore[type-arg]
    trouble: str = ""  # why the song cannot be read


class Repository:
    """Reads and writes inside the session it is given; parsed documents are cached by revision."""

    def __init__(self) -> None:
        self._documents: Results[Song] = Results(CACHED_DOCUMENTS)

    # songs -----------------------------------------------------------------------------------------------------

    def create(self, session: Session, song: Song, summary: str, picture: Plain) -> int:
        row = SongRow(title=song.title, card=json.dumps(picture))
        session.add(row)
        session.flush()
        version = VersionRow(song_id=row.id, name="main")
        session.add(version)
        revision = self._write(session, row.id, None, song, summary, ())
        version.head_id = version.tip_id = revision
        return row.id

    def cards(self, session: Session, deleted: bool = False) -> list[Card]:
        where = SongRow.deleted_at.is_not(None) if deleted else SongRow.deleted_at.is_(None)
        rows = session.scalars(select(SongRow).where(where).order_by(SongRow.touched_at.desc(), SongRow.id.desc()))
        return [Card(r.id, r.title, r.touched_at, _picture(r.card)) for r in rows]

    def count_deleted(self, session: Session) -> int:
        return session.scalar(select(func.count()).select_from(SongRow).where(SongRow.deleted_at.is_not(None))) or 0

    def set_deleted(self, session: Session, song_id: int, deleted: bool) -> None:
        self._song_row(session, song_id, any_state=True).deleted_at = now() if deleted else None

    def erase(self, session: Session, song_id: int) -> None:
        """Remove a song, and the patterns and prints that no state of another song names."""
        for id in session.scalars(select(RevisionRow.id).where(RevisionRow.song_id == song_id)):
            self._documents.drop(id)
        session.delete(self._song_row(session, song_id, any_state=True))
        session.flush()
        kept: set[bytes] = set()
        for document in session.scalars(select(RevisionRow.document)):
            kept.update(HASH.findall(_text(document)))
        for table in (PatternRow, PrintRow):
            for hash in session.scalars(select(table.hash)).all():
                if hash.encode() not in kept:
                    session.execute(delete(table).where(table.hash == hash))

    def readable(self, session: Session, song_id: int) -> int | None:
        """The newest state before the current one that can be read."""
        version = self._version(session, song_id, any_state=True)
        at = session.get(RevisionRow, version.head_id)
        while at is not None:
            try:
                self._parsed(session, at)
                return at.id
            except DamagedState:
                at = session.get(RevisionRow, at.parent_id) if at.parent_id else None
        return None

    def go_to(self, session: Session, song_id: int, revision_id: int) -> None:
        """Make an earlier state the current one; what came after it is no more reached by redo."""
        version = self._version(session, song_id)
        version.head_id = version.tip_id = revision_id

    # states ----------------------------------------------------------------------------------------------------

    def head(self, session: Session, song_id: int, any_state: bool = False) -> Head:
        version = self._version(session, song_id, any_state)
        revision = self._revision(session, version.head_id or 0)
        song = self._parsed(session, revision)
        return Head(song_id, revision.id, revision.parent_id is not None, version.tip_id != version.head_id, song)

    def at(self, session: Session, song_id: int, revision_id: int) -> Song:
        revision = session.get(RevisionRow, revision_id)
        if revision is None or revision.song_id != song_id:
            raise NotFound(f"Song {song_id} has no state {revision_id}. Open the song again.")
        return self._parsed(session, revision)

    def append(
        self, session: Session, song_id: int, base_id: int, before: Song, song: Song, summary: str, picture: Plain
    ) -> int:
        """Write a state after `base_id`, which must be the current one and holds `before`. Raises StaleRevision."""
        version = self._version(session, song_id)
        if version.head_id != base_id:
            raise StaleRevision(
                "This song was changed in the meantime, perhaps in another window. Its newer state "
                "is shown; "
                "your last change was not made, so make it again if you still want it."
            )
        known = {entry.pattern.content_hash for entry in before.patterns}
        revision = self._write(session, song_id, base_id, song, summary, known)
        version.head_id = version.tip_id = revision
        self._touch(session, song_id, song, picture)
        return revision

    def put_beside(self, session: Session, song_id: int, parent_id: int, song: Song, summary: str) -> int:
        """Write a state that becomes neither the current one nor reached by redo, to be kept by name. Raises NotFound."""
        self.at(session, song_id, parent_id)
        return self._write(session, song_id, parent_id, song, summary, ())

    def step(self, session: Session, song_id: int, forward: bool) -> Head | None:
        """Move the head to its parent, or back toward the tip. None when there is nothing there."""
        version = self._version(session, song_id)
        if not forward:
            target = self._revision(session, version.head_id or 0).parent_id
        else:
            target = next((r.id for r in self._line(session, version.tip_id) if r.parent_id == version.head_id), None)
        if target is None or (forward and version.head_id == version.tip_id):
            return None
        version.head_id = target
        session.flush()
        return self.head(session, song_id)

    def touch(self, session: Session, song_id: int, song: Song, picture: Plain) -> None:
        self._touch(session, song_id, song, picture)

    def history(self, session: Session, song_id: int, limit: int = 200) -> list[Entry]:
        """The line from the tip back to the beginning, newest first."""
        version = self._version(session, song_id)
        entries, state = [], "undone"
        for row in self._line(session, version.tip_id, limit):
            if row.id == version.head_id:
                state = "now"
            entries.append(Entry(row.id, row.parent_id, row.summary, row.created_at, state))
            if state == "now":
                state = "done"
        return entries

    # inside ----------------------------------------------------------------------------------------------------

    def _line(self, session: Session, tip_id: int | None, limit: int = 10_000) -> Iterable[RevisionRow]:
        """Revisions from a tip back along their parents, in one query, documents left out."""
        columns = (RevisionRow.id, RevisionRow.parent_id, RevisionRow.summary, RevisionRow.created_at)
        first = select(*columns).where(RevisionRow.id == tip_id).cte("line", recursive=True)
        line = first.union_all(select(*columns).join(first, RevisionRow.id == first.c.parent_id))
        return session.execute(select(line).order_by(line.c.id.desc()).limit(limit)).all()  # type: ignore[return-value]

    def _song_row(self, session: Session, song_id: int, any_state: bool = False) -> SongRow:
        row = session.get(SongRow, song_id)
        if row is None or (row.deleted_at is not None and not any_state):
            where = (
                " It lies in the bin; restore it there." if row is not None else " The shelf lists the songs there are."
            )
            raise NotFound(f"There is no song {song_id} on the shelf.{where}")
        return row

    def _version(self, session: Session, song_id: int, any_state: bool = False) -> VersionRow:
        self._song_row(session, song_id, any_state)
        return session.scalars(select(VersionRow).where(VersionRow.song_id == song_id).order_by(VersionRow.id)).first()  # type: ignore[return-value]

    def _revision(self, session: Session, revision_id: int) -> RevisionRow:
        row = session.get(RevisionRow, revision_id)
        if row is None:
            raise NotFound(f"State {revision_id} is missing from the database. Restore a backup.")
        return row

    def _touch(self, session: Session, song_id: int, song: Song, picture: Plain) -> None:
        row = self._song_row(session, song_id)
        row.title, row.touched_at, row.card = song.title, now(), json.dumps(picture)

    def _write(
        self, session: Session, song_id: int, parent_id: int | None, song: Song, summary: str, known: Iterable[str]
    ) -> int:
        old = set(known)
        fresh = {e.pattern.content_hash: e.pattern for e in song.patterns if e.pattern.content_hash not in old}
        if fresh:
            there = set(session.scalars(select(PatternRow.hash).where(PatternRow.hash.in_(fresh))))
            session.add_all(PatternRow(hash=h, data=p.to_bytes()) for h, p in fresh.items() if h not in there)
        row = RevisionRow(song_id=song_id, parent_id=parent_id, summary=summary[:300], document=_document(song))
        session.add(row)
        session.flush()
        return row.id

    def with_prints(self, session: Session) -> list[RevisionRow]:
        """Every state in which a layer is printed."""
        rows = session.scalars(select(RevisionRow))
        return [row for row in rows if b'"prints"' in unpacked(row)]

    def rewrite(self, session: Session, revision: RevisionRow, song: Song) -> None:
        """Put a state down anew, in the present format; for upkeep only, what it says must stay the same."""
        revision.document = _document(song)
        self._documents.drop(revision.id)

    def _parsed(self, session: Session, revision: RevisionRow) -> Song:
        known = self._documents.get(revision.id)
        if known is not None:
            return known
        try:
            song = self._read(session, revision)
        except (zlib.error, ValueError, KeyError, TypeError, AttributeError, InputError) as error:
            raise DamagedState(
                f"State {revision.id} of song {revision.song_id} is damaged in the database ({shown(error, 60)}). "
                f"Go back to the last state that can be read, or restore a backup.",
                revision.song_id,
            ) from error
        self.remember(revision.id, song)
        return song

    def _read(self, session: Session, revision: RevisionRow) -> Song:
        plain = json.loads(zlib.decompress(revision.document))
        kept = upgraded(plain.get("song", plain), plain.get("version", 1))  # the first format had no version around it
        hashes = {p["pattern"] for p in kept.get("patterns", ())}
        rows = session.scalars(select(PatternRow).where(PatternRow.hash.in_(hashes)))
        return with_present_scale(from_plain(kept, {row.hash: Pattern.from_bytes(row.data) for row in rows}))

    def remember(self, revision_id: int, song: Song) -> None:
        """Keep a parsed document; call it for a new state only when its transaction has ended well."""
        self._documents.put(revision_id, song)


def _document(song: Song) -> bytes:
    plain = {"version": FORMAT_VERSION, "song": to_plain(song)}
    return zlib.compress(json.dumps(plain, separators=(",", ":")).encode(), 1)


HASH = re.compile(rb'"([0-9a-f]{16,64})"')  # patterns and prints, as documents name them


def _picture(card: str) -> Plain:
    """What a card shows; nothing where it cannot be read."""
    try:
        found = json.loads(card)
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


def unpacked(revision: RevisionRow) -> bytes:
    """The document as text; nothing where it is damaged."""
    return _text(revision.document)


def _text(document: bytes) -> bytes:
    try:
        return zlib.decompress(document)
    except zlib.error:
        return b""
