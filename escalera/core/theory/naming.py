"""Chords named from notes: readings with their spelling, the likeliest first."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from escalera.core.theory.chords import OMITTED, QUALITIES, Chord
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

LIMIT = 6
SIMPLE = (
    "",
    "m",
    "5",
    "7",
    "maj7",
    "m7",
    "dim",
    "sus4",
    "sus2",
    "m7b5",
    "dim7",
    "aug",
    "6",
    "m6",
    "9",
    "m9",
    "maj9",
    "add9",
    "madd9",
)


@dataclass(frozen=True, slots=True)
class Reading:
    """One way to name a set of notes. `cost` ranks it, lower is likelier."""

    chord: Chord
    cost: float
    remark: str = ""

    @property
    def name(self) -> str:
        return self.chord.name()


def name_chord(pitches: Iterable[int], key: Key, limit: int = LIMIT) -> list[Reading]:
    """Readings of sounding MIDI pitches (any order; the lowest is the bass), spelled in a key, best first.

    A reading's tones are the notes played, apart from a bass foreign to the chord; the third or the fifth may be
    missing, and that is said. One pitch class, or notes that make no chord of the table, have no reading.
    """
    played = sorted(set(pitches))
    if not played:
        return []
    bass, classes = played[0] % 12, frozenset(p % 12 for p in played)
    if len(classes) < 2:
        return []
    found = [_reading(key, root, row, bass) for root in range(12) for row in _rows(root, classes, bass)]
    best: dict[str, Reading] = {}
    for reading in sorted(found, key=lambda r: r.cost):
        best.setdefault(reading.name, reading)
    return list(best.values())[:limit]


Row = tuple[str, tuple[str, ...], bool]  # quality, what is left out, whether the bass is foreign


def _rows(root: int, classes: frozenset[int], bass: int) -> list[Row]:
    played = frozenset((c - root) % 12 for c in classes)
    rows = [(quality, omit, False) for quality, omit in _table().get(played, ())]
    lowest = (bass - root) % 12
    if len(played) > 3 and lowest in played:
        rows += [
            (quality, omit, True)
            for quality, omit in _table().get(played - {lowest}, ())
            if not omit and quality != "5"
        ]
    return rows


@lru_cache(maxsize=1)
def _table() -> dict[frozenset[int], tuple[tuple[str, tuple[str, ...]], ...]]:
    """Qualities by the set of their tones; also with the fifth, or the third of a seventh chord, left out."""
    found: dict[frozenset[int], list[tuple[str, tuple[str, ...]]]] = {}
    for quality, tones in QUALITIES.items():
        for omit in ((), *_may_omit(tones)):
            gone = {t for name in omit for t in OMITTED[name]}
            kept = frozenset(t % 12 for t in tones if t not in gone)
            found.setdefault(kept, []).append((quality, omit))
    return {tones: tuple(rows) for tones, rows in found.items()}


def _may_omit(tones: tuple[int, ...]) -> list[tuple[str, ...]]:
    out: list[tuple[str, ...]] = []
    if 7 in tones and {3, 4} & set(tones):
        out.append(("fifth",))
    if len(tones) > 3 and {3, 4} & set(tones) and 7 in tones and {10, 11} & set(tones):
        out.append(("third",))
    return out


def _reading(key: Key, root: int, row: Row, bass: int) -> Reading:
    quality, omit, foreign = row
    chord = Chord(key.fifths_of(root), quality, None, omit)
    if bass != root:
        spelled = chord.fifths_of(bass, key)
        chord = Chord(chord.root_fifths, quality, spelled, omit)
    return Reading(chord, _cost(chord, key, omit, foreign), _remark(chord, omit, foreign))


def _cost(chord: Chord, key: Key, omit: tuple[str, ...], foreign: bool) -> float:
    cost = 0.0 if chord.bass_fifths is None else 1.4
    cost += 2.2 * foreign + sum({"fifth": 2.1, "third": 2.8}[name] for name in omit)
    cost += 0.04 * SIMPLE.index(chord.quality) if chord.quality in SIMPLE else 0.9
    cost += 0.3 * len(chord.classes - key.classes) + (0.4 if chord.root_class not in key.classes else 0.0)
    return cost


def _remark(chord: Chord, omit: tuple[str, ...], foreign: bool) -> str:
    if chord.quality == "5" or "third" in omit:
        return "without third: neither major nor minor"
    if "fifth" in omit:
        return "without fifth"
    return "over a foreign bass" if foreign else ""


def inversion(chord: Chord) -> int | None:
    """Which tone of the chord lies in the bass, counted from the root (0); None for a foreign bass."""
    tones = [(chord.root_class + t) % 12 for t in chord.tones]
    return tones.index(chord.bass_class) if chord.bass_class in tones else None
