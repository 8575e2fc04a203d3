"""Chords as a line of text: bars between bar lines, chords in a bar share it evenly: 'Eb | Gm Bb | vi | IV'."""

from __future__ import annotations

from escalera.core.song.document import Progression
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key
from escalera.core.time.metre import Metre
from escalera.errors import EditError, shown

MAX_CHORD_BARS = 64


def parse_chordline(text: str, key: Key, metre: Metre) -> Progression | None:
    """A progression, or None for an empty line. '%' repeats the chord before. Raises EditError, InputError."""
    bars = [bar.split() for bar in text.strip().strip("|").split("|")] if text.strip() else []
    if "|" not in text:
        bars = [[chord] for chord in text.split()]
    if len(bars) > MAX_CHORD_BARS:
        raise EditError(
            f"{len(bars)} bars of chords are more than the {MAX_CHORD_BARS} that one loop may have. Split them over sections."
        )
    changes: list[tuple[int, Chord]] = []
    chord: Chord | None = None
    for number, names in enumerate(bars):
        for index, name in enumerate(names):
            if name != "%":
                chord = parse_chord(name, key)
            if chord is None:
                raise EditError(f"“{shown(text)}” begins with a repeat sign. Write a chord first.")
            tick = number * metre.bar_ticks + metre.bar_ticks * index // len(names)
            if not changes or changes[-1][1] != chord:
                changes.append((tick, chord))
    if not changes:
        return None
    return Progression(((0, changes[0][1]), *changes[1:]), len(bars) * metre.bar_ticks)


def write_chordline(progression: Progression | None, metre: Metre) -> str:
    """The line that `parse_chordline` reads back, to the nearest even share of a bar."""
    if progression is None:
        return ""
    bars = []
    for start in range(0, progression.length_ticks, metre.bar_ticks):
        inside = [c for t, c in progression.changes if start <= t < start + metre.bar_ticks]
        bars.append(" ".join(c.name(ascii_only=True) for c in inside) or "%")
    return " | ".join(bars)


def rotated(progression: Progression, ticks: int) -> Progression:
    """The loop as heard when it is entered `ticks` later."""
    length = progression.length_ticks
    shift = ticks % length
    if shift == 0:
        return progression
    sounding = [chord for t, chord in progression.changes if t <= shift][-1]
    moved = sorted(((t - shift) % length, chord) for t, chord in progression.changes)
    if moved[0][0] > 0:
        moved.insert(0, (0, sounding))
    return Progression(tuple(moved), length)


def unrolled(progression: Progression, length_ticks: int) -> list[tuple[int, Chord]]:
    """Changes over a length, repeats written out."""
    cycles = range(0, length_ticks, progression.length_ticks)
    return [(c + t, chord) for c in cycles for t, chord in progression.changes if c + t < length_ticks]
