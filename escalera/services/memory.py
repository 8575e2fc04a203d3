"""Memory that is given back to the system, and how much of it is used."""

from __future__ import annotations

import ctypes
import gc
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

M_MMAP_THRESHOLD = -3
M_TRIM_THRESHOLD = -1
MADV_DONTNEED = 4
COMPILER = "libllvmlite.so"


def _libc() -> ctypes.CDLL | None:
    with suppress(OSError):
        libc = ctypes.CDLL("libc.so.6")
        return libc if hasattr(libc, "malloc_trim") else None
    return None


def hold_little() -> None:
    """Let large buffers be mapped one by one, so that each goes back to the system when it is freed.

    By itself the allocator raises this threshold to 32 MB with use, and buffers of sound then stay in its heaps.
    """
    libc = _libc()
    if libc is not None:
        libc.mallopt(M_MMAP_THRESHOLD, 4_000_000)
        libc.mallopt(M_TRIM_THRESHOLD, 4_000_000)


def collect_less_often() -> None:
    """A start and an edit make tens of thousands of small objects; with the usual thresholds a start takes a tenth longer, and one
    edit in ten waits for a full collection of everything that is cached."""
    gc.set_threshold(50_000, 20, 20)


@contextmanager
def without_collecting() -> Iterator[None]:
    """While much is made that stays: nothing is looked through for garbage."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def give_back() -> None:
    """After large work: collect what is unreachable, and return free heaps to the system."""
    gc.collect()
    libc = _libc()
    if libc is not None:
        libc.malloc_trim(0)


def let_compiler_go() -> None:
    """After the kernels are loaded: give back the code of the compiler that loaded them, about 50 MB. Should it be called again, the
    system reads it from its file as it did the first time; code is never written to, so nothing can be lost."""
    libc = _libc()
    if libc is None:
        return
    with suppress(OSError, ValueError):
        for line in Path("/proc/self/maps").read_text().splitlines():
            span, rights, *rest = line.split()
            if rights == "r-xp" and rest[-1].endswith(COMPILER):
                start, end = (int(edge, 16) for edge in span.split("-"))
                libc.madvise(ctypes.c_void_p(start), ctypes.c_size_t(end - start), MADV_DONTNEED)


def resident_bytes(pid: int | None = None) -> int:
    """Memory of a process that lies in RAM, 0 where the system does not say."""
    with suppress(OSError, ValueError, IndexError):
        pages = int(Path(f"/proc/{pid or 'self'}/statm").read_text().split()[1])
        return pages * os.sysconf("SC_PAGE_SIZE")
    return 0
