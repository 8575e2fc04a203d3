"""Chords read from what is played: the likeliest row of chords over the beats, given what sounds, what lies lowest, and that chords
change at bars more readily than inside them (a hidden Markov model, as usual for this task since Sheh and Ellis, 2003)."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from escalera.core.performance.played import Floats, Ints, Played
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

TRIADS: dict[str, tuple[int, ...]] = {
    "": (0, 4, 7), "m": (0, 3, 7), "dim": (0, 3, 6), "sus4": (0, 5, 7), "aug": (0, 4, 8), "5": (0, 7),
}  # fmt: skip
# what a kind of triad is worth beforehand, and what a change costs by where it falls; fitted on performances made for it
PRIOR = {"": 0.0, "m": 0.0, "dim": -0.35, "sus4": -0.45, "aug": -0.8, "5": -0.55}
TONE, FOREIGN, MISSING_THIRD, BASS_ROOT, BASS_TONE, BASS_FOREIGN, DIATONIC = 1.0, 1.35, 0.22, 0.55, 0.08, -0.35, 0.16
AT_BAR, AT_HALF, AT_BEAT = 0.35, 0.9, 1.6
LOW, HIGH_BASS, SIXTH = 52, 0.3, 0.12
BRIEF = 0.22  # of a beat: what overlaps it by less belongs to the beat before or after
SEVENTHS = {
    ("", 10): "7",
    ("", 11): "maj7",
    ("m", 10): "m7",
    ("m", 11): "mmaj7",
    ("dim", 10): "m7b5",
    ("dim", 9): "dim7",
    ("sus4", 10): "7sus4",
}
SIXTHS = {("", 9): "6", ("m", 9): "m6"}
WEIGHTY = 0.13  # share of a segment that a seventh needs, and of its beats
BEATEN = 0.45


@dataclass(frozen=True, slots=True)
class ReadChord:
    """A chord from a beat on: bar and beat from 0, and how sure it is, 0..1."""

    bar: int
    beat: int
    tick: int
    chord: Chord
    confidence: float


@dataclass(frozen=True, eq=False)
class Beats:
    """What sounds in every beat: weights of the pitch classes (n, 12), the class that lies lowest (-1 in silence), and places."""

    weights: Floats
    bass: Ints
    bass_share: Floats
    bars: Ints
    places: Ints
    ticks: Ints


def beats_of(played: Played) -> Beats:
    """Beats of all bars; compound metres are counted in their felt beats."""
    places = [
        (bar, i, played.bar_ticks[bar] + t)
        for bar, metre in enumerate(played.metres)
        for i, t in enumerate(range(0, metre.bar_ticks, metre.beat_ticks))
    ]
    ticks = np.array([t for *_, t in places] + [played.bar_ticks[-1]], np.int64)
    pitched = [p.notes for p in played.parts if not p.is_drum and len(p.notes)]
    notes = np.concatenate(pitched) if pitched else np.zeros((0, 4), np.int64)
    weights, lows = np.zeros((len(places), 12)), np.zeros((len(places), 128))
    for index, pitch, heard in _sounding(notes, ticks):
        np.add.at(weights, (index, pitch % 12), heard)
        np.add.at(lows, (index, pitch), heard)
    bass, share = _basses(lows)
    bars, at = (np.array([p[i] for p in places], np.int64) for i in (0, 1))
    return Beats(weights, bass, share, bars, at, ticks[:-1])


def _sounding(notes: Ints, ticks: Ints) -> Iterator[tuple[Ints, Ints, Floats]]:
    """Beats, pitches and how much is heard of every note (n, 4): first in the beats where they begin, then in the next ones."""
    at = np.maximum(np.searchsorted(ticks, notes[:, 0], side="right") - 1, 0)
    while len(notes):
        inside = at < len(ticks) - 1
        inside[inside] &= ticks[at[inside]] < notes[inside, 1]
        notes, at = notes[inside], at[inside]
        low, high = ticks[at], ticks[at + 1]
        start, end = notes[:, 0], notes[:, 1]
        share = (np.minimum(end, high) - np.maximum(start, low)) / (high - low)
        brief = (share < BRIEF) & ((start < low) | (high - start < BRIEF * (high - low)))
        heard = (0.25 + share) * (0.5 + notes[:, 3] / 160)
        yield at[~brief], notes[~brief, 2], heard[~brief]
        at = at + 1


def _basses(lows: Floats) -> tuple[Ints, Floats]:
    """The lowest class of every beat that is more than touched, and how much lower it lies than the rest (0..1)."""
    heavy = lows > 0.25 * np.maximum(lows.max(axis=1, keepdims=True), 1e-9)
    lowest = np.where(heavy.any(axis=1), heavy.argmax(axis=1), -1)
    count = heavy.sum(axis=1)
    highest = 127 - heavy[:, ::-1].argmax(axis=1)
    apart = np.clip((highest - lowest) / 12.0, 0.3, 1.0) * (count > 1)
    low = np.where(
        lowest < LOW, np.maximum(apart, 0.5), HIGH_BASS * apart
    )  # the lowest note of a high hand is not yet a bass
    return np.where(lowest >= 0, lowest % 12, -1), np.where(lowest >= 0, low, 0.0)


def _states() -> tuple[list[tuple[int, str]], Floats, Floats]:
    states = [(root, quality) for quality in TRIADS for root in range(12)]
    inside = np.zeros((len(states), 12))
    for i, (root, quality) in enumerate(states):
        inside[i, [(root + t) % 12 for t in TRIADS[quality]]] = 1.0
    return states, inside, np.array([PRIOR[q] for _, q in states])


STATES, INSIDE, PRIORS = _states()
ROOTS = np.array([root for root, _ in STATES])


def _emissions(beats: Beats, key: Key | None) -> Floats:
    """How well every triad fits every beat, shape (beats, states)."""
    total = np.maximum(beats.weights.sum(axis=1, keepdims=True), 1e-9)
    share = beats.weights / total
    fits = share @ INSIDE.T * TONE - share @ (1.0 - INSIDE).T * FOREIGN
    present = (share > 0.04).astype(float)
    missing = np.zeros_like(fits)
    for i, (root, quality) in enumerate(STATES):
        tones = TRIADS[quality]
        if len(tones) > 2:
            missing[:, i] = MISSING_THIRD * (1.0 - present[:, (root + tones[1]) % 12])
        missing[:, i] += 0.3 * (1.0 - present[:, root])
        if quality == "":  # with its sixth it is sooner the seventh chord a third below
            missing[:, i] += SIXTH * present[:, (root + 9) % 12]
    fits = fits - missing + PRIORS
    known = beats.bass >= 0
    bass = np.where(known, beats.bass, 0)
    low = np.where(ROOTS[None, :] == bass[:, None], BASS_ROOT, np.where(INSIDE[:, bass].T > 0, BASS_TONE, BASS_FOREIGN))
    fits += low * (beats.bass_share * known)[:, None]
    if key is not None:
        own = np.array([all(INSIDE[i, c] == 0 or c in key.classes for c in range(12)) for i in range(len(STATES))])
        fits += DIATONIC * own
    fits[total[:, 0] < 1e-6] = 0.0
    return fits


def _row(fits: Floats, costs: Floats) -> Ints:
    """The row of states with the largest sum, less what changes cost (Viterbi)."""
    count, states = fits.shape
    score, back = fits[0].copy(), np.zeros((count, states), np.int64)
    for i in range(1, count):
        best = int(score.argmax())
        moved = score[best] - costs[i]
        stays = score >= moved
        back[i] = np.where(stays, np.arange(states), best)
        score = np.where(stays, score, moved) + fits[i]
    row = np.zeros(count, np.int64)
    row[-1] = int(score.argmax())
    for i in range(count - 1, 0, -1):
        row[i - 1] = back[i, row[i]]
    return row


def read_chords(played: Played, beats: Beats, key: Key | None = None) -> list[ReadChord]:
    """Every change of chord, spelled in the key where there is one; empty for what holds no harmony."""
    if not len(beats.weights) or not beats.weights.any():
        return []
    fits = _emissions(beats, key)
    counts = np.array([len(range(0, m.bar_ticks, m.beat_ticks)) for m in played.metres])[beats.bars]
    costs = np.where(beats.places == 0, AT_BAR, np.where(beats.places * 2 == counts, AT_HALF, AT_BEAT))
    row = _row(fits, costs)
    edges = [0, *(np.nonzero(np.diff(row))[0] + 1).tolist(), len(row)]
    found = []
    for low, high in zip(edges, edges[1:]):
        if not beats.weights[low:high].any():
            continue
        root, quality = STATES[row[low]]
        chord = _filled(beats, low, high, root, quality, key or Key())
        found.append(
            ReadChord(
                int(beats.bars[low]),
                int(beats.places[low]),
                int(beats.ticks[low]),
                chord,
                _sure(fits[low:high], row[low]),
            )
        )
    return found


def _sure(fits: Floats, state: int) -> float:
    """How far a chord stands before the best one on another root."""
    mean = fits.mean(axis=0)
    others = mean[ROOTS[state] != ROOTS]
    return float(np.clip((mean[state] - others.max()) / 0.8, 0.0, 1.0))


def _filled(beats: Beats, low: int, high: int, root: int, quality: str, key: Key) -> Chord:
    """The triad with its seventh or sixth, where one sounds for most of it, and its bass."""
    share = beats.weights[low:high] / np.maximum(beats.weights[low:high].sum(axis=1, keepdims=True), 1e-9)
    mean, often = share.mean(axis=0), (share > 0.05).mean(axis=0)

    def there(tone: int) -> bool:
        c = (root + tone) % 12
        return bool(mean[c] > WEIGHTY and often[c] > BEATEN)

    for (base, tone), name in {**SEVENTHS, **SIXTHS}.items():
        if base == quality and there(tone):
            quality = name
            break
    heard = beats.bass[low:high]
    heard = heard[(heard >= 0) & (beats.bass_share[low:high] > 0.3)]
    first = int(heard[0]) if len(heard) else root
    chord = Chord(key.fifths_of(root), quality)
    if first != root and first in chord.classes and (heard == first).mean() > 0.6:
        chord = Chord(chord.root_fifths, quality, chord.fifths_of(first, key))
    return chord
