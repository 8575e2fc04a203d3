"""Rendered sound in memory, within a limit of bytes.

What is worth keeping over a restart goes to a store on disk as well (sound.disk), if there is one.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, TypeVar

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
        self._items: Results[Any] = Results(limit_bytes, lambda value: int(value.nbytes))

    def get_or_make(self, key: str, make: Callable[[], T], keep: bool = False) -> T:
        """The cached value, or the one that `make` returns; with `keep` it is looked for and left on disk too.

        Two threads may both make it; the results are equal.
        """
        found = self._items.get(key)
        if found is not None:
            return found
        value = self.shelf.get(key) if keep and self.shelf else None
        if value is None:
            value = make()
            if keep and self.shelf:
                self.shelf.put(key, value)
        return self._items.put(key, value)

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
