"""A WAV file written from its first byte to its last, since it is known how long it will be: into a zip, or wherever nothing can be gone back to."""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.errors import InputError
from escalera.formats.wav_cues import MOST_BYTES, cue_chunks

FLOAT_BITS = 32
Write = Callable[[bytes | memoryview], object]
Frames = NDArray[np.float32]


class WavStream:
    """Stereo samples of 24 bits, clipped at full scale, or of 32 in floating point, not clipped. `samples` are promised; `markers` and further
    chunks follow them. Raises InputError for what does not fit into 4 GB."""

    def __init__(
        self,
        write: Write,
        rate_hz: int,
        samples: int,
        bits: int = FLOAT_BITS,
        markers: Sequence[tuple[int, str]] = (),
        more: bytes = b"",
    ):
        self._write, self._bits, self._left = write, bits, samples
        size, self._tail = samples * bits // 4, cue_chunks(markers) + more
        if size + len(self._tail) + 100 > MOST_BYTES:
            raise InputError(
                f"{samples / rate_hz / 60:.0f} minutes are more than a WAV file holds. Hand over a part of the song."
            )
        kind = 3 if bits == FLOAT_BITS else 1
        fmt = struct.pack("<HHIIHH", kind, 2, rate_hz, rate_hz * bits // 4, bits // 4, bits) + (
            b"\0\0" if kind == 3 else b""
        )
        fact = b"fact" + struct.pack("<II", 4, samples) if kind == 3 else b""
        body = len(fmt) + 8 + len(fact) + 8 + size + size % 2 + len(self._tail)
        write(
            b"RIFF"
            + struct.pack("<I", 4 + body)
            + b"WAVEfmt "
            + struct.pack("<I", len(fmt))
            + fmt
            + fact
            + b"data"
            + struct.pack("<I", size)
        )
        self._pad = size % 2

    def add(self, frames: Frames) -> None:
        """Append samples, shape (n, 2); what is more than was promised is left out."""
        block = np.ascontiguousarray(frames[: self._left], dtype="<f4")
        self._left -= len(block)
        self._write(raw(block) if self._bits == FLOAT_BITS else _in_24_bits(block))

    def end(self) -> None:
        """Silence for what is missing, then the chunks behind the samples."""
        while self._left:
            self.add(np.zeros((min(self._left, 1 << 18), 2), np.float32))
        self._write(b"\0" * self._pad + self._tail)


def interleaved(audio: NDArray[np.float32], gain: float = 1.0) -> Frames:
    """Sound of shape (2, n) as frames of shape (n, 2), one after the other in memory, times a gain."""
    frames = np.empty((audio.shape[1], 2), np.float32)
    for side in (0, 1):
        np.multiply(audio[side], np.float32(gain), out=frames[:, side])
    return frames


def raw(frames: Frames) -> memoryview:
    """The bytes of frames, shape (n, 2), as they lie in memory: nothing is copied where they lie one after the other."""
    return np.ascontiguousarray(frames, "<f4").reshape(-1).view(np.uint8).data


def _in_24_bits(block: NDArray[np.float32]) -> bytes:
    whole = np.rint(np.clip(block, -1.0, 1.0) * 8_388_607.0).astype("<i4")
    return whole.view(np.uint8).reshape(*block.shape, 4)[..., :3].tobytes()
