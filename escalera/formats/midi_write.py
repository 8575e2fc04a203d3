"""Writing a song as a Standard MIDI File, type 1, 960 ticks a quarter.

Track 1 carries tempo, metre, key and a marker per section; then one named track per sounding layer. Drums lie on
channel 10 with General MIDI drum notes; beyond 15 pitched layers channels are shared.
"""

from __future__ import annotations

import io

import mido
import numpy as np

from escalera.core.document.song import Layer, Song
from escalera.core.energy.join_cues import join_cues
from escalera.core.joins import played
from escalera.core.reading.events import CLIP_OF, DURATION, EMPTY, NO_CLIP, PITCH, START, VELOCITY, layer_events
from escalera.core.reading.section_harmony import progression_of, section_harmony
from escalera.core.reading.timeline import Span, Timeline, timeline
from escalera.core.theory.keys import Key, transpose_key
from escalera.core.theory.pitch import fifths_to_name
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.core.voices.melody import guide_of
from escalera.core.voices.word_places import words_laid

DRUM_CHANNEL = 9
GLIDE_STEP = TICKS_PER_QUARTER // 2
PITCHED_CHANNELS = tuple(c for c in range(16) if c != DRUM_CHANNEL)
Timed = list[tuple[int, int, mido.Message | mido.MetaMessage]]  # tick, order at the same tick, message


def write_midi(song: Song) -> bytes:
    """The song as bytes of a MIDI file. Muted layers are left out; pickups before bar 1 shift all by whole bars."""
    cues = join_cues(song)
    song = played(song)
    line = timeline(song)
    starts = _section_ticks(line)
    rows = {layer.id: _absolute(song, line, starts, layer) for layer in song.layers if not layer.muted}
    earliest = min((int(r[:, START].min()) for r in rows.values() if len(r)), default=0)
    shift = -(earliest // song.metre.bar_ticks) * song.metre.bar_ticks if earliest < 0 else 0
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER, charset="utf-8")
    end = starts[-1] + shift
    conductor = _conductor(song, line, starts, shift)
    conductor += [
        (cue.start_tick + shift, 5, mido.MetaMessage("cue_marker", text=f"{cue.what} into {cue.to_name}"))
        for cue in cues
        if cue.placed
    ]
    file.tracks.append(_track(conductor, end))
    pitched = 0
    for layer in song.layers:
        if layer.id not in rows or not len(rows[layer.id]):
            continue
        channel = DRUM_CHANNEL if layer.sound.is_drum else PITCHED_CHANNELS[pitched % len(PITCHED_CHANNELS)]
        pitched += not layer.sound.is_drum
        notes = _notes(layer, rows[layer.id], channel, shift) + _words(song, line, starts, layer, shift)
        file.tracks.append(_track(notes, end))
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _section_ticks(line: Timeline) -> list[int]:
    starts = [0]
    for span in line.spans:
        starts.append(starts[-1] + span.length_ticks)
    return starts


def _absolute(song: Song, line: Timeline, starts: list[int], layer: Layer) -> np.ndarray:
    """Events of a layer over the whole song, starts counted from the song's first tick."""
    parts = []
    for span, start in zip(line.spans, starts):
        table = layer_events(song, span, layer).table
        table = table[table[:, CLIP_OF] == NO_CLIP]  # a stretch of a recording is no note
        if len(table):
            moved = table.copy()
            moved[:, START] += start
            parts.append(moved)
    return np.concatenate(parts) if parts else EMPTY.table


def _conductor(song: Song, line: Timeline, starts: list[int], shift: int) -> Timed:
    events: Timed = [(0, 0, mido.MetaMessage("track_name", name=song.title))]
    metre, tempo, key = None, None, None
    for span, start in zip(line.spans, starts):
        at = start + shift if start else 0
        events.append((start + shift, 1, mido.MetaMessage("marker", text=span.section.name)))
        for bar, bar_metre in enumerate(span.bar_metres):
            if bar_metre != metre:
                tick = start + span.bar_ticks[bar] + shift if start or bar else 0
                events.append(
                    (
                        tick,
                        2,
                        mido.MetaMessage(
                            "time_signature", numerator=bar_metre.numerator, denominator=bar_metre.denominator
                        ),
                    )
                )
                metre = bar_metre
        for tick, bpm in tempo_steps(span):
            if bpm != tempo:
                when = start + tick + shift if start or tick else 0
                events.append((when, 3, mido.MetaMessage("set_tempo", tempo=round(60_000_000 / bpm))))
                tempo = bpm
        events += _chords(song, span, start + shift)
        now = transpose_key(song.key, span.section.shift_semitones) if span.section.shift_semitones else song.key
        if now != key:
            events.append((at, 4, mido.MetaMessage("key_signature", key=_signature(now))))
            key = now
    return events


def _chords(song: Song, span: Span, at: int) -> Timed:
    """Chords as text where they come; those that come early in the section before stand at its first tick."""
    if progression_of(song, span.section) is None:
        return []
    harmony = section_harmony(song, span)
    return [(at + max(0, t), 6, mido.MetaMessage("text", text=str(c))) for t, c in zip(harmony.ticks, harmony.chords)]


def _words(song: Song, line: Timeline, starts: list[int], layer: Layer, shift: int) -> Timed:
    """Syllables on the notes of the layer that the lead follows; a hyphen where a word goes on."""
    found: Timed = []
    for span, start in zip(line.spans, starts):
        guide = guide_of(song, span.section)
        if guide is not None and guide.id == layer.id and span.section.lyrics:
            found += [
                (start + shift + max(0, p.start), 1, mido.MetaMessage("lyrics", text=p.text + ("" if p.last else "-")))
                for p in words_laid(song, span).places
            ]
    return found


def tempo_steps(span: Span) -> list[tuple[int, float]]:
    """The tempo of a section as steps: a glide becomes one every eighth, each as long as the glide it stands for."""
    steps = []
    for here, there in zip(span.tempo_points, (*span.tempo_points[1:], None)):
        if not (here.glides and there):
            steps.append((here.tick, here.bpm))
            continue
        edges = [*range(here.tick, there.tick, GLIDE_STEP), there.tick]
        seconds = [span.seconds_at(t) for t in edges]
        steps += [(a, (b - a) / 960 * 60.0 / (t - s)) for a, b, s, t in zip(edges, edges[1:], seconds, seconds[1:])]
    return steps


def _signature(key: Key) -> str:
    """The major or minor key with the same signature (a mode is written by its signature)."""
    sharps = max(-7, min(7, key.signature))
    minor = 3 in key.degrees and 4 not in key.degrees
    return fifths_to_name(sharps + 3, ascii_only=True) + "m" if minor else fifths_to_name(sharps, ascii_only=True)


def _notes(layer: Layer, rows: np.ndarray, channel: int, shift: int) -> Timed:
    events: Timed = [(0, 0, mido.MetaMessage("track_name", name=layer.name))]
    if channel != DRUM_CHANNEL:
        events.append((0, 1, mido.Message("program_change", channel=channel, program=layer.sound.program)))
    for start, duration, pitch, velocity in rows[:, [START, DURATION, PITCH, VELOCITY]].tolist():
        on, off = start + shift, start + shift + duration
        events.append((on, 3, mido.Message("note_on", channel=channel, note=pitch, velocity=velocity)))
        events.append((off, 2, mido.Message("note_off", channel=channel, note=pitch, velocity=0)))
    return events


def _track(events: Timed, end: int) -> mido.MidiTrack:
    track, now = mido.MidiTrack(), 0
    for tick, _, message in sorted(events, key=lambda e: (e[0], e[1])):
        message.time = tick - now
        track.append(message)
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, end - now)))
    return track
