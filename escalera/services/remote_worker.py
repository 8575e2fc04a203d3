"""A worker on another machine: asks a server for pure work, makes it, sends it back. It keeps nothing and reads no data folder."""

from __future__ import annotations

import json
import platform
import secrets
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable
from threading import Event, Thread

from escalera.errors import EscaleraError, InputError
from escalera.services.logs import LOG
from escalera.services.pure_work import MADE_BY, PURE_KINDS, SILENT_S
from escalera.sound.mix import Renderer

PART_BYTES = 8_000_000
AGAIN_S = 3.0  # pause before a server that does not answer is asked again


class RemoteWorker:
    """`server` is an address such as http://studio.local:5000, `key` what it was started with as ESCALERA_WORK_KEY."""

    def __init__(self, server: str, key: str, cache_mb: int, told: Callable[[str], None] = lambda _: None):
        if urllib.parse.urlsplit(server).scheme not in ("http", "https"):
            raise InputError(f"“{server[:80]}” is no address of a server. Write it as http://name:5000.")
        self._server, self._key, self._told = server.rstrip("/"), key, told
        self.name = f"{platform.node()[:40]}-{secrets.token_hex(3)}"
        self._renderer, self._stop = Renderer(cache_mb), Event()

    def close(self) -> None:
        self._stop.set()

    def work(self) -> None:
        """Until it is closed. Raises InputError where the server does not want this worker."""
        while not self._stop.is_set():
            try:
                self.work_once()
            except urllib.error.HTTPError as error:
                if error.code in (401, 403, 409, 429):
                    raise InputError(error.read(2000).decode(errors="replace").strip()) from error
                self._stop.wait(AGAIN_S)
            except (urllib.error.URLError, OSError) as error:
                self._told(f"{self._server} does not answer ({error}); it is asked again.")
                self._stop.wait(AGAIN_S)

    def work_once(self) -> bool:
        """Ask once, and do what is given; whether there was anything."""
        asked = {"worker": self.name, "kinds": sorted(PURE_KINDS), "made_by": MADE_BY}
        answer = json.loads(self._send("/work/claim", json.dumps(asked).encode()))
        if not answer.get("key"):
            return False
        key, kind, begun = str(answer["key"]), str(answer["kind"]), time.perf_counter()
        done = Event()
        Thread(target=self._beat, args=(key, done), daemon=True).start()
        try:
            made = PURE_KINDS[kind](self._send(self._of(key, "given")), self._renderer)
            for at in range(0, len(made), PART_BYTES):
                last = int(at + PART_BYTES >= len(made))
                self._send(self._of(key, f"made?last={last}"), made[at : at + PART_BYTES])
        except (EscaleraError, ValueError, KeyError, MemoryError) as error:
            LOG.warning("work was given up: %s", error)
            self._send(self._of(key, "give-up"), b"")
        finally:
            done.set()
        self._told(f"{kind} made in {time.perf_counter() - begun:.1f} s")
        return True

    def _beat(self, key: str, done: Event) -> None:
        while not done.wait(SILENT_S / 4):
            try:
                self._send(self._of(key, "beat"), b"")
            except (urllib.error.URLError, OSError):  # the work is not wanted any more, or the server is away
                return

    def _of(self, key: str, what: str) -> str:
        return f"/work/{urllib.parse.quote(key, safe='')}/{what}"

    def _send(self, path: str, body: bytes | None = None) -> bytes:
        headers = {
            "Authorization": f"Bearer {self._key}",
            "X-Worker": self.name,
            "Content-Type": "application/octet-stream",
        }
        asked = urllib.request.Request(self._server + path, body, headers)
        with urllib.request.urlopen(asked, timeout=60) as answer:  # noqa: S310 - the scheme is checked
            found: bytes = answer.read()
            return found
