"""Key, mode, chords and form of a song or a file as plain data: the stable JSON of the command line."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from escalera.core.document.song import Song
from escalera.core.performance.chord_reading import ReadChord
from escalera.core.performance.form_found import find_form
from escalera.core.performance.music_reading import MusicReading, read_music
from escalera.core.performance.played import Played, PlayedPart
from escalera.core.reading.events import layer_events, sounding_layers
from escalera.core.reading.section_harmony import progression_of, section_harmony
from escalera.core.reading.timeline import Timeline, timeline
from escalera.core.theory.pitch import fifths_to_name
from escalera.lazy_dataclasses import dataclass
from escalera.services.importing import import_file


@dataclass(frozen=True, eq=False)
class ReadSong:
    """A song with what is read from its notes."""

    song: Song
    reading: MusicReading


def read_source(song: Song, path: Path | None = None) -> ReadSong:
    """Read a song; a MIDI file is read as it was played, not as the song that was made of it."""
    found = import_file(path.name, path.read_bytes()) if path is not None else None
    if found is not None and found.reading is not None:
        return ReadSong(found.song, found.reading)
    return ReadSong(song, _read(song))


def played_song(song: Song, line: Timeline) -> Played:
    """What a song's layers play, over its bar lines."""
    rows: dict[int, list[Any]] = {x.id: [] for x in song.layers}
    ticks, metres, start = [0], [], 0
    for span in line.spans:
        for layer in sounding_layers(song, span.section):
            table = layer_events(song, span, layer).table.astype(np.int64)
            at = table[:, 0] + start
            rows[layer.id].append(np.stack((at, at + table[:, 1], table[:, 2], table[:, 3]), axis=1))
        ticks += [start + t for t in span.bar_ticks[1:]]
        metres += list(span.bar_metres)
        start += span.length_ticks
    parts = []
    for layer in song.layers:
        found = np.concatenate(rows[layer.id]) if rows[layer.id] else np.zeros((0, 4), np.int64)
        parts.append(PlayedPart(found[np.argsort(found[:, 0], kind="stable")], layer.sound.is_drum, layer.name))
    return Played(tuple(parts), tuple(ticks), tuple(metres))


def _read(song: Song) -> MusicReading:
    """The song's own chords where it has any, else those that are read; its sections, and what each repeats."""
    line = timeline(song)
    played = played_song(song, line)
    edges = tuple(span.first_bar - line.spans[0].first_bar for span in line.spans)
    reading = read_music(played, edges)
    if not any(progression_of(song, s) for s in song.sections):
        return reading
    chords, start = [], 0
    for span, first in zip(line.spans, edges):
        harmony = section_harmony(song, span)
        for tick, chord in zip(harmony.ticks, harmony.chords):
            at = max(0, tick)
            if at < span.length_ticks:
                bar = int(np.searchsorted(span.bar_ticks, at, side="right")) - 1
                beat = (at - span.bar_ticks[bar]) // span.bar_metres[bar].beat_ticks
                chords.append(ReadChord(first + bar, beat, start + at, chord, 1.0))
        start += span.length_ticks
    return MusicReading(reading.key, tuple(chords), find_form(played, chords, edges))


def music_report(read: ReadSong) -> dict[str, Any]:
    """Bars and beats from 1; a row for every change and for the one of every bar."""
    song, reading = read.song, read.reading
    key = reading.key.key if reading.key else song.key
    line = timeline(song)
    first = line.spans[0].first_bar if line.spans else 1
    rows, at, current = [], 0, None
    for bar in range(song.bars):
        begins = at < len(reading.chords) and (reading.chords[at].bar, reading.chords[at].beat) <= (bar, 0)
        if current is not None and not begins:
            rows.append(_row(bar + first, 1, current))
        while at < len(reading.chords) and reading.chords[at].bar <= bar:
            current = reading.chords[at]
            rows.append(_row(current.bar + first, current.beat + 1, current))
            at += 1
    return {
        "key": fifths_to_name(key.tonic_fifths, ascii_only=True),
        "mode": key.mode,
        "confidence": round(reading.key.confidence, 2) if reading.key else 0.0,
        "chords": rows,
        "sections": [
            {
                "name": span.section.name,
                "role": span.section.role,
                "first_bar": span.first_bar,
                "bars": span.section.bars,
                "like": song.sections[part.like].name if part.like >= 0 else "",
                "higher_semitones": part.shift,
            }
            for span, part in zip(line.spans, reading.form.parts)
        ],
    }


def _row(bar: int, beat: int, chord: ReadChord) -> dict[str, Any]:
    return {
        "bar": bar,
        "beat": beat,
        "chord": chord.chord.name(ascii_only=True),
        "confidence": round(chord.confidence, 2),
    }
