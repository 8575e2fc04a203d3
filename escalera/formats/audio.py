"""Audio files: WAV with 16 or 24 bits and FLAC, out; whatever libsndfile reads, in, as float32."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from escalera.errors import FormatError, InputError, shown

KINDS = {"wav": "WAV", "flac": "FLAC"}
BITS = (16, 24)
MAX_SECONDS = 3600
BLOCK_FRAMES = 65_536


class AudioWriter:
    """An audio file that grows by blocks of (channels, n) samples, clipped at full scale. Raises InputError for an unknown kind or depth."""

    def __init__(self, target: Path | io.BytesIO, rate_hz: int, channels: int, kind: str = "wav", bits: int = 16):
        import soundfile

        if kind not in KINDS or bits not in BITS:
            raise InputError(f"{shown(kind)} with {bits} bits is not written. Choose wav or flac, with 16 or 24 bits.")
        self._file = soundfile.SoundFile(target, "w", rate_hz, channels, f"PCM_{bits}", format=KINDS[kind])

    def write(self, audio: NDArray[np.float32], gain: float = 1.0) -> None:
        """Append samples, shape (channels, n)."""
        for start in range(0, audio.shape[1], BLOCK_FRAMES):
            self._file.write(np.clip(audio[:, start : start + BLOCK_FRAMES].T * np.float32(gain), -1.0, 1.0))

    def __enter__(self) -> AudioWriter:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()


def encode_audio(audio: NDArray[np.float32], rate_hz: int, kind: str = "wav", bits: int = 16) -> bytes:
    """Bytes of an audio file of (channels, n) samples. Raises InputError for an unknown kind or depth."""
    target = io.BytesIO()
    with AudioWriter(target, rate_hz, audio.shape[0], kind, bits) as out:
        out.write(audio)
    return target.getvalue()


def decode_audio(data: bytes) -> tuple[NDArray[np.float32], int]:
    """Samples (channels, n) and rate of an audio file with one or two channels. Raises FormatError."""
    import soundfile

    try:
        with soundfile.SoundFile(io.BytesIO(data)) as source:
            if source.frames > MAX_SECONDS * source.samplerate:
                raise FormatError(
                    f"The recording lasts {source.frames / source.samplerate / 60:.0f} minutes; at most "
                    f"{MAX_SECONDS // 60} are read. Cut it."
                )
            if source.channels > 2:
                raise FormatError(
                    f"The recording has {source.channels} channels; one or two are read. Mix it down first."
                )
            audio = source.read(dtype="float32", always_2d=True).T
            rate = source.samplerate
    except soundfile.LibsndfileError as error:
        raise FormatError(
            f"The file is not audio that can be read ({shown(error, 60)}). Use WAV, FLAC, AIFF or OGG."
        ) from error
    if not np.isfinite(audio).all():
        raise FormatError("The recording holds samples that are not numbers. Export it again.")
    return np.ascontiguousarray(audio), rate
