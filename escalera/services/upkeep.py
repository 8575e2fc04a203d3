"""What is put in order once when a database of an earlier version is opened, and that needs more than the store."""

from __future__ import annotations

import logging
import shutil
import time
from dataclasses import replace
from datetime import date
from pathlib import Path

from escalera.core.document.bodies import on_all_bodies
from escalera.core.document.song import Layer, Song
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError
from escalera.sound.first_print_keys import first_print_contents
from escalera.sound.plan import parts_of, print_content
from escalera.store.database import BACKUPS, Database
from escalera.store.repository import Repository
from escalera.store.upkeep_rows import is_done, set_done

log = logging.getLogger("escalera")
PRINT_KEYS = "print keys 2"


def put_in_order(database: Database, repository: Repository) -> None:
    """Bring prints of the first format under the keys of the present one, in every state of every song."""
    with database.read() as session:
        if is_done(session, PRINT_KEYS) or database.read_only:
            return
    with database.write() as session:
        for revision in repository.with_prints(session):
            try:
                song = repository.at(session, revision.song_id, revision.id)
                repository.rewrite(session, revision, with_present_keys(song))
            except (
                EscaleraError,
                KeyError,
                ValueError,
            ) as error:  # a damaged state must not keep the others from opening
                log.warning("state %d keeps the names of its prints: %s", revision.id, error)
        set_done(session, PRINT_KEYS)


def with_present_keys(song: Song) -> Song:
    """The song whose prints are named by the present encoding wherever they sound."""
    keys: dict[str, str] = {}

    def read(flat: Song) -> Song:
        for span in timeline(flat).spans:
            for part in parts_of(flat, span):
                present = print_content(part.spec, part.notes)
                keys.update(dict.fromkeys(first_print_contents(part.spec, part.notes), present))
        return flat

    on_all_bodies(song, read)

    def renamed(layer: Layer) -> Layer:
        prints = tuple(replace(p, content=keys.get(p.content, p.content)) for p in layer.prints)
        return replace(layer, prints=prints)

    return replace(song, layers=tuple(renamed(x) if x.prints else x for x in song.layers))


def back_up_daily(database: Database, kept: int = 7) -> Path | None:
    """A copy of the database a day, the newest few; None where today's is there, or there is nothing to copy yet."""
    folder = database.path.parent / BACKUPS
    copy = folder / f"escalera-{date.today().isoformat()}.db"
    if database.read_only or copy.exists():
        return None
    folder.mkdir(exist_ok=True)
    fresh = copy.with_suffix(".new")
    database.backup(fresh)
    fresh.rename(copy)
    for old in sorted(folder.glob("escalera-*.db"))[:-kept]:
        old.unlink(missing_ok=True)
    return copy


def clear_old(folder: Path, days: float = 14.0) -> None:
    """Remove what lies in a folder for longer than that: files that came back, and were taken or not."""
    if folder.is_dir():
        for each in folder.iterdir():
            if time.time() - each.stat().st_mtime > days * 86_400:
                shutil.rmtree(each, ignore_errors=True)
