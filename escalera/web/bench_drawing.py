"""Geometry of the bench: the note ladder with chords shaded on its rungs, drum lanes, the low end by sixteenths."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import lru_cache

from markupsafe import Markup

from escalera.core.bench.low_end import LowEnd, LowStep
from escalera.core.reading.phrase_notes import Note, PhraseNotes
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

HEIGHT, LOWEST_RUNG, HIGHEST_RUNG = 236.0, 9.0, 18.0  # pixels: of the rungs together, of one at least and at most
TOP, FOOT = 6.0, 20.0
LEAST_SEMITONES = 14
LANE, LANES_TOP = 17.5, 3.0
PEG = 11.5  # pixels between pitches of the low end
STROKES = 22.0  # height of the strip that says who owns the lows


@dataclass(frozen=True, slots=True)
class Rung:
    pitch: int
    y: float
    name: str
    degree: str
    tonic: bool


@dataclass(frozen=True, slots=True)
class Shade:
    """A chord over its stretch: x and width in per cent."""

    x: float
    width: float
    chord: Chord
    numeral: str


@dataclass(frozen=True, slots=True)
class Ladder:
    rungs: tuple[Rung, ...]
    shades: tuple[Shade, ...]
    svg: Markup
    height: float
    bars: tuple[tuple[float, int], ...]


def percent(tick: float, length: int) -> float:
    return round(100.0 * tick / length, 3)


def rungs_of(key: Key, low: int, high: int, chromatic: bool) -> tuple[Rung, ...]:
    """Rungs from high to low: the key's notes, or every semitone."""
    pitches = [p for p in range(high, low - 1, -1) if chromatic or p % 12 in key.classes]
    step = min(HIGHEST_RUNG, max(LOWEST_RUNG, HEIGHT / max(1, len(pitches))))
    found = []
    for i, pitch in enumerate(pitches):
        place = (pitch - key.tonic_class) % 12
        degree = str(key.degrees.index(place) + 1) if place in key.degrees else ""
        found.append(Rung(pitch, round(TOP + step * (i + 0.5), 2), key.pitch_name(pitch), degree, place == 0))
    return tuple(found)


def span_of_pitches(notes: Sequence[Note], register: tuple[int, int], key: Key) -> tuple[int, int]:
    """Lowest and highest pitch that the ladder shows: the line with room round it, else the middle of the register."""
    if notes:
        low, high = min(n.pitch for n in notes) - 3, max(n.pitch for n in notes) + 3
    else:
        middle = sum(register) // 2
        low, high = middle - LEAST_SEMITONES // 2, middle + LEAST_SEMITONES // 2
    while high - low < LEAST_SEMITONES:
        low, high = low - 1, high + 1
    while low % 12 not in key.classes:
        low -= 1
    while high % 12 not in key.classes:
        high += 1
    # notes that were moved beyond what is played still leave a ladder to write on
    return max(0, min(low, 127 - LEAST_SEMITONES)), min(127, max(high, LEAST_SEMITONES))


def y_of(pitch: int, rungs: Sequence[Rung]) -> float:
    """Height of a pitch: its rung, or between two where it has none."""
    above = [r for r in rungs if r.pitch >= pitch]
    below = [r for r in rungs if r.pitch <= pitch]
    if not above or not below:
        return (above or below)[-1 if above else 0].y
    return round((above[-1].y + below[0].y) / 2, 2)


def draw_ladder(
    line: PhraseNotes,
    rungs: tuple[Rung, ...],
    shades: tuple[Shade, ...],
    bars: Sequence[tuple[int, int]],
    beats: Iterable[int],
    clashing: frozenset[tuple[int, int]],
    slides: bool,
    register: tuple[int, int],
) -> Ladder:
    """The ladder of a line. `bars` are (phrase tick, number); `clashing` notes get in a voice's way."""
    length, y = line.length, {r.pitch: r.y for r in rungs}
    step = rungs[0].y - rungs[1].y if len(rungs) > 1 else HIGHEST_RUNG
    half, floor = abs(step) / 2 - 0.6, rungs[-1].y + abs(step) / 2
    parts = []
    for s in shades:
        for r in rungs:
            if r.pitch % 12 in s.chord.classes:
                parts.append(
                    f'<rect class="shade" x="{s.x}%" width="{s.width}%" y="{r.y - half:.1f}" height="{2 * half:.1f}" rx="4"/>'
                )
    parts += [
        f'<line class="ladder-rung{" tonic" if r.tonic else ""}{"" if r.degree else " foreign"}" x1="0" x2="100%" y1="{r.y}" y2="{r.y}"/>'
        for r in rungs
    ]
    parts += [_upright("ladder-beat", percent(t, length), TOP - 3, floor) for t in beats]
    parts += [_upright("ladder-bar", percent(t, length), 0, floor + 5) for t, _ in bars]
    largest = min(7.6, max(4.2, abs(step) * 0.52))
    tones = [(s.x, s.chord.classes) for s in shades]
    for i, note in enumerate(line.notes):
        after = next((n for n in line.notes[i + 1 :] if n.tick > note.tick), None) if slides else None
        marks = _marks(note, tones, percent(max(0, note.tick), length), clashing, register)
        parts.append(_peg(note, y.get(note.pitch) or y_of(note.pitch, rungs), length, largest, marks))
        if after and note.end > after.tick:
            y1, y2 = (y.get(p) or y_of(p, rungs) for p in (note.pitch, after.pitch))
            x = percent(after.tick, length)
            parts.append(f'<line class="slide" x1="{x - 0.9}%" x2="{x}%" y1="{y1}" y2="{y2}"/>')
    numbers = tuple((percent(t, length), n) for t, n in bars)
    return Ladder(rungs, shades, Markup("".join(parts)), round(floor + FOOT, 1), numbers)


def _upright(kind: str, x: float, top: float, floor: float) -> str:
    return f'<line class="{kind}" x1="{x}%" x2="{x}%" y1="{top:.1f}" y2="{floor:.1f}"/>'


def _marks(
    note: Note,
    tones: Sequence[tuple[float, frozenset[int]]],
    x: float,
    clashing: frozenset[tuple[int, int]],
    register: tuple[int, int],
) -> str:
    """Classes of a peg: open for no chord tone, in the voice's way, outside the sound's range."""
    classes = next((c for at, c in reversed(tones) if at <= x + 1e-6), frozenset[int]())
    marks = "" if note.pitch % 12 in classes else " open"
    marks += " clash" if (note.tick, note.pitch) in clashing else ""
    return marks + ("" if register[0] <= note.pitch <= register[1] else " far")


@lru_cache(maxsize=16_384)  # an edit changes a few pegs of many
def _peg(note: Note, y: float, length: int, largest: float, marks: str) -> str:
    x, end = percent(max(0, note.tick), length), percent(min(note.end, length), length)
    r = largest * (0.55 + 0.45 * note.velocity / 127.0)
    return (
        f'<g class="peg{marks}" data-tick="{note.tick}" data-pitch="{note.pitch}" data-ticks="{note.duration}" data-velocity="{note.velocity}">'
        f'<line class="stem" x1="{x}%" x2="{end}%" y1="{y}" y2="{y}"/><line class="tail" x1="{end}%" x2="{end}%" y1="{y - 4}" y2="{y + 4}"/>'
        f'<circle class="head" cx="{x}%" cy="{y}" r="{r:.1f}"/></g>'
    )


# drums -------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Lanes:
    names: tuple[tuple[str, str, float], ...]  # drum, layer's name, y
    svg: Markup
    height: float


def draw_lanes(
    rows: Sequence[tuple[str, str, Sequence[tuple[int, int]]]],
    length: int,
    beats: Iterable[int],
    bars: Sequence[tuple[int, int]],
) -> Lanes:
    """Rows of (drum, layer, hits as (tick, velocity)), from high to low."""
    height, parts, names = LANES_TOP * 2 + LANE * len(rows), [], []
    parts += [_upright("ladder-beat", percent(t, length), 0, height) for t in beats]
    parts += [_upright("ladder-bar", percent(t, length), 0, height) for t, _ in bars]
    for i, (drum, name, hits) in enumerate(rows):
        y = LANES_TOP + LANE * (i + 0.5)
        names.append((drum, name, y))
        parts.append(f'<line class="groove-lane" x1="0" x2="100%" y1="{y}" y2="{y}"/>')
        for tick, velocity in hits:
            r = 6.4 * (0.3 + 0.7 * (velocity / 127.0) ** 0.8)
            parts.append(
                f'<circle class="lane-hit" data-drum="{drum}" data-tick="{tick}" data-velocity="{velocity}" cx="{percent(tick, length)}%" cy="{y}" r="{r:.1f}"/>'
            )
    return Lanes(tuple(names), Markup("".join(parts)), height)


# the low end ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class LowDrawing:
    """`names` are (pitch name, y); `owners` are (layer id, mark, share) with the marks that the strip uses."""

    names: tuple[tuple[str, float], ...]
    svg: Markup
    height: float


def draw_low_end(
    found: LowEnd,
    notes: Sequence[tuple[int, int, int, bool]],
    kicks: Sequence[int],
    low: int,
    length: int,
    key: Key,
    beats: Iterable[int],
    bars: Sequence[tuple[int, int]],
    marks: dict[int, int],
) -> LowDrawing:
    """Bass notes as pegs at pitch (section tick, ticks long, pitch, whether at fault), kicks below them, then a stroke for
    every sixteenth: as high as the level, marked by who owns 30–90 Hz."""
    pitches = sorted({n[2] for n in notes}, reverse=True)[:8]
    y = {p: 8.0 + PEG * i for i, p in enumerate(pitches)}
    floor = 8.0 + PEG * len(pitches)
    top, height = floor + 10.0, floor + 10.0 + STROKES + 4.0
    parts = [_upright("ladder-beat", percent(t, length), 0, height) for t in beats]
    parts += [_upright("ladder-bar", percent(t, length), 0, height) for t, _ in bars]
    parts += [f'<line class="groove-lane" x1="0" x2="100%" y1="{v}" y2="{v}"/>' for v in y.values()]
    for tick, ticks_long, pitch, fault in notes:
        if pitch in y:
            x, end = percent(tick - low, length), percent(min(tick - low + ticks_long, length), length)
            parts.append(
                f'<g class="low-peg{" fault" if fault else ""}"><line x1="{x}%" x2="{end}%" y1="{y[pitch]}" y2="{y[pitch]}"/><circle cx="{x}%" cy="{y[pitch]}" r="4.6"/></g>'
            )
    for tick in kicks:
        x = percent(tick - low, length)
        mask = " masked" if tick in found.masked else ""
        parts.append(f'<circle class="low-kick{mask}" cx="{x}%" cy="{floor + 2:.1f}" r="3.4"/>')
    for step in found.steps:
        parts.append(_stroke(step, low, length, top, marks))
    return LowDrawing(tuple((key.pitch_name(p), v) for p, v in y.items()), Markup("".join(parts)), round(height, 1))


def _stroke(step: LowStep, low: int, length: int, top: float, marks: dict[int, int]) -> str:
    x = percent(step.tick - low + 120, length)
    tall = STROKES * min(1.0, max(0.12, (step.level_db + 50.0) / 40.0)) if step.owner else 2.0
    kind = f"own-{marks.get(step.owner, 3)}" if step.owner else "own-none"
    shared = " shared" if step.shared else ""
    return f'<line class="stroke {kind}{shared}" data-step="{step.tick}" x1="{x}%" x2="{x}%" y1="{top + STROKES - tall:.1f}" y2="{top + STROKES:.1f}"/>'
