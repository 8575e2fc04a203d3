"""The key of a song as its chords and notes have it, and whether its label agrees."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.reading.events import DURATION, EMPTY, PITCH, START, layer_events, sounding_layers
from escalera.core.reading.section_harmony import progression_of, section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.chords import Chord
from escalera.core.theory.key_finding import KeyReading, Slice, find_key, slices_of_notes
from escalera.core.theory.keys import Key

CHORD_WORTH = 1.0  # a chord that is written counts like one note held as long as it, on every tone
CLOSE = 0.08  # a margin that small is no clear answer


def key_reading(song: Song) -> KeyReading | None:
    """The key that fits the song's chords and pitched notes, from every section without its shift. None for silence."""
    if "key reading" not in song.memo:
        slices = [piece for span in timeline(song).spans for piece in _slices(song, span)]
        song.memo["key reading"] = find_key(slices)
    return song.memo["key reading"]


def _slices(song: Song, span: Span) -> list[Slice]:
    """One slice a written chord: the notes that start under it by their lengths, and its own tones. Without chords, the
    slices of the notes."""
    shift = span.section.shift_semitones
    layers = [x for x in sounding_layers(song, span.section) if not x.sound.is_drum]
    tables = [layer_events(song, span, x).table for x in layers]
    table = np.concatenate(tables) if tables else EMPTY.table
    pitches = table[:, PITCH].astype(np.int64) - shift
    if progression_of(song, span.section) is None:
        starts = table[:, START].astype(np.int64)
        return slices_of_notes(np.stack((starts, starts + table[:, DURATION], pitches), axis=1))
    harmony = section_harmony(song, span)
    weights = np.zeros((len(harmony.ticks), 12))
    index = np.maximum(np.searchsorted(np.array(harmony.ticks), table[:, START], side="right") - 1, 0)
    np.add.at(weights, (index, pitches % 12), table[:, DURATION])
    lengths = np.diff([max(0, t) for t in harmony.ticks] + [span.length_ticks]).astype(float)
    return [
        Slice(tuple((weights[i] + _tones(chord, lengths[i])).tolist()), chord.bass_class, lengths[i])
        for i, chord in enumerate(harmony.home)
    ]


def _tones(chord: Chord, length: float) -> NDArray[np.float64]:
    found = np.zeros(12)
    for c in chord.classes:
        found[c] += CHORD_WORTH * length
    return found


def label_note(label: Key, reading: KeyReading | None) -> str:
    """A sentence where the song's label and its content disagree; empty where they agree."""
    if reading is None:
        return ""
    own, best = reading.score_of(label), reading.best
    if own is None or (best.tonic_class, best.is_minor) == (label.tonic_class, label.is_minor):
        return ""
    if best.signature == label.signature:
        said = "close" if reading.margin < CLOSE else "clear"
        return (
            f"The song says {label}; its chords and notes sit on {best}, its relative key (a "
            f"{said} call). Packs are often labelled with the relative."
        )
    if reading.candidates[0].score - own < CLOSE:
        return f"The song says {label}; {best} fits about as well."
    return (
        f"The song says {label}, and its content contradicts that: {best} fits better by "
        f"{reading.candidates[0].score - own:.2f}."
    )
