"""Chords and key of a whole track over its beats, with the places where the key changes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.performance.chord_reading import Beats, ReadChord, read_chords
from escalera.core.performance.key_from_chords import KeyFound, find_mode, weights_of
from escalera.core.performance.played import Played
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key, transpose_key
from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass
from escalera.listen.bar_track import TrackBars
from escalera.listen.beat_tones import beat_tones
from escalera.listen.frames import Frames
from escalera.listen.tones import tuning_of

MAJOR = (0, 2, 4, 5, 7, 9, 11)
KEY_CHANGE = 2.6  # shares of bars that it costs to take other seven notes
LEAST_BARS = 4  # that a change of key lasts
# how far a chord stands before the next, and how often such a one is right; fitted on tracks made for it
APART, RIGHT = (0.0, 0.2, 0.4, 0.7, 1.0), (0.3, 0.62, 0.8, 0.92, 0.98)
LEAST_AGREED = 0.2  # on a tuning, from which on there is harmony at all
Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class HeardChord:
    """A chord from one beat to another, counted from 0 through the track, with how sure it is, 0 to 1."""

    beat: int
    end_beat: int
    chord: Chord
    confidence: float


@dataclass(frozen=True, slots=True)
class KeyPart:
    """A stretch of beats in one key, `semitones` above the track's own."""

    beat: int
    end_beat: int
    semitones: int


@dataclass(frozen=True, eq=False)
class TrackHarmony:
    """Harmony of a track. `weights` (beats, 12) is what sounds in every beat."""

    key: Key
    confidence: float
    tuning_cents: float
    parts: tuple[KeyPart, ...]
    chords: tuple[HeardChord, ...]
    weights: Floats


def read_harmony(frames: Frames, bars: TrackBars, key: Key | None = None) -> TrackHarmony | None:
    """The harmony over the beats of a track; in `key` where that is known. None for what has no tones."""
    cents, agreed = tuning_of(frames)
    if cents is None or agreed < LEAST_AGREED:
        return None
    beats = beat_tones(frames, cents, bars.beats_s, bars.beats_a_bar, bars.before)
    if not beats.weights.any():
        return None
    edges, scales = _regions(beats)
    pieces = [_piece(beats, low, high) for low, high in zip(edges, edges[1:])]
    home = max(range(len(pieces)), key=lambda i: (_length(scales, edges, scales[i]), -i))
    found = _key_of([p for p, s in zip(pieces, scales) if s == scales[home]], bars.beats_a_bar)
    if found is None:
        return None
    own = key or found.key
    by = _shifts(scales, scales[home])
    chords: list[HeardChord] = []
    for piece, low, shift in zip(pieces, edges, by):
        chords += _chords(piece, low, bars.beats_a_bar, transpose_key(own, shift))
    sure = float(np.clip(0.35 + 0.6 * found.confidence, 0.05, 0.97)) * min(1.0, agreed / 0.4)
    parts = tuple(KeyPart(a, b, s) for a, b, s in zip(edges, edges[1:], by))
    return TrackHarmony(
        own, 1.0 if key else round(sure, 2), round(cents, 1), parts, tuple(_joined(chords)), beats.weights
    )


def _regions(beats: Beats) -> tuple[list[int], list[int]]:
    """Beats at which the seven notes change, with the first and the end; and the major scale of each stretch, by its tonic's class."""
    numbers = beats.bars - beats.bars[0]
    bars = int(numbers[-1]) + 1
    heard = np.zeros((bars, 12))
    np.add.at(heard, numbers, beats.weights)
    share = heard / np.maximum(heard.sum(axis=1, keepdims=True), 1e-9)
    inside = np.array([[float((c - tonic) % 12 in MAJOR) for c in range(12)] for tonic in range(12)])
    row = _steadiest(share @ inside.T)
    starts = [0, *(np.flatnonzero(np.diff(row)) + 1).tolist()]
    kept = [s for s, e in zip(starts, [*starts[1:], bars]) if e - s >= LEAST_BARS or s == 0]
    edges = [int(np.argmax(numbers >= s)) for s in kept]
    return [*edges, len(beats.weights)], [int(row[s]) for s in kept]


def _steadiest(worth: Floats) -> Ints:
    """The row of columns with the largest sum, less what changes cost."""
    count, width = worth.shape
    score, back = worth[0], np.zeros((count, width), np.int64)
    for i in range(1, count):
        best = int(score.argmax())
        stays = score >= score[best] - KEY_CHANGE
        back[i] = np.where(stays, np.arange(width), best)
        score = np.where(stays, score, score[best] - KEY_CHANGE) + worth[i]
    row = [int(score.argmax())]
    for i in range(count - 1, 0, -1):
        row.append(int(back[i, row[-1]]))
    return np.array(row[::-1], np.int64)


def _length(scales: list[int], edges: list[int], scale: int) -> int:
    return sum(b - a for s, a, b in zip(scales, edges, edges[1:]) if s == scale)


def _shifts(scales: list[int], home: int) -> list[int]:
    return [(s - home + 6) % 12 - 6 for s in scales]


def _piece(beats: Beats, low: int, high: int) -> Beats:
    cut = slice(low, high)
    return Beats(
        beats.weights[cut], beats.bass[cut], beats.bass_share[cut], beats.bars[cut] - beats.bars[low],
        beats.places[cut], beats.ticks[cut] - beats.ticks[low],
    )  # fmt: skip


def _played(piece: Beats, beats_a_bar: int) -> Played:
    return Played((), (), (Metre(beats_a_bar, 4),) * (int(piece.bars[-1]) + 1))


def _key_of(pieces: list[Beats], beats_a_bar: int) -> KeyFound | None:
    """The key of stretches of one scale, laid one after the other; chords are read once more in the key they gave."""
    found: KeyFound | None = None
    for _ in range(2):
        chords, lengths, bar = list[ReadChord](), list[float](), 0
        for piece in pieces:
            read = read_chords(_played(piece, beats_a_bar), piece, found.key if found else None)
            edges = [*(c.tick for c in read), len(piece.weights) * 960]
            lengths += [(b - a) / 960 for a, b in zip(edges, edges[1:])]
            chords += [replace(c, bar=c.bar + bar) for c in read]
            bar += int(piece.bars[-1]) + 1
        total = np.sum([weights_of(p) for p in pieces], axis=0)
        found = (find_mode(chords, lengths, total) if chords else None) or found
    return found


def _chords(piece: Beats, low: int, beats_a_bar: int, key: Key) -> list[HeardChord]:
    read = read_chords(_played(piece, beats_a_bar), piece, key)
    edges = [*(c.tick // 960 for c in read), len(piece.weights)]
    return [
        HeardChord(low + a, low + b, c.chord, round(float(np.interp(c.confidence, APART, RIGHT)), 2))
        for c, a, b in zip(read, edges, edges[1:])
    ]


def _joined(chords: list[HeardChord]) -> list[HeardChord]:
    """The same chord on both sides of a change of key is one."""
    kept: list[HeardChord] = []
    for chord in chords:
        if kept and kept[-1].end_beat == chord.beat and kept[-1].chord == chord.chord:
            kept[-1] = replace(kept[-1], end_beat=chord.end_beat)
        else:
            kept.append(chord)
    return kept
