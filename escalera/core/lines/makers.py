"""Makers of lines: a few controls, a pattern that follows the harmony, and a word on what it does. A row each in MAKERS."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from escalera.core.lines.frame import Frame
from escalera.core.rhythm.pattern import DEGREE, TONE, VOICE, Pattern
from escalera.core.time.note_values import VALUES
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

Row = tuple[int, int, int, int, int, int]
Options = Mapping[str, Any]
EIGHTH, SIXTEENTH = TICKS_PER_QUARTER // 2, TICKS_PER_QUARTER // 4


@dataclass(frozen=True, slots=True)
class Control:
    """One control of a maker: its choices, the first of them usual."""

    key: str
    label: str
    choices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Maker:
    key: str
    label: str
    family: str
    said: str
    controls: tuple[Control, ...]
    make: Callable[[Frame, Options], list[Row]]
    needs_chords: bool = False


MAKERS: dict[str, Maker] = {}
ORDERS = ("up", "down", "up and down", "outside in", "scattered")
NOTE_VALUES = ("1/8", "1/16", "1/8 triplet", "1/4", "1/16 triplet")
GATE = Control("gate", "length", ("half", "short", "full", "growing"))


Make = Callable[[Frame, Options], list[Row]]


def maker(
    key: str, label: str, family: str, said: str, *controls: Control, chords: bool = False
) -> Callable[[Make], Make]:
    """Register a maker of lines under its key."""

    def register(make: Make) -> Make:
        MAKERS[key] = Maker(key, label, family, said, controls, make, chords)
        return make

    return register


def make_line(frame: Frame, key: str, options: Options) -> Pattern:
    """The pattern of a maker over a stretch. Raises EditError with a remedy where it cannot be made."""
    found = MAKERS[key]
    if found.needs_chords and frame.bare:
        raise EditError(
            f"No chord stands under this phrase, and {found.label.lower()} plays the chords. "
            f"Write some first, for example"
            " I V vi IV, then make the line."
        )
    chosen = {c.key: options.get(c.key) or c.choices[0] for c in found.controls}
    for control in found.controls:
        if chosen[control.key] not in control.choices:
            raise EditError(
                f"“{chosen[control.key]}” is not a {control.label}. Choose one of: {', '.join(control.choices)}."
            )
    rows = found.make(frame, chosen)
    if not rows:
        raise EditError(
            f"{found.label} finds nothing to play here: {found.said}. Try another maker, or place "
            f"what it leans on first."
        )
    inside = [
        (a, max(30, min(d, frame.length_ticks - a)), k, v, o, vel)
        for a, d, k, v, o, vel in rows
        if 0 <= a < frame.length_ticks
    ]
    return Pattern(frame.length_ticks, inside)


def _beats(frame: Frame) -> range:
    return range(0, frame.length_ticks, frame.metre.beat_ticks)


def _accent(frame: Frame, tick: int) -> int:
    return 104 if tick % frame.metre.bar_ticks == 0 else 92 if tick % frame.metre.beat_ticks == 0 else 80


def _gated(step: int, gate: str, share: float) -> int:
    """How long a note of a step sounds; a growing gate opens over the stretch (share 0..1)."""
    return round(step * {"short": 0.3, "half": 0.55, "full": 0.98}.get(gate, 0.25 + 0.73 * share))


# bass -------------------------------------------------------------------------------------------------------------


@maker("bass-held", "Held roots", "low end", "the root under every chord, as long as it lasts")
def held_roots(frame: Frame, options: Options) -> list[Row]:
    return [(a, b - a - 20, TONE, 0, 0, 96) for a, b, _ in frame.changes()]


@maker(
    "bass-eighths",
    "Even eighths",
    "low end",
    "the root on every eighth, the beats a little louder",
    Control("tone", "now and then", ("root only", "fifth at the end of the bar", "octave at the end of the bar")),
)
def eighths(frame: Frame, options: Options) -> list[Row]:
    rows = []
    for tick in range(0, frame.length_ticks, EIGHTH):
        last = (tick + EIGHTH) % frame.metre.bar_ticks == 0
        fifth, octave = last and options["tone"].startswith("fifth"), last and options["tone"].startswith("octave")
        rows.append((tick, 400, TONE, 2 if fifth else 0, 1 if octave else 0, _accent(frame, tick)))
    return rows


@maker("bass-octaves", "Octaves", "low end", "root and octave in turn, on eighths")
def octaves(frame: Frame, options: Options) -> list[Row]:
    return [(t, 330, TONE, 0, i % 2, _accent(frame, t)) for i, t in enumerate(range(0, frame.length_ticks, EIGHTH))]


@maker("bass-off-beat", "Off-beat", "low end", "only between the beats, so that the kick stands alone")
def off_beat(frame: Frame, options: Options) -> list[Row]:
    half = frame.metre.beat_ticks // 2
    return [(t + half, round(half * 0.85), TONE, 0, 0, 94) for t in _beats(frame)]


@maker(
    "bass-walking",
    "Walking",
    "low end",
    "a step a beat: root, third, fifth, then a step of the scale into the next root",
)
def walking(frame: Frame, options: Options) -> list[Row]:
    rows: list[Row] = []
    changes = frame.changes()
    for index, (start, end, _) in enumerate(changes):
        ticks = list(range(start, end, frame.metre.beat_ticks))
        after = changes[(index + 1) % len(changes)][2]
        for i, tick in enumerate(ticks):
            if i == len(ticks) - 1 and i > 0:
                step = _degree_below(frame, after.root_class)
                rows.append((tick, frame.metre.beat_ticks - 40, DEGREE, step, 0, 88))
            else:
                rows.append((tick, frame.metre.beat_ticks - 40, TONE, (0, 1, 2, 1)[i % 4], 0, _accent(frame, tick)))
    return rows


def _degree_below(frame: Frame, root_class: int) -> int:
    """The scale degree just below a root (the leading step where the root is no degree)."""
    place = (root_class - frame.key.tonic_class) % 12
    below = [i for i, d in enumerate(frame.key.degrees) if d < place]
    return below[-1] if below else 6 - 7


@maker("bass-kick", "Locked to the kick", "low end", "a note with every kick, until the next")
def locked(frame: Frame, options: Options) -> list[Row]:
    ends = [*frame.kicks[1:], frame.length_ticks]
    return [(k, min(e - k - 20, frame.metre.beat_ticks), TONE, 0, 0, 98) for k, e in zip(frame.kicks, ends)]


@maker(
    "bass-syncopated",
    "Syncopated",
    "low end",
    "on the one, then ahead of the beats",
    Control("tone", "answer", ("fifth", "root", "octave")),
)
def syncopated(frame: Frame, options: Options) -> list[Row]:
    rows: list[Row] = []
    value, octave = {"fifth": (2, 0), "root": (0, 0), "octave": (0, 1)}[options["tone"]]
    for bar in range(0, frame.length_ticks, frame.metre.bar_ticks):
        beat = frame.metre.beat_ticks
        rows += [
            (bar, beat, TONE, 0, 0, 102),
            (bar + beat + beat // 2, beat // 2, TONE, 0, 0, 90),
            (bar + 2 * beat + 3 * beat // 4, beat // 2, TONE, value, octave, 94),
        ]
    return rows


# chords -----------------------------------------------------------------------------------------------------------

RHYTHMS: dict[str, tuple[float, ...]] = {
    "held": (0,), "on the beats": (0, 1, 2, 3), "between the beats": (0.5, 1.5, 2.5, 3.5), "long and short": (0, 1.5), "pushed": (0, 1.75, 3.5),
    "three, three, two": (0, 0.75, 1.5, 2, 2.75, 3.5), "four to the bar, last left out": (0, 1, 2),
}  # fmt: skip


@maker(
    "chord-rhythm",
    "Chord rhythm",
    "chords",
    "the chord struck in a rhythm, voices led from one to the next",
    Control("rhythm", "rhythm", tuple(RHYTHMS)),
    Control("voices", "voices", ("3", "4", "2")),
    GATE,
    chords=True,
)
def chord_rhythm(frame: Frame, options: Options) -> list[Row]:
    rows: list[Row] = []
    if options["rhythm"] == "held":
        return [(a, b - a - 20, VOICE, v, 0, 88) for a, b, _ in frame.changes() for v in range(int(options["voices"]))]
    beat = frame.metre.beat_ticks
    onsets = [
        bar + round(q * beat)
        for bar in range(0, frame.length_ticks, frame.metre.bar_ticks)
        for q in RHYTHMS[options["rhythm"]]
        if q * beat < frame.metre.bar_ticks
    ]
    for tick, after in zip(onsets, [*onsets[1:], frame.length_ticks]):
        length = _gated(min(after - tick, 2 * beat), options["gate"], tick / frame.length_ticks)
        rows += [(tick, length, VOICE, v, 0, _accent(frame, tick) - 6) for v in range(int(options["voices"]))]
    return rows


@maker(
    "arpeggio",
    "Arpeggio",
    "leads",
    "the chord spread in time",
    Control("order", "order", ORDERS),
    Control("value", "note value", NOTE_VALUES),
    Control("octaves", "octaves", ("1", "2", "3")),
    GATE,
    chords=True,
)
def arpeggio(frame: Frame, options: Options) -> list[Row]:
    step = round(VALUES[options["value"]] * TICKS_PER_QUARTER)
    rows: list[Row] = []
    for start, end, chord in frame.changes():
        count = len(chord.tones) * int(options["octaves"])
        order = _order(count, options["order"])
        for i, tick in enumerate(range(-(-start // step) * step, end, step)):
            if options["order"] == "scattered" and i and i % count == 0:
                order = _order(count, "scattered", tick // step)  # every time round is scattered anew
            length = _gated(step, options["gate"], tick / frame.length_ticks)
            rows.append((tick, length, TONE, order[i % len(order)], 0, _accent(frame, tick) - 4))
    return rows


def _order(count: int, order: str, turn: int = 0) -> list[int]:
    up = list(range(count))
    if order == "down":
        return up[::-1]
    if order == "up and down":
        return up + up[-2:0:-1]
    if order == "outside in":
        return [up[i // 2] if i % 2 == 0 else up[-1 - i // 2] for i in range(count)]
    return [int(i) for i in np.random.default_rng(count + 31 * turn).permutation(count)] if order == "scattered" else up


@maker(
    "pad",
    "Held chords",
    "chords",
    "every chord held, its voices led by the least motion",
    Control("voices", "voices", ("3", "4", "5")),
    chords=True,
)
def pad(frame: Frame, options: Options) -> list[Row]:
    return [(a, b - a - 10, VOICE, v, 0, 84) for a, b, _ in frame.changes() for v in range(int(options["voices"]))]


# leads ------------------------------------------------------------------------------------------------------------


@maker(
    "third-seventh",
    "On third and seventh",
    "leads",
    "a small figure on the tones that tell one chord from another",
    Control("value", "note value", ("1/8", "1/16")),
    chords=True,
)
def third_and_seventh(frame: Frame, options: Options) -> list[Row]:
    step = round(VALUES[options["value"]] * TICKS_PER_QUARTER)
    rows: list[Row] = []
    for start, end, chord in frame.changes():
        telling = [i for i, t in enumerate(chord.tones) if t in (3, 4, 10, 11)] or [1]
        figure = (telling[0], telling[-1], telling[0], None, telling[-1], None, telling[0], None)
        for i, tick in enumerate(range(start, end, step)):
            tone = figure[i % len(figure)]
            if tone is not None:
                rows.append((tick, round(step * 0.8), TONE, tone, 0, _accent(frame, tick)))
    return rows


ENDINGS = {"more": (1, 4), "once more": (2,), "over": (0,)}


@maker(
    "call-answer",
    "Call and answer",
    "leads",
    "two bars that ask, two that answer and end as you say",
    Control("ending", "ending", tuple(ENDINGS)),
    Control("seed", "idea", tuple("123456789")),
)
def call_and_answer(frame: Frame, options: Options) -> list[Row]:
    dice = np.random.default_rng(int(options["seed"]))
    bar, half = frame.metre.bar_ticks, min(frame.metre.beat_ticks // 2, EIGHTH)
    places = np.arange(1, max(2, bar // half - 1))
    onsets = sorted({0, *(int(x) * half for x in dice.choice(places, size=min(3, len(places)), replace=False))})
    moves = dice.choice([-2, -1, 1, 1, 2, 3], size=len(onsets))
    rows: list[Row] = []
    for start in range(0, frame.length_ticks, 2 * bar):
        degree, answering = (4 if (start // (2 * bar)) % 2 == 0 else 2), (start // (2 * bar)) % 2 == 1
        for i, onset in enumerate(onsets):
            degree = int(np.clip(degree + moves[i] * (-1 if answering else 1), -3, 9))
            rows.append((start + onset, half, DEGREE, degree, 0, 94 - 3 * i))
        last = (
            dice.choice(ENDINGS[options["ending"]])
            if answering or frame.length_ticks <= 2 * bar
            else int(dice.choice((1, 4, 6)))
        )
        rows.append((start + bar, frame.metre.beat_ticks, DEGREE, int(last), 0, 98))
    return rows


@maker(
    "fills-gaps",
    "Answers in the gaps",
    "leads",
    "short answers where the other line is silent",
    Control("seed", "idea", tuple("123456789")),
    Control("gap", "which gap", ("every gap", "first gap", "second gap", "third gap", "last gap")),
)
def fills_gaps(frame: Frame, options: Options) -> list[Row]:
    dice = np.random.default_rng(int(options["seed"]))
    figure = [int(x) for x in dice.choice((1, 2, 0, 3), size=4)]
    rows: list[Row] = []
    gaps = frame.gaps(frame.metre.beat_ticks) if frame.other else []
    which = {"first gap": slice(0, 1), "second gap": slice(1, 2), "third gap": slice(2, 3), "last gap": slice(-1, None)}
    for start, end in gaps[which.get(options["gap"], slice(None))] or gaps[-1:]:
        first = -(-(start + EIGHTH // 2) // EIGHTH) * EIGHTH
        ticks = range(first, end - EIGHTH + 1, EIGHTH)
        rows += [(t, 380, TONE, figure[i % 4], 0, 90 - 4 * i) for i, t in enumerate(list(ticks)[:4])]
    return rows
