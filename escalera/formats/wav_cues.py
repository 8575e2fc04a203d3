"""Markers in WAV files: a cue chunk with positions, and a list of their names, behind the samples (RIFF, as every reader knows it)."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from pathlib import Path

from escalera.cleaning import clean_line

MOST_MARKERS, LONGEST_NAME = 2000, 120
MOST_BYTES = 0xFFFF_FFF0  # of a file whose sizes are written in 32 bits


def cue_chunks(markers: Sequence[tuple[int, str]]) -> bytes:
    """Chunks with markers (sample from the start, name), empty where there are none."""
    rows = [(at, clean_line(name, LONGEST_NAME)) for at, name in markers if at >= 0][:MOST_MARKERS]
    if not rows:
        return b""
    cue = struct.pack("<I", len(rows))
    names = b"adtl"
    for number, (at, name) in enumerate(rows, 1):
        cue += struct.pack("<II4sIII", number, at, b"data", 0, 0, at)
        text = name.encode("utf-8") + b"\0"
        names += _chunk(b"labl", struct.pack("<I", number) + text)
    return _chunk(b"cue ", cue) + _chunk(b"LIST", names)


def info_chunk(title: str, comment: str) -> bytes:
    """A chunk with a title and a comment, as players show them."""
    fields = [(b"INAM", clean_line(title, LONGEST_NAME)), (b"ICMT", clean_line(comment, LONGEST_NAME))]
    return _chunk(
        b"LIST", b"INFO" + b"".join(_chunk(kind, text.encode("utf-8") + b"\0") for kind, text in fields if text)
    )


def write_wav_cues(path: Path, markers: Sequence[tuple[int, str]]) -> None:
    """Append markers (sample from the start, name) to a WAV file in place; nothing without markers or past 4 GB."""
    chunks = cue_chunks(markers)
    if not chunks or path.stat().st_size + len(chunks) > MOST_BYTES:
        return
    with path.open("r+b") as file:
        file.seek(0, 2)
        if file.tell() % 2:
            file.write(b"\0")
        file.write(chunks)
        end = file.tell()
        file.seek(4)
        file.write(struct.pack("<I", end - 8))


def read_wav_cues(path: Path) -> list[tuple[int, str]]:
    """Markers of a WAV file (sample, name), in order; none where there are none."""
    data = path.read_bytes()
    places: dict[int, int] = {}
    names: dict[int, str] = {}
    at = 12
    while at + 8 <= len(data):
        kind, size = data[at : at + 4], struct.unpack_from("<I", data, at + 4)[0]
        body = data[at + 8 : at + 8 + size]
        if kind == b"cue " and len(body) >= 4:
            for i in range(min(struct.unpack_from("<I", body)[0], (len(body) - 4) // 24)):
                number, place = struct.unpack_from("<II", body, 4 + 24 * i)
                places[number] = place
        elif kind == b"LIST" and body[:4] == b"adtl":
            names |= _labels(body[4:])
        at += 8 + size + size % 2
    return sorted((place, names.get(number, "")) for number, place in places.items())


def _labels(body: bytes) -> dict[int, str]:
    found, at = {}, 0
    while at + 12 <= len(body):
        kind, size = body[at : at + 4], struct.unpack_from("<I", body, at + 4)[0]
        if kind == b"labl":
            text = body[at + 12 : at + 8 + size].split(b"\0")[0].decode("utf-8", "replace")
            found[struct.unpack_from("<I", body, at + 8)[0]] = clean_line(text, LONGEST_NAME)
        at += 8 + size + size % 2
    return found


def _chunk(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)
