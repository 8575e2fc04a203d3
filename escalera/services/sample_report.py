"""Recordings on the command line: what is read of files, and files fitted to a tempo, a length, a pitch."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from escalera.core.document.recordings import sample_of
from escalera.core.document.song import Song
from escalera.core.energy.stats import BANDS
from escalera.core.reading.rights import used_samples
from escalera.core.samples.reading import SampleReading
from escalera.errors import InputError
from escalera.formats.audio import AudioWriter
from escalera.formats.recording import RATE_HZ, blocks_of, heading
from escalera.formats.tables import csv_text
from escalera.services.sample_files import read_file
from escalera.sound.clips import windows_of
from escalera.sound.stretching import stretched, stretched_blocks

WHOLE_S = 120.0  # longer files are stretched block by block
TEMPI = (20.0, 400.0)


def read_report(path: Path) -> dict[str, Any]:
    """What is read of a file, for people and programs; what cannot be read is None. Raises FormatError."""
    return as_report(path.name, read_file(path).reading)


def as_report(name: str, r: SampleReading) -> dict[str, Any]:
    """A reading with the names of its figures."""
    return {
        "file": name, "kind": r.kind, "seconds": r.seconds, "tempo_bpm": r.tempo_bpm, "tempo_confidence": r.tempo_confidence,
        "tempo_others": list(r.tempo_others), "bars": r.bars, "remainder_beats": r.remainder_beats, "key": r.key,
        "key_confidence": r.key_confidence, "tuning_cents": r.tuning_cents, "pitch_hz": r.pitch_hz,
        "integrated_lufs": r.integrated_lufs, "true_peak_dbtp": r.true_peak_dbtp, "bands_db": dict(zip(BANDS, r.bands_db)),
        "onsets_s": [o.at_s for o in r.onsets], "beats_a_bar": r.beats_a_bar, "downbeat_s": r.downbeat_s, "said": list(r.said),
    }  # fmt: skip


def fit_file(
    source: Path, target: Path, from_tempo: float | None, tempo: float | None, semitones: float, bars: int | None
) -> dict[str, Any]:
    """Write a file fitted to a tempo, to whole bars, to a pitch; what was done. Raises InputError or FormatError.

    Without `from_tempo` its own tempo is read. With `bars` it lasts so many bars of four at `tempo`, or at its own tempo.
    """
    head = heading(source)
    for name, value in (("from-tempo", from_tempo), ("tempo", tempo)):
        if value is not None and not TEMPI[0] <= value <= TEMPI[1]:
            raise InputError(
                f"--{name} {value:g} lies outside {TEMPI[0]:g} to {TEMPI[1]:g} bpm. Give a tempo between them."
            )
    reading = read_file(source).reading
    own, beats_a_bar = from_tempo or reading.tempo_bpm, reading.beats_a_bar if from_tempo is None else 4
    if own is None and (tempo is not None or bars is not None):
        raise InputError(f"No tempo is heard in {source.name}. Say it with --from-tempo.")
    total = sum(block.shape[1] for block in blocks_of(source))
    if bars is not None:
        if not 1 <= bars <= 999:
            raise InputError(f"--bars {bars} lies outside 1 to 999. Give a number of bars between them.")
        seconds = bars * beats_a_bar * 60.0 / (tempo or own or 120.0)
        length = round(seconds * RATE_HZ)
    else:
        length = round(total * ((own or 1.0) / tempo)) if tempo is not None and own else total
    ratio = length / total
    channels = 1 if head.channels == 1 else 2
    with AudioWriter(target, RATE_HZ, channels, "wav", 24) as out:
        for block in _stretched(
            source, channels, total, length, semitones, windows_of(sample_of("", source.name, reading))
        ):
            out.write(block)
    return {
        "file": target.name,
        "seconds": length / RATE_HZ,
        "ratio": round(ratio, 6),
        "from_tempo_bpm": own,
        "semitones": semitones,
    }


def _stretched(
    source: Path, channels: int, total: int, length: int, semitones: float, windows: int
) -> Iterator[np.ndarray]:
    if total > WHOLE_S * RATE_HZ:
        yield from stretched_blocks(blocks_of(source), channels, length, length / total, semitones, windows)
        return
    yield stretched(np.concatenate(list(blocks_of(source)), axis=1), length, semitones, windows)


HEAD = ("sample", "layers", "source", "licence", "cleared", "credit", "how it was made", "open")


def rights_csv(song: Song) -> str:
    """The table of samples, a row each."""
    rows = (
        (
            u.sample.name, "; ".join(u.layers), u.sample.source, u.licence.label, "yes" if u.licence.cleared else "no", u.sample.credit,
            u.sample.made, u.open_point,
        )
        for u in used_samples(song)
    )  # fmt: skip
    return csv_text((HEAD, *rows))
