"""Keys and modes. A key is a spelled tonic and a mode; it decides how every pitch is written."""

from __future__ import annotations

import re
from dataclasses import dataclass

from escalera.core.theory.pitch import fifths_to_class, fifths_to_name, name_to_fifths, nearest_fifths
from escalera.errors import InputError, shown

# mode: (semitones of its degrees above the tonic, shift of its signature in fifths against major)
MODES: dict[str, tuple[tuple[int, ...], int]] = {
    "major": ((0, 2, 4, 5, 7, 9, 11), 0),
    "minor": ((0, 2, 3, 5, 7, 8, 10), -3),
    "dorian": ((0, 2, 3, 5, 7, 9, 10), -2),
    "phrygian": ((0, 1, 3, 5, 7, 8, 10), -4),
    "lydian": ((0, 2, 4, 6, 7, 9, 11), 1),
    "mixolydian": ((0, 2, 4, 5, 7, 9, 10), -1),
    "locrian": ((0, 1, 3, 5, 6, 8, 10), -5),
    "harmonic minor": ((0, 2, 3, 5, 7, 8, 11), -3),
    "melodic minor": ((0, 2, 3, 5, 7, 9, 11), -3),
}


@dataclass(frozen=True, slots=True)
class Key:
    """A tonic on the line of fifths (C=0, G=1, F=-1) and a mode."""

    tonic_fifths: int = 0
    mode: str = "major"

    @property
    def tonic_class(self) -> int:
        return fifths_to_class(self.tonic_fifths)

    @property
    def degrees(self) -> tuple[int, ...]:
        """Semitones of the seven degrees above the tonic."""
        return MODES[self.mode][0]

    @property
    def signature(self) -> int:
        """Sharps (positive) or flats (negative) of the key signature."""
        return self.tonic_fifths + MODES[self.mode][1]

    @property
    def centre_fifths(self) -> int:
        """Middle of the key's notes on the line of fifths; spelling stays near it."""
        return self.signature + 2

    def spell(self, pitch_class: int) -> str:
        return fifths_to_name(nearest_fifths(pitch_class % 12, self.centre_fifths))

    def __str__(self) -> str:
        return f"{fifths_to_name(self.tonic_fifths)} {self.mode}"


def parse_key(text: str) -> Key:
    """Read 'Eb major', 'F# minor', 'am', 'D dorian'. Raises InputError."""
    match = re.fullmatch(r"\s*([A-Ga-g][#♯b♭]?)\s*(.*?)\s*", str(text))
    wanted = "minor" if match and match[2] in ("m", "min") else (match[2].lower() if match else "")
    wanted = {"": "major", "maj": "major", "aeolian": "minor", "ionian": "major"}.get(wanted, wanted)
    if not match or wanted not in MODES:
        raise InputError(
            f"“{shown(text)}” is not a key. Write a note and a mode, for example Eb major, F# minor or D dorian;"
            f" the modes are {', '.join(MODES)}."
        )
    fifths = name_to_fifths(match[1])
    if abs(fifths + MODES[wanted][1]) > 7:
        other = nearest_fifths(fifths_to_class(fifths), -MODES[wanted][1])
        raise InputError(
            f"{shown(text)} would need {abs(fifths + MODES[wanted][1])} sharps or flats, more than the 7 of a signature."
            f" Write it as {fifths_to_name(other, True)} {wanted}."
        )
    return Key(fifths, wanted)


def transpose_key(key: Key, semitones: int) -> Key:
    """The key `semitones` higher, spelled with the fewest accidentals."""
    fifths = nearest_fifths((key.tonic_class + semitones) % 12, -MODES[key.mode][1])
    return Key(fifths, key.mode)
