"""How a layer's chords lie in a section: the pitches it plays at every change, and what each voicing does."""

from __future__ import annotations

from escalera.core.document.song import Layer, Song
from escalera.core.reading.section_harmony import Harmony
from escalera.core.rhythm.pattern import VOICE
from escalera.core.theory.chords import Chord
from escalera.core.theory.voicings import TOP, VoicingReading, read_voicing, voice_path
from escalera.lazy_dataclasses import dataclass

USUAL_VOICES = 3


@dataclass(frozen=True, slots=True)
class LaidOut:
    """One chord as a layer lays it out, and as it is called in the song's own key; `outside` are pitches beyond the sound's useful range."""

    tick: int
    chord: Chord
    home: Chord
    reading: VoicingReading
    outside: tuple[int, ...]


def voices_of(song: Song, layer: Layer) -> int:
    """How many voices a layer's chords have: as its voicing says, else as its patterns are written."""
    if layer.voicing.voices:
        return layer.voicing.voices
    ids = {p.pattern_id for s in song.sections for p in s.placements if p.layer_id == layer.id} | {layer.pattern_id}
    rows = [song.pattern_by_id[i].pattern.rows for i in ids if i in song.pattern_by_id]
    counts = [int(r[r[:, 2] == VOICE, 3].max()) + 1 for r in rows if (r[:, 2] == VOICE).any()]
    return max(2, max(counts, default=USUAL_VOICES))


def laid_out(harmony: Harmony, layer: Layer, voices: int, shift: int = 0) -> list[LaidOut]:
    """Every chord of a section's harmony as a layer voices it, in sounding pitches; `shift` is the section's."""
    style = layer.voicing
    path = voice_path(harmony.home, voices, layer.register_centre, style)
    low, high = layer.register_low, layer.sound.register[1] + 12 * layer.octave
    found: list[LaidOut] = []
    for tick, chord, home, placed in zip(harmony.ticks, harmony.chords, harmony.home, path):
        pitches = [p + shift for p in placed]
        extra = ([pitches[0] - 12] if style.octave_below else []) + ([pitches[-1] + 12] if style.double == TOP else [])
        every = tuple(sorted(pitches + extra))
        before = found[-1].reading.pitches if found else ()
        outside = tuple(p for p in every if not low <= p <= high)
        found.append(LaidOut(tick, chord, home, read_voicing(chord, every, before), outside))
    return found
