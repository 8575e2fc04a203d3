"""Rendered sound in memory, within a limit of bytes.

What is worth keeping over a restart goes to a store on disk as well (sound.disk), if there is one.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from threading import Condition, Lock
from typing import Any, Protocol, TypeVar, cast

from escalera.core.caching import Results

T = TypeVar("T")


class Shelf(Protocol):
    """A slower store behind the memory."""

    def get(self, key: str) -> Any | None: ...

    def put(self, key: str, value: Any) -> None: ...

    def __contains__(self, key: str) -> bool: ...


class ByteRoom:
    """Lets so many bytes of work go on at once; work larger than that goes on alone."""

    def __init__(self, limit_bytes: int):
        self._limit, self._used, self._free = limit_bytes, 0, Condition()

    @contextmanager
    def take(self, size_bytes: int) -> Iterator[None]:
        """Wait until there is room, and hold it."""
        with self._free:
            self._free.wait_for(lambda: not self._used or self._used + size_bytes <= self._limit)
            self._used += size_bytes
        try:
            yield
        finally:
            with self._free:
                self._used -= size_bytes
                self._free.notify_all()


CHOSEN = 3 / 4  # of the room for parts, at most, for those of the chosen section: the rest of the song needs some too


class PartsKept:
    """Parts by content key within `limit` bytes, the least recently used out first; parts that were chosen stay, up to CHOSEN of it.

    A section whose parts do not fit together would lose each of them just before it is wanted again. Safe for threads.
    """

    def __init__(self, limit: int):
        self.limit, self.used = limit, 0
        self._items, self._lock = OrderedDict[str, Any](), Lock()
        self._chosen, self._held = frozenset[str](), dict[str, int]()

    def choose(self, keys: Iterable[str]) -> None:
        """Say which parts are wanted again soon."""
        with self._lock:
            self._chosen, self._held = frozenset(keys), {}
            for key, value in self._items.items():
                self._hold(key, int(value.nbytes))

    def holds(self, key: str) -> bool:
        """Whether a part is there and stays."""
        return key in self._held

    def get(self, key: str) -> Any | None:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
            return self._items.get(key)

    def put(self, key: str, value: T) -> T:
        """Keep a part where there is room beside those that stay, and give it back."""
        size = int(cast(Any, value).nbytes)
        with self._lock:
            self._drop(key)
            others = (old for old in list(self._items) if old not in self._held)
            while self.used + size > self.limit and (oldest := next(others, None)) is not None:
                self._drop(oldest)
            if self.used + size <= self.limit:
                self._items[key] = value
                self.used += size
                self._hold(key, size)
        return value

    def _hold(self, key: str, size: int) -> None:
        if key in self._chosen and sum(self._held.values()) + size <= CHOSEN * self.limit:
            self._held[key] = size

    def _drop(self, key: str) -> None:
        if key in self._items:
            self.used -= int(self._items.pop(key).nbytes)
            self._held.pop(key, None)

    def clear(self) -> None:
        with self._lock:
            self._items.clear()
            self._held.clear()
            self.used = 0

    def __contains__(self, key: str) -> bool:
        with self._lock:
            return key in self._items


PARTS = 2 / 3  # of the memory, for what sections are mixed from: it takes longest to make, and is on no disk


class AudioCache:
    """Maps content keys to values with a `nbytes` attribute.

    Notes and units (`whole` is false) have memory of their own, so that mixes and finished sections of a long song, which
    are quickly made or read again, do not push them out.
    """

    def __init__(self, limit_bytes: int, shelf: Shelf | None = None, share_of_parts: float = PARTS):
        self.shelf = shelf
        self._lock, self._making = Lock(), dict[str, Future[Any]]()
        parts = int(limit_bytes * share_of_parts)
        self.parts = PartsKept(parts)
        self._wholes: Results[Any] = Results(limit_bytes - parts, lambda value: int(value.nbytes))

    def get_or_make(self, key: str, make: Callable[[], T], keep: bool = False, whole: bool = False) -> T:
        """The cached value, or the one that `make` returns; with `keep` it is looked for and left on disk too.

        What one thread is making another one waits for.
        """
        items = self._wholes if whole else self.parts
        made, mine = self._claim(items, key)
        if mine:
            self._fulfil(made, items, key, lambda: self._find_or_make(key, make, keep))
        return cast(T, made.result())

    def begin(self, key: str, make: Callable[[], T], workers: Executor) -> Future[T]:
        """As `get_or_make` for a part, made by one of the workers while the caller goes on."""
        made, mine = self._claim(self.parts, key)
        if mine:
            workers.submit(self._fulfil, made, self.parts, key, make)
        return made

    def _claim(self, items: Results[Any] | PartsKept, key: str) -> tuple[Future[Any], bool]:
        """What is there or being made, or else a new promise that the caller has to fulfil."""
        found = items.get(key)
        with self._lock:
            made = self._making.get(key)
            if found is not None or made is None:
                made = Future()
                if found is not None:
                    made.set_result(found)
                    return made, False
                self._making[key] = made
                return made, True
            return made, False

    def _fulfil(self, made: Future[Any], items: Results[Any] | PartsKept, key: str, make: Callable[[], Any]) -> None:
        try:
            made.set_result(items.put(key, make()))
        except BaseException as error:  # whoever waits has to hear of it, whatever it was
            made.set_exception(error)
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
        return self.parts.used + self._wholes.used

    @property
    def limit_bytes(self) -> int:
        return self.parts.limit + self._wholes.limit

    def __contains__(self, key: str) -> bool:
        return key in self.parts or key in self._wholes or (self.shelf is not None and key in self.shelf)

    def clear(self) -> None:
        self.parts.clear()
        self._wholes.clear()
