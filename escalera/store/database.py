"""The database: one SQLite file, written through, migrated at start."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import Engine, create_engine, event, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from escalera.errors import StoreError

BACKUPS = "backups"
MIGRATIONS = Path(__file__).parent / "migrations"


class Database:
    """A database file. Creating the object creates or migrates the file.

    Raises
    ------
    StoreError
        When the file cannot be opened, is no database, or was written by a newer program.
    """

    def __init__(self, path: Path, max_pages: int = 0):
        self.path = path
        self.max_pages = max_pages
        self.read_only = path.exists() and not (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK))
        place = f"file:{quote(str(path))}?mode=ro&immutable=1&uri=true" if self.read_only else str(path)
        self.engine: Engine = create_engine(f"sqlite:///{place}", connect_args={"check_same_thread": False})
        event.listen(self.engine, "connect", self._prepare)
        event.listen(self.engine, "begin", _begin)
        with _plain_errors(self):
            self._migrate()

    def _prepare(self, connection: Any, _record: object) -> None:
        connection.isolation_level = None  # transactions are begun by _begin, not by the driver
        if self.read_only:
            return
        for pragma in (
            "journal_mode=WAL",
            "synchronous=FULL",
            "foreign_keys=ON",
            "busy_timeout=5000",
            "secure_delete=ON",
        ):
            connection.execute(f"PRAGMA {pragma}")
        if self.max_pages:
            connection.execute(f"PRAGMA max_page_count={self.max_pages}")

    def _is_current(self) -> bool:
        """Whether the file carries the newest migration, so that nothing of alembic need be loaded."""
        newest = max(f.name for f in (MIGRATIONS / "versions").glob("[0-9]*.py"))[:4]
        with self.engine.connect() as connection:
            if not connection.execute(text("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'")).first():
                return False
            return connection.execute(text("SELECT version_num FROM alembic_version")).scalar() == newest

    def _migrate(self) -> None:
        if self._is_current():
            return
        if self.read_only:
            raise StoreError(
                f"{self.path.name} is of an earlier Escalera and cannot be written. Make {self.path} writable."
            )
        from alembic import command
        from alembic.config import Config
        from alembic.util import CommandError

        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        with self.engine.connect().execution_options(write=True) as connection:
            config.attributes["connection"] = connection
            try:
                command.upgrade(config, "head")
                connection.commit()
            except CommandError as error:
                raise StoreError(
                    f"{self.path.name} was written by a newer Escalera. Start that one, or use another data folder."
                ) from error

    @contextmanager
    def read(self) -> Iterator[Session]:
        with _plain_errors(self), Session(self.engine) as session:
            yield session

    @contextmanager
    def write(self) -> Iterator[Session]:
        """A transaction that holds the write lock from its start; what it did is on disk when it ends."""
        if self.read_only:
            raise StoreError(
                f"Nothing was changed: {self.path.name} cannot be written. Check the rights of {self.path.parent}, and start again."
            )
        with _plain_errors(self), Session(self.engine.execution_options(write=True), expire_on_commit=False) as session:
            yield session
            session.commit()

    def backup(self, target: Path) -> None:
        """Copy the database while it is in use, by SQLite's own backup."""
        with _plain_errors(self), sqlite3.connect(self.path) as source, sqlite3.connect(target) as copy:
            source.backup(copy)
        source.close()
        copy.close()

    def check(self) -> list[str]:
        """What SQLite finds wrong with the file; empty where it is whole."""
        with _plain_errors(self), self.engine.connect() as connection:
            found = [str(row[0]) for row in connection.execute(text("PRAGMA integrity_check(20)"))]
        return [] if found == ["ok"] else found

    def close(self) -> None:
        self.engine.dispose()


def _begin(connection: Any) -> None:
    connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("write") else "BEGIN")


@contextmanager
def _plain_errors(database: Database) -> Iterator[None]:
    """Turn the driver's errors into sentences."""
    try:
        yield
    except (DBAPIError, sqlite3.Error) as error:
        text = str(getattr(error, "orig", error))
        if "full" in text:
            limit = f"the limit of {database.max_pages} pages" if database.max_pages else "the disk"
            raise StoreError(
                f"Nothing was changed: {limit} is full. Free some space (or raise the limit) and try again."
            ) from error
        if "locked" in text or "busy" in text:
            raise StoreError(
                "Nothing was changed: another program has held the database for 5 seconds. Try again."
            ) from error
        if "readonly" in text:
            raise StoreError(
                f"Nothing was changed: {database.path.name} cannot be written. Check the rights of the data folder."
            ) from error
        if "unable to open" in text or "not a database" in text:
            raise StoreError(f"{database.path} cannot be opened as a database. {_remedy(database.path)}") from error
        if "malformed" in text or "disk I/O" in text or "corrupt" in text:
            raise StoreError(f"{database.path} is damaged ({text[:60]}). {_remedy(database.path)}") from error
        raise


def _remedy(path: Path) -> str:
    """Where a backup lies, and what to do with it."""
    copies = sorted((path.parent / BACKUPS).glob("*.db"))
    if not copies:
        return "Move it away and start anew, or restore a backup that `escalera backup` made: copy it to that place."
    return f"Stop the program and copy the newest backup, {copies[-1]}, to that place."
