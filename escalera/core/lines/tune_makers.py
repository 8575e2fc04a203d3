"""Makers of tunes, and of basses and held notes that need more than a figure: what they make meets the readings it is judged by."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from escalera.core.lines.frame import Frame
from escalera.core.lines.makers import EIGHTH, SIXTEENTH, Control, Options, Row, maker
from escalera.core.rhythm.pattern import DEGREE, TONE
from escalera.core.theory.keys import Key
from escalera.core.theory.note_roles import clashes

IDEAS = Control("seed", "idea", tuple("123456789"))
CONTOURS = ("arch", "rises", "falls", "wave", "valley")
# rhythms of a bar as (start, length) in eighths: as people sing, with a breath at the end
SUNG = (
    ((1, 1), (2, 2), (4, 1), (5, 2)), ((0, 2), (2, 1), (3, 1), (4, 3)), ((1, 1), (2, 1), (3, 1), (4, 2)), ((0, 1), (1, 1), (2, 3), (5, 1)),
    ((0, 3), (3, 1), (4, 2)), ((2, 1), (3, 1), (4, 1), (5, 2)), ((0, 1), (1, 2), (3, 1), (4, 2)),
)  # fmt: skip
WIDEST = 5  # degrees from the lowest to the highest note: an octave less a step
LOWEST, HIGHEST = 0, 8


def _bars(frame: Frame) -> range:
    return range(0, frame.length_ticks, frame.metre.bar_ticks)


def _curve(contour: str, share: float) -> float:
    """Where a contour lies, 0..1, at a share 0..1 of the line."""
    return {
        "rises": share, "falls": 1.0 - share, "arch": 1.0 - abs(2.0 * share - 1.0), "valley": abs(2.0 * share - 1.0),
        "wave": 0.5 + 0.5 * float(np.sin(4.0 * np.pi * share)),
    }[contour]  # fmt: skip


def _in_chord(frame: Frame, tick: int, degree: int) -> int:
    """The nearest degree whose pitch class is of the chord at a tick."""
    classes = frame.chord_at(tick).classes
    for away in (0, -1, 1, -2, 2, -3, 3):
        if _class(frame.key, degree + away) in classes:
            return degree + away
    return degree


def _class(key: Key, degree: int) -> int:
    return (key.tonic_class + key.degrees[degree % 7]) % 12


def _fitting(frame: Frame, rhythm: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """A rhythm inside the bar of another time signature, in eighths; the last eighth stays free to breathe."""
    eighths = frame.metre.bar_ticks // EIGHTH
    return [(a, min(d, eighths - 1 - a)) for a, d in rhythm if a < eighths - 1]


@maker(
    "sung-line",
    "Sung line",
    "voices",
    "a motif by steps, said again and varied, with one high point and room to breathe",
    Control("contour", "contour", CONTOURS),
    Control("ending", "ending", ("more", "once more", "over")),
    IDEAS,
    chords=True,
)
def sung_line(frame: Frame, options: Options) -> list[Row]:
    dice = np.random.default_rng(100 + int(options["seed"]))
    motif, answer = (SUNG[int(i)] for i in dice.choice(len(SUNG), size=2, replace=False))
    rows: list[Row] = []
    bars, degree = list(_bars(frame)), None
    for number, bar in enumerate(bars):
        rhythm = _fitting(frame, motif if number % 4 != 3 else answer)
        for i, (at, length) in enumerate(rhythm):
            tick = bar + at * EIGHTH
            if tick >= frame.length_ticks:
                continue
            share = tick / max(1, frame.length_ticks - EIGHTH)
            wanted = LOWEST + 1 + round(WIDEST * _curve(options["contour"], share))
            degree = _toward(wanted, degree, bool(i), dice)
            if at * EIGHTH % frame.metre.beat_ticks == 0 or length > 2:
                degree = _near_chord(frame, tick, degree, rows)
            rows.append((tick, length * EIGHTH - 40, DEGREE, degree, 0, 96 if at == 0 else 86))
    return _ended(frame, rows, options["ending"])


def _toward(wanted: int, last: int | None, inside: bool, dice: np.random.Generator) -> int:
    """One step toward where the contour lies; at the beginning of a bar two."""
    if last is None:
        return wanted
    most = 1 if inside else 2
    step = int(np.clip(wanted - last, -most, most))
    if not step and inside:
        step = int(dice.choice((-1, 1)))
    return int(np.clip(last + step, LOWEST, HIGHEST))


def _near_chord(frame: Frame, tick: int, degree: int, rows: Sequence[Row]) -> int:
    """A chord tone a step away, or the same note again where none is as near."""
    found = _in_chord(frame, tick, degree)
    last = rows[-1][3] if rows else found
    if abs(found - last) > 2:
        closer = [
            d
            for d in (last - 2, last - 1, last, last + 1, last + 2)
            if _class(frame.key, d) in frame.chord_at(tick).classes
        ]
        found = min(closer, key=lambda d: abs(d - degree)) if closer else found
    return int(np.clip(found, LOWEST, HIGHEST))


ENDING_CLASSES = {"more": (1, 4, 6), "once more": (2, 4), "over": (0,)}


def _ended(frame: Frame, rows: list[Row], ending: str) -> list[Row]:
    """The line with its last note on a degree that says whether more is to come; held where it is over."""
    if len(rows) < 2:
        return rows
    start, length, kind, degree, octave, velocity = rows[-1]
    near = min(
        (d for d in range(LOWEST, HIGHEST + 1) if d % 7 in ENDING_CLASSES[ending]),
        key=lambda d: (abs(d - rows[-2][3]), d),
    )
    if ending == "over":
        length = max(length, min(frame.metre.beat_ticks * 2, frame.length_ticks - start) - 60)
    return [*rows[:-1], (start, length, kind, near if abs(near - rows[-2][3]) <= 3 else degree, octave, velocity)]


@maker(
    "motif-thrice",
    "A motif three times",
    "leads",
    "two bars, again, again with a turn, and an end that says more, once more or over",
    Control("ending", "ending", ("more", "once more", "over")),
    IDEAS,
    chords=True,
)
def motif_thrice(frame: Frame, options: Options) -> list[Row]:
    dice = np.random.default_rng(300 + int(options["seed"]))
    rhythm = _fitting(frame, SUNG[int(dice.integers(len(SUNG)))])
    shape = np.cumsum([0, *dice.choice((-1, 0, 1, 1, -1, 2), size=max(0, len(rhythm) - 1))])
    home = int(dice.integers(2, 5))
    rows: list[Row] = []
    for number, bar in enumerate(_bars(frame)):
        moved = 1 if number % 4 == 2 else 0
        for i, (at, length) in enumerate(rhythm):
            tick = bar + at * EIGHTH
            if tick >= frame.length_ticks:
                continue
            degree = int(np.clip(home + moved + shape[i], LOWEST, HIGHEST))
            strong = at * EIGHTH % frame.metre.beat_ticks == 0
            rows.append(
                (
                    tick,
                    length * EIGHTH - 40,
                    DEGREE,
                    _in_chord(frame, tick, degree) if strong else degree,
                    0,
                    94 - 3 * i,
                )
            )
    return _ended(frame, rows, options["ending"])


@maker(
    "one-note-hook",
    "One-note hook",
    "leads",
    "one pitch, kept through the chords where it fits; what stays is its rhythm",
    Control("rhythm", "rhythm", ("ahead of the beat", "three, three, two", "with a gap")),
    chords=True,
)
def one_note_hook(frame: Frame, options: Options) -> list[Row]:
    steps = {
        "ahead of the beat": (0, 3, 6, 10, 13),
        "three, three, two": (0, 3, 6, 8, 11, 14),
        "with a gap": (0, 2, 3, 6),
    }[options["rhythm"]]
    note = _held_degree(frame)
    rows: list[Row] = []
    for number, bar in enumerate(_bars(frame)):
        for i, step in enumerate(steps):
            tick = bar + step * SIXTEENTH
            if tick < min(frame.length_ticks, bar + frame.metre.bar_ticks):
                lifted = 1 if number % 4 == 3 and i == len(steps) - 1 else 0
                rows.append((tick, SIXTEENTH * 2 - 50, DEGREE, note + lifted, 0, 104 if not i else 90))
    return rows


def _held_degree(frame: Frame) -> int:
    """The degree that clashes with the fewest chords, as long as they last; the fifth where several are as good."""
    spans = frame.changes()

    def cost(degree: int) -> tuple[int, bool]:
        return (sum(b - a for a, b, chord in spans if clashes(_class(frame.key, degree), chord)), degree != 4)

    return min(range(7), key=cost)


@maker(
    "pedal",
    "Held note",
    "chords",
    "one note under or over all chords: the one that clashes least, or one that is wanted to",
    Control("note", "note", ("least clashes", "home", "fifth", "most tension")),
    chords=True,
)
def pedal(frame: Frame, options: Options) -> list[Row]:
    worst = max(range(7), key=lambda d: sum(clashes(_class(frame.key, d), c) for _, _, c in frame.changes()))
    degree = {"home": 0, "fifth": 4, "least clashes": _held_degree(frame), "most tension": worst}[options["note"]]
    rows: list[Row] = []
    for a, b, chord in frame.changes():
        held = degree
        if options["note"] == "most tension" and b >= frame.length_ticks and clashes(_class(frame.key, degree), chord):
            held = _in_chord(frame, a, degree)  # what was wanted to rub is released at the end
        if rows and rows[-1][3] == held:
            start, length, *rest = rows[-1]
            rows[-1] = (start, b - start - 20, DEGREE, held, 0, 84)
        else:
            rows.append((a, b - a - 20, DEGREE, held, 0, 84))
    return rows


@maker(
    "bass-sixteenths",
    "Sixteenths with ghosts",
    "low end",
    "roots on the beats, muted ghosts between, and a step into the next chord",
    Control("busy", "ghosts", ("some", "many", "few")),
    IDEAS,
    chords=True,
)
def bass_sixteenths(frame: Frame, options: Options) -> list[Row]:
    dice = np.random.default_rng(500 + int(options["seed"]))
    chance = {"few": 0.15, "some": 0.35, "many": 0.6}[options["busy"]]
    figure = [step % 4 == 0 or dice.random() < chance for step in range(16)]
    accents = [step % 8 == 0 or (figure[step] and dice.random() < 0.4) for step in range(16)]
    changes = frame.changes()
    starts = {a: chord for a, _, chord in changes}
    rows: list[Row] = []
    for tick in range(0, frame.length_ticks, SIXTEENTH):
        step = tick % frame.metre.bar_ticks // SIXTEENTH % 16
        after = starts.get(tick + SIXTEENTH)
        if after is not None and tick:
            place = (after.root_class - frame.key.tonic_class) % 12
            below = max((i for i, d in enumerate(frame.key.degrees) if d < place), default=-1)
            rows.append((tick, SIXTEENTH - 30, DEGREE, below, 0, 88))
        elif tick in starts or accents[step]:
            rows.append((tick, SIXTEENTH * 2 - 60, TONE, 0, 0, 102))
        elif figure[step]:
            rows.append((tick, 90, TONE, 0, 0, 44))
    return _apart(rows)


def _apart(rows: list[Row]) -> list[Row]:
    """Notes of one voice, each ended before the next begins."""
    return [
        (a, min(d, after[0] - a - 10), *rest) if after else (a, d, *rest)  # type: ignore[misc]
        for (a, d, *rest), after in zip(rows, [*rows[1:], None])
    ]


@maker(
    "bass-kick-long",
    "Long notes on the kick",
    "low end",
    "a note with every kick that lasts until the next one, or slides into it",
    Control("join", "joined", ("until the next", "sliding")),
)
def bass_kick_long(frame: Frame, options: Options) -> list[Row]:
    ends = [*frame.kicks[1:], frame.length_ticks]
    over = 40 if options["join"] == "sliding" else -20
    return [(k, max(120, e - k + over), TONE, 0, 0, 98) for k, e in zip(frame.kicks, ends)]
