"""Zips from outside, unpacked through one gate: entries counted, names, promised sizes and growth looked at before, bytes counted while."""

from __future__ import annotations

import zipfile
from collections.abc import Collection
from pathlib import Path, PurePosixPath

from escalera.cleaning import clean_line
from escalera.errors import FormatError, shown
from escalera.formats.bundle import BLOCK_BYTES, MOST_RATIO, MOST_UNPACKED

MOST_ENTRIES = 500
KINDS = (".wav", ".flac", ".aif", ".aiff", ".ogg", ".mp3", ".mid", ".midi", ".json", ".zip")
ASIDE = ("__MACOSX", ".")  # folders and files that systems add for themselves


def unpacked_files(path: Path, folder: Path, only: Collection[str] = ()) -> list[Path]:
    """Files of a zip that could be music, flat in a folder under their own names; `only` names entries. Raises FormatError with what is wrong."""
    try:
        with zipfile.ZipFile(path) as archive:
            infos = _wanted(archive, only)
            folder.mkdir(parents=True, exist_ok=True)
            return [_out(archive, info, folder, number) for number, info in enumerate(infos, 1)]
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
        raise FormatError(f"The zip {path.name} is not whole ({shown(error, 60)}). Ask for it again.") from error


def _wanted(archive: zipfile.ZipFile, only: Collection[str]) -> list[zipfile.ZipInfo]:
    infos = [i for i in archive.infolist() if not i.is_dir() and (not only or i.filename in only)]
    if len(infos) > MOST_ENTRIES:
        raise FormatError(f"The zip holds {len(infos):,} files; at most {MOST_ENTRIES} are read. Send it in parts.")
    for info in infos:
        place, link = PurePosixPath(info.filename), (info.external_attr >> 16) & 0o170000 == 0o120000
        if link or place.is_absolute() or ".." in place.parts or "\\" in info.filename or ":" in info.filename:
            raise FormatError(f"The zip has a file “{shown(info.filename)}” that lies outside of it. Nothing of it is read.")  # fmt: skip
        if info.file_size > 1000 and info.file_size > MOST_RATIO * max(1, info.compress_size):
            raise FormatError(f"“{shown(info.filename)}” in the zip would grow more than {MOST_RATIO:g} times. Nothing of it is read.")  # fmt: skip
    total = sum(i.file_size for i in infos)
    if total > MOST_UNPACKED:
        raise FormatError(f"The zip holds {total / 1e9:.1f} GB; at most {MOST_UNPACKED / 1e9:.0f} GB are read. Send it in parts.")  # fmt: skip
    found = [i for i in infos if _is_music(PurePosixPath(i.filename))]
    if not found:
        raise FormatError(f"Nothing in the zip is a recording, a MIDI file or a project ({', '.join(KINDS)}).")
    return found


def _is_music(place: PurePosixPath) -> bool:
    return place.suffix.lower() in KINDS and not any(part.startswith(ASIDE) for part in place.parts)


def _out(archive: zipfile.ZipFile, info: zipfile.ZipInfo, folder: Path, number: int) -> Path:
    name = clean_line(PurePosixPath(info.filename).name, 120).lstrip(".") or f"file-{number}"
    target = folder / name if not (folder / name).exists() else folder / f"{number}-{name}"
    left = info.file_size
    with archive.open(info) as source, target.open("wb") as out:
        while block := source.read(BLOCK_BYTES):
            left -= len(block)
            if left < 0:
                raise FormatError(f"“{shown(info.filename)}” in the zip is longer than it says. Nothing of it is read.")
            out.write(block)
    return target
