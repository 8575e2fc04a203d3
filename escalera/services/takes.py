"""Takes kept: pieces joined, read, and entered into the song where they were sung; sung by the program; polished."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, replace
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import numpy as np

from escalera.core.document.fields import FieldSpec, specs
from escalera.core.document.limits import MAX_TAKE_NOTES
from escalera.core.document.recordings import Sample
from escalera.core.document.singing import NoteTuning, Polish, Take, packed_noises, packed_notes
from escalera.core.document.song import Section, Song
from escalera.core.edits import Edit
from escalera.core.edits.edit import section_of, whole_number, within
from escalera.core.edits.section_edits import ResizeSection
from escalera.core.edits.take_edits import AddTake, PolishTake, take_of
from escalera.core.palette.voice_parts import VOICE_PARTS
from escalera.core.reading.timeline import Span, timeline
from escalera.core.samples.finding import TAKE_SOURCE
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import melody_of, sung_lines
from escalera.core.voices.polish_plan import polished_notes
from escalera.core.voices.word_places import words_laid
from escalera.errors import EscaleraError, FormatError, InputError, NotFound, StaleRevision
from escalera.formats.recording import join_pieces
from escalera.lazy_dataclasses import dataclass
from escalera.listen.sung_notes import pitch_line, sung_notes
from escalera.listen.voice_noises import carries_room, voice_noises
from escalera.services.logs import LOG
from escalera.services.pitch_lines import Line, keep_line
from escalera.services.rendering import wav_bytes
from escalera.services.takes_waiting import TakeAbout
from escalera.sound.polishing import polished
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ
from escalera.sound.singer import ToSing, sing

if TYPE_CHECKING:
    from escalera.services.studio import Studio

LEAST_S = 0.4  # of a take: less is a slip of the finger
AFTER_S = 0.6  # of a round that goes on, kept after its end
READ_AT_ONCE_S = 60  # of a long take
TRIES = 4
MOST_HEARD_S = 120.0


@dataclass(frozen=True, slots=True)
class KeptTakes:
    """What was kept: the takes' ids, and what was done in words."""

    take_ids: tuple[int, ...]
    said: str


def read_voice(content: str, seconds: float, folder: Path) -> dict[str, Any]:
    """What a take keeps of its audio: notes, breaths and sibilants, whether it carries a room. Its pitch line is kept in a folder."""
    lines: list[tuple[Line, Line, Line]] = []
    notes: list[tuple[float, float, float]] = []
    noises: list[tuple[float, float, str]] = []
    wet = None
    for at in range(0, max(1, int(np.ceil(seconds))), READ_AT_ONCE_S):
        audio = library.read(
            content, at * RATE_HZ, min(READ_AT_ONCE_S * RATE_HZ, max(0, round(seconds * RATE_HZ) - at * RATE_HZ))
        )
        if audio is None or audio.shape[1] < 2048:
            continue
        line = pitch_line(audio)
        lines.append(line)
        found = sung_notes(audio, line)
        notes += [(n.start_s + at, n.end_s + at, n.pitch + n.cents / 100.0) for n in found]
        noises += [(n.start_s + at, n.end_s + at, n.kind) for n in voice_noises(audio, found, line[1])]
        wet = carries_room(audio, found) if wet is None else wet
    if lines:
        keep_line(folder, content, *(np.concatenate(rows) for rows in zip(*lines)))
    return {"notes": packed_notes(notes), "noises": packed_noises(noises), "wet": bool(wet)}


def keep_take(studio: Studio, token: str) -> KeptTakes:
    """Enter a take whose last piece came, or that was given up, into its song; rounds that went on are a take each.

    Raises InputError where too little was sung, and NotFound where the song or the section is gone; the recording is in the library then.
    """
    about, pieces = studio.takes.about(token), studio.takes.pieces(token)
    with TemporaryDirectory(dir=studio.folder) as folder:
        files = join_pieces(pieces, about.rate_hz, about.channels, Path(folder), _cuts(about))
        if not files:
            studio.takes.clear(token)
            raise InputError(f"Less than {LEAST_S:g} s were recorded, which is no take. Nothing was kept.")
        try:
            rows = [(_entered(studio, about, file, i), zero_s) for i, (file, zero_s) in enumerate(files)]
        except FormatError as error:
            studio.takes.lay_by(token, str(error))
            raise InputError(
                f"The take cannot be used: {error} Check the input and its level. Its pieces lie in takes/{token} in the data folder."
            ) from error
    kept = _into_song(studio, about, rows)
    studio.takes.clear(token)
    return kept


def seconds_of(studio: Studio, token: str) -> float:
    """How long a take is that waits to be kept."""
    about = studio.takes.about(token)
    return sum(p.stat().st_size for p in studio.takes.pieces(token)) / (4 * about.channels * about.rate_hz)


def _cuts(about: TakeAbout) -> tuple[float, float, float, float, float]:
    """How a recording is cut: where its section begins, where the first round begins, how long one is, what is kept before and after."""
    return about.zero_s, about.zero_s + about.low_s, about.pass_s, about.pickup_s, AFTER_S


def _entered(studio: Studio, about: TakeAbout, file: Path, index: int) -> Sample:
    """A recording in the library, as a voice of one's own."""
    made_at = about.made_at or datetime.now().strftime("%Y-%m-%d %H:%M")
    number = f", round {index + 1}" if about.pass_s else ""
    id, _ = studio.samples.add_file(
        file,
        f"Take of {made_at}, {about.voice}{number}.wav",
        f"{TAKE_SOURCE}{_title(studio, about.song_id)}"[:240],
        "own",
        light=VOICE_PARTS[about.voice].sung,
    )
    sample = studio.samples.sample(id)
    return replace(sample, kind="voice") if VOICE_PARTS[about.voice].sung else sample


def _title(studio: Studio, song_id: int) -> str:
    """A song's title; its number where it is gone."""
    try:
        return studio.head(song_id).song.title
    except EscaleraError:
        return f"song {song_id}"


def _into_song(studio: Studio, about: TakeAbout, rows: Sequence[tuple[Sample, float]]) -> KeptTakes:
    """Takes as one step of the song, on whatever state it has by now."""
    readings = [read_voice(sample.content, sample.seconds, studio.lines_folder) for sample, _ in rows]
    for _ in range(TRIES):
        head = studio.head(about.song_id)
        section_of(head.song, about.section_id)
        fresh = [i for i, (sample, zero_s) in enumerate(rows) if not _there(head.song, about, sample, zero_s)]
        if not fresh:
            return KeptTakes((), "The take is there already")
        edits = _edits(head.song, about, [rows[i] for i in fresh], [readings[i] for i in fresh])
        try:
            outcome = studio.edit(about.song_id, head.revision_id, edits)
        except StaleRevision:
            continue
        ids = tuple(t.id for t in outcome.head.song.takes if t.id not in head.song.take_by_id)
        return KeptTakes(ids, outcome.summary)
    raise NotFound(
        "The song was changed again and again while the take was to be kept. It is in the library of samples."
    )


def _there(song: Song, about: TakeAbout, sample: Sample, zero_s: float) -> bool:
    """Whether a take was entered before: the server fell, or two pages asked, between that and the clearing away of its pieces."""
    mine = (sample.content, about.section_id, about.voice)
    return any((t.content, t.section_id, t.voice) == mine and abs(t.zero_s - zero_s) < 1e-3 for t in song.takes)


def _edits(
    song: Song, about: TakeAbout, rows: Sequence[tuple[Sample, float]], readings: Sequence[dict[str, Any]]
) -> list[Edit]:
    edits: list[Edit] = []
    section = song.section_by_id[about.section_id]
    if about.open_end:
        bars = open_bars(timeline(song).span_of(section.id), rows[0][0].seconds - rows[0][1])
        if bars != section.bars:
            edits.append(ResizeSection(section.id, bars))
    for (sample, zero_s), reading in zip(rows, readings):
        high = 0 if about.open_end else about.high_ticks
        take = {
            "section_id": section.id, "voice": about.voice, "zero_s": round(zero_s, 6), "low_ticks": about.low_ticks, "high_ticks": high,
            "singer": about.singer[:80], "made_at": about.made_at[:32], **reading,
        }  # fmt: skip
        edits.append(AddTake(take, asdict(sample), about.lay))
    return edits


def open_bars(span: Span, seconds: float) -> int:
    """How many bars somebody played from a section's start: the one that was begun last counts from its middle on."""
    bar_s = span.seconds_at(span.bar_ticks[1])
    return max(1, min(999, round(seconds / bar_s)))


def keep_abandoned(studio: Studio, song_id: int = 0) -> list[KeptTakes]:
    """Keep takes that broke off: the tab was closed, or the server went down. One that cannot be kept is written to the log."""
    kept = []
    for take in studio.takes.abandoned(song_id):
        try:
            kept.append(keep_take(studio, take.token))
        except (InputError, NotFound) as error:
            LOG.warning("a take that broke off was not kept: %s", error)
            if isinstance(error, NotFound):
                studio.takes.clear(take.token)
    return kept


# the simulated singer ------------------------------------------------------------------------------------------------------


def to_sing(song: Song, span: Span, part: str) -> list[ToSing]:
    """A voice's notes in a section with the vowels of the words on them, breaths before lines."""
    notes = melody_of(song, span) if part == "lead" else voice_line(song, span, part).notes
    phones: dict[int, str] = {}
    for place in words_laid(song, span).places:
        phones.setdefault(place.start, place.phones)
    breaths = {a for a, _ in sung_lines(notes)}
    held = VOICE_PARTS[part].sings == "held sounds"
    return [
        ToSing(
            span.seconds_at(n.start),
            span.seconds_at(n.end),
            n.pitch,
            "U0" if held else phones.get(n.start, ""),
            i in breaths,
        )
        for i, n in enumerate(notes)
    ]


def sung_by_program(studio: Studio, song: Song, section: Section, part: str, seed: int, loose: float = 1.0) -> Edit:
    """A take of a section by the simulated singer. Raises InputError where there is nothing to sing."""
    span = timeline(song).span_of(section.id)
    notes = to_sing(song, span, part)
    if not notes:
        raise InputError(
            f"There is nothing to sing for {part} in {section.name}: no melody sounds there. Write a guide first."
        )
    lead_s = 0.6
    moved = [replace(n, start_s=n.start_s + lead_s, end_s=n.end_s + lead_s) for n in notes]
    sung = sing(moved, span.length_seconds + lead_s + 0.4, seed, loose)
    made = f"Sung by the program: {section.name}, {part}, seed {seed}"
    id = studio.samples.add_audio(
        f"Simulated {part}, {section.name}, {seed}"[:200],
        sung.audio,
        f"{TAKE_SOURCE}{song.title}"[:240],
        "program",
        made,
    )
    sample = replace(studio.samples.sample(id), kind="voice")
    take = {
        "section_id": section.id, "voice": part, "zero_s": lead_s, "singer": "simulated", "made_at": f"seed {seed}",
        **read_voice(sample.content, sample.seconds, studio.lines_folder),
    }  # fmt: skip
    return AddTake(take, asdict(sample))


# polishing -----------------------------------------------------------------------------------------------------------------


def polish_from(fields: Mapping[str, str]) -> Polish:
    """A polish from fields of text; what is not said is left alone. Raises InputError with value, limits and remedy."""
    values = {}
    for name, spec in polish_amounts().items():
        values[name] = spec.parameter.checked(_amount(spec.label, fields.get(name, "")))
    rows = [(key.partition(".")[2], text) for key, text in fields.items() if key.startswith("note.") and text.strip()]
    return Polish(**values, by_note=tuple(_note_tuning(number, text) for number, text in rows[:MAX_TAKE_NOTES]))


def polish_amounts() -> dict[str, FieldSpec]:
    """What is polished by one amount for the whole take."""
    return {name: spec for name, spec in specs(Polish).items() if spec.low is not None}


def _note_tuning(number: str, text: str) -> NoteTuning:
    percent = within(_amount("Tuning of a note", text), 0, 100, "Tuning of a note", "%")
    return NoteTuning(whole_number(number, "note", 0, MAX_TAKE_NOTES), percent / 100.0)


def _amount(label: str, text: str) -> float:
    try:
        return float(text.strip().replace("−", "-").replace(",", ".") or 0.0)
    except ValueError as error:
        raise InputError(f"{label} “{text[:40]}” is not a number. Write one.") from error


def polished_audio(song: Song, take: Take, polish: Polish) -> np.ndarray:
    """A take's sound after a polish, (channels, n) at 44.1 kHz. Raises NotFound where its audio is missing."""
    sample = song.sample_by_content.get(take.content)
    audio = library.read(take.content, 0, round(sample.seconds * RATE_HZ)) if sample else None
    if audio is None:
        raise NotFound("The audio of this take is missing. Bring the file in again; its content is recognised.")
    section = section_of(song, take.section_id)
    notes = polished_notes(song, timeline(song).span_of(section.id), take, polish)
    return polished(audio, notes, take.noise("hiss"), take.noise("breath"), polish)


def take_wav(song: Song, take: Take, polish: Polish | None) -> bytes:
    """A take by itself from its section's start, as it is played, or as a polish would make it."""
    if polish is not None:
        audio = polished_audio(song, take, polish)
    else:
        sample = song.sample_by_content.get(take.played)
        found = library.read(take.played, 0, round(sample.seconds * RATE_HZ)) if sample else None
        if found is None:
            raise NotFound("The audio of this take is missing. Bring the file in again; its content is recognised.")
        audio = found
    start = max(0, round(take.zero_s * RATE_HZ))
    cut = audio[:, start : start + round(MOST_HEARD_S * RATE_HZ)]
    return wav_bytes(cut if len(cut) > 1 else cut.repeat(2, axis=0))


def polish_edit(studio: Studio, song: Song, take_id: int, polish: Polish) -> Edit:
    """The edit that lets a take be played polished; the polished sound is kept beside the take's own."""
    take = take_of(song, take_id)
    if polish == Polish():
        return PolishTake(take_id, asdict(polish), {})
    audio = polished_audio(song, take, polish)
    amounts = {name: getattr(polish, name) for name in polish_amounts()} | {"single notes": len(polish.by_note)}
    told = ", ".join(
        f"{name.replace('_db', '').replace('_', ' ')} {value:g}" for name, value in amounts.items() if value
    )
    source = song.sample_by_content[take.content]
    id = studio.samples.add_audio(
        f"{source.name}, polished"[:200], audio, source.source, source.licence, f"Polished take: {told}"
    )
    return PolishTake(
        take_id, asdict(polish), asdict(replace(studio.samples.sample(id), kind="voice", credit=source.credit))
    )
