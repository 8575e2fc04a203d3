"""Chords: names and Roman numerals to tones, and back.

The table QUALITIES is the theory: symbol, semitones above the root in thirds order. The first symbol of a
set of tones is its printed name; the others are accepted when typed.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import fifths_to_class, fifths_to_name, name_to_fifths, nearest_fifths
from escalera.errors import InputError, shown

QUALITIES: dict[str, tuple[int, ...]] = {
    "": (0, 4, 7),
    "m": (0, 3, 7),
    "dim": (0, 3, 6),
    "aug": (0, 4, 8),
    "5": (0, 7),
    "sus2": (0, 2, 7),
    "sus4": (0, 5, 7),
    "6": (0, 4, 7, 9),
    "m6": (0, 3, 7, 9),
    "7": (0, 4, 7, 10),
    "maj7": (0, 4, 7, 11),
    "m7": (0, 3, 7, 10),
    "mmaj7": (0, 3, 7, 11),
    "dim7": (0, 3, 6, 9),
    "m7b5": (0, 3, 6, 10),
    "7sus4": (0, 5, 7, 10),
    "add9": (0, 4, 7, 14),
    "madd9": (0, 3, 7, 14),
    "9": (0, 4, 7, 10, 14),
    "maj9": (0, 4, 7, 11, 14),
    "m9": (0, 3, 7, 10, 14),
    "11": (0, 7, 10, 14, 17),
    "m11": (0, 3, 7, 10, 14, 17),
    "13": (0, 4, 10, 14, 21),
}
ALIASES = {"maj": "", "M": "", "min": "m", "-": "m", "°": "dim", "o": "dim", "+": "aug", "M7": "maj7", "Δ": "maj7",
           "min7": "m7", "-7": "m7", "ø": "m7b5", "°7": "dim7", "sus": "sus4", "2": "add9", "mM7": "mmaj7"}  # fmt: skip
NUMERALS = ("I", "II", "III", "IV", "V", "VI", "VII")
MAJOR_DEGREES = (0, 2, 4, 5, 7, 9, 11)
FIFTHS_OF_MAJOR_DEGREE = (0, 2, 4, -1, 1, 3, 5)


@dataclass(frozen=True, slots=True)
class Chord:
    """A root on the line of fifths, a quality from QUALITIES, and a bass when it is not the root."""

    root_fifths: int
    quality: str = ""
    bass_fifths: int | None = None

    @property
    def root_class(self) -> int:
        return fifths_to_class(self.root_fifths)

    @property
    def bass_class(self) -> int:
        return self.root_class if self.bass_fifths is None else fifths_to_class(self.bass_fifths)

    @property
    def tones(self) -> tuple[int, ...]:
        """Semitones above the root, in thirds order."""
        return QUALITIES[self.quality]

    @property
    def classes(self) -> frozenset[int]:
        return frozenset((self.root_class + tone) % 12 for tone in self.tones) | {self.bass_class}

    def transposed(self, semitones: int, centre_fifths: int) -> Chord:
        root = nearest_fifths((self.root_class + semitones) % 12, centre_fifths)
        bass = None if self.bass_fifths is None else nearest_fifths((self.bass_class + semitones) % 12, centre_fifths)
        return Chord(root, self.quality, bass)

    def name(self, ascii_only: bool = False) -> str:
        bass = "" if self.bass_fifths is None else "/" + fifths_to_name(self.bass_fifths, ascii_only)
        return fifths_to_name(self.root_fifths, ascii_only) + self.quality + bass

    def __str__(self) -> str:
        return self.name()


def parse_chord(text: str, key: Key | None = None) -> Chord:
    """Read 'Ebmaj7/G', or with a key also a Roman numeral ('vi', 'bVII', 'V7'). Raises InputError."""
    body, _, bass = text.strip().partition("/")
    roman = re.fullmatch(r"([#♯b♭]?)([IViv]+)(.*)", body)
    if roman and key is not None and roman[2].upper() in NUMERALS and roman[2] in (roman[2].upper(), roman[2].lower()):
        root, quality = _roman_root(roman, key), _roman_quality(roman)
    else:
        match = re.fullmatch(r"([A-Ga-g][#♯b♭]?)(.*)", body)
        if not match:
            raise InputError(
                f"“{shown(text)}” is not a chord. Write names such as Eb, Gm7 or D/F#, or numerals such as vi."
            )
        root, quality = name_to_fifths(match[1][0].upper() + match[1][1:]), match[2]
    quality = ALIASES.get(quality, quality)
    if quality not in QUALITIES:
        known = ", ".join(name for name in QUALITIES if name)
        raise InputError(f"“{shown(text)}”: the ending “{shown(quality)}” is not known. Known endings are {known}.")
    return Chord(root, quality, name_to_fifths(bass) if bass else None)


def _roman_root(match: re.Match[str], key: Key) -> int:
    degree = NUMERALS.index(match[2].upper())
    accidental = {"": 0, "#": 1, "♯": 1, "b": -1, "♭": -1}[match[1]]
    if accidental:  # altered numerals are counted from the major scale
        return key.tonic_fifths + FIFTHS_OF_MAJOR_DEGREE[degree] + 7 * accidental
    return nearest_fifths((key.tonic_class + key.degrees[degree]) % 12, key.centre_fifths)


def _roman_quality(match: re.Match[str]) -> str:
    ending = ALIASES.get(match[3], match[3])
    if match[2].islower() and not ending.startswith(("m", "dim")):
        return "m" + ending
    return ending


def roman(chord: Chord, key: Key) -> str:
    """Roman numeral of a chord in a key; lower case when its third is minor."""
    interval = (chord.root_class - key.tonic_class) % 12
    if interval in key.degrees:
        degree, accidental = key.degrees.index(interval), ""
    elif (interval + 1) % 12 in MAJOR_DEGREES:
        degree, accidental = MAJOR_DEGREES.index((interval + 1) % 12), "♭"
    else:
        degree, accidental = MAJOR_DEGREES.index((interval - 1) % 12), "♯"
    minor = 3 in chord.tones
    ending = chord.quality[1:] if minor and chord.quality.startswith("m") and chord.quality != "maj7" else chord.quality
    ending = {"dim": "°", "dim7": "°7", "aug": "+"}.get(chord.quality, ending)
    numeral = NUMERALS[degree].lower() if minor else NUMERALS[degree]
    return accidental + numeral + ending
