"""Recordings in a song: what is known of each sample, and clips, which are stretches of samples with how they are played.

A song carries a short reading of every sample it uses, so that its energy, checks and stair need no audio; the audio itself
lies in the store under its content.
"""

from __future__ import annotations

import base64
from functools import lru_cache
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.fields import choice, number, part, text
from escalera.core.document.limits import (
    MAX_BEATS,
    MAX_LEVEL_DB,
    MAX_PACKED,
    MAX_REASON,
    MAX_SAMPLE_S,
    MAX_TEMPO_BPM,
    MIN_LEVEL_DB,
)
from escalera.core.hashing import HashedOnce
from escalera.core.samples.licences import LICENCES, UNKNOWN
from escalera.core.samples.reading import KINDS, ZONES, Onset, SampleReading
from escalera.lazy_dataclasses import dataclass

# a note lasts as long as it is held, as the whole clip, or its later part goes round while it is held
PLAYS = ("held", "whole", "round")
FITS = ("stretch", "slices", "speed", "alone")
QUARTER_TICKS = 960
SILENT_DB = -100
MAX_ONSETS = 1500
ROUND_FROM = 0.4  # of a clip whose held notes go round, the share that is heard only once
KEY_KNOWN = 0.35  # a key that is less sure moves nothing
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Sample(HashedOnce):
    """A recording that the song uses: its content, what was read from it, where it came from. Figures that are not known are 0."""

    __hash__ = HashedOnce.__hash__
    content: Annotated[str, text("Content", 64, required=True, help="names the audio in the store")]
    name: Annotated[str, text("Name", 200, required=True)]
    seconds: Annotated[float, number("Length", 0, MAX_SAMPLE_S, "s")]
    channels: Annotated[int, number("Channels", 1, 2)] = 2
    kind: Annotated[str, choice("Kind", KINDS)] = "loop"
    tempo_bpm: Annotated[float, number("Tempo", 0, 2 * MAX_TEMPO_BPM, "bpm")] = 0.0
    beats_a_bar: Annotated[int, number("Beats a bar", 1, 16)] = 4
    key: Annotated[str, text("Key", 40)] = ""
    pitch_hz: Annotated[float, number("Pitch", 0, 20_000, "Hz")] = 0.0
    tuning_cents: Annotated[float, number("Tuning", -100, 100, "cents")] = 0.0
    loudness_lufs: Annotated[float, number("Loudness", -120, 20, "LUFS")] = -120.0
    width: Annotated[float, number("Width", 0, 2)] = 0.0
    slot_s: Annotated[float, number("Length of a slot", 0.001, MAX_SAMPLE_S, "s")] = 0.05
    slots: Annotated[
        str, text("Levels by band", MAX_PACKED, help="whole dB, a byte a band, six bands a slot; base64")
    ] = ""
    onsets: Annotated[str, text("Onsets", MAX_PACKED, help="milliseconds, strength of 255, zone; base64")] = ""
    source: Annotated[str, text("Source", 240)] = ""
    licence: Annotated[str, choice("Licence", tuple(LICENCES))] = UNKNOWN
    credit: Annotated[str, text("Credit line", 240)] = ""
    made: Annotated[str, text("How it was made", MAX_REASON)] = ""

    @property
    def power(self) -> Floats:
        """Mean square in the six bands of every slot, shape (n, 6)."""
        return _power(self.slots)

    @property
    def onset_rows(self) -> Floats:
        """Onsets in order, shape (n, 3): seconds, strength 0..1, index of the zone."""
        return _onset_rows(self.onsets)


@lru_cache(maxsize=512)
def _power(packed: str) -> Floats:
    levels = np.frombuffer(_unpacked(packed, 6), np.int8).reshape(-1, 6).astype(float)
    found: Floats = np.where(levels <= SILENT_DB, 0.0, 10.0 ** (levels / 10.0))
    found.setflags(write=False)
    return found


@lru_cache(maxsize=512)
def _onset_rows(packed: str) -> Floats:
    raw = np.frombuffer(_unpacked(packed, 6), np.dtype([("ms", "<u4"), ("strength", "u1"), ("zone", "u1")]))
    found = np.stack((raw["ms"] / 1000.0, raw["strength"] / 255.0, np.minimum(raw["zone"], len(ZONES) - 1)), axis=1)
    found.setflags(write=False)
    return found


def _unpacked(packed: str, row: int) -> bytes:
    """Bytes of base64, cut to whole rows; nothing where it is damaged, since a song must open."""
    try:
        data = base64.b64decode(packed.encode("ascii"), validate=True)
    except ValueError:
        return b""
    return data[: len(data) // row * row]


def _packed(array: NDArray[np.generic]) -> str:
    return base64.b64encode(array.tobytes()).decode("ascii")


def sample_of(
    content: str,
    name: str,
    reading: SampleReading,
    source: str = "",
    licence: str = UNKNOWN,
    credit: str = "",
    made: str = "",
) -> Sample:
    """What a song keeps of a recording that was read."""
    levels = np.clip(np.array(reading.slots_db, float).reshape(-1, 6), SILENT_DB, 20).astype(np.int8)
    kept = sorted(sorted(reading.onsets, key=lambda o: -o.strength)[:MAX_ONSETS], key=lambda o: o.at_s)
    return Sample(
        content, name[:200] or "Recording", round(reading.seconds, 6), min(2, reading.channels), reading.kind,
        float(reading.tempo_bpm or 0.0), reading.beats_a_bar, (reading.key or "") if reading.key_confidence >= KEY_KNOWN else "", float(reading.pitch_hz or 0.0),
        float(reading.tuning_cents or 0.0), float(reading.integrated_lufs if reading.integrated_lufs is not None else -120.0),
        reading.width, reading.slot_s, _packed(levels), _packed(_onset_array(kept)), source, licence, credit, made,
    )  # fmt: skip


def _onset_array(onsets: list[Onset]) -> NDArray[np.generic]:
    rows = [(round(o.at_s * 1000), round(o.strength * 255), ZONES.index(o.zone)) for o in onsets]
    return np.array(rows, np.dtype([("ms", "<u4"), ("strength", "u1"), ("zone", "u1")]))


@dataclass(frozen=True, slots=True)
class Clip(HashedOnce):
    """A stretch of a sample and how it is played.

    `beats` quarter notes are what the stretch takes of the song when it is fitted; `root` is the pitch at which it sounds
    as it was recorded, where it is played at pitches.
    """

    __hash__ = HashedOnce.__hash__
    sample: Annotated[str, text("Sample", 64, required=True, help="its content")]
    start_s: Annotated[float, number("Start", 0, MAX_SAMPLE_S, "s")] = 0.0
    end_s: Annotated[float, number("End", 0, MAX_SAMPLE_S, "s")] = 0.0
    beats: Annotated[float, number("Length in the song", 1 / 64, MAX_BEATS, "quarter notes")] = 4.0
    fit: Annotated[str, choice("Fit", FITS)] = "stretch"
    semitones: Annotated[float, number("Transposed by", -24, 24, "semitones")] = 0.0
    gain_db: Annotated[float, number("Gain", MIN_LEVEL_DB, MAX_LEVEL_DB + 24, "dB")] = 0.0
    fade_in_ms: Annotated[float, number("Fade in", 0, 10_000, "ms")] = 0.0
    fade_out_ms: Annotated[float, number("Fade out", 0, 10_000, "ms")] = 0.0
    seam_ms: Annotated[float, number("Crossfade at its seam", 0, 2000, "ms")] = 0.0
    reversed: Annotated[bool, part("Reversed")] = False
    formants: Annotated[bool, part("Keeps formants", help="of a single voice, where it is transposed")] = False
    plays: Annotated[str, choice("Its notes", PLAYS, help="played at pitches")] = "held"
    glide_ms: Annotated[float, number("Glide", 0, 2000, "ms", help="played at pitches, from the note before")] = 0.0
    root: Annotated[int, number("Root", 0, 127, help="the MIDI pitch at which it sounds as it is")] = 60

    @property
    def length_ticks(self) -> int:
        """What it takes of the song."""
        return max(1, round(self.beats * QUARTER_TICKS))

    @property
    def seconds(self) -> float:
        return self.end_s - self.start_s
