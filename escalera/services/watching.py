"""A folder that a workstation bounces into, watched since the start: a newer file with the name of a bounce is read when it appears."""

from __future__ import annotations

import os
from pathlib import Path
from threading import Event, Thread
from typing import TYPE_CHECKING

from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass
from escalera.services.logs import LOG
from escalera.services.samples import SUFFIXES, title_of
from escalera.store import bounce_store

if TYPE_CHECKING:
    from escalera.services.studio import Studio

EVERY_S = 2.0
MOST_FILES = 500


@dataclass(frozen=True, slots=True)
class _FileState:
    size: int
    written_at: float


class FolderWatch(Thread):
    """Looks into a folder every two seconds. No links are followed, nothing is written there; a file is read once it stops growing."""

    def __init__(self, studio: Studio, folder: Path):
        super().__init__(name="watch", daemon=True)
        self._studio, self._folder = studio, folder
        self._ended = Event()
        self._before: dict[str, _FileState] = {}
        self._read: dict[str, _FileState] = {}

    def run(self) -> None:
        self._read = self._files()  # what lies there already is no newer file
        while not self._ended.wait(EVERY_S):
            self.look()

    def stop(self) -> None:
        self._ended.set()

    def look(self) -> list[str]:
        """Read what is new and stable since the last look; the names of the files that became bounces."""
        now, found = self._files(), []
        for name, seen in now.items():
            if seen == self._before.get(name) and seen != self._read.get(name):
                self._read[name] = seen
                if self._is_bounce(self._folder / name):
                    found.append(name)
        self._before = now
        return found

    def _files(self) -> dict[str, _FileState]:
        found: dict[str, _FileState] = {}
        try:
            with os.scandir(self._folder) as entries:
                for entry in entries:
                    if (
                        len(found) < MOST_FILES
                        and entry.is_file(follow_symlinks=False)
                        and entry.name.lower().endswith(SUFFIXES)
                    ):
                        state = entry.stat(follow_symlinks=False)
                        found[entry.name] = _FileState(state.st_size, state.st_mtime)
        except OSError as error:
            LOG.warning("the watched folder cannot be read: %s", error)
        return found

    def _is_bounce(self, path: Path) -> bool:
        """Bring a file in as a bounce of every song that has one of its name."""
        with self._studio.database.read() as session:
            songs = bounce_store.songs_with(session, title_of(path.name))
        if not songs:
            return False
        try:
            sample_id, _ = self._studio.samples.add_file(path)
            for song_id in songs:
                self._studio.add_bounce(song_id, sample_id, "from the watched folder")
        except (EscaleraError, OSError) as error:
            LOG.warning("%s could not be read from the watched folder: %s", path.name, error)
            return False
        LOG.info("%s was read from the watched folder", path.name)
        return True
