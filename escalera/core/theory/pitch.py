"""Pitches and their spelling: MIDI numbers, pitch classes, positions on the line of fifths."""

from __future__ import annotations

import re

from escalera.errors import InputError, shown

LETTERS = "FCGDAEB"
STEP_SEMITONES = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
SHARP, FLAT = "♯", "♭"
STANDARD_HZ = 440.0


def name_to_fifths(name: str) -> int:
    """Position on the line of fifths: F=-1, C=0, G=1, … B♭=-2, F♯=6. InputError for text that is no note name."""
    match = re.fullmatch(r"([A-Ga-g])([#♯b♭]*)", name.strip())
    if not match:
        raise InputError(f"“{shown(name)}” is not a note name. Write a letter from A to G with # or b, for example Eb.")
    fifths = LETTERS.index(match[1].upper()) - 1
    return fifths + 7 * sum(1 if sign in "#♯" else -1 for sign in match[2])


def fifths_to_name(fifths: int, ascii_only: bool = False) -> str:
    """Name of a position on the line of fifths, with ♯ and ♭ (or # and b)."""
    letter = LETTERS[(fifths + 1) % 7]
    count = (fifths + 1) // 7
    sharp, flat = ("#", "b") if ascii_only else (SHARP, FLAT)
    return letter + (sharp * count if count > 0 else flat * -count)


def fifths_to_class(fifths: int) -> int:
    """Pitch class 0..11 of a position on the line of fifths."""
    return fifths * 7 % 12


def nearest_fifths(pitch_class: int, centre_fifths: float) -> int:
    """The spelling of a pitch class that lies nearest to `centre_fifths` on the line of fifths."""
    base = pitch_class * 7 % 12
    candidates = [base + 12 * k for k in range(-3, 4)]
    return min(candidates, key=lambda f: (abs(f - centre_fifths), f))


def pitch_to_hz(pitch: float, tuning_hz: float = STANDARD_HZ) -> float:
    """Equal temperament; A4 is MIDI 69."""
    return tuning_hz * 2.0 ** ((pitch - 69.0) / 12.0)


def pitch_label(pitch: int, fifths: int, ascii_only: bool = False) -> str:
    """A MIDI pitch under a given spelling: 'C♭4' for 59; the octave number changes at C."""
    name = fifths_to_name(fifths, ascii_only)
    octave = (pitch - STEP_SEMITONES[name[0]] - (fifths + 1) // 7) // 12 - 1
    return f"{name}{octave}"
