"""Geometry of the harmony page: the strip of chords with its voices, and the circle of fifths."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import Protocol

from escalera.core.reading.voicing_reading import LaidOut
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import fifths_to_class
from escalera.lazy_dataclasses import dataclass

NARROWEST_BAR, WIDEST_BAR, NARROWEST_CHORD = 40.0, 130.0, 80.0  # pixels; short chords do not make bars wider than that
VOICES_TOP, VOICES_FLOOR = 88.0, 178.0
HEIGHT = 196
CENTRE, RINGS = 150.0, (142.0, 104.0, 66.0)


class ChordStart(Protocol):
    @property
    def tick(self) -> int: ...

    @property
    def chord(self) -> Chord: ...

    @property
    def numeral(self) -> str: ...

    @property
    def kind(self) -> str: ...

    @property
    def said(self) -> str: ...

    @property
    def notes(self) -> str: ...


@dataclass(frozen=True, slots=True)
class Column:
    """One chord of the strip: x and width in per cent, and what is written over it."""

    x: float
    width: float
    change: ChordStart


@dataclass(frozen=True, slots=True)
class Strip:
    """`voices` are polylines in (per cent, pixels) a voice; `bars` are x in per cent with the bar's number."""

    columns: tuple[Column, ...]
    bars: tuple[tuple[float, int], ...]
    voices: tuple[tuple[tuple[float, float], ...], ...]
    pixels: float
    height: int = HEIGHT


def draw_strip(
    changes: Sequence[ChordStart], voicings: Sequence[LaidOut], bar_ticks: Sequence[int], first_bar: int
) -> Strip:
    """Chords to scale over their bars; the voices climb and fall between them."""
    end = bar_ticks[-1]
    edges = [max(0, c.tick) for c in changes] + [end]
    spans = [(100.0 * a / end, 100.0 * (b - a) / end) for a, b in zip(edges, edges[1:])]
    columns = tuple(Column(round(x, 3), round(w, 3), c) for (x, w), c in zip(spans, changes) if w > 0)
    narrowest = min((c.width for c in columns), default=100.0)
    bars_here = len(bar_ticks) - 1
    pixels = max(NARROWEST_BAR * bars_here, min(NARROWEST_CHORD * 100.0 / narrowest, WIDEST_BAR * bars_here))
    bars = tuple((round(100.0 * t / end, 3), first_bar + i) for i, t in enumerate(bar_ticks[:-1]))
    return Strip(columns, bars, _voices(voicings, spans), round(pixels))


def _voices(
    voicings: Sequence[LaidOut], spans: Sequence[tuple[float, float]]
) -> tuple[tuple[tuple[float, float], ...], ...]:
    if not voicings:
        return ()
    every = [p for v in voicings for p in v.reading.pitches]
    low, high = min(every), max(every)
    unit = (VOICES_FLOOR - VOICES_TOP) / max(10, high - low)
    lines = []
    for voice in range(max(len(v.reading.pitches) for v in voicings)):
        line: list[tuple[float, float]] = []
        for v, (x, width) in zip(voicings, spans):
            if voice < len(v.reading.pitches) and width > 0:
                y = round(VOICES_FLOOR - (v.reading.pitches[voice] - low) * unit, 1)
                line += [(round(x + width * 0.12, 3), y), (round(x + width * 0.88, 3), y)]
        lines.append(tuple(line))
    return tuple(lines)


@dataclass(frozen=True, slots=True)
class Wedge:
    """A tread of the circle: its outline, where its name stands, and whether the key has it."""

    chord: Chord
    path: str
    x: float
    y: float
    own: bool
    home: bool
    small: bool


@lru_cache(maxsize=64)
def circle(key: Key) -> tuple[Wedge, ...]:
    """Major chords outside, minor ones inside, by fifths; the key's own signature at the top."""
    wedges = []
    home_class = key.tonic_class
    for ring, quality, offset in ((0, "", 0), (1, "m", 3)):
        for step in range(-5, 7):
            root = _usual(key.signature + step + offset)
            chord = Chord(root, quality)
            path, x, y = _wedge(step, RINGS[ring], RINGS[ring + 1])
            own = chord.classes <= key.classes
            home = fifths_to_class(root) == home_class and (quality == "m") == key.is_minor
            wedges.append(Wedge(chord, path, x, y, own, home, ring == 1))
    return tuple(wedges)


def _usual(fifths: int) -> int:
    """The spelling of a root that people write: at most seven sharps or flats."""
    return fifths + 12 if fifths < -7 else fifths - 12 if fifths > 8 else fifths


def _wedge(step: int, outer: float, inner: float) -> tuple[str, float, float]:
    """A twelfth of a ring, `step` twelfths clockwise from the top."""
    a, b = math.radians(30 * step - 15 - 90), math.radians(30 * step + 15 - 90)

    def at(radius: float, angle: float) -> str:
        return f"{CENTRE + radius * math.cos(angle):.1f} {CENTRE + radius * math.sin(angle):.1f}"

    path = f"M{at(outer, a)}A{outer} {outer} 0 0 1 {at(outer, b)}L{at(inner, b)}A{inner} {inner} 0 0 0 {at(inner, a)}Z"
    middle, radius = math.radians(30 * step - 90), (outer + inner) / 2
    return path, round(CENTRE + radius * math.cos(middle), 1), round(CENTRE + radius * math.sin(middle), 1)
