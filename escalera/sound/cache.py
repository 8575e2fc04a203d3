"""Rendered sound in memory, within a limit of bytes.

What is worth keeping over a restart goes to a store on disk as well (sound.disk), if there is one.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future
from threading import Lock
from typing import Any, Protocol, TypeVar, cast

from escalera.core.caching import Results

T = TypeVar("T")


class Shelf(Protocol):
    """A slower store behind the memory."""

    def get(self, key: str) -> Any | None: ...

    def put(self, key: str, value: Any) -> None: ...


class AudioCache:
    """Maps content keys to values with a `nbytes` attribute."""

    def __init__(self, limit_bytes: int, shelf: Shelf | None = None):
        self.shelf = shelf
        self._lock, self._making = Lock(), dict[str, Future[Any]]()
        self._items: Results[Any] = Results(limit_bytes, lambda value: int(value.nbytes))

    def get_or_make(self, key: str, make: Callable[[], T], keep: bool = False) -> T:
        """The cached value, or the one that `make` returns; with `keep` it is looked for and left on disk too.

        What one thread is making another one waits for.
        """
        found = self._items.get(key)
        if found is not None:
            return found
        with self._lock:
            made = self._making.get(key)
            mine = made is None
            if made is None:
                made = self._making[key] = Future()
        if not mine:
            return cast(T, made.result())
        try:
            value = self._items.put(key, self._find_or_make(key, make, keep))
            made.set_result(value)
            return value
        except BaseException as error:
            made.set_exception(error)
            raise
        finally:
            with self._lock:
                del self._making[key]

    def _find_or_make(self, key: str, make: Callable[[], T], keep: bool) -> T:
        value: T | None = self.shelf.get(key) if keep and self.shelf else None
        if value is None:
            value = make()
            if keep and self.shelf:
                self.shelf.put(key, value)
        return value

    @property
    def used_bytes(self) -> int:
        return self._items.used

    @property
    def limit_bytes(self) -> int:
        return self._items.limit

    def __contains__(self, key: str) -> bool:
        return key in self._items

    def clear(self) -> None:
        self._items.clear()
