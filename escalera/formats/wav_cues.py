"""Markers in WAV files: a cue chunk with positions, and a list of their names, behind the samples (RIFF, as every reader knows it)."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from pathlib import Path

from escalera.cleaning import clean_line
from escalera.lazy_dataclasses import dataclass

MOST_MARKERS, LONGEST_NAME = 2000, 120
MOST_CHUNK = 4_000_000
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


@dataclass(frozen=True, slots=True)
class WavMarkers:
    """What a WAV file marks: (sample, name, samples long or 0) in order, and its rate and comment."""

    markers: tuple[tuple[int, str, int], ...]
    rate_hz: int
    comment: str


def read_wav_cues(path: Path) -> list[tuple[int, str]]:
    """Markers of a WAV file (sample, name), in order; none where there are none."""
    return [(at, name) for at, name, _ in read_wav_markers(path).markers]


def read_wav_markers(path: Path) -> WavMarkers:
    """Markers and regions of a WAV file; its samples are passed over."""
    places: dict[int, int] = {}
    names: dict[int, str] = {}
    lengths: dict[int, int] = {}
    rate, comment = 44_100, ""
    for kind, body in _small_chunks(path):
        if kind == b"cue " and len(body) >= 4:
            for i in range(min(struct.unpack_from("<I", body)[0], (len(body) - 4) // 24)):
                number, place = struct.unpack_from("<II", body, 4 + 24 * i)
                places[number] = place
        elif kind == b"fmt " and len(body) >= 8:
            rate = struct.unpack_from("<I", body, 4)[0] or rate
        elif kind == b"LIST" and body[:4] == b"adtl":
            _labels(body[4:], names, lengths)
        elif kind == b"LIST" and body[:4] == b"INFO":
            comment = comment or _comment(body[4:])
    rows = sorted((place, names.get(number, ""), lengths.get(number, 0)) for number, place in places.items())
    return WavMarkers(tuple(rows[:MOST_MARKERS]), rate, comment)


def _small_chunks(path: Path) -> Iterator[tuple[bytes, bytes]]:
    """Chunks of a RIFF or RF64 file but for its samples, as far as they are whole."""
    total = path.stat().st_size
    with path.open("rb") as file:
        if file.read(12)[8:] != b"WAVE":
            return
        large = 0  # the size of the samples where 32 bits cannot say it
        while len(head := file.read(8)) == 8:
            kind, size = head[:4], struct.unpack_from("<I", head, 4)[0]
            if kind == b"data" and size == 0xFFFF_FFFF:
                size = large or total
            if kind == b"data" or size > MOST_CHUNK:
                file.seek(size + size % 2, 1)
                continue
            body = file.read(size)
            if kind == b"ds64" and len(body) >= 16:
                large = struct.unpack_from("<Q", body, 8)[0]
            yield kind, body
            file.seek(size % 2, 1)


def _pieces(body: bytes) -> Iterator[tuple[bytes, bytes]]:
    at = 0
    while at + 8 <= len(body):
        size = struct.unpack_from("<I", body, at + 4)[0]
        yield body[at : at + 4], body[at + 8 : at + 8 + size]
        at += 8 + size + size % 2


def _labels(body: bytes, names: dict[int, str], lengths: dict[int, int]) -> None:
    for kind, piece in _pieces(body):
        if kind == b"labl" and len(piece) >= 4:
            names[struct.unpack_from("<I", piece)[0]] = _text(piece[4:])
        elif kind == b"ltxt" and len(piece) >= 8:
            number, length = struct.unpack_from("<II", piece)
            lengths[number] = length


def _comment(body: bytes) -> str:
    return next((_text(piece) for kind, piece in _pieces(body) if kind == b"ICMT"), "")


def _text(data: bytes) -> str:
    return clean_line(data.split(b"\0")[0].decode("utf-8", "replace"), LONGEST_NAME)


def _chunk(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)
