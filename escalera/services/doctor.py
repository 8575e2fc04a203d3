"""What is installed, missing, slow, full or damaged: a row each, for `escalera doctor`."""

from __future__ import annotations

import importlib
import platform
import shutil
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass
from escalera.services.memory import resident_bytes
from escalera.services.studio import Studio
from escalera.settings import Settings
from escalera.sound.bank_player import find_file
from escalera.store.database import BACKUPS

GOOD, NOTE, BAD = "ok", "note", "problem"
LITTLE_FREE_BYTES = 1_000_000_000
SLOW_WRITE_S = 0.1
PACKAGES = ("flask", "sqlalchemy", "numpy", "numba", "scipy", "soundfile", "waitress", "huey", "pydantic")


@dataclass(frozen=True, slots=True)
class Observation:
    state: str
    what: str
    said: str


def examine(studio: Studio) -> Iterator[Observation]:
    """All rows, in the order in which they are looked at. Nothing is changed but a small file that is written and removed."""
    for look in (_program, _packages, _folder, _database, _backups, _kernels, _bank, _queue, _room):
        try:
            yield from look(studio)
        except (EscaleraError, OSError) as error:
            yield Observation(BAD, look.__name__.strip("_"), str(error))


def _program(studio: Studio) -> Iterator[Observation]:
    fine = sys.version_info >= (3, 11)
    yield Observation(
        GOOD if fine else BAD,
        "Python",
        f"{platform.python_version()} on {platform.machine()}" + ("" if fine else "; 3.11 or newer is needed"),
    )
    yield Observation(GOOD, "memory", f"{resident_bytes() / 1e6:.0f} MB used by this command")


def _packages(studio: Studio) -> Iterator[Observation]:
    for name in PACKAGES:
        try:
            importlib.import_module(name)
        except ImportError as error:
            yield Observation(BAD, name, f"is missing or broken ({error}); run `make install`")
    yield Observation(GOOD, "packages", f"{len(PACKAGES)} looked for")


def _folder(studio: Studio) -> Iterator[Observation]:
    free = shutil.disk_usage(studio.folder).free
    state = BAD if free < LITTLE_FREE_BYTES / 10 else NOTE if free < LITTLE_FREE_BYTES else GOOD
    yield Observation(state, "disk", f"{free / 1e9:.1f} GB free at {studio.folder}")
    probe = studio.folder / "doctor.tmp"
    begun = time.perf_counter()
    with probe.open("wb") as out:
        out.write(b"x" * 1_000_000)
        out.flush()
    probe.unlink()
    took = time.perf_counter() - begun
    yield Observation(
        GOOD if took < SLOW_WRITE_S else NOTE,
        "writing",
        f"1 MB in {1000 * took:.0f} ms" + ("" if took < SLOW_WRITE_S else "; slow"),
    )
    for name in ("sound", "exports"):
        used = sum(f.stat().st_size for f in (studio.folder / name).rglob("*") if f.is_file())
        yield Observation(GOOD, name, f"{used / 1e6:.0f} MB kept")


def _database(studio: Studio) -> Iterator[Observation]:
    path = studio.database.path
    found = studio.database.check()
    size = path.stat().st_size / 1e6
    yield Observation(
        BAD if found else GOOD,
        "database",
        f"{size:.1f} MB, " + (f"damaged: {'; '.join(found[:3])}" if found else "whole"),
    )
    if studio.database.read_only:
        yield Observation(BAD, "database", f"{path} cannot be written")
    troubled = [card.title for card in studio.shelf() if card.trouble]
    yield Observation(
        BAD if troubled else GOOD,
        "songs",
        f"{len(studio.shelf())} on the shelf" + (f"; cannot be read: {', '.join(troubled[:5])}" if troubled else ""),
    )


def _backups(studio: Studio) -> Iterator[Observation]:
    copies = sorted((studio.folder / BACKUPS).glob("*.db"))
    yield Observation(
        GOOD if copies else NOTE,
        "backups",
        f"{len(copies)}, the newest {copies[-1]}" if copies else "none yet; the server makes one a day",
    )


def _kernels(studio: Studio) -> Iterator[Observation]:
    begun = time.perf_counter()
    from escalera.sound.compilation import load_all

    load_all()
    took = time.perf_counter() - begun
    yield Observation(
        GOOD if took < 20 else NOTE,
        "kernels",
        f"loaded in {took:.1f} s" + ("" if took < 20 else "; run `escalera warm` once"),
    )


def _bank(studio: Studio) -> Iterator[Observation]:
    file: Path | None = find_file()
    yield Observation(
        GOOD if file else NOTE,
        "sound bank",
        str(file) if file else "none installed; the palette is complete without it",
    )


def _queue(studio: Studio) -> Iterator[Observation]:
    address = Settings().queue
    ask: Callable[[], object] = studio.queue.size
    yield Observation(GOOD, "queue", f"{ask()} waiting, in {'a Redis' if address else 'a file beside the database'}")


def _room(studio: Studio) -> Iterator[Observation]:
    cache = studio.rendering.renderer.cache
    yield Observation(GOOD, "sound in memory", f"up to {cache.limit_bytes / 1e6:.0f} MB (ESCALERA_CACHE_MB)")
