"""Recordings of any origin, read in blocks: 8 to 192 kHz, mono to many channels, WAV, AIFF, FLAC, Ogg, Opus, MP3.

Everything comes out at 44.1 kHz with one or two channels; nothing is held whole.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.limits import MAX_SAMPLE_S
from escalera.errors import FormatError, shown
from escalera.lazy_dataclasses import dataclass

RATE_HZ = 44_100
RATES_HZ = (8_000, 192_000)
MAX_CHANNELS = 16
BLOCK_FRAMES = 65_536
SHORTEST_S = 0.005
FULL = 8_388_607.0
OFFSET = 2e-3  # a mean of the samples from which on it is no accident
M4A = b"ftyp"
IMAGES = {
    b"\x89PNG": "a PNG picture",
    b"\xff\xd8\xff": "a JPEG picture",
    b"GIF8": "a GIF picture",
    b"%PDF": "a PDF document",
}
Audio = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Heading:
    """What a file says of itself: samples a second, channels, frames (which need not be true)."""

    rate_hz: int
    channels: int
    frames: int

    @property
    def seconds(self) -> float:
        return self.frames / self.rate_hz


def heading(path: Path) -> Heading:
    """The heading of a recording. Raises FormatError with a remedy for what is none, or lies outside the limits."""
    with _opened(path) as source:
        found = Heading(source.samplerate, source.channels, source.frames)
    low, high = RATES_HZ
    if not low <= found.rate_hz <= high:
        raise FormatError(f"It has {found.rate_hz:,} samples a second; {low:,} to {high:,} are read. Convert it first.")
    if found.channels > MAX_CHANNELS:
        raise FormatError(
            f"It has {found.channels} channels; at most {MAX_CHANNELS} are read. Mix it down to stereo first."
        )
    return found


def _opened(path: Path) -> Any:
    import soundfile

    with path.open("rb") as file:
        start = file.read(16)
    if start[4:8] == M4A:
        raise FormatError("It is an M4A or AAC file, which is not read here. Convert it to WAV or FLAC first.")
    for magic, what in IMAGES.items():
        if start.startswith(magic):
            raise FormatError(f"It is {what}, no recording. Choose an audio file.")
    if not start:
        raise FormatError("The file is empty. Choose another one.")
    try:
        return soundfile.SoundFile(path)
    except (soundfile.LibsndfileError, TypeError) as error:
        raise FormatError(
            f"It is not audio that can be read ({shown(getattr(error, 'error_string', error), 60)}). Use WAV, AIFF, FLAC, Ogg, Opus or MP3."
        ) from error


def blocks_of(path: Path, max_seconds: float = MAX_SAMPLE_S, every_channel: bool = False) -> Iterator[Audio]:
    """The sound of a file in blocks of (1 or 2, n) at 44.1 kHz. Raises FormatError for what is too long or no numbers.

    Frames are counted as they come, since a header may promise others than there are; many channels are mixed down, the odd
    ones to the left and the even ones to the right, unless `every_channel` is wanted.
    """
    import soxr

    found = heading(path)
    channels = found.channels if every_channel else min(2, found.channels)
    changes = found.rate_hz != RATE_HZ
    stream = soxr.ResampleStream(found.rate_hz, RATE_HZ, channels, dtype="float32") if changes else None
    for block, last in _frames(path, found, max_seconds, every_channel):
        if stream is not None:
            block = np.asarray(stream.resample_chunk(np.ascontiguousarray(block), last=last)).reshape(-1, channels)
        if len(block):
            yield np.ascontiguousarray(block.T)


def _frames(
    path: Path, found: Heading, max_seconds: float, every_channel: bool = False
) -> Iterator[tuple[NDArray[np.float32], bool]]:
    """Frames as they are in the file, (n, channels), and whether they are the last; counted and looked at as they come."""
    import soundfile

    count, last = 0, False
    with _opened(path) as source:
        while not last:
            try:
                block = source.read(BLOCK_FRAMES, dtype="float32", always_2d=True)
            except soundfile.LibsndfileError as error:
                raise FormatError(
                    f"It breaks off after {count / found.rate_hz:.1f} s ({shown(error, 60)}). Export it again."
                ) from error
            last = len(block) < BLOCK_FRAMES
            count += len(block)
            if count > max_seconds * found.rate_hz:
                raise FormatError(
                    f"It lasts longer than {max_seconds / 60:.3g} minutes, the most that is read. Cut it."
                )
            if not np.isfinite(block).all():
                raise FormatError("It holds samples that are not numbers. Export it again.")
            yield block if every_channel else _to_sides(block), last
    if count < SHORTEST_S * found.rate_hz:
        raise FormatError(
            f"It lasts {1000 * count / found.rate_hz:.2g} ms; at least {1000 * SHORTEST_S:g} ms are needed. Choose another one."
        )


def _to_sides(block: NDArray[np.float32]) -> NDArray[np.float32]:
    if block.shape[1] <= 2:
        return block
    return np.stack((block[:, 0::2].mean(axis=1), block[:, 1::2].mean(axis=1)), axis=1)


def _digest(said: str, channels: int) -> Any:
    return hashlib.blake2b(f"{said} {channels}".encode(), digest_size=16)


def content_of(path: Path) -> str:
    """The content of a kept file, from its samples. Raises FormatError for what is no such file."""
    import soundfile

    try:
        with soundfile.SoundFile(path) as source:
            if (source.samplerate, source.format, source.subtype) != (RATE_HZ, "FLAC", "PCM_24") or source.channels > 2:
                raise FormatError("It is no FLAC of 24 bits at 44.1 kHz with one or two channels.")
            digest = _digest(source.comment or "", source.channels)
            while len(block := source.read(BLOCK_FRAMES, dtype="int32", always_2d=True)):
                digest.update((block >> 8).tobytes())
    except soundfile.LibsndfileError as error:
        raise FormatError(f"It cannot be read ({shown(error, 60)}).") from error
    found: str = digest.hexdigest()
    return found


class RecordingWriter:
    """A recording as the store keeps it: 24-bit FLAC at 44.1 kHz, its loudest sample below full scale, the factor in its comment,
    a constant offset, which would click at every cut, taken off.

    Blocks go to disk as 32-bit floats first, since the loudest sample is known at the end.
    """

    def __init__(self, target: Path, channels: int):
        import soundfile

        self._target, self._raw = target, target.with_suffix(".raw.wav")
        self._peak, self._channels = 0.0, channels
        self._sum, self._count = np.zeros(channels), 0
        self._file = soundfile.SoundFile(self._raw, "w", RATE_HZ, channels, "FLOAT", format="RF64")

    def write(self, block: Audio) -> None:
        """Append samples, shape (channels, n)."""
        self._peak = max(self._peak, float(np.abs(block).max(initial=0.0)))
        self._sum += block.sum(axis=1, dtype=np.float64)
        self._count += block.shape[1]
        self._file.write(block.T)

    def finish(self) -> str:
        """Write the FLAC file and put the raw one away; gives the content: a hash of what is kept, the same for the same sound."""
        import soundfile

        self._file.close()
        offset = (self._sum / max(1, self._count)).astype(np.float32)
        offset[np.abs(offset) < OFFSET] = 0.0
        scale = max(1.0, (self._peak + float(np.abs(offset).max())) * 1.0001)
        said = f"scale={scale:.9g}" if scale > 1.0 else ""
        digest = _digest(said, self._channels)
        with soundfile.SoundFile(self._target, "w", RATE_HZ, self._channels, "PCM_24", format="FLAC") as out:
            if said:
                out.comment = said
            with soundfile.SoundFile(self._raw) as source:
                for block in source.blocks(BLOCK_FRAMES, dtype="float32", always_2d=True):
                    steps = np.rint((block - offset) / np.float32(scale) * FULL).astype(np.int32)
                    digest.update(steps.tobytes())
                    out.write(steps << 8)
        self._raw.unlink()
        return digest.hexdigest()

    def give_up(self) -> None:
        """Leave nothing behind."""
        self._file.close()
        self._raw.unlink(missing_ok=True)
        self._target.unlink(missing_ok=True)


def join_pieces(
    pieces: list[Path], rate_hz: int, channels: int, folder: Path, cut: tuple[float, float, float, float, float]
) -> list[tuple[Path, float]]:
    """Pieces of 32-bit floats, channels in turn, as WAV files in a folder, each with the second in it at which its section begins.

    `cut` says where the section begins (`zero_s`), where the first round begins, how long a round is (0: one file of all), and what is
    kept before and after a round, in seconds. Rounds that hold less than half of their length are left out.
    """
    import soundfile

    total = sum(p.stat().st_size for p in pieces) // (4 * channels)
    zero_s, first_s, round_s, before_s, after_s = cut
    if round_s > 0:
        count = max(1, int((total / rate_hz - first_s) / round_s + 0.5))
        spans = [
            (first_s + i * round_s - before_s, first_s + (i + 1) * round_s + after_s, zero_s + i * round_s)
            for i in range(count)
        ]
    else:
        spans = [(0.0, total / rate_hz, zero_s)]
    found = []
    for index, (low_s, high_s, zero) in enumerate(spans):
        low, high = max(0, round(low_s * rate_hz)), min(total, round(high_s * rate_hz))
        if high - low < 0.4 * rate_hz:
            continue
        path = folder / f"take-{index:04d}.wav"
        with soundfile.SoundFile(path, "w", rate_hz, channels, "FLOAT") as out:
            for block in _between(pieces, channels, low, high):
                out.write(block)
        found.append((path, zero - low / rate_hz))
    return found


def _between(pieces: list[Path], channels: int, low: int, high: int) -> Iterator[NDArray[np.float32]]:
    """Frames from `low` to `high` of joined pieces, shape (n, channels) each; what is no number is silence."""
    at = 0
    for path in pieces:
        count = path.stat().st_size // (4 * channels)
        if at + count > low and at < high:
            rows = np.frombuffer(path.read_bytes(), "<f4")[: count * channels].reshape(-1, channels)
            yield np.nan_to_num(rows[max(0, low - at) : high - at], nan=0.0, posinf=0.0, neginf=0.0)
        at += count
