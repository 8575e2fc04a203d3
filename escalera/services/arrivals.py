"""Files on their way into the library: pieces that arrive in any number of requests, then read one by one in the background.

The folder is the truth, so that nothing is lost by a restart: `<token>.json` says what is coming, `<token>.part` holds what
came, `<token>.ready` waits to be read, `log.json` tells what became of the last ones.
"""

from __future__ import annotations

import json
import re
import secrets
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from threading import Lock
from typing import Any

from escalera.cleaning import clean_line
from escalera.errors import EscaleraError, InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.services.samples import SUFFIXES, Samples

PIECE_BYTES = 4_000_000
MOST_WAITING = 3000
KEPT_LINES = 400
STALE_S = 24 * 3600.0
TOKEN = re.compile(r"[A-Za-z0-9_-]{16}")
MB = 1_000_000
BESIDE = "beside"  # said of files that are no samples: they wait, as they are, under the number that is said
Tell = Callable[[float], None]


@dataclass(frozen=True, slots=True)
class Standing:
    """How far bringing in is: files still to be read, and what became of the last ones, the newest first."""

    waiting: int
    lines: tuple[dict[str, Any], ...]


class Arrivals:
    """What is being brought in. `limit_mb` is the largest file."""

    def __init__(
        self,
        folder: Path,
        samples: Samples,
        limit_mb: int,
        arrived: Callable[[dict[str, int], int], object],
        taken: Callable[[dict[str, int], Path, str], bool],
    ):
        self._folder, self._samples, self._limit = folder, samples, limit_mb * MB
        self._arrived = arrived  # told as what a file was brought in, and its sample
        self._taken = taken  # asked before a file is read, whether somebody else takes it as it is
        self._lock = Lock()

    def _file(self, token: str, ending: str) -> Path:
        if not TOKEN.fullmatch(token):
            raise NotFound("This file is not on its way any more. Bring it in again.")
        return self._folder / f"{token}.{ending}"

    def begin(self, name: str, size: int, said: dict[str, int] | None = None) -> str:
        """Announce a file; its token is the name its pieces go under. `said` tells as what it comes: `bounce_of` a song, as a `study`.
        Raises InputError."""
        name = clean_line(name.replace("\\", "/").rsplit("/", 1)[-1])[:200] or "recording"
        if not name.lower().endswith(SUFFIXES) and not (said or {}).get(BESIDE):
            raise InputError(f"{name} has no ending of a recording. Bring in WAV, AIFF, FLAC, Ogg, Opus or MP3.")
        if not 0 < size <= self._limit:
            raise InputError(
                f"{name} has {size / MB:,.1f} MB; more than 0 and at most {self._limit / MB:,.0f} MB are taken. Cut it."
            )
        self._folder.mkdir(parents=True, exist_ok=True)
        self._clear_old()
        if len(list(self._folder.glob("*.json"))) > MOST_WAITING:
            raise InputError(f"{MOST_WAITING:,} files are on their way. Wait until some of them are read.")
        token = secrets.token_urlsafe(12)
        self._file(token, "json").write_text(json.dumps({"name": name, "size": size, "said": said or {}}))
        self._file(token, "part").touch()
        return token

    def _clear_old(self) -> None:
        """What was begun and given up long ago."""
        for file in (*self._folder.glob("*.part"), *self._folder.glob("*.json")):
            with suppress(FileNotFoundError):  # another request may have done with it in this moment
                if file.name != "log.json" and time.time() - file.stat().st_mtime > STALE_S:
                    file.unlink()

    def pieces(self, token: str) -> int:
        """How many pieces came, so that a broken transfer goes on where it stopped."""
        part = self._file(token, "part")
        if not part.exists():
            raise NotFound("This file is not on its way any more. Bring it in again.")
        return part.stat().st_size // PIECE_BYTES

    def piece(self, token: str, number: int, data: bytes) -> bool:
        """Take one piece, numbered from 0; True when it was the last one. Pieces may come twice, never out of order."""
        part, told = self._file(token, "part"), self._file(token, "json")
        if not part.exists() or not told.exists():
            raise NotFound("This file is not on its way any more. Bring it in again.")
        size = json.loads(told.read_text())["size"]
        at = number * PIECE_BYTES
        if number < 0 or at > part.stat().st_size or len(data) > PIECE_BYTES or at + len(data) > size:
            raise InputError(f"Piece {number + 1} does not fit what was announced. Bring the file in again.")
        with part.open("r+b") as out:
            out.seek(at)
            out.write(data)
        if at + len(data) < size:
            return False
        ready = self._file(token, "ready")
        part.replace(ready)
        if json.loads(told.read_text())["said"].get(BESIDE):
            self._read(ready)  # it is only put where it waits, so that who sent it may go on at once
        return True

    def stop(self) -> int:
        """Call off all that waits; how many files."""
        ready = list(self._folder.glob("*.ready"))
        for file in ready:
            file.unlink(missing_ok=True)
            file.with_suffix(".json").unlink(missing_ok=True)
        return len(ready)

    def read_all(self, tell: Tell = lambda share: None, wanted: Callable[[], bool] = lambda: True) -> int:
        """Read what waits, one file after the other; a bad one is written down and never stops the rest. How many were read."""
        count = 0
        while wanted():
            with self._lock:
                ready = sorted(self._folder.glob("*.ready"), key=lambda f: f.stat().st_mtime)
            if not ready:
                break
            self._read(ready[0])
            count += 1
            tell(count / (count + len(ready) - 1))
        return count

    def _read(self, file: Path) -> None:
        told = file.with_suffix(".json")
        try:
            said = json.loads(told.read_text())
            name, comes_as = str(said["name"]), {str(k): int(v) for k, v in said.get("said", {}).items()}
        except (OSError, ValueError, KeyError, AttributeError):
            name, comes_as = "recording", {}
        line: dict[str, Any] = {"name": name}
        if self._taken(comes_as, file, name):
            told.unlink(missing_ok=True)
            return
        try:
            id, known = self._samples.add_file(file, name)
            line |= {"state": "known" if known else "in", "id": id}
            self._arrived(comes_as, id)
        except EscaleraError as error:
            line |= {"state": "refused", "why": str(error)}
        except OSError as error:
            line |= {"state": "refused", "why": f"It cannot be read: {error.strerror or error}."}
        self._write_line(line)
        file.unlink(missing_ok=True)
        told.unlink(missing_ok=True)

    def _write_line(self, line: dict[str, Any]) -> None:
        lines = [line, *self._lines()][:KEPT_LINES]
        aside = self._folder / "log.aside"
        aside.write_text(json.dumps(lines))
        aside.replace(self._folder / "log.json")

    def _lines(self) -> list[dict[str, Any]]:
        try:
            found = json.loads((self._folder / "log.json").read_text())
        except (OSError, ValueError):
            return []
        return [x for x in found if isinstance(x, dict)] if isinstance(found, list) else []

    def clear_log(self) -> None:
        (self._folder / "log.json").unlink(missing_ok=True)

    def standing(self) -> Standing:
        waiting = len(list(self._folder.glob("*.ready"))) if self._folder.is_dir() else 0
        return Standing(waiting, tuple(self._lines()))
