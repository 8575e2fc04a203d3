"""Form of what was played: where parts begin, by who enters and leaves, by fills and crashes, by what comes back; and which parts are
the same, with layers added, varied or in another key."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.performance.chord_reading import ReadChord
from escalera.core.performance.played import CRASHES, Floats, Ints, Played
from escalera.lazy_dataclasses import dataclass

# what speaks for a join before a bar, and how long parts usually are; fitted on performances made for it
ENTRY, CRASH, FILL, NEW_TUNE, NEW_CHORDS, AGAIN, NEW_DRUMS = 1.3, 0.55, 0.5, 0.5, 0.9, 0.9, 0.5
PRICE = 1.05
ON_FOURS = 0.2  # joins lie on every fourth bar of a song more often than not
USUAL = {4: 0.0, 8: 0.75, 12: 0.3, 16: 0.6, 24: 0.1, 32: 0.1}
SHORTEST, LONGEST = 2, 40
SHIFTS = range(-5, 7)  # semitones that a part may come back higher
TURNED = (
    np.arange(12)[None, :] - np.arange(12)[:, None]
) % 12  # classes from which those of a row moved up by its number come
ALIKE_CHORDS, ALIKE_TUNE = 0.8, 0.5
FAINT = 0.8  # a join within a part that goes on unchanged needs more than this to be one


@dataclass(frozen=True, slots=True)
class FoundPart:
    """A part from a bar (from 0) on. `like` is the index of the first part it repeats, -1 for none before it; it lies
    `shift` semitones higher than that one."""

    first_bar: int
    bars: int
    like: int = -1
    shift: int = 0


@dataclass(frozen=True, eq=False)
class FoundForm:
    parts: tuple[FoundPart, ...]
    confidence: float


def bar_chords(played: Played, chords: Sequence[ReadChord]) -> list[tuple[tuple[int, str], ...]]:
    """Roots and thirds that sound in every bar, with the place where each begins, for comparing bars."""
    rows: list[list[tuple[int, str]]] = [[] for _ in range(played.bars)]
    current: tuple[int, str] | None = None
    at = 0
    for bar in range(played.bars):
        if current is not None and not (at < len(chords) and chords[at].bar == bar and chords[at].beat == 0):
            rows[bar].append(current)
        while at < len(chords) and chords[at].bar == bar:
            chord = chords[at].chord
            current = (chord.root_class, "m" if (chord.root_class + 3) % 12 in chord.classes else "M")
            rows[bar].append(current)
            at += 1
    return [tuple(row) for row in rows]


def find_form(played: Played, chords: Sequence[ReadChord], given: tuple[int, ...] = ()) -> FoundForm:
    """Parts of at least two bars, or those that begin at the bars that are `given`, and what each of them repeats."""
    rows = bar_chords(played, chords)
    cues = _cues(played, rows)
    edges = [*given, played.bars] if given else _cut(cues, played.bars)
    parts, held = list[FoundPart](), _Held.of(rows)
    for low, high in zip(edges, edges[1:]):
        like, shift = _recalled(played, held, parts, low, high)
        parts.append(FoundPart(low, high - low, like, shift))
    if given:
        return FoundForm(tuple(parts), 1.0)
    parts = _joined(parts, cues)
    edges = [*(p.first_bar for p in parts), played.bars]
    inner = [cues[e] for e in edges[1:-1]]
    others = np.delete(cues, edges) if len(cues) > len(edges) else np.zeros(1)
    sure = float(np.clip((np.mean(inner) - float(np.percentile(others, 90))) / 1.5, 0, 1)) if inner else 0.0
    return FoundForm(tuple(parts), sure)


def _joined(parts: list[FoundPart], cues: Floats) -> list[FoundPart]:
    """Two neighbours of at most sixteen bars that are the same, with nothing said between them, are one part."""
    kept: list[FoundPart] = []
    places: dict[int, int] = {}  # index before -> index after
    for index, part in enumerate(parts):
        before = kept[-1] if kept else None
        same = before is not None and part.like >= 0 and not part.shift
        if same and before is not None:
            root = places[part.like]
            same = root == len(kept) - 1 or (before.like >= 0 and root == before.like)
            same = same and before.shift == 0 and before.bars + part.bars <= 16 and cues[part.first_bar] < FAINT
        if same and before is not None:
            kept[-1] = FoundPart(before.first_bar, before.bars + part.bars, before.like, before.shift)
        else:
            kept.append(FoundPart(part.first_bar, part.bars, places.get(part.like, -1), part.shift))
        places[index] = len(kept) - 1
    return kept


def _cues(played: Played, rows: list[tuple[tuple[int, str], ...]]) -> Floats:
    """What speaks for a join before every bar, shape (bars + 1,)."""
    bars, kinds = played.bars, played.kinds
    cues = np.zeros(bars + 1)
    busy = np.array([[float(len(x)) for x in part] for part in played.by_bar]).reshape(len(played.parts), bars)
    sounds, played_kinds = kinds >= 0, kinds.tolist()
    drums = [i for i, p in enumerate(played.parts) if p.is_drum]
    pitched = [i for i, p in enumerate(played.parts) if not p.is_drum]
    tunes = [i for i in pitched if _is_tune(played, i)]
    again = _comes_back(kinds, rows, tunes or pitched)
    weight = np.minimum(1.0, busy.sum(axis=1) / max(1.0, busy.sum()) * len(busy))
    for bar in range(1, bars):
        before, after = slice(max(0, bar - 2), bar), slice(bar, min(bars, bar + 2))
        was, will = sounds[:, before].any(axis=1), sounds[:, after].any(axis=1)
        # those who come in exactly here, or were heard until here
        enters = (~sounds[:, before].any(axis=1)) & sounds[:, bar]
        leaves = sounds[:, bar - 1] & ~sounds[:, after].any(axis=1)
        if will.any() and was.any():
            cues[bar] += ENTRY * min(1.6, float(((0.5 + 0.5 * weight) * (enters | leaves)).sum()))
        for i in drums:
            here, last = played.by_bar[i][bar], played.by_bar[i][bar - 1]
            if len(here) and not CRASHES.isdisjoint(here[here[:, 0] < 240, 2].tolist()):
                cues[bar] += CRASH
            if len(last) and _is_fill(played, i, bar - 1):
                cues[bar] += FILL
            if _changed(played_kinds[i], bar):
                cues[bar] += NEW_DRUMS
        cues[bar] += NEW_CHORDS * _turned(rows, bar) + AGAIN * again[bar]
        cues[bar] += NEW_TUNE * max((_changed(played_kinds[i], bar) for i in tunes), default=0.0)
    return cues


def _is_tune(played: Played, part: int) -> bool:
    """One note at a time, above the bass, not the same bar all along."""
    notes = played.parts[part].notes
    if len(notes) < 8 or float(np.median(notes[:, 2])) < 52:
        return False
    together = len(notes) / max(1, len(np.unique(notes[:, 0] // 60)))
    kinds = played.kinds[part]
    distinct = len(set(kinds[kinds >= 0].tolist()))
    return together < 1.3 and distinct >= 4


def _is_fill(played: Played, part: int, bar: int) -> bool:
    """A bar that is another than the one before it, with toms or more strokes on the snare toward its end."""
    kinds, row = played.kinds[part], played.by_bar[part][bar]
    if bar == 0 or kinds[bar] == kinds[bar - 1]:
        return False
    half = played.metres[bar].bar_ticks // 2
    late = row[row[:, 0] >= half]
    struck = np.isin(late[:, 2], (38, 40, 41, 43, 45, 47, 48, 50))
    before = played.by_bar[part][bar - 1]
    usual = np.isin(before[before[:, 0] >= half, 2], (38, 40, 41, 43, 45, 47, 48, 50)).sum()
    return bool(struck.sum() >= usual + 2)


def _changed(kinds: list[int], bar: int) -> float:
    """How far what a part plays after a bar line was not played in the four bars before it."""
    before, after = set(kinds[max(0, bar - 4) : bar]), kinds[bar : bar + 4]
    if not before or not after:
        return 0.0
    return sum(k not in before for k in after) / len(after)


def _turned(rows: list[tuple[tuple[int, str], ...]], bar: int) -> float:
    """Whether the chords after a bar line differ from the loop before it, at four bars' distance."""
    span = range(4)
    pairs = [(rows[bar - 4 + i], rows[bar + i]) for i in span if bar - 4 + i >= 0 and bar + i < len(rows)]
    if len(pairs) < 2:
        return 0.0
    after = sum(a != b for a, b in pairs) / len(pairs)
    earlier = [(rows[bar - 8 + i], rows[bar - 4 + i]) for i in span if bar - 8 + i >= 0]
    steady = sum(a == b for a, b in earlier) / len(earlier) if earlier else 0.5
    return after * steady


def _comes_back(kinds: Ints, rows: list[tuple[tuple[int, str], ...]], parts: list[int]) -> Floats:
    """For every bar line, whether a stretch that was heard before begins here, or one that comes again (0..1)."""
    bars = len(rows)
    found = np.zeros(bars + 1)
    mine = kinds[parts]
    names = {row: i for i, row in enumerate(dict.fromkeys(rows))}
    chords = np.array([names[row] for row in rows])
    for lag in range(4, bars - 3):
        a, b = mine[:, : bars - lag], mine[:, lag:]
        both = (a >= 0) & (b >= 0)
        alike = ((a == b) & both).sum(axis=0) > 0.6 * both.sum(axis=0)
        same = alike & both.any(axis=0) & (chords[: bars - lag] == chords[lag:])
        steps = np.diff(np.concatenate(([0], same.astype(np.int8), [0])))
        for start, end in zip(np.flatnonzero(steps == 1).tolist(), np.flatnonzero(steps == -1).tolist()):
            length = end - start
            if length >= 4 and len(set(map(tuple, mine[:, start : start + 8].T.tolist()))) >= 3:
                worth = min(1.0, length / 8)
                for edge in (start, start + lag):
                    found[edge] = max(found[edge], worth)
    return found


def _cut(cues: Floats, bars: int) -> list[int]:
    """Edges of the parts that gather the most cues at usual lengths."""
    best = np.full(bars + 1, -1e9)
    back = np.zeros(bars + 1, np.int64)
    best[0] = 0.0
    for end in range(1, bars + 1):
        for length in range(1, min(LONGEST, end) + 1):
            start = end - length
            if best[start] < -1e8 or (length < SHORTEST and end < bars and start > 0):
                continue
            score = (
                best[start] + _usual(length) + (cues[end] if end < bars else 0.0) - PRICE + ON_FOURS * (end % 4 == 0)
            )
            if score > best[end]:
                best[end], back[end] = score, start
    edges = [bars]
    while edges[-1] > 0:
        edges.append(int(back[edges[-1]]))
    return edges[::-1]


def _usual(length: int) -> float:
    if length in USUAL:
        return USUAL[length]
    if length % 4 == 0:
        return -0.1
    return -0.7 if length % 2 == 0 else -1.1 - (0.4 if length < 4 else 0.0)


@dataclass(frozen=True, eq=False)
class _Held:
    """Which major and minor chords sound in every bar, shape (bars, 2, 12): as they are, and (12, bars, 2, 12) at every shift."""

    chords: NDArray[np.bool_]
    moved: NDArray[np.bool_]
    counts: Ints

    @classmethod
    def of(cls, rows: list[tuple[tuple[int, str], ...]]) -> _Held:
        found = np.zeros((len(rows), 2, 12), bool)
        for bar, row in enumerate(rows):
            for root, third in row:
                found[bar, int(third == "m"), root] = True
        return cls(found, np.ascontiguousarray(found[:, :, TURNED].transpose(2, 0, 1, 3)), found.sum(axis=(1, 2)))

    def alike(self, first: int, second: int, length: int) -> Floats:
        """Share of `length` bars that hold the same chords, for every shift 0..11 of the first stretch; of bars without chords,
        the whole at 0."""
        here, there = slice(first, first + length), slice(second, second + length)
        mine, other = self.counts[here], self.counts[there]
        if not mine.any():
            return np.eye(12)[0] * ALIKE_CHORDS
        moved, second_chords = self.moved[:, here], self.chords[there]
        near = (np.abs(mine - other) == 1) & (np.minimum(mine, other) == 1)
        same = (moved == second_chords).all(axis=(2, 3))
        if near.any():
            same |= (moved & second_chords).any(axis=(2, 3)) & near
        shares: Floats = same.mean(axis=1)
        return shares


def _recalled(played: Played, held: _Held, parts: list[FoundPart], low: int, high: int) -> tuple[int, int]:
    """The first part that bars repeat, and how much higher they lie; -1 where they repeat none."""
    best, found = 0.0, (-1, 0)
    for index, part in enumerate(parts):
        length = min(part.bars, high - low)
        if part.like >= 0 or length < 2:
            continue
        alike = held.alike(part.first_bar, low, length)
        for shift in SHIFTS:
            if alike[shift % 12] < ALIKE_CHORDS:
                continue
            worth = _likeness(played, part, low, high, shift, float(alike[shift % 12])) - 0.02 * abs(shift)
            if worth > best:
                best, found = worth, (index, shift)
    return found if best > 0 else (-1, 0)


def _likeness(played: Played, part: FoundPart, low: int, high: int, shift: int, chords: float) -> float:
    """How far bars are a part over again, `shift` semitones higher, when so many of their chords are; 0 where they are not."""
    length = min(part.bars, high - low)
    here, there = slice(part.first_bar, part.first_bar + length), slice(low, low + length)
    same = _same_bars(played, here, there, shift)
    both = (played.kinds[:, here] >= 0) & (played.kinds[:, there] >= 0)
    counts = both.sum(axis=1)
    heard = counts >= max(1, length // 2)
    if heard.any():
        line = float(((same & both).sum(axis=1)[heard] / counts[heard]).mean())
        if line < ALIKE_TUNE:
            return 0.0
    else:
        line = 0.0
    apart = abs(part.bars - (high - low)) / max(part.bars, high - low)
    return chords + line - 0.3 * apart


def _same_bars(played: Played, here: slice, there: slice, shift: int) -> NDArray[np.bool_]:
    """Whether every part plays the same in two stretches of bars, the second one higher; shape (parts, bars). What is moved is
    the same with a note more or less, in any octave."""
    if not shift:
        return played.kinds[:, here] == played.kinds[:, there]
    classes = played.classes
    moved, other = np.roll(classes[:, here], shift, axis=2), classes[:, there]
    shared, most = (moved & other).sum(axis=2), np.maximum(moved.sum(axis=2), other.sum(axis=2))
    nearly = (shared > 0) & (shared >= 0.75 * most)
    drums = np.array([p.is_drum for p in played.parts])[:, None]
    return np.where(drums, played.kinds[:, here] == played.kinds[:, there], nearly)
