"""Geometry of a join in close-up: beats counted from the one along x, tension above, devices below it, the two steps at the foot."""

from __future__ import annotations

import numpy as np

from escalera.core.document.song import Song
from escalera.core.energy.join_reading import Carrier, JoinReading, wanted_tension
from escalera.core.energy.tension import tension_line
from escalera.core.joins.actions import roll_onsets
from escalera.core.joins.builds import build_ticks, stages
from escalera.core.reading.timeline import timeline
from escalera.lazy_dataclasses import dataclass

WIDTH, LEFT, RIGHT = 880.0, 14.0, 14.0
TENSION_TOP, TENSION_FLOOR = 34.0, 98.0
ROWS_TOP, ROW = 108.0, 27.0
STEP_HEIGHT = 74.0  # pixels of ten points of energy
LABEL_PIXELS = 7.0
NARROWEST = 15.0


@dataclass(frozen=True, slots=True)
class DeviceShape:
    """A device as drawn: where, which outline, and its label with the side on which there is room for it."""

    carrier: Carrier
    family: str
    x: float
    y: float
    width: float
    outline: str
    ticks: tuple[float, ...]
    label: str
    label_x: float
    anchor: str
    said: str


@dataclass(frozen=True, slots=True)
class JoinDrawing:
    beats: tuple[tuple[float, str, bool], ...]  # x, label, whether a bar begins
    one: float
    tension: str
    wanted: str  # what a build's shape asks for
    peak: tuple[float, float]
    shapes: tuple[DeviceShape, ...]
    floor: float
    height: float
    left_top: float
    right_top: float
    gap: tuple[float, float] | None
    stages: tuple[tuple[float, float, str], ...]  # of a build: x, width, the loop's length
    pixels_a_tick: float
    first_tick: int


def draw_join(song: Song, reading: JoinReading, bars: tuple[int, int], energies: tuple[float, float]) -> JoinDrawing:
    """A join from so many bars before the one to so many after it; `energies` are those of the phrases on both sides."""
    left, right = reading.left, reading.right
    first = left.bar_ticks[max(0, left.section.bars - bars[0])] - left.length_ticks
    last = right.bar_ticks[min(right.section.bars, bars[1])]
    scale = (WIDTH - LEFT - RIGHT) / (last - first)

    def x(tick: float) -> float:
        return round(LEFT + (min(max(tick, first), last) - first) * scale, 1)

    shapes = _shapes(song, reading, x, first, last)
    rows = 1 + max((round((s.y - ROWS_TOP) / ROW) for s in shapes), default=0)
    top = ROWS_TOP + rows * ROW + 6.0
    floor = top + STEP_HEIGHT
    points, peak = _tension(song, reading, first, last, x)
    gap = (x(-reading.gap_ticks), x(0)) if reading.gap_ticks else None
    return JoinDrawing(
        _beats(reading, first, last, x),
        x(0),
        points,
        _wanted(song, reading, first, x),
        peak,
        shapes,
        floor,
        floor + 4.0,
        floor - STEP_HEIGHT * energies[0] / 10.6,
        floor - STEP_HEIGHT * energies[1] / 10.6,
        gap,
        _stages(song, reading, x, first),
        scale,
        first,
    )


def _stages(song: Song, reading: JoinReading, x, first: int) -> tuple[tuple[float, float, str], ...]:  # type: ignore[no-untyped-def]
    """The stages of a build with the lengths of their loops, in bars."""
    build = song.sections[reading.index].build
    if build is None or build.parked:
        return ()
    low, bar = -build_ticks(reading.left, build), reading.left.bar_metres[-1].bar_ticks
    high = min(0, -max(build.gap_ticks, reading.gap_ticks))
    found = []
    for a, b, index in stages(build, low, high, reading.beat_ticks):
        length = build.loops_ticks[index] if build.loops_ticks else 0
        said = (
            f"{length // bar}"
            if length and length % bar == 0
            else f"1/{bar // length}"
            if length and bar % length == 0
            else f"{length / bar:.2g}"
            if length
            else ""
        )
        if b > first:
            found.append((x(a), round(x(b) - x(a), 1), said))
    return tuple(found)


def _beats(reading: JoinReading, first: int, last: int, x) -> tuple[tuple[float, str, bool], ...]:  # type: ignore[no-untyped-def]
    beat, after = reading.beat_ticks, reading.right.bar_metres[0].beat_ticks
    bars = {t - reading.left.length_ticks for t in reading.left.bar_ticks} | set(reading.right.bar_ticks)
    before = range(-(-first // beat) * beat, 0, beat)
    dense = len(before) > 20
    rows = [(t, t // beat) for t in before] + [(t, t // after) for t in range(0, last + 1, after)]
    found = []
    for tick, number in rows:
        named = tick in bars or (not dense and number in (-1, -2)) or len(rows) <= 13
        label = "" if not named else "the one" if number == 0 else f"{number:+d}".replace("-", "−")
        found.append((x(tick), label, tick in bars))
    return tuple(found)


def _tension(song: Song, reading: JoinReading, first: int, last: int, x) -> tuple[str, tuple[float, float]]:  # type: ignore[no-untyped-def]
    """The line of tension through the middles of beats, and its highest point before the one."""
    middles = np.asarray(reading.beats) - reading.left.length_ticks + reading.beat_ticks / 2
    after = tension_line(song, timeline(song).spans[reading.index])[0]
    step = reading.right.bar_metres[0].beat_ticks
    rows = [(float(m), float(v)) for m, v in zip(middles, reading.tension) if m >= first]
    rows += [((i + 0.5) * step, float(v)) for i, v in enumerate(after) if (i + 0.5) * step <= last]
    line = " ".join(f"{x(t)},{_tension_y(v)}" for t, v in rows)
    peak = reading.peak_ticks + reading.beat_ticks / 2
    return line, (x(peak), _tension_y(float(reading.tension.max())))


def _wanted(song: Song, reading: JoinReading, first: int, x) -> str:  # type: ignore[no-untyped-def]
    values = wanted_tension(song, reading.index)
    if values is None:
        return ""
    middles = np.asarray(reading.beats) - reading.left.length_ticks + reading.beat_ticks / 2
    return " ".join(f"{x(m)},{_tension_y(v)}" for m, v in zip(middles, values) if v == v and m >= first)


def _tension_y(value: float) -> float:
    return round(TENSION_FLOOR - (TENSION_FLOOR - TENSION_TOP) * value, 1)


def _shapes(song: Song, reading: JoinReading, x, first: int, last: int) -> tuple[DeviceShape, ...]:  # type: ignore[no-untyped-def]
    """Devices in rows, so that no two and none of their labels lie over each other; the longest ones lowest."""
    found: list[DeviceShape] = []
    ends: list[list[tuple[float, float]]] = []
    names = {layer.id: (layer.name, layer.family) for layer in song.layers}
    for c in sorted(reading.carriers, key=lambda c: (c.start_ticks - c.end_ticks, c.start_ticks, c.kind)):
        if c.end_ticks <= first or c.start_ticks >= last:
            continue
        low, width = x(c.start_ticks), max(NARROWEST, x(c.end_ticks) - x(c.start_ticks))
        name, family = names.get(c.layer_id, ("", ""))
        label = (
            f"{c.of.label}, {name}"
            if name and (len(c.of.label) + len(name) + 2) * LABEL_PIXELS + 14 < width
            else c.of.label
        )
        needed = len(label) * LABEL_PIXELS
        inside = needed + 14 < width
        if inside:
            label_x, anchor, used = low + 8, "start", (low, low + width)
        elif low + width + needed + 8 < WIDTH:
            label_x, anchor, used = low + width + 6, "start", (low, low + width + needed + 10)
        else:
            label_x, anchor, used = low - 6, "end", (low - needed - 10, low + width)
        row = next((i for i, taken in enumerate(ends) if all(used[1] < a or used[0] > b for a, b in taken)), len(ends))
        if row == len(ends):
            ends.append([])
        ends[row].append(used)
        y = ROWS_TOP + row * ROW
        said = f"{c.of.label}{f' on {name}' if name else ''}, {_from(c, reading)}, {c.of.purpose}" + (
            "" if c.placed else "; found in the patterns"
        )
        found.append(
            DeviceShape(c, family.replace(" ", "-"), low, y, round(width, 1), _outline(c.of.sign, low, y, width),
                        _ticks(song, reading, c, x), label, round(label_x, 1), anchor, said)
        )  # fmt: skip
    return tuple(found)


def _from(c: Carrier, reading: JoinReading) -> str:
    start, length = c.start_ticks / reading.beat_ticks, (c.end_ticks - c.start_ticks) / reading.beat_ticks
    where = "from the one" if start == 0 else f"from {abs(start):g} beats {'before' if start < 0 else 'after'} the one"
    return f"{where}, {length:g} beats long"


def _outline(sign: str, x: float, y: float, width: float) -> str:
    """Polygon of a device: rising, falling, or straight."""
    low, high, right = y + 22.0, y, x + width
    flat = max(high, low - 5.0)
    shapes = {
        "slash": f"{x},{low} {x},{flat} {right},{high} {right},{low}",
        "wedge": f"{x},{low} {x},{flat} {right},{high} {right},{low}",
        "backslash": f"{x},{low} {x},{high} {right},{flat} {right},{low}",
        "wedge-down": f"{x},{low} {x},{high} {right},{flat} {right},{low}",
        "diamond": f"{x},{low} {x},{high} {right},{flat} {right},{low}",
        "down": f"{x},{low} {x},{high} {right},{high + 8} {right},{low}",
    }
    return shapes.get(sign, f"{x},{low} {x},{high + 3} {right},{high + 3} {right},{low}")


def _ticks(song: Song, reading: JoinReading, c: Carrier, x) -> tuple[float, ...]:  # type: ignore[no-untyped-def]
    """Where the hits of a roll lie."""
    if c.kind != "roll":
        return ()
    device = next((d for d in song.sections[reading.index].devices if d.id == c.device_id), None)
    if device is None:
        return tuple(x(t) for t in range(c.start_ticks, c.end_ticks, 240))
    onsets = roll_onsets(c.start_ticks, c.end_ticks, device.chosen("from_division"), device.chosen("to_division"))
    return tuple(x(t) for t in onsets)


__all__ = ["DeviceShape", "JoinDrawing", "draw_join"]
