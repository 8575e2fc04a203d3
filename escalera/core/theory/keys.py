"""Keys and modes. A key is a spelled tonic and a mode; it decides how every pitch is written.

The modes are the rotations of three scales (major, harmonic minor, ascending melodic minor), one letter a degree.
"""

from __future__ import annotations

import re
from functools import lru_cache

from escalera.core.theory.pitch import fifths_to_class, fifths_to_name, name_to_fifths, nearest_fifths, pitch_label
from escalera.errors import InputError, shown
from escalera.lazy_dataclasses import dataclass

# parent scale: (semitones of its degrees, shift of its signature in fifths against major, names of its seven modes)
PARENTS: tuple[tuple[tuple[int, ...], int, tuple[str, ...]], ...] = (
    ((0, 2, 4, 5, 7, 9, 11), 0, ("major", "dorian", "phrygian", "lydian", "mixolydian", "minor", "locrian")),
    ((0, 2, 3, 5, 7, 8, 11), -3, ("harmonic minor", "locrian natural 6", "augmented major", "dorian sharp 4",
                                  "phrygian dominant", "lydian sharp 2", "altered diminished")),
    ((0, 2, 3, 5, 7, 9, 11), -3, ("melodic minor", "dorian flat 2", "lydian augmented", "lydian dominant",
                                  "mixolydian flat 6", "locrian natural 2", "altered")),
)  # fmt: skip


def degree_fifths(degree: int, semitones: int) -> int:
    """Steps on the line of fifths from the tonic to a degree (0..6) that many semitones above it, one letter a degree."""
    return min((f for f in range(-14, 15) if f % 7 == 2 * degree % 7 and f * 7 % 12 == semitones), key=abs)


def _modes() -> dict[str, tuple[tuple[int, ...], int]]:
    found = {}
    for degrees, shift, names in PARENTS:
        for start, name in enumerate(names):
            turned = tuple((degrees[(start + i) % 7] - degrees[start]) % 12 for i in range(7))
            found[name] = (turned, shift - degree_fifths(start, degrees[start]))
    return found


# mode: (semitones of its degrees above the tonic, shift of its signature in fifths against major)
MODES = _modes()
WITH_SIGNATURE = (*PARENTS[0][2], "harmonic minor", "melodic minor")
MODE_ALIASES = {"": "major", "maj": "major", "ionian": "major", "aeolian": "minor", "min": "minor", "m": "minor",
                "natural minor": "minor", "superlocrian": "altered"}  # fmt: skip

FLATTEST, SHARPEST = -8, 12  # F♭ and B♯ on the line of fifths: beyond them names take two accidentals


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
    def scale_fifths(self) -> tuple[int, ...]:
        """The seven degrees on the line of fifths."""
        return _scale_fifths(self)

    @property
    def classes(self) -> frozenset[int]:
        return _classes(self)

    @property
    def signature(self) -> int:
        """Sharps (positive) or flats (negative) of the key signature."""
        return self.tonic_fifths + MODES[self.mode][1]

    @property
    def is_minor(self) -> bool:
        """Whether the tonic triad is minor (or diminished)."""
        return 3 in self.degrees and 4 not in self.degrees

    def fifths_of(self, pitch_class: int) -> int:
        """How a pitch class is spelled here: as its degree, else within ♭2 … ♯4 of the tonic."""
        return _spellings(self)[pitch_class % 12]

    def spell(self, pitch_class: int) -> str:
        return fifths_to_name(self.fifths_of(pitch_class))

    def pitch_name(self, pitch: int) -> str:
        """'E♭4' for 63 in a flat key; the octave number changes at C."""
        return pitch_label(pitch, self.fifths_of(pitch))

    def relative(self) -> Key | None:
        """The minor key with a major key's signature, or the reverse; None for other modes."""
        if self.mode == "major":
            return Key(self.tonic_fifths + 3, "minor")
        return Key(self.tonic_fifths - 3, "major") if self.mode == "minor" else None

    def __str__(self) -> str:
        return f"{fifths_to_name(self.tonic_fifths)} {self.mode}"


@lru_cache(maxsize=512)
def _scale_fifths(key: Key) -> tuple[int, ...]:
    return tuple(key.tonic_fifths + degree_fifths(i, s) for i, s in enumerate(key.degrees))


@lru_cache(maxsize=512)
def _classes(key: Key) -> frozenset[int]:
    return frozenset((key.tonic_class + step) % 12 for step in key.degrees)


@lru_cache(maxsize=512)
def _spellings(key: Key) -> tuple[int, ...]:
    """The scale's own names; other notes by the nearest that has one accidental at most: D rather than E♭♭."""
    own = {fifths_to_class(f): f for f in key.scale_fifths}
    near = (own.get(c, nearest_fifths(c, key.tonic_fifths + 0.5)) for c in range(12))
    return tuple(f if f in key.scale_fifths else f + 12 * (f < FLATTEST) - 12 * (f > SHARPEST) for f in near)


def parse_key(text: str) -> Key:
    """Read 'Eb major', 'F# minor', 'am', 'D dorian'. Raises InputError."""
    match = re.fullmatch(r"\s*([A-Ga-g][#♯b♭]?)\s*(.*?)\s*", str(text))
    wanted = " ".join(match[2].lower().split()) if match else ""
    wanted = "major" if match and match[2] == "M" else MODE_ALIASES.get(wanted, wanted)
    if not match or wanted not in MODES:
        raise InputError(
            f"“{shown(text)}” is not a key. Write a note and a mode, for example Eb major, F# minor or D dorian;"
            f" the modes are {', '.join(MODES)}."
        )
    fifths = name_to_fifths(match[1])
    if wanted in WITH_SIGNATURE and abs(fifths + MODES[wanted][1]) > 7:
        other = nearest_fifths(fifths_to_class(fifths), -MODES[wanted][1])
        raise InputError(
            f"{shown(text)} would need {abs(fifths + MODES[wanted][1])} sharps or flats, more "
            f"than the 7 of a signature."
            f" Write it as {fifths_to_name(other, True)} {wanted}."
        )
    return Key(fifths, wanted)


def transpose_key(key: Key, semitones: int) -> Key:
    """The key `semitones` higher, spelled with the fewest accidentals (itself for whole octaves)."""
    if semitones % 12 == 0:
        return key
    fifths = nearest_fifths((key.tonic_class + semitones) % 12, -MODES[key.mode][1])
    return Key(fifths, key.mode)


def key_text(key: Key) -> str:
    """The key as `parse_key` reads it, in plain letters."""
    return f"{fifths_to_name(key.tonic_fifths, ascii_only=True)} {key.mode}"
