"""Chords: names and Roman numerals to tones, and back.

The table QUALITIES is the theory: ending, semitones above the root in thirds order. The names are the common lead-sheet
ones; ALIASES are other spellings that are accepted when typed.
"""

from __future__ import annotations

import re
from dataclasses import replace
from functools import lru_cache
from itertools import takewhile

from escalera.core.theory.keys import Key, degree_fifths
from escalera.core.theory.pitch import fifths_to_class, fifths_to_name, name_to_fifths
from escalera.errors import ChordError, shown
from escalera.lazy_dataclasses import dataclass

QUALITIES: dict[str, tuple[int, ...]] = {
    # triads and two-note chords
    "": (0, 4, 7), "m": (0, 3, 7), "dim": (0, 3, 6), "aug": (0, 4, 8), "5": (0, 7), "(b5)": (0, 4, 6),
    "sus2": (0, 2, 7), "sus4": (0, 5, 7),
    # sixths and sevenths
    "6": (0, 4, 7, 9), "m6": (0, 3, 7, 9), "7": (0, 4, 7, 10), "maj7": (0, 4, 7, 11), "m7": (0, 3, 7, 10),
    "mmaj7": (0, 3, 7, 11), "dim7": (0, 3, 6, 9), "m7b5": (0, 3, 6, 10), "dimmaj7": (0, 3, 6, 11),
    "7sus4": (0, 5, 7, 10), "7sus2": (0, 2, 7, 10), "maj7sus4": (0, 5, 7, 11),
    # altered fifths
    "7b5": (0, 4, 6, 10), "7#5": (0, 4, 8, 10), "maj7b5": (0, 4, 6, 11), "maj7#5": (0, 4, 8, 11), "m7#5": (0, 3, 8, 10),
    # added tones
    "add9": (0, 4, 7, 14), "madd9": (0, 3, 7, 14), "add11": (0, 4, 7, 17), "madd11": (0, 3, 7, 17),
    "69": (0, 4, 7, 9, 14), "m69": (0, 3, 7, 9, 14), "7add13": (0, 4, 7, 10, 21),
    # ninths
    "9": (0, 4, 7, 10, 14), "maj9": (0, 4, 7, 11, 14), "m9": (0, 3, 7, 10, 14), "mmaj9": (0, 3, 7, 11, 14),
    "9sus4": (0, 5, 7, 10, 14), "7b9": (0, 4, 7, 10, 13), "7#9": (0, 4, 7, 10, 15), "9b5": (0, 4, 6, 10, 14),
    "9#5": (0, 4, 8, 10, 14), "m7b9": (0, 3, 7, 10, 13), "m9b5": (0, 3, 6, 10, 14),
    # elevenths and thirteenths; thirteenths as they are played, without fifth and eleventh
    "11": (0, 4, 7, 10, 14, 17), "m11": (0, 3, 7, 10, 14, 17), "maj11": (0, 4, 7, 11, 14, 17), "m7add11": (0, 3, 7, 10, 17),
    "7#11": (0, 4, 7, 10, 18), "maj7#11": (0, 4, 7, 11, 18), "9#11": (0, 4, 7, 10, 14, 18),
    "maj9#11": (0, 4, 7, 11, 14, 18),
    "13": (0, 4, 10, 14, 21), "maj13": (0, 4, 11, 14, 21), "m13": (0, 3, 10, 14, 21), "13sus4": (0, 5, 10, 14, 21),
    "13b9": (0, 4, 10, 13, 21), "13#11": (0, 4, 10, 18, 21), "7b13": (0, 4, 7, 10, 20), "7b9b13": (0, 4, 10, 13, 20),
}  # fmt: skip
ALIASES = {"maj": "", "M": "", "min": "m", "-": "m", "°": "dim", "o": "dim", "+": "aug", "M7": "maj7", "Δ": "maj7", "Δ7": "maj7",
           "min7": "m7", "-7": "m7", "mi7": "m7", "ø": "m7b5", "ø7": "m7b5", "°7": "dim7", "o7": "dim7", "sus": "sus4", "2": "add9",
           "mM7": "mmaj7", "m(maj7)": "mmaj7", "6/9": "69", "m6/9": "m69", "+7": "7#5", "aug7": "7#5", "7+": "7#5",
           "add2": "add9", "add4": "add11", "(add9)": "add9", "m(add9)": "madd9", "madd2": "madd9", "madd4": "madd11", "M9": "maj9", "M13": "maj13", "min9": "m9",
           "-9": "m9", "min11": "m11", "-11": "m11", "m7-5": "m7b5", "7-9": "7b9", "7+9": "7#9", "7(b9)": "7b9", "7(#9)": "7#9",
           "7(#11)": "7#11", "maj7(#11)": "maj7#11", "7(b13)": "7b13", "sus9": "9sus4", "+maj7": "maj7#5", "augmaj7": "maj7#5", "no3": "5"}  # fmt: skip
# tones above the root: (how it is called, its letter counted from the root's, from 0)
TONES = {0: ("root", 0), 2: ("ninth", 1), 3: ("minor third", 2), 4: ("major third", 2), 5: ("fourth", 3), 6: ("diminished fifth", 4),
         7: ("fifth", 4), 8: ("augmented fifth", 4), 9: ("sixth", 5), 10: ("minor seventh", 6), 11: ("major seventh", 6),
         13: ("flat ninth", 1), 14: ("ninth", 1), 15: ("sharp ninth", 1), 17: ("eleventh", 3), 18: ("sharp eleventh", 3),
         20: ("flat thirteenth", 5), 21: ("thirteenth", 5)}  # fmt: skip
OMITTED = {"third": (3, 4), "fifth": (6, 7, 8), "root": (0,)}
OMIT_SIGNS = {"no3": "third", "no5": "fifth", "no1": "root"}
NUMERALS = ("I", "II", "III", "IV", "V", "VI", "VII")
MAJOR_DEGREES = (0, 2, 4, 5, 7, 9, 11)
FIFTHS_OF_MAJOR_DEGREE = (0, 2, 4, -1, 1, 3, 5)
LETTERS_OF_DIM7 = {9: 6}  # the seventh of a diminished seventh chord is spelled as a seventh


@dataclass(frozen=True, slots=True)
class Chord:
    """A root on the line of fifths, a quality from QUALITIES, a bass when it is not the root, and tones left out."""

    root_fifths: int
    quality: str = ""
    bass_fifths: int | None = None
    omit: tuple[str, ...] = ()

    @property
    def root_class(self) -> int:
        return fifths_to_class(self.root_fifths)

    @property
    def bass_class(self) -> int:
        return self.root_class if self.bass_fifths is None else fifths_to_class(self.bass_fifths)

    @property
    def tones(self) -> tuple[int, ...]:
        """Semitones above the root, in thirds order."""
        return _tones(self.quality, self.omit)

    @property
    def classes(self) -> frozenset[int]:
        return frozenset((self.root_class + tone) % 12 for tone in self.tones) | {self.bass_class}

    @property
    def has_seventh(self) -> bool:
        return bool({10, 11} & set(QUALITIES[self.quality])) or self.quality == "dim7"

    @property
    def spelled(self) -> tuple[int, ...]:
        """The chord's tones on the line of fifths, each on the letter of its name."""
        return tuple(self.root_fifths + tone_fifths(tone, self.quality) for tone in self.tones)

    @property
    def note_names(self) -> tuple[str, ...]:
        """The bass first where it is foreign to the chord, then the tones from the root."""
        names = tuple(fifths_to_name(f) for f in self.spelled)
        foreign = self.bass_fifths is not None and self.bass_class not in {
            (self.root_class + t) % 12 for t in self.tones
        }
        return (fifths_to_name(self.bass_fifths), *names) if foreign and self.bass_fifths is not None else names

    def fifths_of(self, pitch_class: int, key: Key) -> int:
        """How a pitch class is spelled over this chord: as its tone, else as the key spells it."""
        by_class = {fifths_to_class(f): f for f in self.spelled}
        return by_class.get(pitch_class % 12, key.fifths_of(pitch_class))

    def moved(self, fifths: int) -> Chord:
        """The chord moved along the line of fifths, as when the whole key moves: exact both ways."""
        bass = None if self.bass_fifths is None else self.bass_fifths + fifths
        return replace(self, root_fifths=self.root_fifths + fifths, bass_fifths=bass)

    def name(self, ascii_only: bool = False) -> str:
        bass = "" if self.bass_fifths is None else "/" + fifths_to_name(self.bass_fifths, ascii_only)
        omit = "".join(f"({sign})" for sign, tone in OMIT_SIGNS.items() if tone in self.omit)
        return fifths_to_name(self.root_fifths, ascii_only) + self.quality + omit + bass

    def __str__(self) -> str:
        return self.name()


@lru_cache(maxsize=1024)
def _tones(quality: str, omit: tuple[str, ...]) -> tuple[int, ...]:
    gone = {tone for name in omit for tone in OMITTED[name]}
    return tuple(t for t in QUALITIES[quality] if t not in gone)


@lru_cache(maxsize=1024)
def tone_fifths(tone: int, quality: str) -> int:
    """Steps on the line of fifths from a root to a tone of a quality."""
    letter = LETTERS_OF_DIM7.get(tone, TONES[tone][1]) if quality == "dim7" else TONES[tone][1]
    return degree_fifths(letter, tone % 12)


# As many accidentals as degrees of degrees of a key with seven flats lead to, all written as `Chord.name` writes them.
ROOT = r"[A-Ga-g](?:[#♯]{1,6}|[b♭]{1,6}|)"


def parse_chord(text: str, key: Key | None = None) -> Chord:
    """Read 'Ebmaj7/G', 'Gm7(no5)', or with a key also a Roman numeral ('vi', 'bVII', 'V7/ii'). Raises ChordError."""
    clean = text.strip()
    found = _read_roman(clean, key) if key is not None else None
    return found or _read_name(clean)


def _read_name(text: str) -> Chord:
    body, slash, bass = text.partition("/")
    if slash and bass[:1] == "9":  # six-nine chords are also written with a slash
        body, (_, slash, bass) = body + "9", bass[1:].partition("/")
    match = re.fullmatch(f"({ROOT})(.*)", body)
    if not match:
        raise _not_a_chord(text)
    root = name_to_fifths(match[1][0].upper() + match[1][1:])
    quality, omit = _read_ending(match[2], text, match[1])
    return Chord(root, quality, _read_bass(bass, text), omit)


def _read_bass(bass: str, text: str) -> int | None:
    if not bass:
        return None
    if not re.fullmatch(ROOT, bass):
        raise ChordError(
            f"“{shown(text)}”: “{shown(bass)}” after the slash is not a note. Write a note name, as in D/F#."
        )
    return name_to_fifths(bass)


def _not_a_chord(text: str) -> ChordError:
    if re.match(r"[Hh]", text):
        rest = text[1:]
        offers = (f"B{rest}", f"Bb{rest}")
        return ChordError(
            f"“{shown(text)}”: H means B natural in some countries, and others call B flat B. "
            f"Write {offers[0]} or {offers[1]}.",
            offers,
        )
    return ChordError(f"“{shown(text)}” is not a chord. Write names such as Eb, Gm7 or D/F#, or numerals such as vi.")


def _alike(a: str, b: str) -> int:
    """How many letters two endings begin with alike."""
    return sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(a, b)))


def _read_ending(ending: str, text: str, root: str) -> tuple[str, tuple[str, ...]]:
    """Quality and omitted tones of what follows the root."""
    signs = re.findall(r"\(?(no[135])\)?", ending)
    omit = tuple(sorted(OMIT_SIGNS[sign] for sign in signs))
    plain = re.sub(r"\(?no[135]\)?", "", ending).replace("♭", "b").replace("♯", "#")
    quality = ALIASES.get(plain, plain)
    if quality not in QUALITIES:
        near = sorted(
            (q for q in QUALITIES if q and plain.startswith(q[0])),
            key=lambda q: (-_alike(q, plain), len(q)),
        )[:4]
        known = ", ".join(near or ["m", "7", "maj7", "sus4"])
        raise ChordError(
            f"“{shown(text)}”: the ending “{shown(plain)}” is not known. Near it are {known}; the "
            f"list of chords has all.",
            tuple(root + q for q in near[:3]),
        )
    if omit == ("third",) and quality in ("", "m"):
        return "5", ()
    return quality, omit


LEADING = {(6, "dim"), (6, "dim7")}  # in minor, vii° stands on the raised seventh, as everybody writes it
ROMAN = r"([#♯]{1,4}|[b♭]{1,4}|♮|)(VII|VI|IV|V|III|II|I|vii|vi|iv|v|iii|ii|i)(.*)"


def _read_roman(text: str, key: Key) -> Chord | None:
    """A numeral, or None when the text is none. 'V7/ii' and 'V7 of ii' are the dominant of another degree."""
    body, slash, after = re.sub(r"\s+of\s+", "/", text).partition("/")
    match = re.fullmatch(ROMAN, body)
    if not match:
        return None
    if after and re.fullmatch(ROMAN, after):
        return _of_degree(match, after, key)
    if " of " in text:
        raise ChordError(
            f"“{shown(text)}”: “{shown(after)}” is not a degree of {key}. Write for example V of ii, or V7/vi.",
            ("V/ii", "V/vi"),
        )
    quality, omit = _roman_quality(match, text)
    return Chord(_roman_root(match, key, quality), quality, _read_bass(after, text), omit)


def _of_degree(match: re.Match[str], after: str, key: Key) -> Chord:
    home = parse_chord(after, key)
    local = Key(home.root_fifths, "minor" if 3 in home.tones else "major")
    quality, omit = _roman_quality(match, match[0])
    return Chord(_roman_root(match, local, quality), quality, None, omit)


def _roman_root(match: re.Match[str], key: Key, quality: str) -> int:
    degree = NUMERALS.index(match[2].upper())
    if match[1]:  # altered numerals are counted from the major scale
        accidental = sum({"#": 1, "♯": 1, "b": -1, "♭": -1, "♮": 0}[sign] for sign in match[1])
        return key.tonic_fifths + FIFTHS_OF_MAJOR_DEGREE[degree] + 7 * accidental
    if (degree, quality) in LEADING and key.mode == "minor":
        return key.tonic_fifths + 5
    return key.scale_fifths[degree]


def _roman_quality(match: re.Match[str], text: str) -> tuple[str, tuple[str, ...]]:
    ending, omit = _read_ending(match[3], text, match[1] + match[2])
    if match[2].islower() and not ending.startswith(("m", "dim")) or match[2].islower() and ending.startswith("maj"):
        lowered = "m" + ending
        if lowered not in QUALITIES:
            raise ChordError(
                f"“{shown(text)}”: a minor chord has no ending “{shown(ending)}”. Write it with its "
                f"name, or in capitals."
            )
        return lowered, omit
    return ending, omit


def roman(chord: Chord, key: Key) -> str:
    """Roman numeral of a chord in a key; lower case when its third is minor."""
    degree, accidental = degree_of(chord.root_fifths, key)
    if key.mode == "minor" and (degree, chord.quality) in LEADING:
        # on the raised seventh it has no sign, on the seventh of the key it has one
        accidental = {"♮": "", "": "♭"}.get(accidental, accidental)
    minor = 3 in chord.tones
    ending = chord.quality[1:] if minor and chord.quality.startswith("m") else chord.quality
    ending = {"dim": "°", "dim7": "°7", "aug": "+", "m7b5": "ø7", "dimmaj7": "°maj7"}.get(chord.quality, ending)
    numeral = NUMERALS[degree].lower() if minor else NUMERALS[degree]
    signs = "".join(f"({sign})" for sign, tone in OMIT_SIGNS.items() if tone in chord.omit)
    bass = "" if chord.bass_fifths is None else "/" + fifths_to_name(chord.bass_fifths)
    return accidental + numeral + ending + signs + bass


def degree_of(root_fifths: int, key: Key) -> tuple[int, str]:
    """Scale degree 0..6 of a root, and the accidental counted from the major scale where the key does not have it."""
    if root_fifths in key.scale_fifths:
        return key.scale_fifths.index(root_fifths), ""
    steps = root_fifths - key.tonic_fifths
    degree = next(d for d in range(7) if 2 * d % 7 == steps % 7)
    sharps = (steps - FIFTHS_OF_MAJOR_DEGREE[degree]) // 7
    return degree, "♮" if not sharps else ("♯" if sharps > 0 else "♭") * abs(sharps)
