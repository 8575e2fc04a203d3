"""Bringing a file in: a project as it is, a MIDI file as a song with sections, layers and shared patterns."""

from __future__ import annotations

import secrets
import shutil
from bisect import bisect_right
from contextlib import suppress
from dataclasses import replace
from pathlib import Path, PurePath
from typing import TYPE_CHECKING

from escalera.cleaning import clean_line
from escalera.core.document.limits import MAX_BARS
from escalera.core.document.song import Song
from escalera.core.document.target import Target
from escalera.core.energy.model import arranged
from escalera.core.performance.music_reading import MusicReading, read_music
from escalera.core.performance.played import Played
from escalera.core.reading.played_loops import push_of
from escalera.core.theory.keys import Key, parse_key
from escalera.core.time.metre import DENOMINATORS, MAX_NUMERATOR, Metre
from escalera.core.validation.whole import validate
from escalera.errors import FormatError, InputError, shown
from escalera.formats.bundle import is_bundle, read_bundle
from escalera.formats.midi_read import MidiFacts, read_midi
from escalera.formats.project import read_project
from escalera.lazy_dataclasses import dataclass
from escalera.services.import_forms import FORM_SUFFIXES, form_from_text, is_text, is_wave, song_from_markers
from escalera.services.import_grid import on_found_bars
from escalera.services.import_parts import make_layers, place_notes, played_from
from escalera.services.import_sections import add_sections, marked_bars, named_parts, song_key, tempo_at
from escalera.sound.recording_files import library

if TYPE_CHECKING:
    from escalera.services.samples import Samples

TEMPO_STEP = 240
MOST_READ = 100_000_000
SILENT_END_BARS = 4  # whole bars of silence after the last note that are kept


@dataclass(frozen=True)
class Imported:
    """A song, and what is worth saying about how it was read."""

    song: Song
    report: tuple[str, ...]
    reading: MusicReading | None = None


def import_path(path: Path, samples: Samples, name: str = "", tempo: str = "") -> Imported:
    """A song from a file on disk, whatever it is; `tempo` is for markers in seconds. Raises FormatError or InputError."""
    name = name or path.name
    with path.open("rb") as file:
        start = file.read(12)
    if is_bundle(start):
        return import_bundle(path, samples)
    if is_wave(start):
        return Imported(*song_from_markers(path, name, samples, tempo))
    if path.stat().st_size > MOST_READ:
        raise FormatError(
            f"{shown(name)} has {path.stat().st_size / 1e6:,.0f} MB; of MIDI files, projects and forms at most {MOST_READ / 1e6:,.0f} MB are read."
        )
    return import_file(name, path.read_bytes(), tempo)


def import_bundle(path: Path, samples: Samples) -> Imported:
    """A song from a bundle on disk; its recordings enter the library's folder, all of them or none. Raises FormatError."""
    aside = samples.folder / f".{secrets.token_hex(8)}"
    project, files = read_bundle(path, aside)
    try:
        song = read_project(project)
        samples.keep_files(files)
    finally:
        shutil.rmtree(aside, ignore_errors=True)
    missing = [s.name for s in song.samples if not library.has(s.content)]
    report = [f"The project and {len(files)} of its recordings were read as they are."]
    if missing:
        report.append(f"Missing: {', '.join(missing[:12])}. Their readings stand in until the files are brought in.")
    return Imported(song, tuple(report))


def import_file(name: str, data: bytes, tempo: str = "") -> Imported:
    """A song from a project, a MIDI file or a form as text or table; the kind is told by its content. Raises FormatError or InputError."""
    title = clean_line(PurePath(name).stem.replace("_", " "), 80) or "Imported"
    if data[:4] == b"MThd":
        return import_midi(data, title)
    if data.lstrip()[:1] == b"{":
        return Imported(read_project(data), ("The project was read as it is.",))
    if PurePath(name).suffix.lower() not in FORM_SUFFIXES and not is_text(data):
        raise FormatError(
            f"“{shown(name)}” is neither a MIDI file nor a project, nor a form as text. Choose a .mid, .json, .zip, .wav, .csv or .txt file."
        )
    return Imported(*form_from_text(data, title, tempo))


@dataclass(frozen=True, slots=True)
class Bars:
    """The bar lines of a file: start ticks (one more than bars) and the metre of every bar."""

    ticks: list[int]
    metres: list[Metre]

    def of(self, tick: int) -> int:
        return min(max(bisect_right(self.ticks, tick) - 1, 0), len(self.metres) - 1)

    def nearest(self, tick: int) -> int:
        """Index of the bar line nearest to a tick."""
        at = self.of(tick)
        return at + 1 if tick - self.ticks[at] > self.ticks[at + 1] - tick else at


def import_midi(data: bytes, title: str) -> Imported:
    """A song from a MIDI file, read as a musician would. Raises FormatError."""
    report: list[str] = []
    facts = on_found_bars(_thinned(read_midi(data)), report)
    bars = _bars(facts, report)
    played = played_from(facts, bars.ticks, bars.metres)
    marked = marked_bars(facts, played)
    reading = read_music(played, tuple(bar for bar, _ in marked))
    key = song_key(facts, reading, _written_key(facts), report)
    song = Song(title=title, tempo_bpm=tempo_at(facts, 0, report), metre=bars.metres[0], key=key)
    song, rows = make_layers(song, facts, report)
    song = add_sections(song, named_parts(reading, marked, played, report), reading, facts, played)
    song = _with_push(song, reading, played, report)
    for layer, notes in zip(song.layers, rows):
        song = place_notes(song, layer, notes, played)
    for what, count in facts.dropped.items():
        report.append(f"{count:,} × {what}" + ("." if "kept" in what else " dropped."))
    song = replace(
        song,
        chords_read=song.progression is not None,
        sections=tuple(replace(s, guessed=not marked) for s in song.sections),
    )
    return Imported(_with_targets(validate(song)), tuple(report), reading)


def _with_push(song: Song, reading: MusicReading, played: Played, report: list[str]) -> Song:
    """The song whose chords come early where they are played so; what is played stays where it is."""
    ticks, early, late = push_of(played, reading.chords)
    if not ticks or song.progression is None:
        return song
    report.append(
        f"{early} of {early + late} chords come an eighth before the bar line: the harmony is pushed by so much."
    )
    return replace(song, push_ticks=ticks)


def _thinned(facts: MidiFacts) -> MidiFacts:
    """At most one tempo a sixteenth, the last one written there: more is the noise of a recorded clock."""
    facts.tempos = list({tick // TEMPO_STEP: (tick, bpm) for tick, bpm in facts.tempos}.values())
    return facts


def _bars(facts: MidiFacts, report: list[str]) -> Bars:
    """Bar lines from the metre changes; a change inside a bar makes that bar shorter where it can be written."""
    changes = [(t, Metre(n, d)) for t, n, d in facts.metres if 1 <= n <= MAX_NUMERATOR and d in DENOMINATORS]
    if len(changes) < len(facts.metres):
        report.append(f"{len(facts.metres) - len(changes)} metre changes cannot be counted and were left out.")
    last = max(start for part in facts.parts for start, *_ in part.notes)
    ticks, metres, metre = [0], [], Metre()
    while ticks[-1] <= last or ticks[-1] + metre.bar_ticks <= min(
        facts.end_tick, last + SILENT_END_BARS * metre.bar_ticks
    ):
        start = ticks[-1]
        at = bisect_right(changes, start, key=lambda row: row[0])
        metre = changes[at - 1][1] if at else metre
        cut = changes[at][0] if at < len(changes) and changes[at][0] < start + metre.bar_ticks else None
        bar = metre
        if cut is not None and (cut - start) % 120 == 0 and (cut - start) // 120 <= MAX_NUMERATOR:
            bar = _reduced((cut - start) // 120)
        metres.append(bar)
        ticks.append(start + bar.bar_ticks)
        if len(metres) > MAX_BARS:
            raise FormatError(f"The file has more than {MAX_BARS} bars, the most a song may have. Cut it in two.")
    return Bars(ticks, metres)


def _reduced(thirty_seconds: int) -> Metre:
    numerator, denominator = thirty_seconds, 32
    while numerator % 2 == 0 and denominator > 4:
        numerator, denominator = numerator // 2, denominator // 2
    return Metre(numerator, denominator)


def _written_key(facts: MidiFacts) -> Key | None:
    """The first key that the file says."""
    if facts.keys:
        name = facts.keys[0][1]
        with suppress(InputError):
            return parse_key(name[:-1] + " minor" if name.endswith("m") else name + " major")
    return None


def _with_targets(song: Song) -> Song:
    """Sections start from what they have, so that the stair shows only what the user then asks for."""
    values = {s.span.section.id: min(10.0, round(s.value, 1)) for s in arranged(song).sections}
    return replace(
        song,
        sections=tuple(replace(s, target=Target(values[s.id], values[s.id])) for s in song.sections),
    )
