"""Rendered sound in memory: least recently used goes first when the limit is reached. Safe for two threads.

What is worth keeping over a restart goes to a store on disk as well (sound.disk), if there is one.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Any, Protocol, TypeVar

T = TypeVar("T")


class Shelf(Protocol):
    """A slower store behind the memory."""

    def get(self, key: str) -> Any | None: ...

    def put(self, key: str, value: Any) -> None: ...


class AudioCache:
    """Maps content keys to values with a `nbytes` attribute."""

    def __init__(self, limit_bytes: int, shelf: Shelf | None = None):
        self.limit_bytes = limit_bytes
        self.used_bytes = 0
        self.shelf = shelf
        self._items: OrderedDict[str, Any] = OrderedDict()
        self._lock = Lock()

    def get_or_make(self, key: str, make: Callable[[], T], keep: bool = False) -> T:
        """The cached value, or the one that `make` returns; with `keep` it is looked for and left on disk too.

        Two threads may both make it; the results are equal.
        """
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
        value = self.shelf.get(key) if keep and self.shelf else None
        if value is None:
            value = make()
            if keep and self.shelf:
                self.shelf.put(key, value)
        self._store(key, value)
        return value

    def _store(self, key: str, value: Any) -> None:
        with self._lock:
            if key not in self._items:
                self._items[key] = value
                self.used_bytes += value.nbytes
            while self.used_bytes > self.limit_bytes and len(self._items) > 1:
                _, dropped = self._items.popitem(last=False)
                self.used_bytes -= dropped.nbytes

    def __contains__(self, key: str) -> bool:
        with self._lock:
            return key in self._items

    def clear(self) -> None:
        with self._lock:
            self._items.clear()
            self.used_bytes = 0
