"""An idea caught before anything was named: tempo, key, chords, line and beat, read from what was played and tapped."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from escalera.core.lines.played_tempo import played_tempo
from escalera.core.rhythm.beat import Beat
from escalera.core.rhythm.tapped_beats import find_pulse, read_tapped
from escalera.core.theory.chords import Chord
from escalera.core.theory.key_finding import find_key, slices_of_notes
from escalera.core.theory.keys import Key
from escalera.core.theory.naming import name_chord
from escalera.core.time.metre import Metre
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import EditError, InputError
from escalera.lazy_dataclasses import dataclass

TOGETHER_S = 0.11  # notes that begin within it, while the first is still held, were struck as one
CHORD_NOTES = 3
USUAL_BPM, USUAL_KEY = 110.0, Key()
LENGTHS = (1, 2, 4, 8)
MOST_EVENTS = 600
Played = tuple[float, float, int]  # seconds, seconds long, pitch


@dataclass(frozen=True, slots=True)
class Captured:
    """What was understood. `line` holds (tick, ticks long, pitch); `chords` (tick, chord); `told` says how sure it is."""

    tempo_bpm: float
    key: Key
    bars: int
    chords: tuple[tuple[int, Chord], ...]
    line: tuple[tuple[int, int, int], ...]
    beat: Beat | None
    told: tuple[str, ...]


def read_capture(notes: Sequence[Played], taps: Sequence[tuple[float, str]]) -> Captured:
    """An idea from notes and taps (seconds, drum), the first of them on the one, in 4/4. Raises InputError for nothing."""
    if not notes and not taps:
        raise InputError(
            "Nothing was played yet. Press letters for notes, or the arrows ↓ and ↑ for a low and a high drum."
        )
    told: list[str] = []
    if len(notes) + len(taps) > MOST_EVENTS:
        notes, taps = notes[: MOST_EVENTS // 2], taps[: MOST_EVENTS // 2]
        told.append(f"only the first {MOST_EVENTS // 2} notes and taps were kept")
    start = min([n[0] for n in notes] + [t for t, _ in taps])
    notes = sorted((a - start, b, p) for a, b, p in notes)
    taps = sorted((t - start, d) for t, d in taps)
    metre = Metre()
    tempo, grid = _tempo(notes, taps, told)
    beat = _beat(taps, tempo, metre, told)
    struck = _struck(notes)
    to_ticks = tempo / 60.0 * TICKS_PER_QUARTER
    key = _key(notes, to_ticks, told)
    chords, line = _parted(struck, key, to_ticks, grid, metre)
    last = max([t for t, _ in chords] + [t + d for t, d, _ in line] + [0])
    bars = next((n for n in LENGTHS if last <= n * metre.bar_ticks + grid), LENGTHS[-1])
    bars = max(bars, beat.bars if beat else 1)
    bars = next((n for n in LENGTHS if n >= bars), LENGTHS[-1])
    end = bars * metre.bar_ticks
    if chords:
        told.append(" ".join(str(c) for _, c in chords))
    return Captured(
        round(tempo, 1),
        key,
        bars,
        tuple((t, c) for t, c in chords if t < end),
        tuple((t, d, p) for t, d, p in line if t < end),
        beat,
        tuple(told),
    )


def _tempo(notes: Sequence[Played], taps: Sequence[tuple[float, str]], told: list[str]) -> tuple[float, int]:
    """Beats a minute and the grid, from the taps where there are some, else from the notes' beginnings."""
    groups = _struck(notes)
    onsets = [t for t, _ in taps] if len(taps) >= 3 else [group[0][0] for group in groups]
    if len(onsets) < 3:
        told.append(f"too little was played for a tempo: {USUAL_BPM:g} until you tap one")
        return USUAL_BPM, 480
    tempo, grid, off = find_pulse(onsets) if len(taps) >= 3 else played_tempo(onsets, _harmonic(groups))
    told.append(f"{tempo:.0f} bpm" + ("" if off < 0.12 else ", loosely"))
    return tempo, grid


def _harmonic(groups: list[list[Played]]) -> list[float]:
    """When chords change; where there are none, when the lowest notes fall."""
    chords = [
        (g[0][0], tuple(sorted({p % 12 for _, _, p in g})))
        for g in groups
        if len({p % 12 for _, _, p in g}) >= CHORD_NOTES
    ]
    changes = [t for i, (t, c) in enumerate(chords) if i == 0 or c != chords[i - 1][1]]
    if len(changes) >= 3:
        return changes
    lows = [(g[0][0], min(p for _, _, p in g)) for g in groups]
    middle, lowest = float(np.median([p for _, p in lows])), min(p for _, p in lows)
    if lowest >= 55 and lowest >= middle - 9:
        return []  # a tune by itself
    basses = [(t, p) for t, p in lows if p <= max(lowest + 9, 48)]
    return [t for i, (t, p) in enumerate(basses) if i == 0 or p != basses[i - 1][1]] if len(basses) >= 3 else []


def _beat(taps: Sequence[tuple[float, str]], tempo: float, metre: Metre, told: list[str]) -> Beat | None:
    if len(taps) < 3:
        if taps:
            told.append("fewer than three taps are no beat yet, and were left out")
        return None
    try:
        return read_tapped(taps, taps[0][0] if taps[0][0] > 0.2 else 0.0, tempo, metre, keep_tempo=True).beat
    except EditError:
        told.append("the taps follow no steady beat, and were left out")
        return None


def _struck(notes: Sequence[Played]) -> list[list[Played]]:
    """Notes that begin together, in groups."""
    groups: list[list[Played]] = []
    for note in notes:
        first = groups[-1][0] if groups else None
        if first and note[0] - first[0] <= TOGETHER_S and note[0] < first[0] + 0.7 * first[1]:
            groups[-1].append(note)
        else:
            groups.append([note])
    return groups


def _key(notes: Sequence[Played], to_ticks: float, told: list[str]) -> Key:
    if len({p % 12 for _, _, p in notes}) < 3:
        if notes:
            told.append(f"too few notes for a key: {USUAL_KEY} until you say another")
        return USUAL_KEY
    table = np.array([(round(a * to_ticks), round((a + max(b, 0.05)) * to_ticks), p) for a, b, p in notes], np.int64)
    found = find_key(slices_of_notes(table))
    if found is None:
        return USUAL_KEY
    told.append(f"{found.best}" + (f", or {found.second}" if found.is_close else ""))
    return found.best


def _parted(
    struck: list[list[Played]], key: Key, to_ticks: float, grid: int, metre: Metre
) -> tuple[list[tuple[int, Chord]], list[tuple[int, int, int]]]:
    """Groups of three and more are chords, on the nearest beat; the rest is a line, on the nearest step."""
    chords: list[tuple[int, Chord]] = []
    line = []
    for group in struck:
        tick = round(group[0][0] * to_ticks)
        named = (
            name_chord([p for _, _, p in group], key, 1) if len({p % 12 for _, _, p in group}) >= CHORD_NOTES else []
        )
        if named:
            at = round(tick / metre.beat_ticks) * metre.beat_ticks
            if not chords or (chords[-1][1] != named[0].chord and at > chords[-1][0]):
                chords.append((at, named[0].chord))
            continue
        for _, long, pitch in group:
            line.append((round(tick / grid) * grid, max(grid // 2, round(long * to_ticks)), pitch))
    if chords:
        chords[0] = (0, chords[0][1])
    return chords, line
