"""A store of results by key, the least recently used out first; safe for threads."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

T = TypeVar("T")


class Results(Generic[T]):
    """Remembers results up to `limit`, counted one each or by `size`. Two threads may make the same one; results are equal."""

    def __init__(self, limit: int, size: Callable[[T], int] | None = None):
        self._items: LRUCache[Hashable, T] = LRUCache(limit, getsizeof=size)
        self._lock = Lock()

    def get(self, key: Hashable) -> T | None:
        with self._lock:
            return self._items.get(key)

    def put(self, key: Hashable, value: T) -> T:
        """Keep a result; one that is larger than the whole store is given back and not kept."""
        with self._lock:
            if self._items.getsizeof(value) <= self._items.maxsize:
                self._items[key] = value
        return value

    def get_or_make(self, key: Hashable, make: Callable[[], T]) -> T:
        found = self.get(key)
        return self.put(key, make()) if found is None else found

    def drop(self, key: Hashable) -> None:
        with self._lock:
            self._items.pop(key, None)

    def clear(self) -> None:
        with self._lock:
            self._items.clear()

    @property
    def used(self) -> int:
        """What is kept, in the measure of the limit."""
        return int(self._items.currsize)

    @property
    def limit(self) -> int:
        return int(self._items.maxsize)

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._items
