"""Rendered sound in memory, within a limit of bytes.

What is worth keeping over a restart goes to a store on disk as well (sound.disk), if there is one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from heapq import heappop, heappush
from itertools import count
from math import inf
from threading import Condition, Lock, local
from time import thread_time
from typing import Any, Protocol, TypeVar, cast
from weakref import WeakValueDictionary

from escalera.core.caching import Results
from escalera.lazy_dataclasses import dataclass

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
MANY = 16  # uses that count: what was heard often once does not stay for ever
LAST = -1.0  # the worth of what is not wanted again soon: it only takes room that nothing else needs


Rank = tuple[float, int, str]  # worth, when it was used last, key


@dataclass(slots=True, eq=False)
class _Kept:
    value: Any
    size: int
    cost: float  # seconds a byte
    rank: Rank = (0.0, 0, "")
    queued: Rank = (inf, 0, "")
    uses: int = 0


class PartsKept:
    """Parts by content key within `limit` bytes. Out goes first what takes least time to make again for the room it takes and was used
    least often; what was not used for long loses worth with everything that goes. Parts that were chosen stay, up to CHOSEN of the room. Safe for threads.

    A section whose parts do not fit together would lose each of them just before it is wanted again; and notes, small and played
    everywhere, would be pushed out by parts, large and heard once. Source: Cao and Irani, Cost-Aware WWW Proxy Caching Algorithms
    (1997), the greedy dual size rule; Cherkasova, Improving WWW Proxies Performance (1998), for how often.
    """

    def __init__(self, limit: int):
        self.limit, self.used = limit, 0
        self._items, self._lock = dict[str, _Kept](), Lock()
        self._order, self._turns = list[Rank](), count()
        self._gone = 0.0  # worth of what went last
        self._chosen, self._held = frozenset[str](), dict[str, int]()

    def choose(self, keys: Iterable[str]) -> None:
        """Say which parts are wanted again soon."""
        with self._lock:
            self._chosen, self._held = frozenset(keys), {}
            for key, kept in self._items.items():
                self._hold(key, kept.size)

    def holds(self, key: str) -> bool:
        """Whether a part is there and stays."""
        return key in self._held

    def get(self, key: str, soon: float = 1.0) -> Any | None:
        """The part, or None; `soon` is how soon it will be wanted again: 1 right away, less later, 0 if not at all."""
        with self._lock:
            kept = self._items.get(key)
            if kept is None:
                return None
            self._rate(key, kept, soon)
            return kept.value

    def put(self, key: str, value: T, cost_s: float, soon: float = 1.0) -> T:
        """Keep a part that took `cost_s` to make, where there is room beside what is worth more, and give it back."""
        size = int(cast(Any, value).nbytes)
        with self._lock:
            self._drop(key)
            self._make_room(size, inf if soon else LAST)
            if self.used + size <= self.limit:
                self._items[key] = kept = _Kept(value, size, cost_s / max(1, size))
                self.used += size
                self._rate(key, kept, soon)
                self._hold(key, size)
        return value

    def _rate(self, key: str, kept: _Kept, soon: float) -> None:
        kept.uses += 1
        kept.rank = (self._gone + min(kept.uses, MANY) * kept.cost * soon if soon else LAST, next(self._turns), key)
        if kept.rank < kept.queued:  # one whose worth rose is looked at again when its turn comes
            self._queue(kept)

    def _queue(self, kept: _Kept) -> None:
        kept.queued = kept.rank
        heappush(self._order, kept.rank)

    def _make_room(self, size: int, worth: float) -> None:
        """Let go of parts, the least worth first, up to one's own worth, until there is room."""
        staying = []
        while self.used + size > self.limit and self._order and size <= self.limit:
            rank = heappop(self._order)
            kept = self._items.get(rank[2])
            if kept is None or kept.queued != rank:
                continue
            if rank[2] in self._held:
                staying.append(kept)
            elif kept.rank != rank:
                self._queue(kept)
            elif rank[0] > worth:
                staying.append(kept)
                break
            else:
                self._gone = max(self._gone, rank[0])
                self._drop(rank[2])
        for kept in staying:
            self._queue(kept)

    def _hold(self, key: str, size: int) -> None:
        if key in self._chosen and sum(self._held.values()) + size <= CHOSEN * self.limit:
            self._held[key] = size

    def _drop(self, key: str) -> None:
        if key in self._items:
            self.used -= self._items.pop(key).size
            self._held.pop(key, None)

    def clear(self) -> None:
        with self._lock:
            self._items.clear()
            self._held.clear()
            self._order.clear()
            self.used, self._gone = 0, 0.0

    def __contains__(self, key: str) -> bool:
        with self._lock:
            return key in self._items


def how_soon(wanted: Mapping[int, Sequence[str]]) -> dict[tuple[int, str], float]:
    """How soon each key is wanted again after each turn, one over the turns until then, 0 for the last time."""
    found, following = dict[tuple[int, str], float](), dict[str, int]()
    for turn in sorted(wanted, reverse=True):
        keys = wanted[turn]
        for key in keys:
            found[turn, key] = 1.0 / (following[key] - turn) if key in following else 0.0
        following |= dict.fromkeys(keys, turn)
    return found


class OwnTime(local):
    """Processor time of what a thread makes, without that of what is made on the way and kept by itself."""

    inner_s = 0.0

    def timed(self, make: Callable[[], T]) -> tuple[T, float]:
        """What was made, and its own seconds."""
        outer_s, self.inner_s, began = self.inner_s, 0.0, thread_time()
        try:
            value = make()
        finally:
            whole_s = thread_time() - began
            own_s, self.inner_s = whole_s - self.inner_s, outer_s + whole_s
        return value, own_s


PARTS = 5 / 6  # of the memory, for what sections are mixed from: it takes longest to make, and is on no disk


class AudioCache:
    """Maps content keys to values with a `nbytes` attribute.

    Notes and units (`whole` is false) have memory of their own, so that mixes and finished sections of a long song, which
    are quickly made or read again, do not push them out.
    """

    def __init__(self, limit_bytes: int, shelf: Shelf | None = None):
        self.shelf = shelf
        self._lock, self._making = Lock(), dict[str, Future[Any]]()
        self._clock = OwnTime()
        parts = int(limit_bytes * PARTS)
        self.parts = PartsKept(parts)
        self._wholes: Results[Any] = Results(limit_bytes - parts, lambda value: int(value.nbytes))
        self._in_use = WeakValueDictionary[str, Any]()  # wholes that somebody holds take their room anyway

    def get_or_make(self, key: str, make: Callable[[], T], keep: bool = False, whole: bool = False) -> T:
        """The cached value, or the one that `make` returns; with `keep` what is whole is looked for and left on disk too.

        What one thread is making another one waits for.
        """
        if not whole and (found := self.parts.get(key)) is not None:
            return cast(T, found)
        made, mine = self._claim(key, whole)
        if mine and whole:
            self._fulfil(made, key, lambda: self._whole(key, make, keep))
        elif mine:
            self._fulfil(made, key, lambda: self._part(key, make))
        return cast(T, made.result())

    def begin(self, key: str, make: Callable[[], T], workers: Executor, soon: float = 1.0) -> Future[T]:
        """As `get_or_make` for a part, made by one of the workers while the caller goes on; `soon`: it is wanted again after this."""
        made, mine = self._claim(key, soon=soon)
        if mine:
            workers.submit(self._fulfil, made, key, lambda: self._part(key, make, soon))
        return made

    def _part(self, key: str, make: Callable[[], T], soon: float = 1.0) -> T:
        value, cost_s = self._clock.timed(make)
        return self.parts.put(key, value, cost_s, soon)

    def _whole(self, key: str, make: Callable[[], T], keep: bool) -> T:
        value = self._wholes.put(key, self._find_or_make(key, make, keep))
        with self._lock:
            self._in_use[key] = value
        return value

    def _claim(self, key: str, whole: bool = False, soon: float = 1.0) -> tuple[Future[Any], bool]:
        """What is there or being made, or else a new promise that the caller has to fulfil."""
        found = self._wholes.get(key) if whole else self.parts.get(key, soon)
        with self._lock:
            made = self._making.get(key)
            found = self._in_use.get(key) if found is None and whole else found
            if found is not None or made is None:
                made = Future()
                if found is not None:
                    made.set_result(found)
                    return made, False
                self._making[key] = made
                return made, True
            return made, False

    def _fulfil(self, made: Future[Any], key: str, make_and_keep: Callable[[], Any]) -> None:
        try:
            made.set_result(make_and_keep())
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
        with self._lock:
            if key in self._in_use:
                return True
        return key in self.parts or key in self._wholes or self.is_on_shelf(key)

    def is_on_shelf(self, key: str) -> bool:
        """Whether what is whole can be read again, so that nobody need hold it."""
        return self.shelf is not None and key in self.shelf

    def clear(self) -> None:
        self.parts.clear()
        self._wholes.clear()
        with self._lock:
            self._in_use.clear()
