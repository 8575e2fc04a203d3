"""From notes to audio: every note played by its sound's kernel, equal notes once."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.parameters import Settings, with_setting
from escalera.core.palette.recorded_sounds import is_recorded
from escalera.core.palette.sounds import BY_KEY
from escalera.core.theory.pitch import STANDARD_HZ, pitch_to_hz
from escalera.lazy_dataclasses import dataclass
from escalera.sound.bank_player import bank
from escalera.sound.cache import AudioCache
from escalera.sound.clips import Recorded, lengths_of_clips, play_clips
from escalera.sound.compilation import bus, tonal
from escalera.sound.content import content_key
from escalera.sound.schedule import RATE_HZ, Notes
from escalera.sound.spec import VERSION, Moving, Stacked, TempoPoints, ticks_at
from escalera.sound.voices import Patch, patch

TAKES = 4  # a noisy sound is played in four takes, chosen by the layer's seed and the note's index
STEPS = 128  # a sound's own parameter moves from note to note in so many steps of its range
Audio = NDArray[np.float32]
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class UnitNotes:
    """The notes of a unit as one sound plays them: starts in samples, lengths with release, takes."""

    sound: Patch
    notes: Notes
    starts: Ints
    lengths: Ints
    takes: Ints
    tuning_hz: float = STANDARD_HZ
    recorded: tuple[Recorded, ...] = ()

    @property
    def end(self) -> int:
        return int((self.starts + self.lengths).max(initial=0))


def line_of(stacked: Stacked, notes: Notes, seed: int = 0) -> UnitNotes:
    """How a sound plays notes, without playing them."""
    sound = patch(stacked.sound_key, stacked.settings)
    index = np.arange(len(notes.start))
    if is_recorded(stacked.sound_key):
        lengths = lengths_of_clips(stacked.recorded, notes)
        starts = notes.start + stacked.offset
        return UnitNotes(sound, notes, starts, lengths, index * 0, stacked.tuning_hz, stacked.recorded)
    takes = (index * 7 + seed) % TAKES if sound.noisy else index * 0
    starts = notes.start + stacked.offset
    strum_s = sound.values.get("strum_s", 0.0)
    if strum_s:
        starts = starts + _rank_in_chord(notes.start) * round(strum_s * RATE_HZ)
    return UnitNotes(sound, notes, starts, lengths_of(sound, notes), takes, stacked.tuning_hz)


def _rank_in_chord(start: Ints) -> Ints:
    """0, 1, 2 … for notes that start together, from the lowest up (notes are sorted by start and pitch)."""
    index = np.arange(len(start))
    return index - np.searchsorted(start, start, side="left")


def lengths_of(sound: Patch, notes: Notes) -> Ints:
    """Whole lengths: a hit rings out unless another damps it, an impact always, a pitched note adds its release."""
    if sound.ring_s:
        ring = round(sound.ring_s * RATE_HZ)
        if not BY_KEY[sound.key].is_drum:
            return np.full(len(notes.hold), ring)
        return np.where(notes.hold < ring, np.minimum(ring, notes.hold + 2400), ring)
    return notes.hold + round(sound.release_s * RATE_HZ)


def play_line(line: UnitNotes, audio: Audio, offset: int, gain: float, pan: Any, cache: AudioCache) -> None:
    """Add all notes of a line to audio (1 or 2, n) that begins `offset` samples after the section's start.

    `pan` is None, or a place -1..1 for every note, heard at constant power.
    """
    sound, notes, tuning = line.sound, line.notes, line.tuning_hz
    gains = gain * (notes.velocity / 100.0) ** 1.5
    sides = None
    if pan is not None:
        angle = (np.asarray(pan) + 1.0) * np.pi / 4.0
        sides = np.sqrt(2.0) * np.cos(angle), np.sqrt(2.0) * np.sin(angle)
    if is_recorded(sound.key):
        cents = 1200.0 * float(np.log2(tuning / STANDARD_HZ))
        moved = replace(notes, start=line.starts)
        play_clips(line.recorded, moved, audio, offset, gains, sides, cents, cache)
        return
    if BY_KEY[sound.key].mono:
        _play_phrases(line, audio, offset, gains)
        return
    levels = gains * (np.stack(sides) if sides else np.ones((len(audio), 1)))
    starts = line.starts - offset
    its_sound = content_key("note", VERSION, sound.key, sound.vector.tobytes(), tuning)
    for (take, pitch, hold, length), indices in _alike(line).items():
        key = f"{its_sound} {take} {pitch} {hold} {length}"
        note = cache.get_or_make(key, lambda: _one_note(line, pitch, hold, length, take))  # noqa: B023
        bus.add_notes(audio, note, starts[indices], np.ascontiguousarray(levels[:, indices]))


def _one_note(line: UnitNotes, pitch: int, hold: int, length: int, take: int) -> Audio:
    audio = np.zeros((line.sound.channels, length), np.float32)
    _play(line, audio, hold, pitch, 1.0, take)
    return audio


def _play(line: UnitNotes, audio: Audio, hold: int, pitch: int, gain: float, take: int) -> None:
    sound, opened = line.sound, bank()
    if sound.program is not None and opened is not None:
        audio += np.float32(gain) * opened.note(sound.program, pitch, hold, audio.shape[1], line.tuning_hz)
    else:
        hz = pitch_to_hz(pitch, line.tuning_hz)
        sound.voice.model.kernel(audio[0], audio[-1], hold, hz, gain, take, sound.vector)


Alike = dict[tuple[int, int, int, int], list[int]]


def _alike(line: UnitNotes) -> Alike:
    """Indices of notes that sound the same but for their level, by (take, pitch, hold, length)."""
    pitch = line.notes.pitch * (0 if line.sound.ring_s else 1)
    rings = line.sound.ring_s and not BY_KEY[line.sound.key].is_drum
    hold = line.lengths if rings else np.minimum(line.notes.hold, line.lengths)
    groups: Alike = {}
    for i, row in enumerate(zip(line.takes.tolist(), pitch.tolist(), hold.tolist(), line.lengths.tolist())):
        groups.setdefault(row, []).append(i)
    return groups


def _play_phrases(line: UnitNotes, audio: Audio, offset: int, gains: NDArray[np.float64]) -> None:
    """A gliding sound: notes that overlap are one phrase, whose pitch slides from each to the next."""
    sound, notes = line.sound, line.notes
    ends, first = line.starts + notes.hold, 0
    for i in range(len(notes.start)):
        last = i + 1 == len(notes.start)
        if last or notes.start[i + 1] >= ends[i]:
            start = int(line.starts[first])
            hold = int(ends[first : i + 1].max()) - start
            length = hold + round(sound.release_s * RATE_HZ)
            hz = line.tuning_hz * _slide(notes, first, i, start, length, sound.values["glide_s"])
            part = audio[:, start - offset : start - offset + length]
            tonal.gliding(part[0], hold, hz, float(gains[first]), 0, sound.vector)
            if len(part) == 2:
                part[1] += part[0]
            first = i + 1


def _slide(notes: Notes, first: int, last: int, start: int, length: int, glide_s: float) -> NDArray[np.float64]:
    """Pitch, as a ratio to A, at every 16 samples of a phrase: each note is reached along a raised cosine, in semitones."""
    at = np.arange(-(-length // 16)) * 16.0
    pitch = np.full(len(at), float(notes.pitch[first]))
    for i in range(first + 1, last + 1):
        share = np.clip((at - (int(notes.start[i]) - start)) / max(1.0, glide_s * RATE_HZ), 0.0, 1.0)
        pitch += (float(notes.pitch[i]) - float(notes.pitch[i - 1])) * (0.5 - 0.5 * np.cos(np.pi * share))
    return 2.0 ** ((pitch - 69.0) / 12.0)


def split_by_settings(
    stacked: Stacked, notes: Notes, moving: tuple[Moving, ...], tempo: TempoPoints
) -> list[tuple[Stacked, Notes]]:
    """Notes grouped by the sound's own parameters where curves move them; they are read at every onset."""
    moving = tuple(m for m in moving if m.slot.startswith("sound."))
    if not moving:
        return [(stacked, notes)]
    ticks = ticks_at(tempo, notes.start.astype(np.float64))
    known = BY_KEY[stacked.sound_key].parameter_by_key
    groups: dict[Settings, list[int]] = {}
    columns = [(known[m.slot[6:]], m.at(ticks)) for m in moving]
    for i in range(len(ticks)):
        settings = stacked.settings
        for parameter, values in columns:
            stepped = parameter.at(round(parameter.share(float(values[i])) * STEPS) / STEPS)
            settings = with_setting(settings, parameter, stepped)
        groups.setdefault(settings, []).append(i)
    return [(replace(stacked, settings=settings), notes.some(rows)) for settings, rows in groups.items()]
