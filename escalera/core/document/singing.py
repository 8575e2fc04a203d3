"""What a song keeps of singing and playing: takes, lyrics, and moments tied to words.

A take is a recording with where it was sung and what was read of it. The comp is no value of its own: it is the clips that the
layer of a voice plays, each of which names the recording of a take.
"""

from __future__ import annotations

import base64
from functools import lru_cache
from typing import Annotated

import numpy as np

from escalera.core.document.fields import AsMapping, choice, number, part, text
from escalera.core.document.limits import (
    MAX_LYRIC,
    MAX_NAME,
    MAX_PACKED,
    MAX_REASON,
    MAX_SAMPLE_S,
    MAX_TAKE_NOTES,
    MAX_TICK,
)
from escalera.core.hashing import HashedOnce
from escalera.core.palette.parameters import Settings
from escalera.core.palette.voice_parts import LEAD, VOICE_PARTS
from escalera.core.theory.chords import Chord
from escalera.lazy_dataclasses import dataclass

ROW = np.dtype([("start", "<f4"), ("end", "<f4"), ("pitch", "<f4")])
HISSES, BREATHS = "hiss", "breath"
NOISE = np.dtype([("start", "<f4"), ("end", "<f4"), ("kind", "u1")])
CHORD = "chord"
WORD_MOMENTS = ("stop", "beat-out", "gap", "breath", "impact", "crash", "echo-throw", "sweep-down", CHORD)


@dataclass(frozen=True, slots=True)
class SungAt(HashedOnce):
    """A note of a take: seconds in the recording, MIDI pitch with cents as its fraction."""

    __hash__ = HashedOnce.__hash__
    start_s: float
    end_s: float
    pitch: float


@dataclass(frozen=True, slots=True)
class NoteTuning(HashedOnce):
    """How far a single note of a take is tuned, whatever goes for the others; notes are counted from 0."""

    __hash__ = HashedOnce.__hash__
    note: Annotated[int, number("Note", 0, MAX_TAKE_NOTES)]
    tune: Annotated[float, number("Tuning", 0, 1, help="share of what it lies off")] = 0.0


@dataclass(frozen=True, slots=True)
class Polish(HashedOnce):
    """What is done to a take before it is played: shares and decibels; all 0 is the take as it was sung."""

    __hash__ = HashedOnce.__hash__
    tune: Annotated[float, number("Tuning", 0, 1, help="share of what a note lies off")] = 0.0
    timing: Annotated[float, number("Timing", 0, 1, help="share of what a note comes late or early")] = 0.0
    sibilance_db: Annotated[float, number("Sibilance", -24, 0, "dB")] = 0.0
    breaths_db: Annotated[float, number("Breaths", -60, 0, "dB", help="-60 cuts them")] = 0.0
    rides: Annotated[float, number("Level rides", 0, 1, help="share of what notes differ in loudness")] = 0.0
    by_note: Annotated[tuple[NoteTuning, ...], part("Single notes", MAX_TAKE_NOTES)] = ()

    def tune_of(self, note: int) -> float:
        """The share by which a note is tuned."""
        return next((n.tune for n in self.by_note if n.note == note), self.tune)


@dataclass(frozen=True, slots=True)
class Take(HashedOnce):
    """A recording sung or played over a section. `zero_s` is where in it the section begins: below 0 where it begins later."""

    __hash__ = HashedOnce.__hash__
    id: int
    content: Annotated[str, text("Recording", 64, required=True, help="names the audio in the store")]
    section_id: Annotated[int, number("Section", scale="id")]
    voice: Annotated[str, choice("Voice", tuple(VOICE_PARTS))] = LEAD
    zero_s: Annotated[float, number("Section begins at", -MAX_SAMPLE_S, MAX_SAMPLE_S, "s")] = 0.0
    low_ticks: Annotated[int, number("Sung from", 0, MAX_TICK, "ticks")] = 0
    high_ticks: Annotated[int, number("Sung to", 0, MAX_TICK, "ticks")] = 0
    name: Annotated[str, text("Name", MAX_NAME)] = ""
    made_at: Annotated[str, text("Recorded", 32)] = ""
    singer: Annotated[str, text("Singer", MAX_NAME)] = ""
    sent_by: Annotated[str, text("Sent by", MAX_NAME, help="treated by somebody else; it stays as it was sent")] = ""
    wet: Annotated[bool, part("Carries echo or room", help="so that none is added")] = False
    aside: Annotated[bool, part("Set aside")] = False
    reason: Annotated[str, text("Reason", MAX_REASON, help="why it was chosen, or not")] = ""
    notes: Annotated[str, text("Notes", MAX_PACKED, help="start, end, pitch as floats; base64")] = ""
    noises: Annotated[str, text("Breaths and sibilance", MAX_PACKED, help="start, end, kind; base64")] = ""
    polish: Annotated[Polish, part("Polish")] = Polish()
    polished: Annotated[
        str, text("Polished recording", 64, help="names the audio; empty where nothing is polished")
    ] = ""

    @property
    def played(self) -> str:
        """The recording that the comp plays."""
        return self.polished or self.content

    @property
    def sung(self) -> tuple[SungAt, ...]:
        """The notes that were read."""
        return _notes(self.notes)

    def noise(self, kind: str) -> tuple[tuple[float, float], ...]:
        """Breaths or sibilants: (start, end) in seconds of the recording."""
        return tuple((a, b) for a, b, k in _noises(self.noises) if k == kind)


@lru_cache(maxsize=512)
def _notes(packed: str) -> tuple[SungAt, ...]:
    rows = np.frombuffer(_bytes(packed, ROW.itemsize), ROW)
    kept = rows[np.isfinite(rows["start"]) & np.isfinite(rows["end"]) & (rows["pitch"] > 0) & (rows["pitch"] < 128)]
    return tuple(SungAt(float(r["start"]), float(r["end"]), float(r["pitch"])) for r in kept)


@lru_cache(maxsize=512)
def _noises(packed: str) -> tuple[tuple[float, float, str], ...]:
    rows = np.frombuffer(_bytes(packed, NOISE.itemsize), NOISE)
    return tuple((float(r["start"]), float(r["end"]), BREATHS if r["kind"] else HISSES) for r in rows)


def _bytes(packed: str, size: int) -> bytes:
    """Bytes of base64 cut to whole rows; nothing where it is damaged, since a song must open."""
    try:
        data = base64.b64decode(packed.encode("ascii"), validate=True)
    except ValueError:
        return b""
    return data[: len(data) // size * size]


def packed_notes(notes: list[tuple[float, float, float]]) -> str:
    """Notes (start, end, pitch) as a take keeps them, the first ones where there are too many."""
    return _packed(np.array(notes, ROW), ROW)


def packed_noises(rows: list[tuple[float, float, str]]) -> str:
    """Breaths and sibilants (start, end, kind) as a take keeps them."""
    return _packed(np.array([(a, b, k == BREATHS) for a, b, k in rows], NOISE), NOISE)


def _packed(rows: np.ndarray, dtype: np.dtype) -> str:
    most = MAX_PACKED * 3 // 4 // dtype.itemsize - 1
    return base64.b64encode(rows[:most].tobytes()).decode("ascii")


@dataclass(frozen=True, slots=True)
class Lyric(HashedOnce):
    """A version of a section's words, line by line. An underscore after a word holds it over one more note."""

    __hash__ = HashedOnce.__hash__
    name: Annotated[str, text("Name", MAX_NAME)] = ""
    lines: Annotated[str, text("Words", MAX_LYRIC, lines=True)] = ""


@dataclass(frozen=True, slots=True)
class WordMoment(HashedOnce):
    """Something that happens on a word and moves with it: a device as at joins, or another chord, on the word that is counted from 0."""

    __hash__ = HashedOnce.__hash__
    word: Annotated[int, number("Word", 0, 20_000)]
    kind: Annotated[str, choice("Kind", WORD_MOMENTS)]
    beats: Annotated[float, number("Length", 0.25, 64, "beats")] = 1.0
    layer_id: Annotated[int, number("Layer", 0, scale="id", help="that plays it; 0 is none")] = 0
    settings: Annotated[Settings, AsMapping(), part("Parameters of the device")] = ()
    chord: Annotated[Chord | None, part("Chord", help="in the song’s own key; of the kind chord only")] = None
