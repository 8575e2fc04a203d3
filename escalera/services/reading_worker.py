"""A process of its own that decodes and reads recordings, so that what a file does to a decoder is done to nobody else.

It takes a line of JSON {"path", "keep_in"} and answers with one: {"reading", "content", "says"} or {"trouble"}. Memory is
limited here, time by whoever asks (`LimitedReader`).
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from threading import Lock, Timer
from typing import IO, Any

from escalera.errors import EscaleraError, FormatError
from escalera.services.sample_files import ReadFile, plain_reading, plain_says, read_file, reading_from, says_from

MOST_BYTES = 3_000_000_000  # of addresses; what is really used is far less
START_S, A_FILE_S = 60.0, 150.0


def main() -> None:
    """Answer until the input ends."""
    out = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # what a library prints must not be taken for an answer
    _limit()
    for line in sys.stdin:
        out.write(json.dumps(_answer(line)) + "\n")
        out.flush()


def _limit() -> None:
    import resource

    resource.setrlimit(resource.RLIMIT_AS, (MOST_BYTES, MOST_BYTES))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(5)  # pages come first


def _answer(line: str) -> dict[str, Any]:
    try:
        asked = json.loads(line)
        if "submission" in asked:
            return {"project": _submission(Path(asked["submission"]), asked["name"])}
        found = read_file(
            Path(asked["path"]), Path(asked["keep_in"]) if asked["keep_in"] else None, bool(asked.get("light"))
        )
    except EscaleraError as error:
        return {"trouble": str(error)}
    except MemoryError:
        return {"trouble": "It takes more memory than a recording may. Cut it, or convert it."}
    except OSError as error:
        return {"trouble": f"It cannot be read or kept: {error.strerror or error}. Check the disk and the file."}
    return {"reading": plain_reading(found.reading), "content": found.content, "says": plain_says(found.says)}


def _submission(path: Path, name: str) -> str:
    """A piece of work as a project, whatever kind of file it is; its recordings are read for their figures and not kept."""
    from escalera.formats.project import write_project
    from escalera.services.importing import import_file, import_path
    from escalera.services.studio import Studio

    with path.open("rb") as file:
        start = file.read(4)
    if start not in (b"PK\x03\x04", b"RIFF", b"RF64"):
        return write_project(import_file(name, path.read_bytes()).song).decode()
    with tempfile.TemporaryDirectory(prefix="submission-") as folder:
        studio = Studio(Path(folder), max_pages=0, cache_mb=10)
        try:
            return write_project(import_path(path, studio.samples, name).song).decode()
        finally:
            studio.close()


class LimitedReader:
    """Asks a process of its own, one file at a time; starts it when it is first needed and anew when it fell."""

    def __init__(self, seconds: float = A_FILE_S):
        self._seconds, self._lock = seconds, Lock()
        self._process: subprocess.Popen[str] | None = None

    def ready(self) -> None:
        """Start the process, so that a file that is about to come does not wait for it."""
        with self._lock:
            self._running()

    def read(self, path: Path, keep_in: Path | None = None, light: bool = False) -> ReadFile:
        """As `read_file`. Raises FormatError, also where the file brought the process down or took too long."""
        with self._lock:
            asked = {"path": str(path.absolute()), "keep_in": str(keep_in.absolute()) if keep_in else ""}
            answer = self._ask(asked | ({"light": "yes"} if light else {}))
        if "trouble" in answer:
            raise FormatError(answer["trouble"])
        content = answer["content"]
        kept = keep_in / f"{content}.flac" if keep_in else None
        return ReadFile(reading_from(answer["reading"]), content, kept, says_from(answer["says"]))

    def read_submission(self, path: Path, name: str) -> str:
        """A piece of work that was handed in, as the text of a project. Raises FormatError as `read` does."""
        with self._lock:
            answer = self._ask({"submission": str(path.absolute()), "name": name, "keep_in": ""})
        if "trouble" in answer:
            raise FormatError(answer["trouble"])
        return str(answer["project"])

    def _ask(self, question: dict[str, str]) -> dict[str, Any]:
        process = self._running()
        assert process.stdin is not None and process.stdout is not None
        begun = time.monotonic()
        timer = Timer(self._seconds, process.kill)
        timer.start()
        try:
            process.stdin.write(json.dumps(question) + "\n")
            process.stdin.flush()
            line = process.stdout.readline()
        except OSError:
            line = ""
        finally:
            timer.cancel()
        if line:
            answer: dict[str, Any] = json.loads(line)
            return answer
        self._end()
        _clear(question["keep_in"])
        late = time.monotonic() - begun >= self._seconds
        return {"trouble": f"It took longer than {self._seconds:.0f} s to read and was left. Cut it, or convert it to WAV." if late
                else "Decoding it brought the reader down. Convert it to WAV, or export it again."}  # fmt: skip

    def _running(self) -> subprocess.Popen[str]:
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "escalera.services.reading_worker"],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
            )  # fmt: skip
        return self._process

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            _closed(self._process.stdin)
            _closed(self._process.stdout)
            self._process = None

    def close(self) -> None:
        with self._lock:
            self._end()


def _closed(stream: IO[str] | None) -> None:
    if stream is not None:
        with suppress(OSError):
            stream.close()


def _clear(folder: str) -> None:
    """What a reader that fell left half-written."""
    if folder:
        for file in Path(folder).glob(".*"):
            if file.suffix in (".flac", ".wav"):
                file.unlink(missing_ok=True)


if __name__ == "__main__":
    main()
