"""Memory of a server with both demo songs opened, measured, heard, edited and exported; a process of its own, asked as a browser asks."""

from __future__ import annotations

import json
import os
import random
import re
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
import urllib.request
from collections.abc import Callable, Iterable
from contextlib import suppress
from http.cookiejar import CookieJar
from pathlib import Path
from urllib.error import HTTPError

from benchmarks.table import row
from escalera.services.memory import resident_bytes

# without pauses; so many of the edits are waited for until they are measured
EDITS, MEASURED = 150, 0.2


class Server:
    """`escalera demo` on a free port, and the most memory it was ever seen with."""

    def __init__(self, folder: str):
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        env = os.environ | {"ESCALERA_DATA": folder}
        command = [sys.executable, "-m", "escalera.cli", "demo", "--port", str(self.port)]
        self.process = subprocess.Popen(command, env=env, stderr=subprocess.DEVNULL)
        self.web = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
        self.peak, self.token = 0, ""
        threading.Thread(target=self._watch, daemon=True).start()
        for _ in range(300):
            try:
                self.token = re.search(r'csrf-token"\s+content="([^"]+)', self.get("/"))[1]  # type: ignore[index]
                break
            except OSError:
                time.sleep(0.1)

    def _watch(self) -> None:
        while self.process.poll() is None:
            self.peak = max(self.peak, self.now())
            time.sleep(0.03)

    def now(self) -> int:
        """Bytes of the server and of the processes it began."""
        pids = [self.process.pid]
        with suppress(OSError):  # a thread that just ended
            for children in Path(f"/proc/{self.process.pid}/task").glob("*/children"):
                pids += map(int, children.read_text().split())
        return sum(map(resident_bytes, pids))

    def get(self, address: str) -> str:
        with self.web.open(f"http://127.0.0.1:{self.port}{address}", timeout=120) as answer:
            return answer.read().decode(errors="replace")

    def post(self, address: str, **fields: object) -> str:
        data = urllib.parse.urlencode(fields).encode()
        asked = urllib.request.Request(f"http://127.0.0.1:{self.port}{address}", data, {"X-CSRFToken": self.token})
        with self.web.open(asked, timeout=120) as answer:
            return answer.read().decode(errors="replace")


def _measured(server: Server, song: int, base: str) -> None:
    while 'class="measured"' not in server.get(f"/songs/{song}/measured?base={base}"):
        time.sleep(0.1)


def _base(page: str) -> str:
    """The revision that a page, or the answer to an edit, shows."""
    return re.search(r'name="base"[^>]*value="(\d+)"', page)[1]  # type: ignore[index]


def _edit(dice: random.Random, tiles: list[tuple[str, str, str]]) -> dict[str, object]:
    section, layer, phrase = dice.choice(tiles)
    here = {"section_id": section, "layer_id": layer}
    kinds: list[dict[str, object]] = [
        {"kind": "toggle_tile", **here, "phrase": phrase},
        {"kind": "vary", **here, "keep": 0.5},
        {"kind": "set_control", "layer_id": layer, "control": "level_db", "value": dice.randint(-20, -4)},
        {"kind": "set_tempo", "tempo_bpm": dice.randint(96, 110)},  # every section is made anew
    ]
    return {"select": f"section:{section}:0:0:0"} | dice.choices(kinds, (12, 3, 4, 1))[0]


def _hear(server: Server, song: int, base: str, indices: Callable[[int], Iterable[int]]) -> None:
    keys = json.loads(server.get(f"/songs/{song}/keys/{base}.json"))["keys"]
    for index in indices(len(keys)):
        server.get(f"/songs/{song}/audio/{base}/{index}/{keys[index]}.wav")


def _sitting(server: Server, dice: random.Random) -> None:
    """Both songs opened, measured, heard once from end to end; then edited by turns, each edit heard and some measured, while what was
    measured before is outdated on its way."""
    bases = {song: _base(server.get(f"/songs/{song}")) for song in (1, 2)}
    for song, base in bases.items():
        _measured(server, song, base)
        _hear(server, song, base, range)
    for _ in range(EDITS):
        song = dice.choice((1, 2))
        tiles = re.findall(r'data-tile="(\d+):(\d+):(\d+)"', server.get(f"/songs/{song}"))
        with suppress(HTTPError):  # some are refused: a phrase without notes cannot be varied
            bases[song] = _base(server.post(f"/songs/{song}/edits", base=bases[song], **_edit(dice, tiles)))
        _hear(server, song, bases[song], lambda count: (dice.randrange(count),))
        server.get(f"/songs/{song}/measured?base={bases[song]}")
        if dice.random() < MEASURED:
            _measured(server, song, bases[song])


def memory() -> None:
    """The rows of the table: memory of a sitting, and what an export adds."""
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            _sitting(server, random.Random(1))
            row(
                f"memory of a server, both songs opened, measured, heard, edited {EDITS} times",
                server.peak / 1e6,
                800,
                "MB",
            )
            idle, server.peak = server.now(), 0
            name = re.search(r"/exports/([\w-]+)", server.post("/songs/2/export/wav", bits=24, stems=1))[1]  # type: ignore[index]
            while "/file" not in server.get(f"/exports/{name}"):
                time.sleep(0.2)
            row("memory that exporting stems adds", max(0, server.peak - idle) / 1e6, 400, "MB")
        finally:
            server.process.terminate()
            server.process.wait(10)
