"""What a line is, in figures and words: range, contour, how it sits on the chords, how it repeats, what makes it stay."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.lines.frame import Frame
from escalera.lazy_dataclasses import dataclass

Ints = NDArray[np.int64]
THIRD_OR_SEVENTH = (3, 4, 10, 11)


@dataclass(frozen=True, slots=True)
class LineReading:
    """Shares are 0..1. `outside` counts notes beyond the sound's range; `repeats` is the share of bars whose rhythm came before,
    `changed` the share of those whose pitches then differ; `leaps` counts steps of more than a third between neighbours; `lengths` is how many
    different note lengths there are, `space` the share of the time in which nothing sounds."""

    notes: int
    low: int
    high: int
    outside: int
    contour: str
    chord_share: float
    telling_share: float
    rhythms: int
    repeats: float
    changed: float
    leaps: int
    longest_rest_beats: float
    lengths: int = 1
    space: float = 0.0
    bars: float = 1.0

    @property
    def range_semitones(self) -> int:
        return self.high - self.low


def read_line(table: Ints, frame: Frame, register: tuple[int, int]) -> LineReading | None:
    """A line of notes, shape (n, 3): start, duration, sounding pitch (in the key of the frame's chords). None for silence."""
    if not len(table):
        return None
    table = table[np.lexsort((-table[:, 2], table[:, 0]))]
    top = table[np.unique(table[:, 0], return_index=True)[1]]  # the highest of every onset carries the line
    starts, pitches = top[:, 0], top[:, 2]
    strong = [i for i, t in enumerate(starts) if t % frame.metre.beat_ticks == 0]
    placed = [(int(pitches[i]) - frame.chord_at(int(starts[i])).root_class) % 12 for i in strong]
    tones = [{t % 12 for t in frame.chord_at(int(starts[i])).tones} for i in strong]
    inside = sum(p in t for p, t in zip(placed, tones))
    telling = sum(p in t and p in THIRD_OR_SEVENTH for p, t in zip(placed, tones))
    repeats, changed = _repeats(top, frame)
    steps = np.abs(np.diff(pitches))
    ends = np.maximum.accumulate(table[:, 0] + table[:, 1])
    rests = np.append(starts[1:], frame.length_ticks) - np.array([ends[table[:, 0] <= s].max() for s in starts])
    return LineReading(
        len(table),
        int(table[:, 2].min()),
        int(table[:, 2].max()),
        int(((table[:, 2] < register[0]) | (table[:, 2] > register[1])).sum()),
        contour(pitches),
        inside / max(1, len(strong)),
        telling / max(1, len(strong)),
        len({int(d) for d in np.diff(starts)}) or 1,
        repeats,
        changed,
        int((steps > 4).sum()),
        round(float(max(0, rests.max())) / frame.metre.beat_ticks, 2),
        len({round(int(d) / 120) for d in table[:, 1]}),
        _space(table, frame.length_ticks),
        frame.length_ticks / frame.metre.bar_ticks,
    )


def _space(table: Ints, length: int) -> float:
    """Share of the stretch in which no note sounds."""
    sounding = np.zeros(length, bool)
    for start, duration in table[:, :2]:
        sounding[max(0, start) : start + duration] = True
    return round(1.0 - float(sounding.mean()), 3)


def contour(pitches: Sequence[int] | Ints) -> str:
    """rises, falls, arch, valley, level or wave: by where the line's thirds lie against each other."""
    values = np.asarray(pitches, float)
    if len(values) < 3 or np.ptp(values) <= 2:
        return "level"
    a, b, c = (part.mean() for part in np.array_split(values, 3))
    far = max(1.0, np.ptp(values) * 0.18)
    if b - a > far and b - c > far:
        return "arch"
    if a - b > far and c - b > far:
        return "valley"
    if c - a > far:
        return "rises"
    return "falls" if a - c > far else "wave"


def _repeats(top: Ints, frame: Frame) -> tuple[float, float]:
    """Share of the later bars whose rhythm has come before, and share of those with other pitches."""
    bar = frame.metre.bar_ticks
    seen: dict[tuple[int, ...], set[tuple[int, ...]]] = {}
    bars = again = other = 0
    for start in range(0, frame.length_ticks, bar):
        inside = top[(top[:, 0] >= start) & (top[:, 0] < start + bar)]
        rhythm, tune = tuple((inside[:, 0] - start).tolist()), tuple(inside[:, 2].tolist())
        if start and rhythm:
            bars += 1
            again += rhythm in seen
            other += rhythm in seen and tune not in seen[rhythm]
        if rhythm:
            seen.setdefault(rhythm, set()).add(tune)
    return again / max(1, bars), other / max(1, again)


def kind_of_line(family: str, job: str, struck: bool) -> str:
    """What a line is judged as: sung by voices and held leads, a figure where it moves, a riff below, else a hook."""
    if family == "low end":
        return "riff"
    if job in ("movement", "texture", "top"):
        return "figure"
    return "sung" if family == "voices" or not struck else "hook"


def hook_in_words(found: LineReading, kind: str = "hook") -> list[tuple[bool, str]]:
    """What makes a line of a kind stay in the ear, or not: (whether it helps, the sentence with its figure).

    A sung tune goes by step; a hook on one or two notes lives by its rhythm; figures and struck sounds may leap; a riff may stand on its fifths.
    """
    rows = _common(found, kind)
    if kind == "sung" and found.leaps > max(2, found.notes // 3):
        said = f"{found.leaps} leaps in {found.notes} notes are no tune to sing"
        rows += [
            (False, said, "go by step, and leap once"),
            (False, "the ear loses it where it leaps again", "fill leaps with the notes between"),
        ]
    return [(helps, said if helps else f"{said}: {remedy}") for helps, said, remedy in rows]


def _common(found: LineReading, kind: str) -> list[tuple[bool, str, str]]:
    repeats, changed, wide = found.repeats, found.changed, found.range_semitones
    most = max(2, found.notes // (4 if kind == "sung" else 2))
    still = wide <= 2  # one or two notes: the rhythm is the hook
    free = kind in ("figure", "riff") or still
    rows: list[tuple[bool, str, str]] = [  # whether it helps, the figure, what to do where it does not
        (
            repeats >= 0.5,
            f"{100 * repeats:.0f} % of its bars repeat a rhythm that came before",
            "say it again before saying something new",
        ),
        (
            0.15 <= changed <= 0.85,
            f"{100 * changed:.0f} % of what repeats comes with other notes" if repeats else "nothing repeats yet",
            ("change one repeat" if changed < 0.15 else "keep one repeat as it was")
            if repeats
            else "then a change cannot be heard",
        ),
        (
            still or (3 if kind == "riff" else 5) <= wide <= (14 if kind == "sung" else 24),
            f"it spans {wide} semitones",
            "little to hold on to" if wide < 5 else "wide to sing",
        ),
        (
            free or (0 if kind == "sung" else 1) <= found.leaps <= most,
            f"{found.leaps} {'leap' if found.leaps == 1 else 'leaps'} among {found.notes} notes",
            "one leap would mark it" if not found.leaps else "many, hard to sing after",
        ),
        (
            kind == "figure" or 2 <= found.rhythms <= 5,
            f"{found.rhythms} {'distance' if found.rhythms == 1 else 'different distances'} between notes",
            "it ticks" if found.rhythms < 2 else "it wanders",
        ),
        (
            kind == "figure" or 0.5 <= found.longest_rest_beats <= 8,
            f"its longest rest is {found.longest_rest_beats:g} beats",
            "it does not breathe" if found.longest_rest_beats < 0.5 else "long enough to be forgotten",
        ),
    ]
    return rows
