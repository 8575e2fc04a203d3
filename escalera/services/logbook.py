"""The logbook over all songs: sessions that write themselves, with a line of one's own, searched and exported as text."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from escalera.cleaning import clean_line
from escalera.core.caching import Results
from escalera.core.document.song import Song
from escalera.core.logbook.rest import is_late
from escalera.core.logbook.work_sessions import SongWork, WorkSession, work_sessions
from escalera.core.moves.differences import section_changes, song_changes
from escalera.errors import EscaleraError, InputError, shown
from escalera.lazy_dataclasses import dataclass
from escalera.store import logbook_store as shelf
from escalera.store.database import Database
from escalera.store.repository import Repository

MOST_SHOWN = 60
MOST_LINES = 7  # of what changed in a song
MAX_LINE = 400


@dataclass(frozen=True, slots=True)
class ToldWork:
    """A song in a session: what changed from its first state to its last, in words, and what was decided."""

    song_id: int
    title: str
    steps: int
    changes: tuple[str, ...]
    decisions: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ToldSession:
    """A session as it is shown. `key` names it; `began` is local time."""

    key: str
    began: datetime
    minutes: int
    line: str
    songs: tuple[ToldWork, ...]
    late: bool = False


class Logbook:
    """Reads what songs remember; nothing of it has to be kept up."""

    def __init__(self, database: Database, repository: Repository, late_from: Callable[[], str] = str):
        self._database, self._repository, self._late_from = database, repository, late_from
        self._changes: Results[tuple[str, ...]] = Results(4000)

    def sessions(self, words: str = "", most: int = MOST_SHOWN) -> list[ToldSession]:
        """The newest first; with words only those in which all of them stand."""
        with self._database.read() as session:
            steps, titles = shelf.steps_done(session)
            lines = shelf.own_lines(session)
        wanted, found, late = words.casefold().split(), list[ToldSession](), self._late_from()
        for each in work_sessions(steps):
            line = lines.get(each.began, "")
            # steps are searched, not what differs: states are compared only where they are shown
            spoken = "\n".join(
                (line, *(t for w in each.songs for t in (titles.get(w.song_id, ""), *w.said)))
            ).casefold()
            if all(word in spoken for word in wanted):
                found.append(self._told(each, titles, line, late))
            if len(found) >= most:
                break
        return found

    def write_line(self, key: str, text: str) -> None:
        """A line of one's own for a session. Raises InputError for a session that is not there, or too long a line."""
        text = clean_line(text)
        if len(text) > MAX_LINE:
            raise InputError(f"The line has {len(text)} characters; {MAX_LINE} fit. Shorten it.")
        try:
            began = datetime.fromisoformat(key)
        except ValueError:
            raise InputError(f"“{shown(key)}” is no session. Choose one of the list.") from None
        with self._database.write() as session:
            steps, _ = shelf.steps_done(session)
            if not any(each.began == began for each in work_sessions(steps)):
                raise InputError("That session is not there any more. Choose one of the list.")
            shelf.keep_own_line(session, began, text)

    def _told(self, each: WorkSession, titles: dict[int, str], line: str, late: str) -> ToldSession:
        songs = tuple(
            ToldWork(w.song_id, titles.get(w.song_id, ""), w.steps, self._changed(w), w.decisions) for w in each.songs
        )
        began, ended = (at.replace(tzinfo=UTC).astimezone().replace(tzinfo=None) for at in (each.began, each.ended))
        return ToldSession(each.began.isoformat(), began, each.minutes, line, songs, is_late(ended, late))

    def _changed(self, work: SongWork) -> tuple[str, ...]:
        """What differs from the state before to the one after, in words."""
        return self._changes.get_or_make((work.before_id, work.after_id), lambda: self._compared(work))

    def _compared(self, work: SongWork) -> tuple[str, ...]:
        try:
            with self._database.read() as session:
                after = self._repository.at(session, work.song_id, work.after_id)
                before = self._repository.at(session, work.song_id, work.before_id or work.first_id)
        except EscaleraError:
            return ("its states cannot be read",)
        begun = [] if work.before_id else [f"begun: {len(before.sections)} sections, {len(before.layers)} layers"]
        return (*begun, *_in_words(before, after))


def _in_words(before: Song, after: Song) -> list[str]:
    lines = song_changes(before, after)
    for change in section_changes(before, after):
        there = change.before is not None and change.after is not None
        moved = f", energy {change.before:.1f} → {change.after:.1f}" if there and abs(change.points) >= 0.1 else ""
        lines.append(f"{change.name}: {'; '.join(change.what[:3]) or 'changed'}{moved}")
    more = len(lines) - MOST_LINES
    return [*lines[:MOST_LINES], f"and {more} more"] if more > 0 else lines


def session_text(session: ToldSession) -> str:
    """A session as text."""
    late = ", late hours" if session.late else ""
    lines = [
        f"{session.began:%Y-%m-%d %H:%M}, {session.minutes} min{late}" + (f": {session.line}" if session.line else "")
    ]
    for work in session.songs:
        lines.append(f"  {work.title}, {work.steps} {'step' if work.steps == 1 else 'steps'}")
        lines += [f"    {change}" for change in work.changes]
        lines += [f"    decided: {decision}" for decision in work.decisions]
    return "\n".join(lines)
