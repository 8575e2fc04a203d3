"""The shared spaces of a section while it is mixed: each has a buffer from the first part that is sent into it until its answer is added,
so that only a few are held at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor, Future

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.effects import RETURNS
from escalera.lazy_dataclasses import dataclass
from escalera.sound.buffers import silent
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.plan import Part, Plan, return_stage, used_returns

Samples = NDArray[np.float32]


@dataclass(frozen=True)
class Order:
    """In which order spaces answer, the same for a section and its beginning alone: `early` while parts are still added up, and at the
    end in two halves of about the same work, one of them beside the buses."""

    early: tuple[int, ...]
    here: tuple[int, ...]
    there: tuple[int, ...]


def order_of(plan: Plan, at_once: int) -> Order:
    """The order for parts that are added `at_once` at a time."""
    last = {i: n for n, part in enumerate(plan.parts) for i in used_returns([part])}
    early = sorted((i for i in last if last[i] < len(plan.parts) - at_once), key=lambda i: (last[i], i))
    halves: tuple[list[int], list[int]] = ([], [])
    work = [0, 3 * sum(len(chain.devices) for chain in plan.buses.values())]
    for effort, index in sorted(((_effort(plan, i), i) for i in last if i not in early), reverse=True):
        half = 0 if work[0] <= work[1] else 1
        halves[half].append(index)
        work[half] += effort
    return Order(tuple(early), tuple(halves[0]), tuple(halves[1]))


def _effort(plan: Plan, index: int) -> int:
    """About how long a space takes, beside the others."""
    return PROCESSES[RETURNS[index].effect].effort(return_stage(index, plan.returns[index], 0.0))


def most_buffers(plan: Plan, at_once: int) -> int:
    """How many stereo buffers spaces take at most, what they answer early included."""
    order, uses = order_of(plan, at_once), [set(used_returns([part])) for part in plan.parts]
    early, open_, answering, most = list(order.early), set[int](), set[int](), 0
    for low in range(0, len(uses), at_once):
        open_ = open_.union(*uses[low : low + at_once]) - answering
        most = max(most, len(open_) + len(answering))
        still = set[int]().union(*uses[low + at_once :])
        answering = set()
        while early and early[0] not in still:
            answering.add(early.pop(0))
    return most + bool(order.early or order.there)


class Spaces:
    """The spaces of a plan of which `parts` are entered, over `length` samples. `beside` works on one of them, or on what is given to
    `finish`, while the caller goes on; the sum is the same without it."""

    def __init__(self, plan: Plan, parts: Sequence[Part], length: int, order: Order, beside: Executor | None):
        self._plan, self._length, self._order, self._beside = plan, length, order, beside
        self._sources = dict[int, Samples]()
        self._early = list(order.early)
        self._to_come = [i for part in parts for i in used_returns([part])]
        self._aside: Samples | None = None
        self._answering: Future[None] | None = None

    def source(self, index: int) -> Samples:
        """What is sent into a space, (2, length)."""
        if index not in self._sources:
            self._sources[index] = silent(2, self._length)
        return self._sources[index]

    @property
    def sources(self) -> list[Samples]:
        """All that is sent into any of them, as far as it is not answered."""
        return list(self._sources.values())

    def entered(self, parts: Sequence[Part]) -> None:
        """Say which parts were added to their sources: a space that nothing more is sent into answers."""
        for part in parts:
            for index in used_returns([part]):
                self._to_come.remove(index)
        while self._early and self._early[0] not in self._to_come:
            self._answer_early(self._early.pop(0))

    def _answer_early(self, index: int) -> None:
        if index in self._sources:
            self._wait()  # one after the other, so that their sum is the same every time
            if self._beside:
                self._answering = self._beside.submit(self._answer_aside, (index,))
            else:
                self._answer_aside((index,))

    def _wait(self) -> None:
        if self._answering:
            self._answering.result()
            self._answering = None

    def _answer(self, indices: Sequence[int], out: Samples) -> None:
        for index in indices:
            source = self._sources.pop(index, None)
            if source is not None:
                stage = return_stage(index, self._plan.returns[index], self._plan.quarter, self._length)
                PROCESSES[stage.key].add(source, out, stage)

    def _answer_aside(self, indices: Sequence[int]) -> None:
        if self._aside is None and any(index in self._sources for index in indices):
            self._aside = silent(2, self._length)
        if self._aside is not None:
            self._answer(indices, self._aside)

    def finish(self, out: Samples, others: Callable[[], None] | None) -> None:
        """Add what all spaces answer to `out`, (2, length); `others` is done as well."""
        self._wait()

        def there() -> None:
            if others:
                others()
            self._answer_aside(self._order.there)

        second = self._beside.submit(there) if self._beside and (others or self._order.there) else None
        self._answer(self._order.here, out)
        if second:
            second.result()
        else:
            there()
        if self._aside is not None:
            out += self._aside
            self._aside = None
