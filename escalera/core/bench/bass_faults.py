"""Bass notes by fault: the wrong root, mistuned, or not in the chord; for basses, tuned drums and long kicks."""

from __future__ import annotations

import math

from escalera.core.document.song import Layer, Section, Song
from escalera.core.energy.model import arranged
from escalera.core.palette.parameters import setting
from escalera.core.reading.events import DURATION, PITCH, START, layer_events, sounding_layers
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.chords import Chord
from escalera.lazy_dataclasses import dataclass

MISTUNED, WRONG_ROOT, NOT_IN_CHORD = "mistuned", "wrong root", "not in the chord"
HEARD_CENTS = 8.0  # how far off a bass may be before it is heard
NEAR_ROOT = 2  # semitones within which a foreign note is taken for a root that was missed
RINGS_S = 0.3  # a drum that sounds this long is heard as a pitch
LOUD_SHARE = 0.75  # of the song's highest section
LOUD_ROLES = ("chorus", "drop", "post-chorus")


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault of a layer in a section, with the notes that have it.

    `amount` is semitones from the root, or cents; `pitch` the nearest note, `chord` the first chord it meets.
    """

    layer_id: int
    kind: str
    amount: float
    pitch: int
    chord: Chord
    ticks: tuple[int, ...]

    def said(self, key) -> str:  # type: ignore[no-untyped-def]
        """'F♯1 under Am: a semitone below the root'."""
        name = key.pitch_name(self.pitch)
        if self.kind == MISTUNED:
            return f"{name} is {abs(self.amount):.0f} cents {'sharp' if self.amount > 0 else 'flat'}"
        if self.kind == WRONG_ROOT:
            steps = abs(round(self.amount))
            return (
                f"{name} under {self.chord}: {'a semitone' if steps == 1 else f'{steps} semitones'} "
                f"{'above' if self.amount > 0 else 'below'} the root"
            )
        return f"{name} is not in {self.chord}"


def drum_pitch_hz(song: Song, layer: Layer) -> float | None:
    """The pitch a drum is heard at: one that was tuned, a long kick, or a recorded kick that settles on a pitch; else None."""
    if layer.clips:
        sample = song.sample_by_content.get(layer.clips[0].sample)
        settles = sample is not None and sample.pitch_hz > 0 and sample.seconds >= RINGS_S and layer.sound.is_kick
        return sample.pitch_hz * 2.0 ** (layer.clips[0].semitones / 12.0) if settles and sample else None
    parameter = layer.sound.parameter_by_key.get("hz")
    if not layer.sound.is_drum or parameter is None:
        return None
    length = layer.sound.parameter_by_key.get("body_s")
    rings = length is not None and setting(layer.settings, length) >= RINGS_S
    kick = layer.sound.is_kick  # a tom is no bass, tuned or not
    return setting(layer.settings, parameter) if kick and ("hz" in dict(layer.settings) or rings) else None


def has_bass_pitch(song: Song, layer: Layer) -> bool:
    """Whether a layer is judged as a bass: a tuned drum, or any layer of the low end that plays pitches."""
    if layer.sound.is_drum:
        return drum_pitch_hz(song, layer) is not None
    return layer.family == "low end" and not is_unpitched(layer)


def is_unpitched(layer: Layer) -> bool:
    """Whether a layer's notes are stretches of recordings, whose pitches are not written."""
    return bool(layer.clips) and not layer.sound.plays_pitches


def bass_faults(song: Song, span: Span) -> list[Fault]:
    """The faults of all basses, tuned drums and long kicks that sound in a section."""
    key = ("bass faults", span.section.id)
    if key not in song.memo:
        sounding = [x for x in sounding_layers(song, span.section) if has_bass_pitch(song, x)]
        song.memo[key] = [f for x in sounding for f in _layer_faults(song, span, x)]
    return song.memo[key]


def _layer_faults(song: Song, span: Span, layer: Layer) -> list[Fault]:
    harmony, found = section_harmony(song, span), dict[tuple[str, float, int, str], list[int]]()
    chords: dict[str, Chord] = {}
    for tick, pitch in _judged(song, span, layer):
        chord = harmony.at(tick)
        fault = judge(pitch, chord)
        if fault:
            chords[str(chord)] = chord
            found.setdefault((*fault, round(pitch), str(chord)), []).append(tick)
    merged: dict[tuple[str, float, int], tuple[Chord, list[int]]] = {}
    for (kind, amount, pitch, chord_name), ticks in found.items():
        same = (kind, amount, pitch) if kind == MISTUNED else (kind, amount, pitch * 100 + len(merged))
        merged.setdefault(same, (chords[chord_name], []))[1].extend(ticks)
    return [
        Fault(layer.id, kind, amount, pitch if kind == MISTUNED else pitch // 100, chord, tuple(sorted(ticks)))
        for (kind, amount, pitch), (chord, ticks) in merged.items()
    ]


def judge(pitch: float, chord: Chord) -> tuple[str, float] | None:
    """The fault of a sounding pitch (MIDI, with fraction) under a chord: its kind and amount, or None."""
    nearest = round(pitch)
    cents = 100.0 * (pitch - nearest)
    if abs(cents) > HEARD_CENTS:
        return MISTUNED, round(cents, 1)
    if nearest % 12 in chord.classes:
        return None
    off = (nearest - chord.bass_class + 6) % 12 - 6
    return (WRONG_ROOT, float(off)) if abs(off) <= NEAR_ROOT else (NOT_IN_CHORD, float(off))


def _judged(song: Song, span: Span, layer: Layer) -> list[tuple[int, float]]:
    """Notes that are held to the chord: all of a drum, and of a bass those on a beat or a beat long; steps between pass."""
    table = layer_events(song, span, layer).table
    hz = drum_pitch_hz(song, layer)
    if hz is not None:
        pitch = 69.0 + 12.0 * math.log2(hz / song.tuning_hz)
        return [(int(t), pitch) for t in table[:, START]]
    beat = span.bar_metres[0].beat_ticks
    rows = table[(table[:, START] % beat == 0) | (table[:, DURATION] >= beat)]
    return [(int(r[START]), float(r[PITCH]) + layer.tune_cents / 100.0) for r in rows]


def is_loud(song: Song, span: Span) -> bool:
    """Whether a section is one of the song's loud ones: by its role, or by its arranged energy."""
    if span.section.role in LOUD_ROLES:
        return True
    values = {s.span.section.id: s.value for s in arranged(song).sections}
    return values[span.section.id] >= LOUD_SHARE * max(values.values())


def entering_faults(before: Song, after: Song) -> list[tuple[Span, Layer, Fault]]:
    """Faults of sounds that an edit brought into a loud section, or gave another pitch there."""
    old_layers, old_sections = before.layer_by_id, before.section_by_id
    retuned = {x.id for x in after.layers if x.id in old_layers and _tuning(x) != _tuning(old_layers[x.id])}
    found = []
    for span in timeline(after).spans:
        old = old_sections.get(span.section.id)
        if old is span.section and not retuned:
            continue
        sounded = _sounding_ids(before, old) if old else set()
        entered = {i for i in _sounding_ids(after, span.section) if i not in sounded or i in retuned}
        faults = [f for f in bass_faults(after, span) if f.layer_id in entered] if entered else []
        if faults and is_loud(after, span):
            found += [(span, after.layer_by_id[f.layer_id], f) for f in faults]
    return found


def _tuning(layer: Layer) -> tuple[object, ...]:
    return layer.settings, layer.tune_cents, layer.sound_key


def _sounding_ids(song: Song, section: Section) -> set[int]:
    return {x.id for x in sounding_layers(song, section)}
