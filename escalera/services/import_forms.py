"""Songs out of forms made elsewhere: text, tables, and the markers and regions of WAV files."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from escalera.cleaning import clean_line, clean_text
from escalera.core.document.song import Song
from escalera.core.edits.recording_edits import usual_family
from escalera.core.handing.form_sheet import FormRow, FormSheet, read_form_sheet, song_of_form
from escalera.core.handing.played_again import TakeStem
from escalera.core.samples.said_names import said_by
from escalera.core.validation.whole import validate
from escalera.errors import EditError, FormatError, InputError
from escalera.formats.file_says import file_says
from escalera.formats.wav_cues import WavMarkers, read_wav_markers

if TYPE_CHECKING:
    from escalera.services.samples import Samples

MOST_TEXT = 400_000
FORM_SUFFIXES = (".txt", ".csv", ".tsv")


def is_text(data: bytes) -> bool:
    """Whether there is anything in it, and nothing but letters."""
    try:
        return bool(data.strip()) and "\0" not in data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return False


def is_wave(start: bytes) -> bool:
    """Whether a file that begins with these twelve bytes is a WAV."""
    return start[:4] in (b"RIFF", b"RF64") and start[8:12] == b"WAVE"


def form_from_text(data: bytes, title: str, tempo: str = "") -> tuple[Song, tuple[str, ...]]:
    """A song of a form as text or table. Raises FormatError for what is no text, InputError for what cannot be read in it."""
    if len(data) > MOST_TEXT or b"\0" in data:
        raise FormatError(
            "This is neither a MIDI file, a project, a WAV with markers nor a form as text. Choose another file."
        )
    try:
        text = clean_text(data.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise FormatError("The text is not UTF-8, so that its letters cannot be told. Save it as UTF-8.") from error
    sheet = read_form_sheet(text)
    song, report = song_of_form(replace(sheet, title=sheet.title or title, tempo=tempo or sheet.tempo))
    return validate(song), (f"{len(song.sections)} sections, {song.bars} bars, were read.", *report)


def song_from_markers(path: Path, name: str, samples: Samples, tempo: str = "") -> tuple[Song, tuple[str, ...]]:
    """A song whose sections are a WAV's markers and regions, with the WAV laid under them. Raises InputError without markers or tempo."""
    found = read_wav_markers(path)
    if not found.markers:
        raise InputError(
            f"{clean_line(name, 80)} has no markers. A loop or stem is brought in on the page of samples, a finished track among the studies."
        )
    said = tempo or _said_tempo(found, path, name)
    if not said:
        raise InputError("The markers are in seconds, and the file says no tempo. Give the tempo at which it was made.")
    sample = samples.sample(samples.add_file(path, name)[0])
    rows = tuple(
        FormRow(label or f"Part {number}", start_s=at / found.rate_hz, end_s=(at + length) / found.rate_hz if length else None)
        for number, (at, label, length) in enumerate(found.markers, 1)
    )  # fmt: skip
    title = clean_line(Path(name).stem.replace("_", " "), 80) or "From markers"
    metre, key = _said_music(found.comment)
    song, report = song_of_form(FormSheet(rows, title, said, key, metre, end_s=sample.seconds))
    try:
        song = TakeStem(sample, who="the file itself", family=usual_family(sample)).apply(song)
        laid = "The recording lies under them as a layer."
    except EditError as error:
        laid = f"The recording was not laid in: {error}"
    return validate(song), (f"{len(song.sections)} sections were read from markers at {said} bpm. {laid}", *report)


def _said_tempo(found: WavMarkers, path: Path, name: str) -> str:
    """What the file's comment, its tags or its name say, in that order; empty where none does."""
    match = re.search(r"(\d{2,3}(?:\.\d+)?)\s*bpm", found.comment, re.IGNORECASE)
    tempo = float(match[1]) if match else file_says(path).tempo_bpm or said_by(name).tempo_bpm
    return f"{tempo:g}" if tempo else ""


def _said_music(comment: str) -> tuple[str, str]:
    """Time signature and key in a comment such as “118 bpm, 4/4, A minor”; empty where they are not."""
    metre = re.search(r"\b(\d{1,2}/\d{1,2})\b", comment)
    key = re.search(r"\b([A-G][b#♭♯]? (?:major|minor))\b", comment)
    return (metre[1] if metre else ""), (key[1] if key else "")
