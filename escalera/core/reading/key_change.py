"""A key change: chords that lead into the new key, drums that are tuned with it, and what every layer has to do."""

from __future__ import annotations

import math
from collections.abc import Sequence

from escalera.core.document.song import Layer, Section, Song
from escalera.core.reading.events import PITCH, layer_events
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import FIXED
from escalera.core.theory.chords import Chord
from escalera.core.theory.continuations import pivots
from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import pitch_to_hz
from escalera.lazy_dataclasses import dataclass

STEP_UP, DOMINANT, COMMON = "step up", "dominant", "common chord"
APPROACHES = (STEP_UP, DOMINANT, COMMON)
IN_TUNE_CENTS = 25.0
FAR_SEMITONES = 4.0  # beyond which a transposed recording is heard to be one
SPARE = 5  # semitones beyond its useful range at which a sound is called out of it


def approach_chords(old: Key, new: Key, approach: str) -> tuple[Chord, ...]:
    """The chords of the bar before the change; empty for a plain step, or where no chord is shared."""
    dominant = Chord(new.tonic_fifths + 1, "7")
    if approach == DOMINANT:
        return (dominant,)
    shared = pivots(old, new) if approach == COMMON else []
    return (shared[0].chord, dominant) if shared else ()


def drum_pitch(layer: Layer, song: Song) -> float | None:
    """The MIDI pitch (with fraction) a drum was tuned to by hand, where that is a note of the key; else None."""
    hz = dict(layer.settings).get("hz")
    if hz is None or not layer.sound.is_drum:
        return None
    pitch = 69.0 + 12.0 * math.log2(hz / song.tuning_hz)
    is_note = abs(pitch - round(pitch)) * 100.0 <= IN_TUNE_CENTS and round(pitch) % 12 in song.key.classes
    return pitch if is_note else None


def best_octave(semitones: int) -> int:
    """A shift folded to the nearest octave, −5 to 6: a drum keeps its size."""
    return (semitones + 5) % 12 - 5


def retuned_drums(song: Song, section: Section) -> list[tuple[Layer, str, float]]:
    """Layer, path and pitch in Hz of every tuned drum, as the section's shift wants it."""
    found = []
    for layer in song.layers:
        if drum_pitch(layer, song) is not None:
            hz = dict(layer.settings)["hz"] * 2.0 ** (best_octave(section.shift_semitones) / 12.0)
            p = layer.sound.parameter_by_key["hz"]
            found.append((layer, "sound.hz", round(min(max(hz, p.low), p.high), 3)))
    return found


@dataclass(frozen=True, slots=True)
class LayerTask:
    """What one layer does at a key change; `by_hand` when the user has something to do."""

    layer: Layer
    said: str
    by_hand: bool = False


def key_change_plan(song: Song, sections: Sequence[Section], semitones: int) -> list[LayerTask]:
    """What every layer that plays in the sections has to do when they move by so many semitones."""
    line = timeline(song)
    tasks = []
    for layer in song.layers:
        playing = [s for s in sections if any(p.layer_id == layer.id for p in s.placements)]
        if playing:
            pitches = [int(p) for s in playing for p in layer_events(song, line.span_of(s.id), layer).table[:, PITCH]]
            tasks.append(_task(song, layer, playing, pitches, semitones))
    return tasks


def _task(song: Song, layer: Layer, playing: list[Section], pitches: list[int], semitones: int) -> LayerTask:
    if layer.clips and not layer.sound.plays_pitches:
        return _recorded_task(layer, playing[0].shift_semitones + semitones)
    if layer.sound.is_drum:
        return _drum_task(song, layer, playing[0].shift_semitones + semitones)
    if layer.sound.register[0] == layer.sound.register[1] or not pitches:
        return LayerTask(layer, "has no pitch of its own: stays")
    if layer.prints:
        return LayerTask(layer, "is printed: remove the print or print it again in the new key", True)
    ids = {p.pattern_id for s in playing for p in s.placements if p.layer_id == layer.id}
    follows = any((song.pattern_by_id[i].pattern.rows[:, 2] != FIXED).any() for i in ids)
    what = "follows the chords" if follows else f"its written notes move by {semitones:+d}"
    low, high = layer.register_low, layer.sound.register[1] + 12 * layer.octave
    over, under = max(pitches) + semitones - high - SPARE, low - SPARE - (min(pitches) + semitones)
    if over <= 0 and under <= 0:
        return LayerTask(layer, f"{what}, {_span(song, pitches, semitones)}: inside its range")
    far, way = (over + SPARE, "above") if over > 0 else (under + SPARE, "below")
    return LayerTask(
        layer,
        f"{what}, {_span(song, pitches, semitones)}: {far} semitones {way} its range; try it "
        f"an octave {'lower' if over > 0 else 'higher'}",
        True,
    )


def _recorded_task(layer: Layer, shift: int) -> LayerTask:
    if layer.sound.is_drum:
        return LayerTask(layer, "a recorded beat: keeps its pitch")
    far = max(abs(clip.semitones + shift) for clip in layer.clips)
    said = f"a recording, transposed by {layer.clips[0].semitones + shift:+g} semitones in all".replace("-", "−")
    if far > FAR_SEMITONES:
        return LayerTask(layer, f"{said}: that is heard; try another take, or keep its formants", True)
    return LayerTask(layer, f"{said}: hardly heard")


def _span(song: Song, pitches: list[int], semitones: int) -> str:
    low, high = min(pitches) + semitones, max(pitches) + semitones
    name = song.key.pitch_name
    return name(low) if low == high else f"{name(low)} to {name(high)}"


def _drum_task(song: Song, layer: Layer, shift: int) -> LayerTask:
    pitch = drum_pitch(layer, song)
    if pitch is None:
        return LayerTask(layer, "a drum without a note of the key: stays")
    there = round(pitch) + best_octave(shift)
    hz = pitch_to_hz(there, song.tuning_hz)
    return LayerTask(
        layer,
        f"a tuned drum: from {song.key.pitch_name(round(pitch))} to "
        f"{song.key.pitch_name(there)} ({hz:.1f} Hz), its best octave",
    )
