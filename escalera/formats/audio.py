"""Audio files: WAV with 16 or 24 bits and FLAC, out; whatever libsndfile reads, in, as float32."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.errors import FormatError, InputError, shown

KINDS = {"wav": "WAV", "flac": "FLAC"}
BITS = (16, 24)
MAX_SECONDS = 1200
MAX_SAMPLES = 110_000_000  # of all channels together
RATES_HZ = (8_000, 384_000)
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


def decode_audio(data: bytes, max_seconds: float = MAX_SECONDS) -> tuple[NDArray[np.float32], int]:
    """Samples (channels, n) and rate of an audio file with one or two channels, of at most so many seconds.

    Decoded in blocks and counted as it goes, since a header may say less than a file holds. Raises FormatError.
    """
    import soundfile

    try:
        with soundfile.SoundFile(io.BytesIO(data)) as source:
            rate, channels = source.samplerate, source.channels
            if not RATES_HZ[0] <= rate <= RATES_HZ[1]:
                raise FormatError(
                    f"The recording has {rate:,} samples a second; {RATES_HZ[0]:,} to {RATES_HZ[1]:,} are read. Convert it first."
                )
            if channels > 2:
                raise FormatError(f"The recording has {channels} channels; one or two are read. Mix it down first.")
            most = int(min(max_seconds * rate, MAX_SAMPLES // channels))
            audio = _decoded(source, most)
    except soundfile.LibsndfileError as error:
        raise FormatError(
            f"The file is not audio that can be read ({shown(error, 60)}). Use WAV, FLAC, AIFF or OGG."
        ) from error
    if not np.isfinite(audio).all():
        raise FormatError("The recording holds samples that are not numbers. Export it again.")
    return audio, rate


def _decoded(source: Any, most: int) -> NDArray[np.float32]:
    """All frames of an open file as (channels, n), unless there are more than `most`."""
    blocks: list[NDArray[np.float32]] = []
    frames = 0
    while len(block := source.read(BLOCK_FRAMES, dtype="float32", always_2d=True)):
        frames += len(block)
        if frames > most:
            minutes = most / source.samplerate / 60
            raise FormatError(
                f"The recording lasts longer than {minutes:.3g} minutes, the most that is read here. Cut it."
            )
        blocks.append(block.T)
    return np.concatenate(blocks, axis=1) if blocks else np.zeros((source.channels, 0), np.float32)
