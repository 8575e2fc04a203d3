"""A song on the shape of a track: its tempo, key, metre, form, chords where they are wanted, and its course of energy as what is wanted.

Nothing of its sound goes over, and no tune: form and energy are free to learn from, recordings, melodies and words are not.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from escalera.core.document.limits import MAX_TITLE
from escalera.core.document.names import clean_name
from escalera.core.document.song import Progression, Song
from escalera.core.document.target import Target, through
from escalera.core.edits.form_layout import number_repeats
from escalera.core.edits.section_edits import AddSection
from escalera.core.study.heard_track import StudyReading
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key, parse_key
from escalera.core.time.metre import Metre
from escalera.errors import EscaleraError, InputError

TICKS_A_BEAT = 960
LEAST, MOST = 1.0, 9.5  # energies that the lowest and the highest section of a track are wanted at
CLOSE = 0.6  # a course whose parts lie nearer together than this is one level
SPREAD = 1.0


def shape_of(reading: StudyReading, title: str, with_chords: bool = True) -> Song:
    """An empty song of a track's shape. Raises InputError where there are no bars to take."""
    if not reading.has_bars or not reading.sections:
        raise InputError("No bars could be read, so that there is no form to build on. Tap along first.")
    song = Song(
        title=clean_name(title, "title", MAX_TITLE), tempo_bpm=round(float(reading.tempo_bpm or 110.0), 2),
        metre=Metre(reading.beats_a_bar, 4), key=parse_key(reading.key) if reading.key else Key(),
    )  # fmt: skip
    song = replace(song, sections=())
    for section in reading.sections:
        song = AddSection(section.name, "", section.bars).apply(song)
    rows = []
    for index, (made, heard) in enumerate(zip(song.sections, reading.sections)):
        made = replace(
            made, role=heard.role or made.role, target=target_of(reading, index), shift_semitones=heard.semitones
        )
        if with_chords:
            made = replace(made, progression=chords_of(reading, index))
        rows.append(made)
    return number_repeats(replace(song, sections=tuple(rows)))


def target_of(reading: StudyReading, index: int) -> Target:
    """The course of a section's energy as what is wanted, the track's lowest section at the bottom and its highest at the top."""
    section = reading.sections[index]
    bars = _on_scale(reading)[section.first_bar : section.first_bar + section.bars]
    if len(bars) < 4:
        mean = round(float(bars.mean()), 1)
        return Target(mean, mean)
    quarters = [float(part.mean()) for part in np.array_split(bars, 4)]
    if max(quarters) - min(quarters) < CLOSE:
        mean = round(float(bars.mean()), 1)
        return Target(mean, mean)
    knots = [(0.0, quarters[0]), (0.375, quarters[1]), (0.625, quarters[2]), (1.0, quarters[3])]
    return through([(share, round(energy, 1)) for share, energy in knots])


def _on_scale(reading: StudyReading) -> np.ndarray:
    """Energies of all bars on the scale of a song: the lowest and the highest section at usual levels where the track has contrast."""
    energy = np.array([b.energy for b in reading.bars])
    means = [float(energy[s.first_bar : s.first_bar + s.bars].mean()) for s in reading.sections if s.bars]
    low, high = min(means), max(means)
    if high - low < SPREAD:
        return np.clip(energy, 0.0, 10.0)
    gain = min(1.6, (8.5 - 2.0) / (high - low))
    middle = (low + high) / 2
    return np.clip(middle + gain * (energy - middle), LEAST, MOST)


def chords_of(reading: StudyReading, index: int, at_home: bool = True) -> Progression | None:
    """The chords of a section in the track's home key, or as they sound, as short as they go round; None where none are heard."""
    section = reading.sections[index]
    low, high = reading.beat_of_bar(section.first_bar), reading.beat_of_bar(section.first_bar + section.bars)
    rows: list[tuple[int, Chord]] = []
    for heard in reading.chords:
        if heard.end_beat <= low or heard.beat >= high:
            continue
        chord = _home(heard.chord, reading, section.semitones if at_home else 0)
        if chord is not None and not (rows and rows[-1][1] == chord):
            rows.append((max(0, heard.beat - low) * TICKS_A_BEAT, chord))
    if not rows:
        return None
    rows[0] = (0, rows[0][1])
    return _shortest(rows, section.bars, reading.beats_a_bar * TICKS_A_BEAT)


def _home(text: str, reading: StudyReading, semitones: int) -> Chord | None:
    try:
        chord = parse_chord(text)
    except EscaleraError:
        return None
    if not semitones or reading.key is None:
        return chord
    key = parse_key(reading.key)
    root = key.fifths_of((chord.root_class - semitones) % 12)
    return chord.moved(root - chord.root_fifths)


def _shortest(rows: list[tuple[int, Chord]], bars: int, bar_ticks: int) -> Progression:
    """The shortest loop of whole bars that, gone round, gives the same chords."""
    ticks, chords = [t for t, _ in rows], [c for _, c in rows]

    def at(tick: int) -> Chord:
        return chords[max(i for i, t in enumerate(ticks) if t <= tick)]

    beats = [at(t) for t in range(0, bars * bar_ticks, TICKS_A_BEAT)]
    a_bar = bar_ticks // TICKS_A_BEAT
    for size in (n for n in (1, 2, 4, 8, 12, 16) if n < bars):
        if all(beats[i] == beats[i % (size * a_bar)] for i in range(len(beats))):
            return Progression(tuple(r for r in rows if r[0] < size * bar_ticks), size * bar_ticks)
    return Progression(tuple(rows), bars * bar_ticks)
