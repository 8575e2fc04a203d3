"""Long work in the background: started, asked how far it is, taken when done. A few finished ones are kept."""

from __future__ import annotations

import logging
import secrets
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from threading import Lock
from typing import Any

from escalera.errors import EscaleraError, NotFound

KEPT = 8


@dataclass(eq=False)
class Job:
    """`share` is how far the work is, 0..1; `wanted` turns false when it is called off."""

    label: str
    share: float = 0.0
    wanted: bool = True
    future: Future[Any] = field(default_factory=Future)

    @property
    def done(self) -> bool:
        return self.future.done()

    @property
    def trouble(self) -> str:
        """Why it failed, as a sentence; empty when it did not."""
        if not self.done or self.future.cancelled():
            return "" if not self.done else "This was called off."
        error = self.future.exception()
        if error is None:
            return ""
        return (
            str(error) if isinstance(error, EscaleraError) else "It could not be made. What went wrong is in the log."
        )


class BackgroundJobs:
    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="job")
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._lock = Lock()

    def start(self, label: str, work: Callable[[Callable[[float], None], Callable[[], bool]], Any]) -> str:
        """Begin `work(tell, wanted)` and give the name to ask for it by."""
        job, name = Job(label), secrets.token_urlsafe(8)
        with self._lock:
            self._jobs[name] = job
            while len(self._jobs) > KEPT:
                _, old = self._jobs.popitem(last=False)
                old.wanted = False
        job.future = self._pool.submit(self._run, job, work)
        return name

    def _run(self, job: Job, work: Callable[[Callable[[float], None], Callable[[], bool]], Any]) -> Any:
        try:
            return work(lambda share: setattr(job, "share", share), lambda: job.wanted)
        except EscaleraError:
            raise
        except Exception:
            logging.getLogger("escalera").exception("%s failed", job.label)
            raise

    def get(self, name: str) -> Job:
        """Raises NotFound for a job that is not there, or no more."""
        with self._lock:
            if name not in self._jobs:
                raise NotFound("That file is not being made, or was made too long ago. Ask for it again.")
            return self._jobs[name]

    def close(self) -> None:
        for job in self._jobs.values():
            job.wanted = False
        self._pool.shutdown(wait=True, cancel_futures=True)
