"""Voicings: where the tones of a chord lie, and how voices move from chord to chord."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from itertools import product

from escalera.core.theory.chords import Chord


def place_class(pitch_class: int, low: int) -> int:
    """The lowest pitch of that class at or above `low`."""
    return low + (pitch_class - low) % 12


def root_position(chord: Chord, low: int) -> tuple[int, ...]:
    """Tones in thirds order, the root at or above `low`."""
    root = place_class(chord.root_class, low)
    return tuple(root + tone for tone in chord.tones)


@lru_cache(maxsize=2048)
def voice_path(chords: tuple[Chord, ...], voices: int, centre: int) -> tuple[tuple[int, ...], ...]:
    """Close voicings of a row of chords with little motion, starting round `centre`.

    The first chord takes the inversion whose mean lies nearest to `centre`; every later one takes the
    placement with the least summed motion (ties: nearer to the centre). Voices are counted from below.
    """
    path: list[tuple[int, ...]] = []
    for chord in chords:
        options = _placements(chord, voices, centre)
        if not path:
            best = min(options, key=lambda v: abs(sum(v) / voices - centre))
        else:
            best = min(options, key=lambda v: (_motion(path[-1], v) + 0.3 * abs(sum(v) / voices - centre), v))
        path.append(best)
    return tuple(path)


def _motion(before: Sequence[int], after: Sequence[int]) -> int:
    return sum(abs(a - b) for a, b in zip(before, after))


@lru_cache(maxsize=512)
def _placements(chord: Chord, voices: int, centre: int) -> tuple[tuple[int, ...], ...]:
    """Close placements of the chord's tones (a tone doubled when voices outnumber tones), two octaves round the centre."""
    classes = [(chord.root_class + tone) % 12 for tone in chord.tones]
    if len(classes) > voices:  # the fifth goes first, then the root: thirds and sevenths name the chord
        spare = [c for c, tone in zip(classes, chord.tones) if tone in (7, 0)][::-1]
        for pitch_class in spare[: len(classes) - voices]:
            classes.remove(pitch_class)
        classes = classes[:voices]
    found = set()
    for low, octave in product(range(len(classes)), (-12, 0, 12)):
        order = sorted(classes, key=lambda c: (c - classes[low]) % 12)
        pitch = place_class(order[0], centre - 8 + octave)
        voicing = []
        for index in range(voices):
            pitch = place_class(order[index % len(order)], pitch + (1 if index else 0))
            voicing.append(pitch)
        found.add(tuple(voicing))
    return tuple(sorted(found))
