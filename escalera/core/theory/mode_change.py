"""Chords taken into another mode: each keeps its degree and takes its tones from the new scale."""

from __future__ import annotations

from escalera.core.theory.chords import QUALITIES, TONES, Chord
from escalera.core.theory.keys import Key

DOMINANT = 4  # the fifth degree keeps its major third in minor, as it does in practice


def in_key(chord: Chord, old: Key, new: Key) -> Chord:
    """The chord of one key in another one. In the same mode it is transposed; in another its root keeps its degree and its tones
    are those of the new scale; what lies outside the old scale is only transposed."""
    moved = chord.moved(new.tonic_fifths - old.tonic_fifths)
    if old.mode == new.mode or not _is_own(chord, old):
        return moved
    degree = old.degrees.index((chord.root_class - old.tonic_class) % 12)
    root = new.scale_fifths[degree]
    quality = _quality(chord, degree, new)
    dominant = new.is_minor and not old.is_minor and degree == DOMINANT and chord.quality in ("", "7")
    if quality is None or dominant:
        return Chord(root, chord.quality, None if moved.bass_fifths is None else moved.bass_fifths, chord.omit)
    bass = None
    if chord.bass_fifths is not None:
        bass = new.scale_fifths[old.degrees.index((chord.bass_class - old.tonic_class) % 12)]
    return Chord(root, quality, bass, chord.omit)


def _is_own(chord: Chord, key: Key) -> bool:
    return chord.classes <= key.classes and chord.bass_class in key.classes


def _quality(chord: Chord, degree: int, new: Key) -> str | None:
    """The quality with tones on the same steps of the new scale; None where no chord of the table has them."""
    tones = []
    for tone in QUALITIES[chord.quality]:
        step = (degree + TONES[tone][1]) % 7
        tones.append((new.degrees[step] - new.degrees[degree]) % 12 + (12 if tone >= 12 else 0))
    wanted = tuple(tones)
    exact = next((name for name, row in QUALITIES.items() if row == wanted), None)
    if exact is not None:
        return exact
    return next((name for name, row in QUALITIES.items() if row == wanted[:3]), None)
