"""The way through a song: sections mixed ahead of what is made of them, and let go of when nothing hears them any more."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeVar

AT_ONCE = 2  # sections that are mixed at a time
T = TypeVar("T")
HANDED_ON = Future[Any]()  # in the place of a mix that need not be held
HANDED_ON.set_result(None)


class SectionWalk:
    """Through the sections of a song at rising `indices`, of which each hears what sounds on from `before` samples ahead of it.

    `starts` and `ends` are the samples at which each section of the song starts, and at which what starts in it has died away.
    """

    def __init__(self, starts: Sequence[int], ends: Sequence[int], before: int, indices: Sequence[int]):
        self._starts, self._ends, self._before, self._indices = starts, ends, before, indices
        self.mixed = [j for j in range(len(ends)) if self._is_heard(j, indices)]

    def _is_heard(self, mixed: int, indices: Sequence[int]) -> bool:
        return any(mixed == i or mixed < i and self._ends[mixed] > self._starts[i] - self._before for i in indices)

    def go(
        self,
        mix: Callable[[int], Any],
        make: Callable[[int], T],
        ahead: int,
        tell: Callable[[float], None],
        is_kept: Callable[[int], bool],
    ) -> Iterator[T]:
        """What `make` gives for every index, in order; what `mix` gives is there before and held as long as it is heard, for so many
        sections `ahead`, but for what `is_kept` elsewhere. `tell` hears the share that was handed on."""
        waiting, indices, mixes = deque(self.mixed), self._indices, dict[int, Future[Any]]()
        with ThreadPoolExecutor(AT_ONCE) as mixing:
            for done, index in enumerate(indices, 1):
                while waiting and (waiting[0] <= index or sum(j > index for j in mixes) + 1 < ahead):
                    j = waiting.popleft()
                    mixes[j] = mixing.submit(mix, j)
                for j, each in mixes.items():
                    if j <= index + 1:  # its end hears the beginning of the next one
                        each.result()
                mixes |= {
                    j: HANDED_ON for j, each in mixes.items() if each.done() and not each.exception() and is_kept(j)
                }
                yield make(index)
                mixes = {j: each for j, each in mixes.items() if j > index or self._is_heard(j, indices[done:])}
                tell(done / len(indices))
