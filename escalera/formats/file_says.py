"""What an audio file says of its own music: tempo and key in its tags, the note of a sampler in its chunks."""

from __future__ import annotations

import struct
from pathlib import Path

from escalera.cleaning import clean_line
from escalera.core.samples.said_names import FASTEST, SLOWEST, FileSays

UNSET_NOTE = 60  # what writers put there who know of no note
MOST_CHUNKS = 200
MOST_TAGS = 40


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
    with path.open("rb") as file:
        form, _, kind = struct.unpack("4sI4s", file.read(12).ljust(12, b"\0"))
        order = {(b"RIFF", b"WAVE"): "<", (b"FORM", b"AIFF"): ">", (b"FORM", b"AIFC"): ">"}.get((form, kind))
        if order is None:
            return None
        for _ in range(MOST_CHUNKS):
            head = file.read(8)
            if len(head) < 8:
                return None
            name, size = struct.unpack(f"{order}4sI", head)
            place = NOTE_AT.get(name)
            if place is not None:
                note = int.from_bytes(file.read(size)[place : place + 1] if size < 4096 else b"")
                return note if 0 < note < 128 and note != UNSET_NOTE else None
            file.seek(size + size % 2, 1)
    return None


# where in a chunk its note stands: little-endian words keep their lowest byte first
NOTE_AT = {b"smpl": 12, b"inst": 0, b"INST": 0}
