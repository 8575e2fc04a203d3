"""A pitch as a note writes it: following the chord, following the scale, or fixed. The way back from `resolve`."""

from __future__ import annotations

from escalera.core.rhythm.pattern import DEGREE, FIXED, TONE
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.core.theory.voicings import place_class, root_position
from escalera.lazy_dataclasses import dataclass

HOWS = ("chord", "scale", "fixed")
HOW_WORDS = {"chord": "follow the chords", "scale": "follow the scale", "fixed": "stay at their pitch"}
Written = tuple[int, int, int]  # kind, value, octave
MOST = 127


@dataclass(frozen=True, slots=True)
class WritingContext:
    """What decides how a pitch is written: the song's key and the bottom of the layer's register."""

    key: Key
    register_low: int
    low_end: bool = False


def encode(pitch: int, how: str, chord: Chord, place: WritingContext) -> Written:
    """How a pitch of the song's own key is written over a chord.

    `how` is one of HOWS: "chord" takes a chord tone where the pitch is one, else a degree; "scale" a degree; what the
    key does not hold stays fixed. Resolving the result over the same chord gives `pitch` again.
    """
    found = _tone(pitch, chord, place) if how == "chord" else None
    if found is None and how != "fixed":
        found = _degree(pitch, place)
    return found if found is not None and abs(found[1]) <= MOST else (FIXED, pitch, 0)


def _tone(pitch: int, chord: Chord, place: WritingContext) -> Written | None:
    tones = root_position(chord, place.register_low)
    for index, tone in enumerate(tones):
        octaves, rest = divmod(pitch - tone, 12)
        if rest == 0:
            value = index + len(tones) * octaves
            if value == 0 and place.low_end and chord.bass_fifths is not None:
                return TONE, len(tones), -1  # value 0 would play the chord's own bass
            return TONE, value, 0
    return None


def _degree(pitch: int, place: WritingContext) -> Written | None:
    octaves, rest = divmod(pitch - place_class(place.key.tonic_class, place.register_low), 12)
    return (DEGREE, place.key.degrees.index(rest) + 7 * octaves, 0) if rest in place.key.degrees else None


def how_written(kind: int) -> str:
    """The way of following that a note's kind belongs to; led voices follow the chord."""
    return {FIXED: "fixed", DEGREE: "scale"}.get(kind, "chord")
