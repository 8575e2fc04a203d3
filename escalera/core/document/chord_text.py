"""Chords as a line of text: bars between bar lines, chords in a bar share it evenly: 'Eb | Gm Bb | vi | IV'.

'%' repeats the chord before, 'F@4.5' comes on a beat of its bar (counted from 1), and '<F' comes early: pushed ahead of
its place by an eighth.
"""

from __future__ import annotations

import re
from dataclasses import replace

from escalera.core.document.song import Changes, Progression
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key
from escalera.core.time.metre import Metre
from escalera.core.time.ticks import TICKS_PER_QUARTER, bars_counted
from escalera.errors import ChordError, EditError, shown
from escalera.lazy_dataclasses import dataclass

MAX_CHORD_BARS = 64
PUSH_TICKS = TICKS_PER_QUARTER // 2
WORD = re.compile(r"[^\s|]+(?:\s+of\s+[^\s|]+)*")  # 'V of ii' is one chord


@dataclass(frozen=True, slots=True)
class Word:
    """One chord of a line as it was read: its text, bar (from 0) and tick, the chord or what is wrong with it."""

    text: str
    bar: int
    tick: int
    chord: Chord | None
    problem: str = ""
    offers: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ChordLine:
    words: tuple[Word, ...]
    bars: int

    @property
    def problems(self) -> tuple[Word, ...]:
        return tuple(w for w in self.words if w.problem)


def read_chordline(text: str, key: Key, metre: Metre, bars_there: int = 0) -> ChordLine:
    """Every chord of a line, right or wrong; nothing is raised. `bars_there` is a section's length, 0 for no limit."""
    limit = min(bars_there or MAX_CHORD_BARS, MAX_CHORD_BARS)
    words: list[Word] = []
    bars = _bars(text)
    for number, names in enumerate(bars):
        for index, name in enumerate(names):
            before = words[-1].chord if words else None
            word = _word(
                name, number, number * metre.bar_ticks + metre.bar_ticks * index // len(names), key, metre, before
            )
            if number >= limit and not word.problem:
                word = replace(word, problem=_too_many(number, limit, bars_there, len(bars)))
            if words and not word.problem and word.tick <= words[-1].tick:
                word = replace(
                    word,
                    problem=f"“{shown(name)}” does not come after “{shown(words[-1].text)}”. Put the beats of a "
                    f"bar in order.",
                )
            words.append(word)
    return ChordLine(tuple(words), len(bars))


def _bars(text: str) -> list[list[str]]:
    if not text.strip():
        return []
    if "|" not in text:
        return [[chord] for chord in WORD.findall(text)]
    return [WORD.findall(bar) or ["%"] for bar in text.strip().strip("|").split("|")]


def _too_many(number: int, limit: int, bars_there: int, total: int) -> str:
    if bars_there and bars_there <= limit:
        return (
            f"Bar {number + 1} of {total}: the section has {bars_counted(bars_there)}. Take "
            f"{total - bars_there} out, or make the section longer first."
        )
    return (
        f"{total} bars of chords are more than the {MAX_CHORD_BARS} that one loop may have. Split them over sections."
    )


def _word(text: str, bar: int, tick: int, key: Key, metre: Metre, before: Chord | None) -> Word:
    try:
        name, _, beat = text.partition("@")
        early = name.startswith("<")
        if beat:
            tick = bar * metre.bar_ticks + _beat(beat, text, metre)
        chord = before if name == "%" else parse_chord(name[early:], key)
        if chord is None:
            raise ChordError("“%” repeats the chord before it, and there is none. Write a chord first.")
        return Word(text, bar, tick - early * PUSH_TICKS, chord)
    except ChordError as error:
        return Word(text, bar, tick, None, str(error), error.offers)


def _beat(beat: str, text: str, metre: Metre) -> int:
    if re.fullmatch(r"\d{1,2}(\.\d{1,4})?", beat) and 1 <= float(beat) < metre.beats + 1:
        return round((float(beat) - 1) * metre.beat_ticks)
    raise ChordError(
        f"“{shown(text)}”: after @ stands a beat of the bar, 1 to {metre.beats} (4.5 is the eighth after 4)."
    )


def parse_chordline(text: str, key: Key, metre: Metre, bars_there: int = 0) -> Progression | None:
    """A progression, or None for an empty line. Raises EditError that points at the first chord that is wrong."""
    line = read_chordline(text, key, metre, bars_there)
    if line.problems:
        word = line.problems[0]
        raise EditError(f"Chord {line.words.index(word) + 1}: {word.problem}")
    changes: list[tuple[int, Chord]] = []
    for word in line.words:
        assert word.chord is not None
        if not changes or changes[-1][1] != word.chord:
            changes.append((word.tick, word.chord))
    if not changes:
        return None
    first = (min(changes[0][0], 0), changes[0][1])
    return Progression((first, *changes[1:]), line.bars * metre.bar_ticks)


def write_chordline(progression: Progression | None, metre: Metre, changes: Changes | None = None) -> str:
    """The line that `parse_chordline` reads back exactly (or the line of one of its passes)."""
    if progression is None:
        return ""
    rows, bar = changes or progression.changes, metre.bar_ticks
    bars = []
    for start in range(0, progression.length_ticks, bar):
        inside = [(t, c) for t, c in rows if _home(t, bar) == start]
        bars.append(_bar_text(inside, start, metre) if inside else "%")
    return " | ".join(bars)


def _home(tick: int, bar: int) -> int:
    """The bar a chord is written in: one that comes early by the push belongs to the bar it leads into."""
    return (tick + PUSH_TICKS if (tick + PUSH_TICKS) % bar == 0 else tick) // bar * bar


def _bar_text(inside: list[tuple[int, Chord]], start: int, metre: Metre) -> str:
    even = [start + metre.bar_ticks * i // len(inside) for i in range(len(inside))]
    names = [chord.name(ascii_only=True) for _, chord in inside]
    if all(t in (e, e - PUSH_TICKS) for (t, _), e in zip(inside, even)):
        return " ".join(("<" if t < e else "") + name for (t, _), e, name in zip(inside, even, names))
    words = []
    for (tick, _), name in zip(inside, names):
        early = tick < start
        words.append(
            f"{'<' if early else ''}{name}@{_number((tick + early * PUSH_TICKS - start) / metre.beat_ticks + 1)}"
        )
    return " ".join(words)


def _number(value: float) -> str:
    return f"{value:.4f}".rstrip("0").rstrip(".")


def cycles(progression: Progression, length_ticks: int) -> list[tuple[int, Changes]]:
    """Start and changes of every pass of a loop over a length: an ending replaces the last, a variation its own pass."""
    starts = range(0, length_ticks, progression.length_ticks)
    own, last = dict(progression.passes), len(starts)
    found = []
    for number, start in enumerate(starts, 1):
        changes = own.get(number, progression.changes)
        if number == last and 0 in own and last > 1:
            changes = own[0]
        found.append((start, changes))
    return found


def unrolled(progression: Progression, length_ticks: int) -> list[tuple[int, Chord]]:
    """Changes over a length, passes written out. A chord that comes early may stand before tick 0."""
    found: list[tuple[int, Chord]] = []
    for start, changes in cycles(progression, length_ticks):
        if found and changes[0][0] < 0:
            found = [row for row in found if row[0] < start + changes[0][0]]
        found += [(start + t, chord) for t, chord in changes if start + t < length_ticks]
    return found


def rotated(progression: Progression, ticks: int) -> Progression:
    """The loop as heard when it is entered `ticks` later."""
    length = progression.length_ticks
    shift = ticks % length
    if shift == 0:
        return progression
    sounding = [chord for t, chord in progression.changes if t <= shift][-1]
    moved = sorted(((t - shift) % length, chord) for t, chord in progression.changes)
    if moved[0][0] > 0:
        moved.insert(0, (0, sounding))
    return Progression(tuple(moved), length)


def with_chord_over(progression: Progression, low: int, high: int, chord: Chord) -> Progression:
    """A progression with another chord over [low, high), after which what stood there goes on."""
    sounding = [c for t, c in progression.changes if t <= high][-1]
    kept = [row for row in progression.changes if not low <= row[0] <= high]
    after = [(high, sounding)] if high < progression.length_ticks else []
    return Progression(tuple(sorted([*kept, (low, chord), *after], key=lambda row: row[0])), progression.length_ticks)


def between_ticks(progression: Progression, low: int, high: int, length_ticks: int) -> Progression:
    """What is heard between two ticks of a section of `length_ticks` that the loop runs over, written out."""
    rows = unrolled(progression, length_ticks)
    sounding = [chord for t, chord in rows if t <= low][-1]
    later = [(t - low, chord) for t, chord in rows if low < t < high]
    return Progression(((0, sounding), *later), high - low)


def stretched(progression: Progression, length_ticks: int) -> Progression:
    """The same changes over another length."""

    def scale(changes: Changes) -> Changes:
        return tuple((t * length_ticks // progression.length_ticks if t > 0 else t, c) for t, c in changes)

    passes = tuple((n, scale(changes)) for n, changes in progression.passes)
    return Progression(scale(progression.changes), length_ticks, passes)
