"""The database: one SQLite file, written through, migrated at start."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from escalera.errors import StoreError

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
        self.engine: Engine = create_engine(f"sqlite:///{path}", connect_args={"check_same_thread": False})
        event.listen(self.engine, "connect", self._prepare)
        event.listen(self.engine, "begin", _begin)
        with _plain_errors(self):
            self._migrate()

    def _prepare(self, connection: Any, _record: object) -> None:
        connection.isolation_level = None  # transactions are begun by _begin, not by the driver
        for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "busy_timeout=5000"):
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
        with _plain_errors(self), Session(self.engine.execution_options(write=True), expire_on_commit=False) as session:
            yield session
            session.commit()

    def backup(self, target: Path) -> None:
        """Copy the database while it is in use, by SQLite's own backup."""
        with _plain_errors(self), sqlite3.connect(self.path) as source, sqlite3.connect(target) as copy:
            source.backup(copy)
        source.close()
        copy.close()

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
            raise StoreError(
                f"{database.path.name} cannot be opened as a database. Check the data folder, or restore a backup."
            ) from error
        raise
