"""Files become samples: decoded in blocks, read, kept under their content. What is bad is said in a sentence, and leaves nothing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.fields import adapter
from escalera.core.samples.reading import SampleReading
from escalera.core.samples.said_names import NOTHING, FileSays
from escalera.errors import FormatError
from escalera.formats.file_says import file_says
from escalera.formats.recording import RecordingWriter, blocks_of, heading
from escalera.lazy_dataclasses import dataclass
from escalera.listen.whole_reading import read_lightly, read_recording

SILENT = 1e-4  # a peak of −80 dB
LIES_BY = 0.02  # a header may be off by such a share without being called wrong
Audio = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class ReadFile:
    """A recording with its content, where it was kept, and what its file says of it."""

    reading: SampleReading
    content: str
    kept: Path | None
    says: FileSays = NOTHING


def plain_reading(reading: SampleReading) -> dict[str, Any]:
    """A reading as JSON holds it."""
    plain: dict[str, Any] = adapter(SampleReading).dump_python(reading, mode="json")
    return plain


def reading_from(plain: dict[str, Any]) -> SampleReading:
    """A reading from JSON. Raises ValueError."""
    found: SampleReading = adapter(SampleReading).validate_python(plain)
    return found


def plain_says(says: FileSays) -> dict[str, Any]:
    """What a file says, as JSON holds it."""
    plain: dict[str, Any] = adapter(FileSays).dump_python(says)
    return plain


def says_from(plain: dict[str, Any]) -> FileSays:
    """What a file says from JSON; nothing where it is damaged."""
    try:
        found: FileSays = adapter(FileSays).validate_python(plain)
    except ValueError:
        return NOTHING
    return found


def read_file(path: Path, keep_in: Path | None = None, light: bool = False) -> ReadFile:
    """Read a recording; with a folder, keep it there under its content; `light` as a stem. Raises FormatError, and then keeps nothing."""
    head = heading(path)
    writer = (
        RecordingWriter(keep_in / f".{path.name[:40]}.{id(path):x}.flac", 1 if head.channels == 1 else 2)
        if keep_in
        else None
    )
    seen = _Seen()
    try:
        read = read_lightly if light else read_recording
        reading = read(seen.through(blocks_of(path), writer), head.rate_hz, head.channels)
        if seen.peak < SILENT:
            raise FormatError("It is silent, or holds nothing but an offset. Choose another one.")
        content = writer.finish() if writer is not None else ""
    except BaseException:
        if writer is not None:
            writer.give_up()
        raise
    said = reading.said
    if head.seconds > 0 and abs(head.seconds - reading.seconds) > LIES_BY * max(head.seconds, 0.2):
        said = (*said, f"The file promises {head.seconds:.4g} s and holds {reading.seconds:.4g} s.")
    kept = None
    if writer is not None and keep_in is not None:
        kept = keep_in / f"{content}.flac"
        writer._target.replace(kept)
    return ReadFile(replace(reading, said=said), content, kept, file_says(path))


class _Seen:
    """What passes by while a file is read: its loudest sample without a constant offset."""

    def __init__(self) -> None:
        self.peak = 0.0

    def through(self, blocks: Iterator[Audio], writer: RecordingWriter | None) -> Iterator[Audio]:
        for block in blocks:
            self.peak = max(self.peak, float(np.ptp(block, axis=1).max(initial=0.0)) / 2)
            if writer is not None:
                writer.write(block)
            yield block
