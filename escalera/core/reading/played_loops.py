"""A progression as people write it: a loop with what differs on single passes, and chords that all come early."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from escalera.core.document.limits import MAX_PASSES
from escalera.core.document.song import Changes, Progression
from escalera.core.performance.chord_reading import ReadChord
from escalera.core.performance.played import Played
from escalera.core.theory.chords import Chord
from escalera.core.time.ticks import TICKS_PER_QUARTER

LOOP_BARS = (1, 2, 4, 8, 12, 16)
ALIKE = 0.6  # of the passes that are the loop itself; fewer, and it is no loop
EIGHTH = TICKS_PER_QUARTER // 2
NEAR = TICKS_PER_QUARTER // 6  # about the place that is asked about
PUSHED, LEAST_CHANGES = 0.6, 4


def as_loop(rows: Sequence[tuple[int, Chord]], whole_ticks: int, bar_ticks: int) -> Progression:
    """Chord changes over a stretch, the first at 0, as the shortest loop of bars that gives them, passes that differ kept as such;
    written out where nothing goes round."""
    for length in (bars * bar_ticks for bars in LOOP_BARS):
        if whole_ticks % length or whole_ticks < 2 * length:
            continue
        passes = [_pass(rows, start, length) for start in range(0, whole_ticks, length)]
        loop, count = Counter(passes).most_common(1)[0]
        if count == len(passes):
            return Progression(loop, length)
        others = tuple((i, p) for i, p in enumerate(passes, 1) if p != loop)
        writable = others[-1][0] <= MAX_PASSES
        if count >= 2 and count >= ALIKE * len(passes) and passes[0] == loop and writable:
            return Progression(loop, length, others)
    return Progression(tuple(rows), whole_ticks)


def _pass(rows: Sequence[tuple[int, Chord]], start: int, length: int) -> Changes:
    """The changes of one pass, counted from its start; what sounds already stands at 0."""
    sounding = [chord for t, chord in rows if t <= start][-1]
    inside = [(t - start, chord) for t, chord in rows if start < t < start + length]
    found = [(0, sounding)]
    for tick, chord in inside:
        if chord != found[-1][1]:
            found.append((tick, chord))
    return tuple(found)


def push_of(played: Played, chords: Sequence[ReadChord]) -> tuple[int, int, int]:
    """Ticks by which chords come before the bar line, 0 or an eighth; at how many changes on a bar line they do, and at how many not.

    A change is early where tones that only the new chord has are struck an eighth before the line, and not on it.
    """
    lines = set(played.bar_ticks)
    early = late = 0
    for before, after in zip(chords, chords[1:]):
        fresh = after.chord.classes - before.chord.classes
        if after.tick not in lines or not fresh:
            continue
        pushed = _struck(played, after.tick - EIGHTH, fresh)
        on_it = _struck(played, after.tick, fresh)
        early += pushed > on_it
        late += on_it >= pushed and on_it > 0
    is_pushed = early >= LEAST_CHANGES and early >= PUSHED * (early + late)
    return (EIGHTH if is_pushed else 0), early, late


def _struck(played: Played, tick: int, classes: frozenset[int]) -> int:
    """Notes of some classes that begin about a tick, over all pitched parts."""
    count = 0
    for part in played.parts:
        if not part.is_drum:
            low, high = np.searchsorted(part.notes[:, 0], (tick - NEAR, tick + NEAR + 1))
            count += sum(p % 12 in classes for p in part.notes[low:high, 2].tolist())
    return count
