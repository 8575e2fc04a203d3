"""Moves that make room without taking anything out: ducked, high-passed, quieter, an octave away, at its usual level."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np

from escalera.core.document.lanes import layer_value
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Placement, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.harmony_edits import SetVoicing
from escalera.core.edits.layer_edits import SetControl
from escalera.core.edits.line_edits import TransformLine
from escalera.core.moves.move import Move, bare, changed, is_pitched, kind, playing, span_of
from escalera.core.reading.events import DURATION, PITCH, layer_events
from escalera.core.theory.voicings import INVERSIONS

DUCK_DB, QUIETER_DB, USUAL_WITHIN_DB = 9.0, 4.0, 6.0
LOWS_OFF_HZ, BASS_LOWS_OFF_HZ = 180.0, 110.0
HIGHEST_BASS = 52  # E3: where the line of a bass lies at most after it went up


@kind(
    "duck",
    "Duck it under the kick",
    "A held sound gives way for a moment where the kick falls: both are heard.",
    room=True,
)
def duck(song: Song, section: Section) -> Iterator[Move]:
    sounding = playing(song, section)
    if not any(x.sound.drum == "kick" for x in sounding):
        return
    for layer in sounding:
        there = layer_in(song, section, layer)
        if not layer.sound.is_drum and layer.family in ("low end", "chords") and there.duck_db < DUCK_DB / 2:
            yield Move(
                f"duck:{layer.id}",
                f"Duck {layer.name} under the kick",
                (Treat(section.id, layer.id, "duck_db", DUCK_DB),),
            )


@kind(
    "lows off",
    "Take its lows away",
    "A high-pass below what the layer is there for: the low end belongs to one.",
    room=True,
)
def lows_off(song: Song, section: Section) -> Iterator[Move]:
    sounding = playing(song, section)
    lows = [x for x in sounding if x.family == "low end"]
    for layer in sounding:
        high = BASS_LOWS_OFF_HZ if layer.family == "low end" else LOWS_OFF_HZ
        others = any(x.id != layer.id for x in lows)
        if is_pitched(layer) and others and layer_in(song, section, layer).highpass_hz < high:
            yield Move(
                f"lows off:{layer.id}",
                f"High-pass {layer.name} at {high:.0f} Hz",
                (Treat(section.id, layer.id, "highpass_hz", high),),
            )


@kind(
    "quieter",
    "Play it softer here",
    "A layer steps back in this section and stays where it is elsewhere.",
    way=-1,
    room=True,
)
def quieter(song: Song, section: Section) -> Iterator[Move]:
    for layer in playing(song, section):
        level = layer_value(layer_in(song, section, layer), "level_db") - QUIETER_DB
        if is_pitched(layer) and level > layer.sound.level_db - 4 * QUIETER_DB:
            yield Move(
                f"quieter:{layer.id}",
                f"{layer.name} {QUIETER_DB:.0f} dB softer",
                (Treat(section.id, layer.id, "level_db", level),),
            )


@kind("other octave", "An octave away", "The same line where nothing else lies.", room=True)
def other_octave(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    for layer in playing(song, section):
        if not is_pitched(layer):
            continue
        pitches = layer_events(song, span, layer).table[:, PITCH]
        if not len(pitches):
            continue
        middle, (low, high) = float(np.median(pitches)), layer.sound.register
        for semitones in (12, -12):
            top = min(high, HIGHEST_BASS) if layer.family == "low end" else high
            if low <= middle + semitones <= top and all(
                abs(p.variation.transpose_semitones + semitones) <= 24
                for p in section.placements
                if p.layer_id == layer.id
            ):
                way = "up" if semitones > 0 else "down"
                edits = changed(section, layer, partial(_raised, semitones))
                yield Move(f"other octave:{layer.id}:{way}", f"{layer.name} an octave {way}", edits)


@kind(
    "clear chords",
    "Voice its chords without clashes",
    "Chords lie so that no minor ninths, low semitones and mud come up; or with another tone lowest.",
    room=True,
)
def clear_chords(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    parts = [
        ("clear", "yes", "voiced without clashes"),
        *(("inversion", low, f"with the {low} lowest") for low in INVERSIONS[1:4]),
    ]
    for layer in playing(song, section):
        if layer.family != "chords" or not is_pitched(layer):
            continue
        now = layer_events(song, span, layer).table
        for part, value, said in parts:
            edit = SetVoicing(layer.id, part, value)
            after = edit.apply(song)
            if not np.array_equal(layer_events(after, span, after.layer_by_id[layer.id]).table, now):
                yield Move(f"clear chords:{layer.id}:{value}", f"{layer.name} {said}", (edit,))


@kind(
    "shorter notes",
    "Let its notes end sooner",
    "Held notes end after half their length, and stay against nothing.",
    room=True,
)
def shorter_notes(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    beat = span.bar_metres[0].beat_ticks
    for layer in playing(song, section):
        lengths = layer_events(song, span, layer).table[:, DURATION]
        if is_pitched(layer) and len(lengths) and float(np.median(lengths)) > beat / 2:
            rests = bare(song, section, layer)
            phrases = [i for i in range(len(section.phrases)) if i not in rests]
            edits = tuple(TransformLine(section.id, layer.id, phrase, "shorter") for phrase in phrases)
            yield Move(f"shorter notes:{layer.id}", f"{layer.name} with notes half as long", edits)


def _raised(semitones: int, placement: Placement) -> dict[str, int]:
    return {"transpose_semitones": placement.variation.transpose_semitones + semitones}


@kind(
    "usual level",
    "Back to its usual level",
    "The level at which the sound stands in balance, in the whole song.",
    room=True,
)
def usual_level(song: Song, section: Section) -> Iterator[Move]:
    for layer in playing(song, section):
        usual = layer.sound.level_db
        if abs(layer.level_db - usual) > USUAL_WITHIN_DB:
            yield Move(
                f"usual level:{layer.id}",
                f"{layer.name} at {usual:.0f} dB, as its sound usually stands",
                (SetControl(layer.id, "level_db", usual),),
            )
