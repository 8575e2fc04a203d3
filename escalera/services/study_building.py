"""What is made of a study: a song on its shape, bars cut out as a sample, its sections beside one's own."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from escalera.core.document.chord_text import write_chordline
from escalera.core.document.song import Song
from escalera.core.document.target import Target
from escalera.core.edits import Edit
from escalera.core.edits.edit import section_of
from escalera.core.edits.harmony_edits import SetChords
from escalera.core.edits.section_edits import AddSection
from escalera.core.edits.target_edits import SetTarget
from escalera.core.energy.stats import INDEX
from escalera.core.energy.terms import compute_terms, decibels, to_energy
from escalera.core.moves.suggestions import Suggestion, suggest
from escalera.core.reading.timeline import timeline
from escalera.core.study.building import chords_of, shape_of, target_of
from escalera.core.study.heard_track import StudyReading
from escalera.core.study.nearer import Beside, SectionFigures, beside, largest, track_figures
from escalera.core.theory.keys import parse_key
from escalera.errors import InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.meters.span_meters import measure_spans
from escalera.services.rendering import wav_bytes
from escalera.services.studies import Study
from escalera.services.study_hearing import CEILING, QUIETER_DB
from escalera.services.study_reading import COMMON_LUFS
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

if TYPE_CHECKING:
    from escalera.services.studio import Studio

MOST_CUT = 32  # bars


@dataclass(frozen=True, slots=True)
class Compared:
    """A song's section against a track's: what differs, in words, and moves that would bring its energy nearer."""

    rows: list[Beside]
    said: list[str]
    energy: float
    track_energy: float
    moves: list[Suggestion]


def build_on(
    studio: Studio, study_id: int, title: str, with_chords: bool, song_id: int = 0, section: int | None = None
) -> tuple[int, int]:
    """A new song on a study's shape (of one `section` only where that is said), or a section more of a song; the song's id, and the new
    section's, 0 for a whole song. Raises InputError where there are no bars."""
    study = studio.studies.get(study_id)
    reading = study.needed()
    if song_id and section is not None:
        made = _section_more(studio, reading, section, song_id, with_chords)
        studio.studies.built(study_id, song_id)
        return song_id, made
    song = shape_of(reading, title.strip() or f"On the shape of {study.name}"[:60], with_chords)
    if section is not None:
        song = replace(song, sections=(song.sections[section],))
    made = studio.add_song(song, f"On the shape of {study.name}")
    studio.studies.built(study_id, made)
    return made, 0


def _section_more(studio: Studio, reading: StudyReading, index: int, song_id: int, with_chords: bool) -> int:
    """A section of a song with a track's length, role, course of energy and chords, in one step; its id."""
    head, heard = studio.head(song_id), reading.sections[index]
    target, section_id = target_of(reading, index), head.song.next_id
    edits: list[Edit] = [
        AddSection(heard.name, heard.role, heard.bars),
        SetTarget(section_id, target.start, target.end),
    ]
    found = chords_of(reading, index) if with_chords and reading.beats_a_bar == head.song.metre.beats else None
    if found is not None:
        by = head.song.key.tonic_fifths - parse_key(reading.key).tonic_fifths if reading.key else 0
        found = replace(found, changes=tuple((tick, chord.moved(by)) for tick, chord in found.changes))
        edits.append(SetChords(write_chordline(found, head.song.metre), section_id))
    studio.edit(song_id, head.revision_id, edits, f"A section on the shape of {heard.name}")
    return section_id


def cut_bars(studio: Studio, study_id: int, first_bar: int, bars: int) -> str:
    """Bars of a track, counted from 0, as a sample of the library, with its source and licence; the name. Raises InputError."""
    study = studio.studies.get(study_id)
    reading = study.needed()
    if not 0 <= first_bar < reading.bar_count or not 1 <= bars <= MOST_CUT:
        raise InputError(
            f"From bar {first_bar + 1}, {bars} bars cannot be cut out; 1 to {MOST_CUT} within the track can."
        )
    low, high = (round(reading.bar_s(b) * RATE_HZ) for b in (first_bar, min(reading.bar_count, first_bar + bars)))
    audio = library.read(study.content, low, high - low)
    if audio is None or not audio.shape[1]:
        raise NotFound(f"The audio of {study.name} is missing. Bring the file in again; its content is recognised.")
    source = studio.samples.by_content(study.content)
    card = studio.samples.card(source) if source else None
    name = f"{study.name}, bars {first_bar + 1} to {first_bar + bars}"[:120]
    studio.samples.add_audio(
        name,
        audio,
        card.source if card and card.source else study.name,
        card.licence if card else "unknown",
        f"cut out of {study.name}",
    )
    return name


def own_wav(studio: Studio, song: Song, section_id: int) -> bytes:
    """A section of a song at the loudness at which tracks are heard in a study, under the ceiling."""
    audio, lufs = _section(studio, song, section_id)
    gain = 10.0 ** ((COMMON_LUFS - QUIETER_DB - lufs) / 20.0)
    peak = float(np.abs(audio).max(initial=1e-9))
    return wav_bytes(audio * np.float32(min(gain, CEILING / peak)))


def _section(studio: Studio, song: Song, section_id: int) -> tuple[np.ndarray, float]:
    """A section's sound (2, n) and its loudness in LUFS."""
    line = timeline(song)
    index = song.index_of(section_id)
    key = studio.rendering.renderer.chunk_keys(song, line)[index]
    length = round(line.spans[index].length_seconds * RATE_HZ)
    audio = studio.rendering.renderer.chunk(song, line, index, key)[:, :length]
    lufs = float(measure_spans(audio, RATE_HZ, np.array([0, max(1, audio.shape[1])])).lufs[0])
    if lufs < -70.0:
        raise InputError(
            f"{section_of(song, section_id).name} is silent, so that nothing can be compared. Let something play in it."
        )
    return audio, lufs


def compare_with(studio: Studio, study: Study, index: int, song: Song, section_id: int) -> Compared:
    """A song's section beside a track's, at the track's loudness. Raises InputError for a silent one."""
    reading = study.needed()
    if not reading.sections:
        raise InputError("No sections could be read in this track, so that nothing can be laid beside it.")
    audio, lufs = _section(studio, song, section_id)
    s = reading.sections[index]
    loud = [b.loudness_lufs for b in reading.bars[s.first_bar : s.first_bar + s.bars] if b.loudness_lufs is not None]
    heard = 10 * np.log10(np.mean([10 ** (x / 10) for x in loud])) if loud else COMMON_LUFS
    wanted = float(heard) + COMMON_LUFS - (reading.loudness_lufs if reading.loudness_lufs is not None else COMMON_LUFS)
    span = timeline(song).span_of(section_id)
    edges = np.rint(np.array(span.grid.bar_seconds) * RATE_HZ).astype(np.int64)
    edges = np.minimum(edges, audio.shape[1])
    meters = measure_spans(audio * np.float32(10 ** ((wanted - lufs) / 20)), RATE_HZ, edges)
    terms = compute_terms(meters.stats)
    own = SectionFigures(
        tuple(terms.mean(axis=0).tolist()), tuple(decibels(meters.stats[:, : INDEX["hits"]].mean(axis=0)).tolist()),
        float(to_energy(terms, song).mean()),
    )  # fmt: skip
    track = track_figures(reading, index)
    rows = beside(song, own, track)
    goal = float(to_energy(np.array([track.terms]), song)[0])
    aimed = song.with_section(replace(section_of(song, section_id), target=Target(min(10.0, goal), min(10.0, goal))))
    return Compared(rows, largest(rows), own.energy, goal, suggest(aimed, section_id, 3, own.energy))
