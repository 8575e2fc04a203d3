"""Voicings: where the tones of a chord lie, and how voices move from chord to chord."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from itertools import product

import numpy as np
from numpy.typing import NDArray

from escalera.core.theory.chords import OMITTED, Chord
from escalera.lazy_dataclasses import dataclass

SPREADS = ("close", "open", "wide")
INVERSIONS = ("least motion", "root", "third", "fifth", "seventh")  # which tone lies lowest
OMITS = ("", "root", "third", "fifth")
TOP = "top an octave up"
DOUBLES = ("", "root", "third", "fifth", TOP)
MAX_VOICES = 6
# two-note voicings: the tones that are taken, in semitones above the root, each with what stands in where a chord lacks it
PAIRS: dict[str, tuple[tuple[int, ...], tuple[int, ...]]] = {
    "root and fifth": ((0,), (7, 6, 8)), "root and third": ((0,), (4, 3, 5, 2)), "root and seventh": ((0,), (10, 11, 9, 7, 6, 8)),
    "third and seventh": ((4, 3, 5, 2), (10, 11, 9, 7, 6, 8)), "fifth and ninth": ((7, 6, 8), (14, 13, 15, 0)),
}  # fmt: skip
CLOSE_FROM = 48  # C3: a semitone that the chord's name asks for is clear from here up
CLASH, MUD, UNDER_ROOT = (
    14.0,
    8.0,
    3.0,
)  # semitones of motion that a clash, a muddy pair, a seventh right under the root are worth
PULL = 0.3  # semitones of motion that a voicing whose mean lies one semitone off the register is worth


@dataclass(frozen=True, slots=True)
class Voicing:
    """How a layer lays out the chords it follows. `voices` 0 plays as many as its pattern has."""

    voices: int = 0
    spread: str = "close"
    inversion: str = "least motion"
    octave_below: bool = False
    omit: str = ""
    double: str = ""
    pair: str = ""  # of PAIRS: two notes only
    clear: bool = False  # no semitones below C3, no minor ninths, no mud where another placement has none
    pairs_at: str = ""  # other pairs for single chords, as "G7=third and seventh; C=root and third"; of use with a pair

    @property
    def own_pairs(self) -> dict[str, str]:
        """The pair of single chords by their names."""
        rows = (row.split("=", 1) for row in self.pairs_at.split("; ") if "=" in row)
        return {name: pair for name, pair in rows if pair in PAIRS}

    def pair_of(self, chord: Chord) -> str:
        """Which two tones of a chord are played; '' for all."""
        return self.own_pairs.get(str(chord), self.pair) if self.pair else ""

    def with_pair_at(self, chord: str, pair: str) -> Voicing:
        """With another pair for one chord, or with the usual one where `pair` is ''."""
        rows = {**self.own_pairs, chord: pair}
        return replace(self, pairs_at="; ".join(f"{c}={p}" for c, p in sorted(rows.items()) if p))


PLAIN = Voicing()


def place_class(pitch_class: int, low: int) -> int:
    """The lowest pitch of that class at or above `low`."""
    return low + (pitch_class - low) % 12


def root_position(chord: Chord, low: int) -> tuple[int, ...]:
    """Tones in thirds order, the root at or above `low`."""
    root = place_class(chord.root_class, low)
    return tuple(root + tone for tone in chord.tones)


@lru_cache(maxsize=2048)
def voice_path(
    chords: tuple[Chord, ...], voices: int, centre: int, style: Voicing = PLAIN
) -> tuple[tuple[int, ...], ...]:
    """Voicings of a row of chords with the least motion there is, near `centre`; voices are counted from below.

    Over all placements of all chords the sum of every voice's motion in semitones, and of a gentle pull toward the
    centre, is the smallest possible (a shortest path; ties: the lower voicing).
    """
    if not chords:
        return ()
    rows = [_placement_table(chord, voices, centre, style) for chord in chords]
    costs = 3 * rows[0].off
    back = []
    for before, after in zip(rows, rows[1:]):
        motion = np.abs(before.pitches[:, None, :] - after.pitches[None, :, :]).sum(axis=2)
        every = costs[:, None] + motion
        came = every.argmin(axis=0)
        back.append(came)
        costs = every[came, np.arange(len(came))] + after.off
    at = int(costs.argmin())
    path = [rows[-1].placements[at]]
    for came, row in zip(reversed(back), reversed(rows[:-1])):
        at = int(came[at])
        path.append(row.placements[at])
    return tuple(reversed(path))


@dataclass(frozen=True, eq=False)
class _Table:
    """The placements of a chord, lowest first; as an array; and what each lies off the register."""

    placements: tuple[tuple[int, ...], ...]
    pitches: NDArray[np.int64]
    off: NDArray[np.float64]


@lru_cache(maxsize=4096)
def _placement_table(chord: Chord, voices: int, centre: int, style: Voicing) -> _Table:
    placements = _placements(chord, voices, centre, style)
    pitches = np.array(placements, np.int64)
    off = PULL * np.abs(pitches.mean(axis=1) - centre)
    if style.clear:
        off = off + np.array([unclear(row, chord) for row in placements])
    return _Table(placements, pitches, off)


def unclear(pitches: Sequence[int], chord: Chord) -> float:
    """What a placement costs in semitones of motion: minor ninths and low semitones, mud, a seventh a semitone under the root."""
    row, cost = sorted(pitches), 0.0
    for i, low in enumerate(row):
        for high in row[i + 1 :]:
            if high - low == 13 or (high - low == 1 and low < CLOSE_FROM):
                cost += CLASH
            elif high - low == 1 and high % 12 == chord.root_class:
                cost += UNDER_ROOT
    return cost + MUD * len(muddy(row))


def _placements(chord: Chord, voices: int, centre: int, style: Voicing) -> tuple[tuple[int, ...], ...]:
    """Placements of the chord's tones (one doubled when voices outnumber tones), two octaves round the centre."""
    classes = _classes(chord, voices, style)
    extra = _doubled(chord, style)
    found = {}
    for low, octave in product(range(len(classes)), (-12, 0, 12)):
        order = sorted(classes, key=lambda c: (c - classes[low]) % 12)
        order = order + [extra if extra in order else order[0]] if len(order) < voices else order
        voicing = _stacked(order, voices, place_class(order[0], centre - 8 + octave))
        spread = _spread(voicing, style.spread)
        found[spread] = _lowest_fits(spread, chord, style.inversion)
    fitting = [v for v, fits in found.items() if fits]
    return tuple(sorted(fitting or found))


def _classes(chord: Chord, voices: int, style: Voicing) -> list[int]:
    """Pitch classes to place: the style's omission first, then what says least (fifth, root) until they fit."""
    if style.pair:
        return _pair(chord, style.pair_of(chord))
    gone = OMITTED.get(style.omit, ())
    tones = [t for t in chord.tones if t not in gone] or list(chord.tones)
    while len(tones) > voices:
        spare = next((t for wanted in ((7,), (0,), (14, 17)) for t in tones if t in wanted), tones[-1])
        tones.remove(spare)
    classes = [(chord.root_class + tone) % 12 for tone in tones]
    return list(dict.fromkeys(classes))


def _pair(chord: Chord, pair: str) -> list[int]:
    """The two pitch classes of a two-note voicing; where a chord lacks a tone, what stands in for it, and else the nearest it has."""
    found: list[int] = []
    for wanted in PAIRS[pair]:
        tone = next((t for t in wanted if t in chord.tones), None)
        if tone is None:
            tone = next((t for t in chord.tones if t not in found), chord.tones[0])
        found.append(tone)
    return list(dict.fromkeys((chord.root_class + t) % 12 for t in found))


def _doubled(chord: Chord, style: Voicing) -> int:
    """The pitch class that further voices double: the root when the style does not say."""
    tones = OMITTED.get(style.double, (0,))
    tone = next((t for t in chord.tones if t in tones), chord.tones[0])
    return (chord.root_class + tone) % 12


def _stacked(order: list[int], voices: int, low: int) -> tuple[int, ...]:
    """Pitches upward from `low`, the pitch classes in turn."""
    pitch, out = low, []
    for index in range(voices):
        pitch = place_class(order[index % len(order)], pitch + (1 if index else 0))
        out.append(pitch)
    return tuple(out)


def _spread(voicing: tuple[int, ...], spread: str) -> tuple[int, ...]:
    """Open: the second voice from above an octave lower. Wide: the fourth, too."""
    out = list(voicing)
    if spread != "close" and len(out) >= 3:
        out[-2] -= 12
    if spread == "wide" and len(out) >= 4:
        out[-4] -= 12
    return tuple(sorted(out))


def _lowest_fits(voicing: tuple[int, ...], chord: Chord, inversion: str) -> bool:
    wanted = {"root": (0,), "third": (2, 3, 4, 5), "fifth": (6, 7, 8), "seventh": (9, 10, 11)}.get(inversion)
    return wanted is None or (voicing[0] - chord.root_class) % 12 in wanted


# Low intervals turn to mud: semitones between two neighbouring voices, and the lowest MIDI pitch of the lower one that
# still sounds clear (the low-interval limits of arranging textbooks).
LOW_LIMITS = {1: 52, 2: 51, 3: 48, 4: 46, 5: 46, 6: 47, 7: 34, 8: 43, 9: 41, 10: 41, 11: 41}


def muddy(voicing: Sequence[int]) -> list[tuple[int, int]]:
    """Neighbouring voices that lie too close for their depth."""
    pairs = list(zip(sorted(voicing), sorted(voicing)[1:]))
    return [(a, b) for a, b in pairs if a < LOW_LIMITS.get(b - a, 0)]


@dataclass(frozen=True, slots=True)
class VoicingReading:
    """What a voicing does: tones it lacks, tones it has twice, and how far every voice moved (semitones, signed)."""

    pitches: tuple[int, ...]
    missing: tuple[int, ...]
    doubled: tuple[int, ...]
    motion: tuple[int, ...]
    muddy: tuple[tuple[int, int], ...]
    third: bool


def read_voicing(chord: Chord, pitches: Sequence[int], before: Sequence[int] = ()) -> VoicingReading:
    """`missing` and `doubled` are tones in semitones above the root; `motion` is empty for the first chord."""
    row = tuple(sorted(pitches))
    classes = [(p - chord.root_class) % 12 for p in row]
    missing = tuple(t for t in chord.tones if t % 12 not in classes)
    doubled = tuple(t for t in chord.tones if classes.count(t % 12) > 1)
    motion = tuple(b - a for a, b in zip(sorted(before), row)) if len(before) == len(row) else ()
    return VoicingReading(row, missing, doubled, motion, tuple(muddy(row)), bool({3, 4} & set(classes)))
