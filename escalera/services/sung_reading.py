"""A recording of a voice read by itself, and against a melody: for the command line, and for files of singers that come unsorted."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from escalera.core.document.singing import SungAt
from escalera.core.document.song import Section, Song
from escalera.core.edits import Edit
from escalera.core.edits.take_edits import AddTake, read_take
from escalera.core.reading.timeline import Span, timeline
from escalera.core.voices.melody import melody_of
from escalera.core.voices.sorting import offsets_of, side_for, sort_take
from escalera.core.voices.take_judgement import judge_notes
from escalera.errors import InputError, StaleRevision, shown
from escalera.formats.recording import blocks_of
from escalera.listen.sung_notes import SungNote, sung_notes
from escalera.services.takes import TRIES, read_voice

if TYPE_CHECKING:
    from escalera.services.studio import Studio

LONGEST_S = 900.0
LATE_S = 0.4  # later than that, a file begins elsewhere


def notes_of_file(path: Path) -> tuple[SungNote, ...]:
    """The notes of a voice in an audio file of up to a quarter of an hour. Raises FormatError or InputError."""
    blocks = list(blocks_of(path, LONGEST_S))
    if not blocks:
        raise InputError(f"{path.name} holds no sound. Choose another file.")
    return sung_notes(np.concatenate(blocks, axis=1))


def sung_report(path: Path, song: Song | None = None, section_name: str = "") -> dict[str, Any]:
    """The notes of a voice as plain values; with a song, by how many milliseconds they come late against a section's melody."""
    notes = notes_of_file(path)
    told = [
        {"start_s": n.start_s, "end_s": n.end_s, "pitch": n.pitch, "cents": n.cents, "confidence": n.clear}
        for n in notes
    ]
    late = None if song is None else late_ms(song, _span_called(song, section_name), notes)
    return {"notes": told, "late_ms": late}


def _span_called(song: Song, name: str) -> Span:
    for span in timeline(song).spans:
        if span.section.name.lower() == name.strip().lower():
            return span
    names = ", ".join(s.name for s in song.sections)
    raise InputError(f"“{shown(name)}” is no section of {song.title}. Choose one of: {names}.")


def late_ms(song: Song, span: Span, notes: tuple[SungNote, ...]) -> float | None:
    """By how much a voice comes late against a section's melody; a file that begins elsewhere is laid on the nearest beat first."""
    melody = melody_of(song, span)
    sung = [SungAt(n.start_s, n.end_s, n.pitch + n.cents / 100.0) for n in notes]
    wanted = [(span.seconds_at(n.start), float(n.pitch)) for n in melody]
    found = offsets_of(sung, wanted) if sung and wanted else []
    if not found:
        return None
    beat_s = span.seconds_at(span.bar_metres[0].beat_ticks)
    begins = 0.0 if abs(found[0]) <= LATE_S else round(found[0] / beat_s) * beat_s
    moved = [SungAt(n.start_s - begins, n.end_s - begins, n.pitch) for n in sung]
    return judge_notes(moved, melody, span).late_ms


def sorted_voice(studio: Studio, song: Song, section: Section, sample_id: int) -> tuple[Edit, str]:
    """A take of a recording in the library, laid where it was sung as the voice that it sings; and what was found, in words."""
    sample = replace(studio.samples.sample(sample_id), kind="voice")
    reading = read_voice(sample.content, sample.seconds, studio.lines_folder)
    take = read_take({"id": 1, "content": sample.content, "section_id": section.id, **reading})
    found = sort_take(song, timeline(song).span_of(section.id), take.sung)
    part = side_for(song, section.id, found.part)
    fields = {
        "section_id": section.id, "voice": part, "zero_s": found.zero_s, "name": sample.name[:80], **reading,
    }  # fmt: skip
    wet = ", carries echo or room, so none is added" if reading["wet"] else ""
    said = f"{section.name}: {sample.name} sings {part} ({100 * found.share:.0f} % of its notes agree){wet}"
    return AddTake(fields, asdict(sample)), said


def keep_sung(studio: Studio, song_id: int, section_id: int, sample_id: int) -> None:
    """Enter a recording that came in as one of a singer into a section, on whatever state the song has by now."""
    for _ in range(TRIES):
        head = studio.head(song_id)
        if section_id not in head.song.section_by_id:
            return
        edit, said = sorted_voice(studio, head.song, head.song.section_by_id[section_id], sample_id)
        try:
            studio.edit(song_id, head.revision_id, edit, said[:280])
            return
        except StaleRevision:
            continue
