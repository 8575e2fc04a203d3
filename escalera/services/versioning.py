"""Versions of a song: states kept by name, compared, chosen between; one side of the studio."""

from __future__ import annotations

from escalera.core.document.limits import MAX_REASON
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.song import Song
from escalera.store import version_store as versions
from escalera.store.database import Database
from escalera.store.repository import Repository
from escalera.store.version_store import Named

MAX_VERSION = 60


class Versions:
    """What is kept by name. Naming a state changes no song and needs no undo."""

    def __init__(self, database: Database, repository: Repository):
        self._database, self._repository = database, repository

    def of(self, song_id: int) -> list[Named]:
        """The newest first."""
        with self._database.read() as session:
            return versions.named_versions(session, song_id)

    def keep(self, song_id: int, revision_id: int, name: str, reason: str = "") -> None:
        """Keep a state by name. Raises InputError for a name that is taken, empty or too long."""
        name = clean_name(name, "name", MAX_VERSION)
        reason = clean_words(reason, "reason", MAX_REASON)
        with self._database.write() as session:
            self._repository.at(session, song_id, revision_id)
            versions.keep_version(session, song_id, revision_id, name, reason)

    def keep_beside(self, song_id: int, parent_id: int, song: Song, name: str, reason: str = "") -> str:
        """Keep a state that came from elsewhere by name, without taking it; the name it got. Raises InputError."""
        name = clean_name(name, "name", MAX_VERSION)
        with self._database.write() as session:
            taken = {v.name for v in versions.named_versions(session, song_id)}
            free = next(
                n for i in range(1, len(taken) + 2) if (n := name if i == 1 else f"{name[:50]} {i}") not in taken
            )
            state = self._repository.put_beside(session, song_id, parent_id, song, f"Came back: {free}")
            versions.keep_version(session, song_id, state, free, clean_words(reason, "reason", MAX_REASON))
        return free

    def names(self, song_id: int, *states: int) -> list[str]:
        """How states are called: by their versions' names, 'now', or the step that led to them."""
        with self._database.read() as session:
            kept = {v.revision_id: v.name for v in versions.named_versions(session, song_id)}
            current = self._repository.head(session, song_id).revision_id
            steps = {e.revision_id: e.summary for e in self._repository.history(session, song_id)}
        calls = {s: f"after “{summary[:60]}”" for s, summary in steps.items()} | {current: "now"} | kept
        return [calls.get(s, f"state {s}") for s in states]

    def verdict(self, song_id: int, chosen: int, other: int, where: str, who: str, reason: str) -> str:
        """The line that a choice between two states leaves in the history. Raises InputError for texts that are too long."""
        by = f", by {clean_name(who, 'name', MAX_VERSION)}" if who.strip() else ""
        because = f": {clean_name(reason, 'reason', MAX_REASON)}" if reason.strip() else ""
        a, b = (name[:70] for name in self.names(song_id, chosen, other))
        return f"Chosen blind in {where}{by}: {a} over {b}{because}"[:300]

    def forget(self, song_id: int, version_id: int) -> str:
        with self._database.write() as session:
            return versions.forget_version(session, song_id, version_id)
