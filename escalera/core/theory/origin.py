"""Where a chord comes from: the key itself, a parallel mode, or a dominant of another degree."""

from __future__ import annotations

from functools import lru_cache

from escalera.core.theory.chords import Chord, roman
from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import fifths_to_name
from escalera.lazy_dataclasses import dataclass

OWN, BORROWED, DOMINANT, OUTSIDE = "own", "borrowed", "dominant", "outside"
# Modes on the same tonic from which chords are borrowed, the commonest first.
LENDERS = {
    False: ("minor", "mixolydian", "dorian", "harmonic minor", "phrygian", "lydian", "melodic minor"),
    True: ("harmonic minor", "melodic minor", "dorian", "major", "phrygian", "mixolydian", "lydian"),
}


@dataclass(frozen=True, slots=True)
class Origin:
    """`kind` is own, borrowed, dominant or outside; `said` names it: 'from F minor', 'V7 of ii, leads to Gm'."""

    kind: str
    said: str


def triads(key: Key) -> tuple[Chord, ...]:
    """The triads on the seven degrees, spelled in the key."""
    return tuple(_triad(key, degree) for degree in range(7))


SHAPES: dict[tuple[int, ...], str] = {
    (0, 4, 7): "",
    (0, 3, 7): "m",
    (0, 3, 6): "dim",
    (0, 4, 8): "aug",
    (0, 4, 6): "(b5)",
}


@lru_cache(maxsize=1024)
def _triad(key: Key, degree: int) -> Chord:
    root = key.degrees[degree]
    tones = tuple((key.degrees[(degree + 2 * i) % 7] - root) % 12 for i in range(3))
    return Chord(key.scale_fifths[degree], SHAPES.get(tones, "dim"))


def origin(chord: Chord, key: Key) -> Origin:
    """What a chord is in a key. A dominant seventh of a degree counts as that before it counts as borrowed."""
    if chord.classes <= key.classes:
        return Origin(OWN, f"in {key}")
    if key.mode == "minor" and chord.classes <= Key(key.tonic_fifths, "harmonic minor").classes:
        return Origin(OWN, f"in {key}, with the raised seventh")
    target = _target(chord, key)
    if target is not None:
        which = f"{'V7' if 10 in chord.tones else 'V'} of {roman(target, key)}"
        return Origin(DOMINANT, f"{which}, leads to {target}")
    for mode in LENDERS[key.is_minor]:
        if mode != key.mode and chord.classes <= Key(key.tonic_fifths, mode).classes:
            return Origin(BORROWED, f"from {fifths_to_name(key.tonic_fifths)} {mode}")
    leading = _leads_up(chord, key)
    return leading or Origin(OUTSIDE, f"outside {key} and its parallel modes")


def _target(chord: Chord, key: Key) -> Chord | None:
    """The degree of the key to which a major or dominant seventh chord is the dominant; never the tonic's own."""
    if 4 not in chord.tones or 11 in chord.tones or chord.quality == "aug":
        return None
    goal = (chord.root_class + 5) % 12
    third = (chord.root_class + 4) % 12
    if goal == key.tonic_class or (third in key.classes and 10 not in chord.tones):
        return None
    return next((c for c in triads(key) if c.root_class == goal and c.quality in ("", "m")), None)


def _leads_up(chord: Chord, key: Key) -> Origin | None:
    """A diminished chord a semitone below a degree leads into it."""
    if not chord.quality.startswith("dim"):
        return None
    target = next((c for c in triads(key) if c.root_class == (chord.root_class + 1) % 12), None)
    return Origin(DOMINANT, f"vii° of {roman(target, key)}, leads to {target}") if target else None
