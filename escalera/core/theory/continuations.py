"""What leads on well from a chord, what passes between two chords, and what two keys share: ranked, with the reason.

The ranking follows the usual account of root motion (falling fifths lead most strongly, then falling thirds and rising
steps), of function (what prepares the dominant, what the dominant wants), and of how little the voices have to move.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from escalera.core.theory.chords import Chord, degree_of, roman
from escalera.core.theory.keys import Key
from escalera.core.theory.origin import BORROWED, DOMINANT, OWN, origin, triads
from escalera.lazy_dataclasses import dataclass

# semitones by which the root rises: (worth, how it is said)
ROOT_MOTION = {
    5: (1.0, "root falls a fifth"), 7: (0.6, "root rises a fifth"), 8: (0.7, "root falls a third"), 9: (0.75, "root falls a third"),
    1: (0.6, "root rises a semitone"), 2: (0.7, "root rises a step"), 10: (0.45, "root falls a step"), 11: (0.5, "root falls a semitone"),
    3: (0.4, "root rises a third"), 4: (0.4, "root rises a third"), 6: (0.2, "root leaps a tritone"), 0: (0.1, "same root, another colour"),
}  # fmt: skip
# degree (0..6): degrees it likes to go to, the dearest first
USUAL = {0: (3, 4, 5, 1), 1: (4, 6), 2: (5, 3), 3: (4, 0, 1), 4: (0, 5), 5: (3, 1, 4), 6: (0, 2)}
KIND_WORTH = {OWN: 0.5, DOMINANT: 0.15, BORROWED: 0.0}
GROUPS = {OWN: "in the key", DOMINANT: "leads elsewhere", BORROWED: "borrowed"}


@dataclass(frozen=True, slots=True)
class Lead:
    """A chord that could come next: its group, where it comes from, why it leads on, and how well (higher is better)."""

    chord: Chord
    group: str
    said: str
    why: str
    worth: float


@lru_cache(maxsize=512)
def leads_on(chord: Chord | None, key: Key, limit: int = 14) -> tuple[Lead, ...]:
    """Chords that could follow `chord` (or open a song, after None), the likeliest first, groups mixed."""
    found: dict[Chord, Lead] = {}
    for candidate in _candidates(key):
        if chord is not None and candidate.classes == chord.classes and candidate.root_class == chord.root_class:
            continue
        lead = _lead(chord, candidate, key)
        if candidate not in found:
            found[candidate] = lead
    return tuple(sorted(found.values(), key=lambda lead: -lead.worth)[:limit])


def _candidates(key: Key) -> Iterable[Chord]:
    own = triads(key)
    yield from own
    dominant = Chord(key.tonic_fifths + 1, "7")
    yield dominant
    yield Chord(key.tonic_fifths + 1, "sus4")
    for target in own[1:]:
        if target.quality in ("", "m"):
            yield Chord(target.root_fifths + 1, "7")
    other = Key(key.tonic_fifths, "major" if key.is_minor else "minor")
    yield from (c for c in triads(other) if c.quality in ("", "m"))
    yield Chord(key.tonic_fifths - 5, "")  # the major chord on the lowered second
    yield Chord(key.tonic_fifths - 2, "")  # the major chord on the lowered seventh


def _lead(before: Chord | None, chord: Chord, key: Key) -> Lead:
    source = origin(chord, key)
    group, worth = GROUPS.get(source.kind, "outside"), KIND_WORTH.get(source.kind, -0.3)
    if source.kind == OWN and chord.quality == "dim":
        worth -= 0.5
    if before is None:
        return Lead(
            chord, group, source.said, "a place to begin", worth + (1.0 if chord.root_class == key.tonic_class else 0.0)
        )
    motion, said = ROOT_MOTION[(chord.root_class - before.root_class) % 12]
    common = len(chord.classes & before.classes)
    worth += motion + 0.12 * common + _usual(before, chord, key) + _resolves(before, chord)
    keeps = {0: "no tone in common", 1: "keeps a tone"}.get(common, f"keeps {common} tones")
    return Lead(chord, group, source.said, f"{said}, {keeps}", round(worth, 3))


def _usual(before: Chord, chord: Chord, key: Key) -> float:
    (here, here_sign), (there, there_sign) = degree_of(before.root_fifths, key), degree_of(chord.root_fifths, key)
    if here_sign or there_sign or there not in USUAL[here]:
        return 0.0
    return 0.5 - 0.1 * USUAL[here].index(there)


def _resolves(before: Chord, chord: Chord) -> float:
    """A dominant seventh wants the chord a fifth below."""
    is_dominant = 10 in before.tones and 4 in before.tones
    return 0.5 if is_dominant and (chord.root_class - before.root_class) % 12 == 5 else 0.0


@dataclass(frozen=True, slots=True)
class Passing:
    chord: Chord
    said: str


def passing(before: Chord, after: Chord, key: Key) -> list[Passing]:
    """Chords that pass between two chords: a bass in steps, a diminished chord from below, the dominant of the next."""
    found = [Passing(c, f"the bass walks {b}") for c, b in _walking(before, after, key)]
    if (after.bass_class - before.bass_class) % 12 == 2:
        found.append(Passing(Chord(after.root_fifths - 5 + 10, "dim"), f"rises by semitones into {after}"))
    dominant = Chord(after.root_fifths + 1, "7")
    if dominant.root_class != before.root_class:
        found.append(Passing(dominant, f"the dominant of {after}"))
    return found


def _walking(before: Chord, after: Chord, key: Key) -> list[tuple[Chord, str]]:
    """Chords of the key with the bass note that lies between two basses a third apart."""
    low, high = before.bass_class, after.bass_class
    gap = (high - low) % 12
    if gap not in (3, 4, 8, 9):
        return []
    between = (
        [c for c in key.classes if 0 < (c - low) % 12 < gap]
        if gap < 6
        else [c for c in key.classes if 0 < (low - c) % 12 < 12 - gap]
    )
    found = []
    for bass in between:
        way = f"{key.spell(low)} {key.spell(bass)} {key.spell(high)}"
        holders = [c for c in triads(key) if bass in c.classes and c.quality in ("", "m") and c.root_class != low]
        for chord in sorted(holders, key=lambda c: (-len(c.classes & before.classes), c.root_class == bass))[:2]:
            slash = None if chord.root_class == bass else key.fifths_of(bass)
            found.append((Chord(chord.root_fifths, chord.quality, slash), way))
    return found


@dataclass(frozen=True, slots=True)
class Pivot:
    """A chord that two keys share, with its numeral in each."""

    chord: Chord
    here: str
    there: str


PREPARES = (1, 3, 5, 0, 2, 4, 6)  # degrees of the new key by how well they prepare its dominant


def pivots(old: Key, new: Key) -> list[Pivot]:
    """Triads that both keys have, those first that prepare the new key's dominant."""
    by_classes = {c.classes: c for c in triads(old)}
    shared = [c for c in triads(new) if c.classes in by_classes and c.quality in ("", "m")]
    shared.sort(key=lambda c: PREPARES.index(new.scale_fifths.index(c.root_fifths)))
    return [Pivot(by_classes[c.classes], roman(by_classes[c.classes], old), roman(c, new)) for c in shared]
