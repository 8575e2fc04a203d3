"""What an audio file says of its own music: tempo and key in its tags, the note of a sampler in its chunks."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path

from escalera.cleaning import clean_line
from escalera.core.samples.said_names import FASTEST, SLOWEST, FileSays

UNSET_NOTE = 60  # what writers put there who know of no note
MOST_CHUNKS = 200
MOST_TAGS = 40
MOST_CHUNK_BYTES = 4096
BEXT_TIME = 338  # where the time reference stands in its chunk
ORDERS = {(b"RIFF", b"WAVE"): "<", (b"RF64", b"WAVE"): "<", (b"FORM", b"AIFF"): ">", (b"FORM", b"AIFC"): ">"}


def file_says(path: Path) -> FileSays:
    """Tempo, key and note that a file's tags and chunks give; nothing where they cannot be read: they only ever help."""
    tempo, key = _tags(path)
    return FileSays(tempo, key, _sampler_note(path))


def _tags(path: Path) -> tuple[float | None, str]:
    from tinytag import TinyTag, TinyTagException

    try:
        other = TinyTag.get(str(path), duration=False).other
    except (TinyTagException, OSError, ValueError, IndexError, KeyError, struct.error, OverflowError, RecursionError):
        return None, ""
    if len(other) > MOST_TAGS:
        return None, ""
    return _tempo(_first(other.get("bpm"))), clean_line(_first(other.get("initial_key")))[:40]


def _first(value: object) -> str:
    return str(value[0]) if isinstance(value, list) and value else ""


def _tempo(text: str) -> float | None:
    try:
        tempo = float(text.strip().replace(",", ".")[:12])
    except ValueError:
        return None
    return tempo if SLOWEST / 2 <= tempo <= FASTEST * 2 else None


def _sampler_note(path: Path) -> int | None:
    """The MIDI note at which a sampler would play the file as it is: RIFF chunks smpl and inst, AIFF's INST."""
    for name, data in _chunks(path, frozenset(NOTE_AT)):
        note = int.from_bytes(data[NOTE_AT[name] : NOTE_AT[name] + 1])
        return note if 0 < note < 128 and note != UNSET_NOTE else None
    return None


def _chunks(path: Path, wanted: frozenset[bytes]) -> Iterator[tuple[bytes, bytes]]:
    """Chunks of some names with what they hold, as they come in a RIFF or AIFF file; of large ones nothing."""
    with path.open("rb") as file:
        form, _, kind = struct.unpack("4sI4s", file.read(12).ljust(12, b"\0"))
        order = ORDERS.get((form, kind))
        if order is None:
            return
        for _ in range(MOST_CHUNKS):
            head = file.read(8)
            if len(head) < 8:
                return
            name, size = struct.unpack(f"{order}4sI", head)
            if name in wanted:
                data = file.read(size) if size < MOST_CHUNK_BYTES else b""
                yield name, data
                file.seek((size if size >= MOST_CHUNK_BYTES else 0) + size % 2, 1)
            else:
                file.seek(size + size % 2, 1)


def began_at_s(path: Path) -> float | None:
    """The moment of a session at which a broadcast wave began, in seconds since its midnight (EBU Tech 3285); None for what says none."""
    found = dict(_chunks(path, frozenset((b"fmt ", b"bext"))))
    if len(found.get(b"bext", b"")) < BEXT_TIME + 8 or len(found.get(b"fmt ", b"")) < 8:
        return None
    rate = struct.unpack_from("<I", found[b"fmt "], 4)[0]
    samples = struct.unpack_from("<Q", found[b"bext"], BEXT_TIME)[0]
    return samples / rate if 8_000 <= rate <= 400_000 and samples < rate * 86_400 else None


# where in a chunk its note stands: little-endian words keep their lowest byte first
NOTE_AT = {b"smpl": 12, b"inst": 0, b"INST": 0}
