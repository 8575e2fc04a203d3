"""Edits of the low end: a bass, tuned drum or long kick put in tune in one step; and the line that is the tune."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import replace

from escalera.core.bench.bass_faults import MISTUNED, bass_faults, drum_pitch_hz
from escalera.core.document.song import Layer, Song
from escalera.core.edits.edit import edit, layer_of, section_of
from escalera.core.edits.note_edits import line_of
from escalera.core.edits.sound_edits import SetValue
from escalera.core.reading.events import START, layer_events
from escalera.core.reading.phrase_notes import Row, line_in, put_rows
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.rhythm.pattern import TONE
from escalera.core.theory.pitch import pitch_to_hz
from escalera.errors import EditError


@edit("tune_low", "layers")
class TuneLow:
    """Put a bass, tuned drum or long kick in tune with a section's chords, in one step."""

    section_id: int
    layer_id: int

    def apply(self, song: Song) -> Song:
        section, layer = section_of(song, self.section_id), layer_of(song, self.layer_id)
        span = timeline(song).span_of(section.id)
        faults = [f for f in bass_faults(song, span) if f.layer_id == layer.id]
        if not faults:
            raise EditError(f"{layer.name} is in tune with the chords of {section.name}. Nothing needs to move.")
        if layer.sound.is_drum:
            return _tuned_drum(song, span, layer)
        if any(f.kind == MISTUNED for f in faults):
            song = song.with_layer(replace(layer, tune_cents=0.0))
            faults = [f for f in bass_faults(song, timeline(song).span_of(section.id)) if f.layer_id == layer.id]
        ticks = {t for f in faults for t in f.ticks}
        return _rooted(song, span, layer, ticks) if ticks else song

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} tuned to the chords of {section_of(song, self.section_id).name}"


def _rooted(song: Song, span: Span, layer: Layer, ticks: set[int]) -> Song:
    """The notes at those ticks of the section play the root from now on, and follow it."""
    for phrase in range(len(span.section.phrases)):
        line = line_in(song, timeline(song).span_of(span.section.id), phrase, layer)
        wrong = {n for n in line.notes if n.tick + line.low in ticks}
        if wrong:
            rows: list[Row] = [
                (n.tick, n.duration, TONE, 0, 0, n.velocity) if n in wrong else n.row for n in line.notes
            ]
            song = put_rows(song, timeline(song).span_of(span.section.id), phrase, layer, rows, line.names[0])
    return song


def _tuned_drum(song: Song, span: Span, layer: Layer) -> Song:
    """The pitch, near where it is, that is a root under most of the hits, then a chord tone under most."""
    harmony, hz = section_harmony(song, span), drum_pitch_hz(song, layer)
    assert hz is not None
    chords = [harmony.at(int(t)) for t in layer_events(song, span, layer).table[:, START]]
    roots, tones = Counter(c.bass_class for c in chords), Counter(t for c in chords for t in c.classes)
    now = 69.0 + 12.0 * math.log2(hz / song.tuning_hz)
    near = range(round(now) - 6, round(now) + 7)
    best = max(near, key=lambda p: (tones[p % 12], roots[p % 12], -abs(p - now)))
    if layer.clips:
        clip = layer.clips[0]
        moved = replace(clip, semitones=round(clip.semitones + best - now, 3))
        return song.with_layer(replace(layer, clips=(moved, *layer.clips[1:])))
    return SetValue(f"layer.{layer.id}.sound.hz", round(pitch_to_hz(best, song.tuning_hz), 3)).apply(song)


@edit("set_tune", "song")
class SetTune:
    """Say which line is the song's tune, so that the map can follow it."""

    section_id: int
    layer_id: int
    phrase: int

    def apply(self, song: Song) -> Song:
        _, layer, line = line_of(song, self.section_id, self.layer_id, self.phrase)
        if len(line.notes) < 3:
            raise EditError(
                f"{layer.name} plays {len(line.notes)} notes here; a tune needs at least 3. Choose another line."
            )
        return replace(song, tune=(self.section_id, self.layer_id, self.phrase))

    def summary(self, song: Song) -> str:
        return f"The tune is {layer_of(song, self.layer_id).name} in {section_of(song, self.section_id).name}"
