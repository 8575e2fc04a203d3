"""Stereo buffers that are used again: the system takes longer to hand out some fresh megabytes than it takes to add a layer to them."""

from __future__ import annotations

from threading import Lock

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float32]
KEPT_BYTES = 32_000_000
STEP = 1 << 18  # values; lengths are rounded up, so that sections of about the same length share
ROOMY = 2  # a buffer of up to so many times the length will do


class Buffers:
    """Lends silent buffers of shape (2, n); what is given back is kept up to `limit_bytes`. Safe for threads.

    Without a limit each is a fresh one, of which the system hands out only what is written to: slower, but smaller where little
    is sent into a space.
    """

    def __init__(self, limit_bytes: int):
        self._limit, self._free, self._lock = limit_bytes, list[Samples](), Lock()

    def silent(self, length: int) -> Samples:
        """A buffer of (2, length) zeros, which nobody else holds."""
        if not self._limit:
            return np.zeros((2, length), np.float32)
        size = 2 * length
        with self._lock:
            fitting = [i for i, flat in enumerate(self._free) if size <= len(flat) <= ROOMY * size + STEP]
            flat = self._free.pop(min(fitting, key=lambda i: len(self._free[i]))) if fitting else None
        if flat is None:
            flat = np.empty(-(-size // STEP) * STEP, np.float32)
        lent = flat[:size].reshape(2, length)
        lent.fill(0.0)
        return lent

    def give_back(self, lent: Samples) -> None:
        """Take a buffer back that `silent` lent and that nobody looks at any more; the oldest ones go where there is no room."""
        flat = lent.base
        if not isinstance(flat, np.ndarray):  # one of those that are not kept
            return
        with self._lock:
            self._free.append(flat)
            while sum(each.nbytes for each in self._free) > self._limit:
                self._free.pop(0)

    def clear(self) -> None:
        """Let go of what is free."""
        with self._lock:
            self._free.clear()

    @property
    def kept_bytes(self) -> int:
        """Memory of what is free."""
        with self._lock:
            return sum(flat.nbytes for flat in self._free)
