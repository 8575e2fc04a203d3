"""Kills the server (and its worker) with -9 again and again while it is edited, sung to and exports, and holds it to what it acknowledged.

python -m tests.killing --times 200
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.parse
import urllib.request
from contextlib import suppress
from dataclasses import dataclass, field
from http.client import HTTPException
from http.cookiejar import CookieJar
from pathlib import Path

import numpy as np

from escalera.errors import InputError
from escalera.services.studio import Studio
from escalera.services.takes import keep_take
from tests.songs import small_song

RATE, PIECE_S = 44_100, 0.25


def piece(take: int) -> bytes:
    """A piece of a take, each take at a pitch of its own: one that is sung again sample by sample is kept once."""
    return (0.1 * np.sin(np.arange(round(PIECE_S * RATE)) / (20 + take))).astype("<f4").tobytes()


SENT = ("application/x-www-form-urlencoded", "application/octet-stream")


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@dataclass
class Killing:
    """One data folder that outlives many servers. What was acknowledged is counted; what is lost, or there twice, is a fault."""

    folder: Path
    seed: int = 1
    acknowledged: int = 0
    asked_jobs: list[str] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)
    kills: int = 0
    sung: dict[str, int] = field(default_factory=dict)  # pieces that were acknowledged of every take

    def __post_init__(self) -> None:
        self.dice, self.port = random.Random(self.seed), free_port()
        studio = Studio(self.folder)
        self.song_id = studio.add_song(small_song(), "New")
        studio.close()
        self.titles: list[str] = []
        self.pending = ""

    def start(self) -> None:
        env = os.environ | {"ESCALERA_DATA": str(self.folder), "PYTHONUNBUFFERED": "1"}
        command = [sys.executable, "-m", "escalera.cli", "serve", "--port", str(self.port)]
        self.server = subprocess.Popen(command, env=env, stderr=subprocess.DEVNULL)
        self.web = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
        for _ in range(1200):
            try:
                page = self.get("/ideas")
                self.token = re.search(r'csrf-token"\s+content="([^"]+)', page)[1]
                return
            except (OSError, HTTPException):
                time.sleep(0.05)
        raise AssertionError("the server did not come back")

    def get(self, address: str) -> str:
        return self.web.open(f"http://127.0.0.1:{self.port}{address}", timeout=20).read().decode()

    def post(self, address: str, piece: bytes = b"", **fields: object) -> str:
        data = piece or urllib.parse.urlencode(fields).encode()
        asked = urllib.request.Request(
            f"http://127.0.0.1:{self.port}{address}",
            data,
            {"X-CSRFToken": self.token, "HX-Request": "true", "Content-Type": SENT[bool(piece)]},
        )
        return self.web.open(asked, timeout=20).read().decode()

    def life(self) -> None:
        """A server's life: edits, exports and measurements until it is killed in the middle of one of them."""
        self.start()
        base = int(re.search(r'name="base" value="(\d+)"', self.get(f"/songs/{self.song_id}"))[1])
        end = time.monotonic() + self.dice.uniform(0.1, 0.8)
        if self.dice.random() < 0.4:
            answer = self.post(f"/songs/{self.song_id}/export/{self.dice.choice(('wav', 'flac'))}")
            self.asked_jobs += re.findall(r"/exports/([\w-]+)", answer)[:1]
        killer = subprocess.Popen(
            ["sh", "-c", f"sleep {max(0.01, end - time.monotonic()):.3f}; kill -9 {self.server.pid}"]
        )
        try:
            begun = self.post(
                f"/songs/{self.song_id}/voices/takes", section_id=1, rate_hz=RATE, zero_s=0.1, lay="first"
            )
            take = json.loads(begun)["token"]
            self.sung[take], sung = 0, piece(len(self.sung))
            while True:
                self.post(f"/songs/{self.song_id}/voices/takes/{take}/{self.sung[take]}", sung)
                self.sung[take] += 1
                self.pending = f"Title {len(self.titles) + 1}"
                answer = self.post(
                    f"/songs/{self.song_id}/edits", kind="rename_song", title=self.pending, base=base, select="song"
                )
                base = int(re.search(r'name="base" value="(\d+)"', answer)[1])
                self.titles.append(self.pending)
                self.acknowledged += 1
                if self.dice.random() < 0.3:
                    self.get(f"/songs/{self.song_id}/measured?base={base}")
        except (OSError, HTTPException, TypeError):
            pass
        killer.wait()
        self.server.wait()
        assert self.server.returncode == -signal.SIGKILL
        self.kills += 1
        self.check()

    def check(self) -> None:
        """The database is whole, the last acknowledged title is there (or the one that was under way), none is there twice."""
        studio = Studio(self.folder)
        try:
            self.faults += studio.database.check()
            title = studio.head(self.song_id).song.title
            if self.titles and title not in (self.titles[-1], self.pending):
                self.faults.append(f"after kill {self.kills}: {title!r} where {self.titles[-1]!r} was acknowledged")
            if self.titles and title == self.pending and title != self.titles[-1]:
                self.titles.append(title)
            waiting = {w.token for w in studio.takes.waiting()}  # others were kept when a server began
            for take in waiting & set(self.sung):
                if len(studio.takes.pieces(take)) < self.sung[take]:
                    self.faults.append(f"after kill {self.kills}: pieces of a take are gone")
            told = [e.summary for e in studio.history(self.song_id)]
            if len(told) != len(set(told)):
                self.faults.append(f"after kill {self.kills}: an edit is there twice")
        finally:
            studio.close()

    def _kept_s(self, studio: Studio) -> float:
        """Seconds of all takes in the song."""
        song = studio.head(self.song_id).song
        return sum(song.sample_by_content[t.content].seconds for t in song.takes)

    def end(self, seconds: float = 90) -> None:
        """A last server, left alone: every export that was asked for comes to its end, once."""
        self.start()
        studio = Studio(self.folder)
        try:
            for take in [w.token for w in studio.takes.waiting()]:
                with suppress(InputError):  # too short for a take
                    keep_take(studio, take)
            sung_s, end = sum(n * PIECE_S for n in self.sung.values() if n * PIECE_S >= 0.5), time.monotonic() + 30
            while (kept_s := self._kept_s(studio)) < sung_s - 0.01 and time.monotonic() < end:
                time.sleep(0.2)  # the server enters takes that waited at the same time
            if kept_s < sung_s - 0.01:
                self.faults.append(f"{sung_s:.2f} s were acknowledged of takes, {kept_s:.2f} s are kept")
            for name in self.asked_jobs[-30:]:
                try:
                    job = studio.jobs.wait(name, seconds)
                except Exception as error:  # cleared away as one of too many
                    if "too long ago" not in str(error):
                        self.faults.append(f"job {name}: {error}")
                    continue
                if job.state != "done" and "begun" not in job.trouble:
                    self.faults.append(f"job {name} is {job.state}: {job.trouble}")
                files = list((studio.jobs.folder / name).glob("*"))
                if job.state == "done" and len(files) != 1:
                    self.faults.append(f"job {name} left {len(files)} files")
        finally:
            studio.close()
            self.server.kill()
            self.server.wait()


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--times", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        killing = Killing(Path(folder), asked.seed)
        for _ in range(asked.times):
            killing.life()
        killing.end()
    print(
        f"{killing.kills} kills, {killing.acknowledged} edits acknowledged, {len(killing.asked_jobs)} exports asked for"
    )
    for fault in killing.faults:
        print("FAULT", fault)
    raise SystemExit(bool(killing.faults))


if __name__ == "__main__":
    main()
