"""Rendered sound on disk, so that a song plays at once after a restart: section mixes, and finished sections as WAV.
Written in the background, within a limit.

A folder that cannot be written, a full disk or a damaged file only cost time: everything here can be made again.
"""

from __future__ import annotations

import logging
import math
import os
import struct
from pathlib import Path
from queue import Queue
from threading import Lock, Thread
from typing import IO, Any
from zipfile import ZipFile, ZipInfo

import numpy as np
from numpy.typing import NDArray

from escalera.sound.section import SectionMix, mix_arrays, mix_from

log = logging.getLogger("escalera")
WAITING_BYTES = 20_000_000  # so much waits to be written; more is not kept
ALIGNED = 64  # bytes
# of an entry's own header in a .zip file, and the name of a field there that only takes room
LOCAL_BYTES, PADDING = 30, 0x504E


def _size(value: SectionMix | bytes) -> int:
    return len(value) if isinstance(value, bytes) else int(value.nbytes)


class DiskShelf:
    """Section mixes by content key, as .npz files. The least recently used go first when `limit_bytes` is reached."""

    def __init__(self, folder: Path, limit_bytes: int):
        self.folder, self.limit_bytes = folder, limit_bytes
        self._queue: Queue[tuple[str, SectionMix | bytes] | None] = Queue()
        self._waiting, self._lock = 0, Lock()
        self._used, self._checked = 0, set[str]()
        self._works = self._open()
        self._writer = Thread(target=self._write_all, name="sound-shelf", daemon=True)
        self._writer.start()

    def _open(self) -> bool:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._used = sum(f.stat().st_size for f in self._files())
            return os.access(self.folder, os.W_OK)
        except OSError as error:
            log.warning("sound is not kept on disk: %s", error)
            return False

    def _files(self) -> list[Path]:
        return [f for f in self.folder.iterdir() if f.suffix in (".npz", ".wav")]

    def _file(self, key: str) -> Path:
        return self.folder / f"{key}.npz"

    def __contains__(self, key: str) -> bool:
        return self._works and self._file(key).exists()

    def get(self, key: str) -> SectionMix | None:
        file = self._file(key)
        if not self._works:
            return None
        try:
            if key not in self._checked:
                self._check(file)
                self._checked.add(key)
            mix = mix_from(mapped(file))
            os.utime(file)
            return mix
        except FileNotFoundError:
            return None
        except Exception as error:  # damaged in any way: it is made again
            log.warning("kept sound %s cannot be read: %s", file.name, error)
            file.unlink(missing_ok=True)
            return None

    def _check(self, file: Path) -> None:
        """Read a file to its end once, before it is mapped: what is damaged says so then, and not in the middle of a song."""
        with ZipFile(file) as packed:
            if packed.testzip():
                raise ValueError("it is not what was written")

    def get_wav(self, key: str) -> bytes | None:
        """The bytes of a finished section, if they are here."""
        file = self.folder / f"{key}.wav"
        if not self._works:
            return None
        try:
            data = file.read_bytes()
            os.utime(file)
            return data
        except OSError:
            return None

    def put(self, key: str, value: Any) -> None:
        """Hand a mix, or the bytes of a WAV, to the writer; never waits for the disk."""
        with self._lock:
            if not self._works or (self._waiting and self._waiting + _size(value) > WAITING_BYTES):
                return
            self._waiting += _size(value)
        self._queue.put((key, value))

    def _write_all(self) -> None:
        while (item := self._queue.get()) is not None:
            try:
                self._write(*item)
            except OSError as error:
                log.warning("sound is not kept on disk: %s", error)
                self._works = False
            finally:
                with self._lock:
                    self._waiting -= _size(item[1])
                self._queue.task_done()
                item = None  # not held while the next one is waited for
        self._queue.task_done()

    def _write(self, key: str, mix: SectionMix | bytes) -> None:
        file = self.folder / f"{key}.wav" if isinstance(mix, bytes) else self._file(key)
        fresh = self.folder / f"{key}.new"
        if file.exists():
            return
        with fresh.open("wb") as out:
            if isinstance(mix, bytes):
                out.write(mix)
            else:
                write_aligned(out, mix_arrays(mix))
        fresh.rename(file)
        self._checked.add(key)
        self._used += file.stat().st_size
        if self._used > self.limit_bytes:
            self._make_room()

    def _make_room(self) -> None:
        files = sorted(self._files(), key=lambda f: f.stat().st_mtime)
        for file in files:
            if self._used <= 0.8 * self.limit_bytes:
                break
            self._used -= file.stat().st_size
            file.unlink(missing_ok=True)

    def clear(self) -> None:
        """Remove everything that is kept."""
        self.settle()
        for file in self._files() if self._works else ():
            file.unlink(missing_ok=True)
        self._used = 0

    def settle(self) -> None:
        """Wait until everything handed over is written."""
        self._queue.join()

    def close(self) -> None:
        self._queue.put(None)
        self._writer.join(timeout=10)


def write_aligned(out: IO[bytes], arrays: dict[str, NDArray[Any]]) -> None:
    """Write arrays of any shapes as an .npz file in which each begins at a multiple of ALIGNED bytes, so that it can be mapped and worked
    on. Raises OSError where the disk is full."""
    with ZipFile(out, "w") as packed:
        for name, array in arrays.items():
            entry = ZipInfo(f"{name}.npy")
            spare = -(out.tell() + LOCAL_BYTES + len(entry.filename) + 4) % ALIGNED
            entry.extra = struct.pack("<HH", PADDING, spare) + bytes(spare)
            with packed.open(entry, "w") as data:
                np.lib.format.write_array(data, array, version=(1, 0))


def mapped(file: Path) -> dict[str, NDArray[Any]]:
    """The arrays of an .npz file, of their own shapes; those that lie aligned are mapped, so that only what is read of them takes room.
    Raises ValueError, OSError or BadZipFile where it is none."""
    found: dict[str, NDArray[Any]] = {}
    with ZipFile(file) as packed, file.open("rb") as raw:
        for entry in packed.infolist():
            raw.seek(entry.header_offset + LOCAL_BYTES - 4)
            raw.seek(sum(struct.unpack("<HH", raw.read(4))), os.SEEK_CUR)
            np.lib.format.read_magic(raw)
            shape, _, dtype = np.lib.format.read_array_header_1_0(raw)
            at, size = raw.tell(), math.prod(shape)
            if at % ALIGNED or size * dtype.itemsize < ALIGNED:
                array = np.fromfile(raw, dtype, size).reshape(shape)
            else:
                array = np.memmap(file, dtype, "c", at, shape)
            found[entry.filename.removesuffix(".npy")] = array
    return found


class MixFolder:
    """Section mixes in a folder while a song is rendered from end to end: written at once, and read only where they are asked for."""

    def __init__(self, folder: Path):
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder

    def put(self, key: str, mix: SectionMix) -> None:
        """Keep a mix; where the disk is full it is left, and made again."""
        try:
            for name, array in sorted(
                mix_arrays(mix).items(), key=lambda row: row[0] == "audio"
            ):  # it says that all is there
                np.save(self._folder / f"{key} {name}.npy", array)
        except OSError as error:
            log.warning("a section is not kept on disk: %s", error)
            for file in self._folder.glob(f"{key} *.npy"):
                file.unlink(missing_ok=True)

    def __contains__(self, key: str) -> bool:
        return (self._folder / f"{key} audio.npy").exists()

    def get(self, key: str) -> SectionMix | None:
        """The mix, its audio (2, n) mapped from disk, or None."""
        if key not in self:
            return None
        found = {f.stem.partition(" ")[2]: f for f in self._folder.glob(f"{key} *.npy")}
        return mix_from({name: np.load(file, mmap_mode="c") for name, file in found.items()})
