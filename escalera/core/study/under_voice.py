"""Chords under a voice that stands alone: where its home is, which of its notes are long and stressed, and three ways of going under it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.theory.chords import Chord
from escalera.core.theory.continuations import leads_on
from escalera.core.theory.key_finding import find_key, slices_of_notes
from escalera.core.theory.keys import Key
from escalera.core.theory.note_roles import clashes, held_over
from escalera.lazy_dataclasses import dataclass

TICKS = 960
ON_ONE, ON_BEAT, BETWEEN = 1.7, 1.2, 0.8  # what a note counts by where it begins
INSIDE, RUBS, BESIDE = 1.0, -1.5, -0.15
LEADS, ANEW, OPENS_HOME, SAME_AGAIN = 0.22, 0.75, 0.4, 0.12
EARLY = 0.15  # of a beat
FEWEST_BEATS = 0.5  # of a note that is held over a chord and asked whether it clashes
SURE_MARGIN = 0.25
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class VoiceNote:
    """A note of a voice in beats from the beginning of what is asked about."""

    start: float
    end: float
    pitch: int

    def weight(self, beats_a_bar: int) -> float:
        """What it counts: its length, and where it begins."""
        off = abs(self.start - round(self.start))
        stress = BETWEEN if off > 0.2 else ON_ONE if round(self.start) % beats_a_bar == 0 else ON_BEAT
        return stress * min(self.end - self.start, 4.0)


@dataclass(frozen=True, slots=True)
class VoiceOffer:
    """A way of going under a voice: a name, a chord for every bar, every clash in words, the share of the voice in its chords."""

    name: str
    chords: tuple[Chord, ...]
    clashes: tuple[str, ...]
    agrees: float


def home_of(notes: Sequence[VoiceNote]) -> tuple[Key, float] | None:
    """The key of a voice and how sure it is, 0 to 1; None for too few notes."""
    if len(notes) < 4:
        return None
    rows = np.array([[round(n.start * TICKS), round(n.end * TICKS), n.pitch] for n in notes], np.int64)
    found = find_key(slices_of_notes(rows))
    if found is None:
        return None
    return found.best, float(np.clip(0.4 + found.margin / SURE_MARGIN * 0.5, 0.3, 0.95))


def long_and_stressed(notes: Sequence[VoiceNote], beats_a_bar: int, count: int = 5) -> list[VoiceNote]:
    """The notes that count most, in order of time."""
    heavy = sorted(notes, key=lambda n: -n.weight(beats_a_bar))[:count]
    return sorted(heavy, key=lambda n: n.start)


def _triads(key: Key) -> list[Chord]:
    return [lead.chord for lead in leads_on(None, key, 40) if lead.chord.quality in ("", "m")]


def _own(key: Key) -> list[Chord]:
    """The key's own triads, in minor with the major one on five."""
    fifth = [Chord(key.tonic_fifths + 1, "")] if key.is_minor else []
    return [c for c in _triads(key) if all(x in key.classes for x in c.classes)] + fifth


def _coloured(key: Key) -> list[Chord]:
    sevenths = [Chord(c.root_fifths, "maj7" if c.quality == "" else "m7") for c in _own(key)]
    return [c for c in sevenths if all(x in key.classes for x in c.classes)] + _triads(key)


WAYS: dict[str, Callable[[Key], list[Chord]]] = {"plain": _own, "from elsewhere": _own, "coloured": _coloured}


def offers_under(notes: Sequence[VoiceNote], bars: int, beats_a_bar: int, key: Key) -> list[VoiceOffer]:
    """Three different progressions, a chord a bar: plain; from elsewhere, not beginning at home; with sevenths and borrowed chords."""
    made: list[VoiceOffer] = []
    for name, candidates in WAYS.items():
        chords = candidates(key)
        worth = _worth(notes, bars, beats_a_bar, chords)
        for other in made:
            for bar, taken in enumerate(other.chords):
                worth[bar] -= [ANEW * (c.root_class == taken.root_class) for c in chords]
        worth[0] += [OPENS_HOME * (c.root_class == key.tonic_class) * (1 if name == "plain" else -2) for c in chords]
        row = tuple(chords[i] for i in _best_row(worth, chords, key))
        made.append(
            VoiceOffer(name, row, tuple(_clashes(notes, row, beats_a_bar, key)), _agrees(notes, row, beats_a_bar))
        )
    return made


def _worth(notes: Sequence[VoiceNote], bars: int, beats_a_bar: int, chords: list[Chord]) -> Floats:
    """How well every chord goes under every bar, (bars, chords)."""
    found = np.zeros((bars, len(chords)))
    for note in notes:
        for bar in range(max(0, int(note.start // beats_a_bar)), min(bars, int(np.ceil(note.end / beats_a_bar)))):
            share = min(note.end, (bar + 1) * beats_a_bar) - max(note.start, bar * beats_a_bar)
            if share <= 0.05:
                continue
            weight = note.weight(beats_a_bar) * share / max(note.end - note.start, 0.05)
            found[bar] += [weight * _fits(note.pitch % 12, c) for c in chords]
    return found / beats_a_bar


def _fits(pitch_class: int, chord: Chord) -> float:
    return INSIDE if pitch_class in chord.classes else RUBS if clashes(pitch_class, chord) else BESIDE


def _best_row(worth: Floats, chords: list[Chord], key: Key) -> list[int]:
    """The chord of every bar with the largest sum of what is under the voice and of how one leads to the next."""
    steps = np.full((len(chords), len(chords)), -SAME_AGAIN)
    for i, before in enumerate(chords):
        leads = {lead.chord: lead.worth for lead in leads_on(before, key, 40)}
        for j, after in enumerate(chords):
            if i != j:
                steps[i, j] = LEADS * leads.get(after, -0.3)
    score, back = worth[0].copy(), np.zeros(worth.shape, int)
    for bar in range(1, len(worth)):
        moved = score[:, None] + steps
        back[bar] = moved.argmax(axis=0)
        score = worth[bar] + moved.max(axis=0)
    row = [int(score.argmax())]
    for bar in range(len(worth) - 1, 0, -1):
        row.append(int(back[bar, row[-1]]))
    return row[::-1]


def _bar_of(note: VoiceNote, beats_a_bar: int) -> int:
    """The bar in which a note begins, from 0; voices come a little early."""
    return int((note.start + EARLY) // beats_a_bar)


def _clashes(notes: Sequence[VoiceNote], row: Sequence[Chord], beats_a_bar: int, key: Key) -> list[str]:
    """Every note that is held against its chord, in words: where, which note, as what, where it goes."""
    found = []
    for note in notes:
        bar = _bar_of(note, beats_a_bar)
        if not 0 <= bar < len(row) or note.end - note.start < FEWEST_BEATS:
            continue
        told = held_over([note.pitch % 12], [row[bar], *row[bar + 1 : bar + 2]], key)[0][0]
        if told.clash:
            beat = round(2 * (note.start - bar * beats_a_bar)) / 2 + 1
            where = f"bar {bar + 1}, beat {beat:g}"
            found.append(
                f"{where}: {told.note} is the {told.role} of {row[bar]}"
                + (f"; {told.resolves}" if told.resolves else "")
            )
    return found


def _agrees(notes: Sequence[VoiceNote], row: Sequence[Chord], beats_a_bar: int) -> float:
    inside = total = 0.0
    for note in notes:
        bar = _bar_of(note, beats_a_bar)
        if 0 <= bar < len(row):
            weight = note.weight(beats_a_bar)
            total += weight
            inside += weight * (note.pitch % 12 in row[bar].classes)
    return round(inside / total, 3) if total else 0.0
