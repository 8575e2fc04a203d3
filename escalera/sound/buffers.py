"""Large arrays of sound in memory that is used again: the system takes longer to hand out some fresh megabytes, page by page, than it takes
to play a layer into them."""

from __future__ import annotations

import mmap
from collections import deque
from math import prod
from threading import Lock

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float32]
LARGE_BYTES = 1 << 20  # smaller arrays are left to the allocator
HUGE_BYTES = 2 << 20  # pages that the system hands out at once where memory is asked for in this way
KEPT_BYTES = 16_000_000
ROOMY = 1.25  # memory of up to so many times the size will do


class _Memory:
    """Writable memory that an array lies in. It goes back to its store when no array looks at it any more."""

    __slots__ = ("__array_interface__", "_place", "_store")

    def __init__(self, store: Buffers, place: NDArray[np.uint8], shape: tuple[int, ...]):
        self._store, self._place = store, place
        self.__array_interface__ = {
            "shape": shape,
            "typestr": "<f4",
            "data": (place.ctypes.data, False),
            "version": 3,
        }

    def __del__(self) -> None:
        self._store.take_back(self._place)


class Buffers:
    """Arrays of float32; the memory of those that nobody looks at any more is kept up to `limit_bytes`. Safe for threads."""

    def __init__(self, limit_bytes: int):
        self._limit, self._lock = limit_bytes, Lock()
        self._free, self._back = list[NDArray[np.uint8]](), deque[NDArray[np.uint8]]()

    def blank(self, *shape: int) -> Samples:
        """An array of any content, to be written over."""
        return self._find(shape)[0]

    def silent(self, *shape: int) -> Samples:
        """An array of zeros."""
        found, fresh = self._find(shape)
        if not fresh:
            found.fill(0.0)
        return found

    def _find(self, shape: tuple[int, ...]) -> tuple[Samples, bool]:
        size = 4 * prod(shape)
        if size < LARGE_BYTES:
            return np.zeros(shape, np.float32), True
        with self._lock:
            self._sort_in()
            fitting = [i for i, place in enumerate(self._free) if size <= len(place) <= ROOMY * size]
            used = self._free.pop(min(fitting, key=lambda i: len(self._free[i]))) if fitting else None
        place = fresh_memory(size) if used is None else used
        return np.asarray(_Memory(self, place, shape)), used is None

    def take_back(self, place: NDArray[np.uint8]) -> None:
        """Keep memory, bytes of shape (n,), that is free now. It may be called in the middle of anything, so it waits for nobody."""
        self._back.append(place)
        if self._lock.acquire(blocking=False):
            try:
                self._sort_in()
            finally:
                self._lock.release()

    def _sort_in(self) -> None:
        while self._back:
            self._free.append(self._back.popleft())
        while sum(len(place) for place in self._free) > self._limit:
            del self._free[0]

    def clear(self) -> None:
        """Let go of what is free."""
        with self._lock:
            self._back.clear()
            self._free.clear()

    @property
    def kept_bytes(self) -> int:
        """Memory of what is free."""
        with self._lock:
            self._sort_in()
            return sum(len(place) for place in self._free)


def fresh_memory(size: int) -> NDArray[np.uint8]:
    """Zeros from the system, at least `size` bytes, shape (n,), in huge pages where it has them; a rest of over three quarters of one is
    rounded up."""
    whole, rest = divmod(size, HUGE_BYTES)
    length = (whole + 1) * HUGE_BYTES if 4 * rest > 3 * HUGE_BYTES else size
    found = mmap.mmap(
        -1, length + HUGE_BYTES, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS
    )  # where it begins is up to the system; what is not touched takes no room
    if hasattr(mmap, "MADV_HUGEPAGE"):
        found.madvise(mmap.MADV_HUGEPAGE)
    flat = np.frombuffer(found, np.uint8)
    at = -flat.ctypes.data % HUGE_BYTES
    return flat[at : at + length]


BUFFERS = Buffers(KEPT_BYTES)
blank, silent = BUFFERS.blank, BUFFERS.silent
