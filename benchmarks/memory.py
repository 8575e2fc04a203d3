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
from http.cookiejar import CookieJar

from benchmarks.table import row
from escalera.services.memory import resident_bytes

EDITS = 15  # of each song, each followed by a measurement that the next one outdates


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
        return resident_bytes(self.process.pid)

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


def _sitting(server: Server, song: int, dice: random.Random) -> None:
    """A song opened, measured, heard once from end to end, and edited."""
    page = server.get(f"/songs/{song}")
    base = re.search(r'name="base" value="(\d+)"', page)[1]  # type: ignore[index]
    _measured(server, song, base)
    for index, key in enumerate(json.loads(server.get(f"/songs/{song}/keys/{base}.json"))["keys"]):
        server.get(f"/songs/{song}/audio/{base}/{index}/{key}.wav")
    tiles = re.findall(r'data-tile="(\d+):(\d+):(\d+)"', page)
    for _ in range(EDITS):
        section, layer, phrase = dice.choice(tiles)
        where = {"section_id": section, "layer_id": layer, "phrase": phrase}
        answer = server.post(f"/songs/{song}/edits", base=base, select="song", kind="toggle_tile", **where)
        base = re.search(r'name="base" value="(\d+)"', answer)[1]  # type: ignore[index]
        server.get(f"/songs/{song}/measured?base={base}")
    _measured(server, song, base)


def memory() -> None:
    """The rows of the table: memory of a sitting, and what an export adds."""
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            dice = random.Random(1)
            for song in (1, 2):
                _sitting(server, song, dice)
            row("memory of a server, both songs opened, measured, heard, edited", server.peak / 1e6, 800, "MB")
            idle, server.peak = server.now(), 0
            name = re.search(r"/exports/([\w-]+)", server.post("/songs/2/export/wav", bits=24, stems=1))[1]  # type: ignore[index]
            while "/file" not in server.get(f"/exports/{name}"):
                time.sleep(0.2)
            row("memory that exporting stems adds", max(0, server.peak - idle) / 1e6, 400, "MB")
        finally:
            server.process.terminate()
            server.process.wait(10)
