"""Geometry of the page of voices: ribbons of takes over the note ladder, seams, words under the pegs."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from markupsafe import Markup
from numpy.typing import NDArray

from escalera.core.reading.timeline import Span
from escalera.lazy_dataclasses import dataclass
from escalera.web.bench_drawing import Rung, percent

WIDE = 1000.0  # of the drawing, whatever the page's width
GAP_S = 0.06
STEP = 0.8  # semitones between two frames from which on a note is another one
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Ribbon:
    """A take over the ladder: a path a note, whether it is in the comp."""

    take_id: int
    path: Markup
    in_comp: bool


@dataclass(frozen=True, slots=True)
class PlacedWord:
    """A syllable under its peg: x in per cent, y in pixels."""

    x: float
    y: float
    text: str
    stressed: bool
    number: int


def heights(pitches: Floats, rungs: Sequence[Rung]) -> Floats:
    """Height of MIDI pitches with fractions on the ladder, in pixels; the shape of what is given."""
    known = [(r.pitch, r.y) for r in reversed(rungs)]
    step = (known[0][1] - known[-1][1]) / max(1, known[-1][0] - known[0][0])
    found: Floats = np.interp(pitches, [p for p, _ in known], [y for _, y in known])
    low, high = known[0][0], known[-1][0]
    return found - np.maximum(pitches - high, 0.0) * step + np.maximum(low - pitches, 0.0) * step


def steady(pitches: Floats) -> NDArray[np.bool_]:
    """Frames of a pitch line (n,) that agree with those about them: a single frame that jumps is a slip of the reading."""
    near = np.lib.stride_tricks.sliding_window_view(np.pad(pitches, 3, constant_values=np.nan), 7)
    agree = np.abs(near - pitches[:, None]) < STEP
    return agree.sum(axis=1) >= 4


def ribbon_path(seconds: Floats, pitches: Floats, span: Span, low: int, high: int, rungs: Sequence[Rung]) -> Markup:
    """A pitch line in seconds of a section as a path over the ticks [low, high); broken where nothing has a pitch. Both (n,)."""
    if not len(seconds):
        return Markup("")
    x = WIDE * (span.grid.tempo.ticks_at(seconds) - low) / (high - low)
    inside = (x >= 0) & (x <= WIDE) & ~np.isnan(pitches)
    parts: list[str] = []
    last_s, last_pitch = -1.0, 0.0
    ys = heights(np.nan_to_num(pitches, nan=60.0), rungs)
    for i in np.flatnonzero(inside & steady(pitches)):
        begins = seconds[i] - last_s > GAP_S or abs(pitches[i] - last_pitch) > STEP
        parts.append(f"{'M' if begins else 'L'}{x[i]:.1f} {ys[i]:.1f}")
        last_s, last_pitch = float(seconds[i]), float(pitches[i])
    return Markup(" ".join(parts))


def spread(rows: list[PlacedWord], least: float = 2.4) -> list[PlacedWord]:
    """Words that would stand on one another moved down a line."""
    found: list[PlacedWord] = []
    for word in rows:
        y = word.y
        for other in found[-3:]:
            if abs(other.y - y) < 13 and word.x - other.x < least + 0.75 * len(other.text):
                y = other.y + 13
        found.append(PlacedWord(word.x, y, word.text, word.stressed, word.number))
    return found


__all__ = ["PlacedWord", "Ribbon", "heights", "percent", "ribbon_path", "spread"]
