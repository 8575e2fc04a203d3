"""What a held note is over every chord: its role, whether it clashes, and where the clash resolves."""

from __future__ import annotations

from collections.abc import Sequence

from escalera.core.theory.chords import QUALITIES, TONES, Chord
from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import fifths_to_name
from escalera.lazy_dataclasses import dataclass

# semitones above the root: the name a foreign note takes over a chord with, and without, a seventh
FOREIGN = {0: ("root", "root"), 1: ("flat ninth", "flat ninth"), 2: ("ninth", "ninth"), 3: ("minor third", "minor third"),
           4: ("major third", "major third"), 5: ("eleventh", "fourth"), 6: ("sharp eleventh", "sharp eleventh"), 7: ("fifth", "fifth"),
           8: ("flat thirteenth", "flat thirteenth"), 9: ("thirteenth", "sixth"), 10: ("minor seventh", "minor seventh"),
           11: ("major seventh", "major seventh")}  # fmt: skip


@dataclass(frozen=True, slots=True)
class NoteRole:
    """A held note over one chord. `resolves` says in words where a clash goes; empty without a clash."""

    note: str
    role: str
    clash: bool
    in_chord: bool
    resolves: str = ""


def role_of(pitch_class: int, chord: Chord) -> str:
    """The role of a pitch class over a chord, named as in the table of roles: 'fifth', 'flat ninth' …"""
    interval, tones = (pitch_class - chord.root_class) % 12, QUALITIES[chord.quality]
    own = next((t for t in tones if t % 12 == interval), None)
    if own is not None:
        return "sixth" if own == 21 and not chord.has_seventh else TONES[own][0]
    if interval == 3 and 4 in tones:
        return "sharp ninth"
    if interval == 6 and not {6, 7, 8} & set(tones):
        return "diminished fifth"
    if interval == 8 and 7 not in tones and 6 not in tones:
        return "augmented fifth"
    if interval == 5 and not {3, 4} & set(tones):
        return "fourth"
    return FOREIGN[interval][0 if chord.has_seventh else 1]


def clashes(pitch_class: int, chord: Chord) -> bool:
    """Whether a held note rubs against a chord that does not contain it.

    It does when it lies a semitone above a chord tone (a minor ninth when it is held higher), when it is the other
    third of a chord, or the other seventh. A flat ninth in the chord's own name is wanted and does not.
    """
    interval, tones = (pitch_class - chord.root_class) % 12, {t % 12 for t in chord.tones}
    if interval in tones:
        return False
    if interval == 3 and 4 in tones:  # over a dominant seventh it is the blue third, over other chords the wrong one
        return 10 not in tones
    other = {4: 3, 10: 11, 11: 10}.get(interval)
    return (interval - 1) % 12 in tones or other in tones


def held_over(pitch_classes: Sequence[int], chords: Sequence[Chord], key: Key) -> list[list[NoteRole]]:
    """For every chord, every held note: shape chords x notes."""
    return [[_held(c, chords, i, key) for c in pitch_classes] for i in range(len(chords))]


def _held(pitch_class: int, chords: Sequence[Chord], index: int, key: Key) -> NoteRole:
    chord = chords[index]
    rubs = clashes(pitch_class, chord)
    inside = (pitch_class - chord.root_class) % 12 in {t % 12 for t in chord.tones}
    note = fifths_to_name(chord.fifths_of(pitch_class, key) if inside else key.fifths_of(pitch_class))
    return NoteRole(
        note, role_of(pitch_class, chord), rubs, inside, _resolution(pitch_class, chords, index, key) if rubs else ""
    )


def _resolution(pitch_class: int, chords: Sequence[Chord], index: int, key: Key) -> str:
    chord = chords[index]
    steps = [s for s in (-1, 1, -2, 2) if (pitch_class + s - chord.root_class) % 12 in {t % 12 for t in chord.tones}]
    there = [
        f"{'up' if s > 0 else 'down'} to {fifths_to_name(chord.fifths_of((pitch_class + s) % 12, key))}"
        for s in steps[:2]
    ]
    later = [chords[(index + n) % len(chords)] for n in range(1, len(chords))]
    rests = next((c for c in later if not clashes(pitch_class, c)), None)
    parts = ([" or ".join(there)] if there else []) + (
        [f"rests on {rests} as its {role_of(pitch_class, rests)}"] if rests else []
    )
    return "; ".join(parts) or "nowhere in these chords"


@dataclass(frozen=True, slots=True)
class Throughout:
    """A note that could be held over all chords."""

    note: str
    pitch_class: int
    clashes: int
    tones: int
    roles: tuple[str, ...]


def holds_throughout(chords: Sequence[Chord], key: Key, limit: int = 4) -> list[Throughout]:
    """Notes of the key that could be held over all the chords: fewest clashes first, then most often a chord tone."""
    rows = []
    for c in sorted(key.classes):
        inside = sum((c - x.root_class) % 12 in {t % 12 for t in x.tones} for x in chords)
        rubs = sum(clashes(c, x) for x in chords)
        rows.append(Throughout(key.spell(c), c, rubs, inside, tuple(role_of(c, x) for x in chords)))
    steady = {key.tonic_class: 0, (key.tonic_class + 7) % 12: 1}
    rows.sort(key=lambda r: (r.clashes, -r.tones, steady.get(r.pitch_class, 2)))
    return rows[:limit]
