"""Rendered sound in memory: least recently used goes first when the limit is reached. Safe for two threads."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Any, TypeVar

T = TypeVar("T")


def content_key(*parts: object) -> str:
    """A key from values and bytes; equal content, equal key."""
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        digest.update(part if isinstance(part, bytes) else repr(part).encode())
        digest.update(b"\0")
    return digest.hexdigest()


class AudioCache:
    """Maps content keys to values with a `nbytes` attribute."""

    def __init__(self, limit_bytes: int):
        self.limit_bytes = limit_bytes
        self.used_bytes = 0
        self._items: OrderedDict[str, Any] = OrderedDict()
        self._lock = Lock()

    def get_or_make(self, key: str, make: Callable[[], T]) -> T:
        """The cached value, or the one that `make` returns. Two threads may both make it; the results are equal."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
        value = make()
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
