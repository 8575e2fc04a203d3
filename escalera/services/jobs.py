"""Long work: asked for, told about, called off, tried again; it outlives a restart and the death of whoever works on it.

The table of jobs is the truth (`store/job_store.py`); the queue only wakes workers. A worker claims a job, says every
second that it is alive, and writes the result beside its final name before it renames it. A job whose worker fell silent
is put back; a result is entered only by the worker that still holds the job, so that it is never there twice.
"""

from __future__ import annotations

import logging
import os
import secrets
import shutil
import socket
import time
from collections.abc import Callable
from pathlib import Path
from threading import Event, Thread
from typing import Any

from escalera.errors import EscaleraError, InputError, NotFound, RenderStopped
from escalera.lazy_dataclasses import dataclass
from escalera.services.logs import log_error
from escalera.services.memory import give_back
from escalera.services.task_queue import TaskQueue
from escalera.store import job_store
from escalera.store.database import Database
from escalera.store.job_store import Job

log = logging.getLogger("escalera")
BEAT_S = 1.0
SILENT_S = 20.0  # so long without a sign, and a worker is taken for dead
MAX_TRIES = 3
KEPT_JOBS = 40
MAX_WAITING = 24
Tell = Callable[[float], None]
Wanted = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Result:
    """A file that was made in the job's folder."""

    path: Path
    mimetype: str


Work = Callable[[Job, Path, Tell, Wanted], Result]


def worker_name() -> str:
    return f"{socket.gethostname()[:40]}:{os.getpid()}:{secrets.token_hex(3)}"


def _is_gone(worker: str) -> bool:
    """Whether a worker was a process of this machine that is no more."""
    host, pid = (worker.split(":") + ["", ""])[:2]
    if host != socket.gethostname()[:40] or not pid.isdigit():
        return False
    if int(pid) == os.getpid():
        return False
    try:
        os.kill(int(pid), 0)
    except ProcessLookupError:
        return True
    except PermissionError:
        return False
    return False


class Jobs:
    """What is asked of long work. `kinds` say how each kind is done; results lie under `folder`, within `limit_bytes`."""

    def __init__(self, database: Database, queue: TaskQueue, folder: Path, limit_bytes: int, kinds: dict[str, Work]):
        self.database, self.queue, self.folder, self.limit_bytes, self.kinds = (
            database,
            queue,
            folder,
            limit_bytes,
            kinds,
        )
        self.wake = Event()

    # asking ----------------------------------------------------------------------------------------------------

    def start(self, kind: str, song_id: int, revision_id: int, options: dict[str, Any], label: str) -> str:
        """Ask for a job; its id is the name it is asked about by. Raises InputError where too many wait."""
        id = secrets.token_urlsafe(12)
        with self.database.write() as session:
            if len(job_store.waiting(session)) >= MAX_WAITING:
                raise InputError(f"{MAX_WAITING} files are waiting to be made. Wait for some of them, or stop one.")
            job_store.add_job(session, id, kind, song_id, revision_id, options, label)
        self._send(id)
        return id

    def _send(self, id: str) -> None:
        try:
            self.queue.send(id)
        except Exception:  # of whatever store the queue has: the sweep finds the job in the table
            log.exception("the queue did not take job %s; it is found in the table", id)
        self.wake.set()

    def get(self, id: str) -> Job:
        """Raises NotFound for a job that is not there, or no more."""
        with self.database.read() as session:
            return job_store.find_job(session, id)

    def path(self, job: Job) -> Path:
        """The file of a finished job. Raises NotFound where it was cleared away."""
        path = self.folder / job.id / job.file
        if not job.file or not path.is_file():
            raise NotFound("The file was made too long ago and is no more there. Ask for it again.")
        return path

    def stop(self, id: str) -> Job:
        with self.database.write() as session:
            job_store.stop(session, id)
        return self.get(id)

    def again(self, id: str) -> Job:
        """Try a job again that failed or was called off."""
        with self.database.write() as session:
            put_back = job_store.again(session, id)
        if put_back:
            self._send(id)
        return self.get(id)

    def drop_of(self, song_id: int) -> None:
        """Call off all that was asked for a song, and clear away what was made of it."""
        with self.database.write() as session:
            jobs = job_store.of_song(session, song_id)
            for job in jobs:
                job_store.stop(session, job.id)
                job_store.forget(session, job.id)
        for job in jobs:
            shutil.rmtree(self.folder / job.id, ignore_errors=True)

    def wait(self, id: str, seconds: float, tell: Tell = lambda share: None) -> Job:
        """The job once it is over, or as it is when the time is."""
        end = time.monotonic() + seconds
        while not (job := self.get(id)).done and time.monotonic() < end:
            tell(job.share)
            time.sleep(0.05)
        return job

    # working ---------------------------------------------------------------------------------------------------

    def run(self, id: str, worker: str) -> None:
        """Do a job, if it still waits. What goes wrong is written down in its row, never raised."""
        with self.database.write() as session:
            if not job_store.claim(session, id, worker):
                return
            job = job_store.find_job(session, id)
        begun = time.monotonic()
        pulse = _Pulse(self.database, id, worker)
        folder = self.folder / id
        try:
            folder.mkdir(parents=True, exist_ok=True)
            if job.kind not in self.kinds:
                raise InputError(f"This program knows no work of the kind “{job.kind}”. Update it.")
            made = self.kinds[job.kind](job, folder, pulse.tell, pulse.wanted)
            with self.database.write() as session:
                if not job_store.finish(session, id, worker, made.path.name, made.mimetype):
                    raise RenderStopped("The job is wanted no more.")
        except RenderStopped:
            self._clear(id, worker)
        except EscaleraError as error:
            self._failed(id, worker, str(error))
        except OSError as error:  # a full disk above all
            said = log_error(f"job {id} ({job.label})")
            self._failed(
                id,
                worker,
                f"{error.strerror or 'A file cannot be read or written'}. Make room, and try again (error {said}).",
            )
        except Exception:
            said = log_error(f"job {id} ({job.label})")
            self._failed(
                id, worker, f"It could not be made (error {said}). The log in the data folder says more under this id."
            )
        finally:
            log.info("job %s (%s) took %.1f s", id, job.label, time.monotonic() - begun)
            pulse.stop()
            give_back()

    def _failed(self, id: str, worker: str, trouble: str) -> None:
        self._clear(id, worker)
        with self.database.write() as session:
            job_store.fail(session, id, worker, trouble)

    def _clear(self, id: str, worker: str) -> None:
        """Remove what was begun, unless another worker holds the job now and is writing there."""
        with self.database.read() as session:
            try:
                job = job_store.find_job(session, id)
                mine = job.state in ("stopped", "failed") or (job.state == "running" and job.worker == worker)
            except NotFound:
                mine = True
        if mine:
            shutil.rmtree(self.folder / id, ignore_errors=True)

    def sweep(self) -> None:
        """Put back what dead workers left, send anew what the queue lost, and clear away what is old or too much."""
        with self.database.read() as session:
            lost = {j.id: j for j in job_store.silent(session, SILENT_S)}
            lost |= {j.id: j for j in job_store.running(session) if _is_gone(j.worker)}
            sent = job_store.waiting(session)
            ended = job_store.ended(session)
        for job in lost.values():
            with self.database.write() as session:
                if job.tries >= MAX_TRIES:
                    said = f"It was begun {job.tries} times and never came to its end. Try it again, or ask for less."
                    job_store.fail(session, job.id, job.worker, said)
                elif job_store.again(session, job.id, job.worker):
                    sent.append(job.id)
        for id in sent:
            self._send(id)
        self._make_room(ended)

    def _make_room(self, ended: list[Job]) -> None:
        used = 0
        for number, job in enumerate(ended):
            place = self.folder / job.id
            used += sum(f.stat().st_size for f in place.glob("*")) if place.is_dir() else 0
            if number and (number >= KEPT_JOBS or used > self.limit_bytes):
                with self.database.write() as session:
                    job_store.forget(session, job.id)
                shutil.rmtree(place, ignore_errors=True)
        known = {job.id for job in ended}
        for place in self.folder.glob("*"):
            if place.name not in known and time.time() - place.stat().st_mtime > 3_600 and self._unknown(place.name):
                shutil.rmtree(place, ignore_errors=True)

    def _unknown(self, id: str) -> bool:
        try:
            self.get(id)
        except NotFound:
            return True
        return False


class _Pulse:
    """Says every second that a job is worked on, and hears whether it is still wanted."""

    def __init__(self, database: Database, id: str, worker: str):
        self._database, self._id, self._worker = database, id, worker
        self._share, self._wanted, self._over = 0.0, True, Event()
        self._thread = Thread(target=self._beat, name="pulse", daemon=True)
        self._thread.start()

    def tell(self, share: float) -> None:
        self._share = share

    def wanted(self) -> bool:
        return self._wanted

    def _beat(self) -> None:
        while not self._over.wait(BEAT_S):
            try:
                with self._database.write() as session:
                    self._wanted = job_store.beat(session, self._id, self._worker, self._share)
            except EscaleraError:
                log.warning("job %s could not say that it is alive", self._id)

    def stop(self) -> None:
        self._over.set()
        self._thread.join()


class Worker:
    """Works through the queue, in a thread of the server or in a process of its own (`escalera work`)."""

    SWEEP_S = 5.0
    POLL_S = 0.5

    def __init__(self, jobs: Jobs):
        self.jobs, self.name = jobs, worker_name()
        self._over = Event()
        self._thread: Thread | None = None

    def start(self) -> None:
        self._thread = Thread(target=self.work, name="worker", daemon=True)
        self._thread.start()

    def work(self) -> None:
        """Until it is closed: jobs one after the other."""
        swept = 0.0
        while not self._over.is_set():
            try:
                if time.monotonic() - swept > self.SWEEP_S:
                    swept = time.monotonic()
                    self.jobs.sweep()
                self.jobs.wake.clear()
                if not self.jobs.queue.work(lambda id: self.jobs.run(id, self.name)):
                    self.jobs.wake.wait(self.POLL_S)
            except Exception:
                log.exception("the worker goes on after")
                self._over.wait(1.0)

    def close(self) -> None:
        self._over.set()
        self.jobs.wake.set()
        if self._thread:
            self._thread.join(timeout=30)
