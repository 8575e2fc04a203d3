"""What several commands share."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from escalera.core.document.song import Song
from escalera.errors import InputError, shown
from escalera.services.importing import import_file
from escalera.services.studio import Studio


@contextmanager
def studio() -> Iterator[Studio]:
    opened = Studio()
    try:
        yield opened
    finally:
        opened.close()


def song_from(source: str, opened: Studio) -> Song:
    """A song by id from the database, or from a file. Raises InputError when it is neither."""
    if source.isdecimal():
        return opened.head(int(source)).song
    path = Path(source)
    if not path.exists():
        raise InputError(f"“{shown(source)}” is neither the id of a song nor a file. `escalera songs` lists the ids.")
    return import_file(path.name, path.read_bytes()).song


@contextmanager
def progress(title: str) -> Iterator[Callable[[float], None]]:
    """A bar on standard error, only where somebody is looking."""
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(title, total=1.0)
        yield lambda share: bar.update(task, completed=share)
