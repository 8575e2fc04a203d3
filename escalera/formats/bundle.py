"""A project with its recordings: a zip of `project.json` and `audio/<content>.flac`. Stored whole, or not at all.

Before anything is unpacked, entries are counted, their names and their promised sizes looked at; while it is, what comes out
is counted, and every recording is held against its name.
"""

from __future__ import annotations

import re
import shutil
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path

from escalera.core.document.limits import MAX_SAMPLES
from escalera.errors import FormatError, shown
from escalera.formats.project import MAX_BYTES
from escalera.formats.recording import content_of

PROJECT = "project.json"
AUDIO = re.compile(r"audio/([0-9a-f]{32})\.flac")
MOST_UNPACKED = 8_000_000_000
MOST_RATIO = 200.0
BLOCK_BYTES = 1_000_000


def is_bundle(start: bytes) -> bool:
    """Whether a file that begins so is a zip."""
    return start[:4] == b"PK\x03\x04"


def write_bundle(project: bytes, recordings: Mapping[str, Path], target: Path) -> None:
    """Write a project and its recordings, by content; audio is compressed already and stored as it is."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr(PROJECT, project)
        for content, path in sorted(recordings.items()):
            out.write(path, f"audio/{content}.flac", zipfile.ZIP_STORED)


def read_bundle(path: Path, aside: Path) -> tuple[bytes, list[Path]]:
    """The project of a bundle, and its recordings unpacked into the folder `aside`, each named by its content.

    Raises FormatError for what is no bundle or would not stay within its limits; then nothing is left in the folder.
    """
    try:
        with zipfile.ZipFile(path) as bundle:
            entries = _checked(bundle)
            project = _read(bundle, entries[PROJECT], MAX_BYTES)
            return project, list(_unpacked(bundle, entries, aside))
    except (zipfile.BadZipFile, EOFError, NotImplementedError, OSError, RuntimeError) as error:
        shutil.rmtree(aside, ignore_errors=True)
        raise FormatError(
            f"The bundle is not whole ({shown(error, 60)}). Export it again where it came from."
        ) from error
    except FormatError:
        shutil.rmtree(aside, ignore_errors=True)
        raise


def _checked(bundle: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
    infos = bundle.infolist()
    if len(infos) > MAX_SAMPLES + 1:
        raise FormatError(f"The bundle has {len(infos):,} entries; at most {MAX_SAMPLES + 1} are read. Split the song.")
    entries = {info.filename: info for info in infos}
    if len(entries) != len(infos):
        raise FormatError("The bundle has two entries of one name. Export it again where it came from.")
    for name, info in entries.items():
        link = (info.external_attr >> 16) & 0o170000 == 0o120000
        if link or not (name == PROJECT or AUDIO.fullmatch(name)):
            raise FormatError(
                f"The bundle has an entry “{shown(name)}”, which does not belong in one. Export it again where it came from."
            )
        if info.file_size > 1000 and info.file_size > MOST_RATIO * max(1, info.compress_size):
            raise FormatError(
                f"“{shown(name)}” in the bundle would grow more than {MOST_RATIO:g} times. It is not read."
            )
    if PROJECT not in entries:
        raise FormatError(f"The zip has no {PROJECT}, so it is no Escalera bundle. Choose another file.")
    total = sum(info.file_size for info in infos)
    if total > MOST_UNPACKED:
        raise FormatError(
            f"The bundle holds {total / 1e9:.1f} GB; at most {MOST_UNPACKED / 1e9:.0f} GB are read. Split the song."
        )
    return entries


def _read(bundle: zipfile.ZipFile, info: zipfile.ZipInfo, most: int) -> bytes:
    with bundle.open(info) as source:
        data = source.read(most + 1)
    if len(data) > most:
        raise FormatError(f"The project in the bundle has more than {most / 1e6:.0f} MB. It is not read.")
    return data


def _unpacked(bundle: zipfile.ZipFile, entries: dict[str, zipfile.ZipInfo], aside: Path) -> Iterator[Path]:
    aside.mkdir(parents=True, exist_ok=True)
    for name, info in entries.items():
        match = AUDIO.fullmatch(name)
        if match is None:
            continue
        target = aside / f"{match.group(1)}.flac"
        left = info.file_size
        with bundle.open(info) as source, target.open("wb") as out:
            while block := source.read(BLOCK_BYTES):
                left -= len(block)
                if left < 0:
                    raise FormatError(f"“{name}” in the bundle is longer than it says. It is not read.")
                out.write(block)
        found = content_of(target)
        if found != match.group(1):
            raise FormatError(
                f"“{name}” in the bundle holds another recording than its name says. Export it again where it came from."
            )
        yield target
