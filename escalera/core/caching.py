"""A small store of results by key, oldest out first; safe for threads."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

T = TypeVar("T")


class Kept(Generic[T]):
    """Remembers up to `limit` results. Two threads may make the same one; the results are equal."""

    def __init__(self, limit: int):
        self.limit = limit
        self._items: OrderedDict[Hashable, T] = OrderedDict()
        self._lock = Lock()

    def get(self, key: Hashable) -> T | None:
        with self._lock:
            return self._items.get(key)

    def put(self, key: Hashable, value: T) -> T:
        with self._lock:
            self._items[key] = value
            while len(self._items) > self.limit:
                self._items.popitem(last=False)
        return value

    def get_or_make(self, key: Hashable, make: Callable[[], T]) -> T:
        found = self.get(key)
        return self.put(key, make()) if found is None else found
