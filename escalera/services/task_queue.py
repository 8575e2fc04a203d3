"""The queue that tells workers of jobs: huey, on SQLite beside the database, or on Redis where a setting says so.

A message carries the id of a job, as JSON, and nothing else: what is to be done stands in the database, which is the truth.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from escalera.errors import InputError

if TYPE_CHECKING:
    from huey import Huey
# huey is imported where it is used: with the clients of stores that are not in use it takes longer than any other package,
# and the first pages after a start ask for no work


class JsonMessages:
    """Messages as JSON, in the place of huey's serializer. Whoever can write into the queue can ask for a job by its id, and do
    nothing more."""

    def serialize(self, data: Any) -> bytes:
        return json.dumps(data._asdict() if hasattr(data, "_asdict") else data).encode()

    def deserialize(self, data: bytes) -> Any:
        from huey.registry import Message

        plain = json.loads(data)
        if not (isinstance(plain, dict) and set(plain) == set(Message._fields)):
            raise ValueError("a message of the queue is no message")
        return Message(**{**plain, "args": tuple(plain["args"])})


class TaskQueue:
    """Ids of jobs, handed from whoever asks to whoever works. `address` is empty, or that of a Redis."""

    def __init__(self, folder: Path, address: str = ""):
        self._folder, self._address = folder, address
        self._run: Callable[[str], None] = lambda id: None

    @cached_property
    def _huey(self) -> Huey:
        return _huey(self._folder, self._address)

    @cached_property
    def _task(self) -> Callable[[str], Any]:
        @self._huey.task(name="job")
        def job(id: str) -> None:
            self._run(str(id))

        return job

    def send(self, id: str) -> None:
        self._task(id)

    def work(self, run: Callable[[str], None]) -> bool:
        """Take one message and run its job. False where none was waiting."""
        self._run, _ = run, self._task
        task = self._huey.dequeue()
        if task is None:
            return False
        self._huey.execute(task)
        return True

    def size(self) -> int:
        """Messages that wait."""
        return int(self._huey.pending_count())

    def close(self) -> None:
        opened = self.__dict__.pop("_huey", None)
        close = getattr(opened and opened.storage, "close", None)
        if close:
            close()


def _huey(folder: Path, address: str) -> Huey:
    from huey import SqliteHuey

    kept = {"serializer": JsonMessages(), "results": False, "store_none": False}
    if not address:
        return SqliteHuey("escalera", filename=str(folder / "queue.db"), **kept)
    if not address.startswith(("redis://", "rediss://", "unix://")):
        raise InputError(
            "ESCALERA_QUEUE is no address of a Redis. Write for example redis://:password@127.0.0.1:6379/0."
        )
    try:
        from huey import RedisHuey
    except ImportError:  # huey leaves the name out where redis is not installed
        RedisHuey = None
    if RedisHuey is None:
        raise InputError(
            "ESCALERA_QUEUE names a Redis, and its client is not installed. Run: pip install 'escalera[redis]'."
        )
    return RedisHuey("escalera", url=address, blocking=False, **kept)
