"""Geometry of the groove line: lanes from low at the bottom to high, dots sized by velocity, a ruler of beats."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from escalera.core.rhythm.beat import RANK, Beat, HitChange
from escalera.lazy_dataclasses import dataclass

LANE, TOP, FOOT = 25.0, 20.0, 8.0  # pixels
SMALL_LANE = 9.0
LARGEST, USUAL_WIDTH = 10.5, 600.0  # radius of the loudest dot at most; pixels of the plot at 1280
RESOLUTIONS: dict[str, int] = {"1/8": 480, "1/8 triplet": 320, "1/16": 240, "1/16 triplet": 160, "1/32": 120}


@dataclass(frozen=True, slots=True)
class Dot:
    """A hit: x in per cent, y and radius in pixels, and how it differs from another beat ('' when it does not)."""

    drum: str
    tick: int
    velocity: int
    x: float
    y: float
    r: float
    kind: str = ""


@dataclass(frozen=True, slots=True)
class GrooveLine:
    """`lanes` are (drum, y); `beats` and `steps` are x in per cent, beats with their label and whether a bar starts."""

    lanes: tuple[tuple[str, float], ...]
    dots: tuple[Dot, ...]
    beats: tuple[tuple[float, str, bool], ...]
    steps: tuple[float, ...]
    height: float
    largest: float  # radius of the loudest hit


def radius(velocity: int, largest: float) -> float:
    return round(largest * (0.3 + 0.7 * (velocity / 127.0) ** 0.8), 2)


def groove_line(played: Beat, drums: Iterable[str], step_ticks: int) -> GrooveLine:
    """The line of a beat with a lane for each drum, at least those that are hit."""
    lanes = sorted({*drums, *played.drums}, key=RANK.__getitem__, reverse=True)
    y = {drum: TOP + LANE * (i + 0.5) for i, drum in enumerate(lanes)}
    length = played.length_ticks
    finest = min(step_ticks, 240) if any(h.tick % 480 for h in played.hits) else step_ticks
    largest = round(min(LARGEST, max(4.5, 0.66 * USUAL_WIDTH * finest / length)), 1)
    dots = tuple(
        Dot(h.drum, h.tick, h.velocity, _x(h.tick, length), y[h.drum], radius(h.velocity, largest)) for h in played.hits
    )
    metre = played.metre
    beats = tuple(
        (
            _x(t, length),
            f"{t // metre.bar_ticks + 1}"
            if t % metre.bar_ticks == 0
            else str(t % metre.bar_ticks // metre.beat_ticks + 1),
            t % metre.bar_ticks == 0,
        )
        for t in range(0, length, metre.beat_ticks)
    )
    steps = tuple(_x(t, length) for t in range(0, length, step_ticks))
    return GrooveLine(tuple((d, y[d]) for d in lanes), dots, beats, steps, TOP + LANE * len(lanes) + FOOT, largest)


def _x(tick: int, length: int) -> float:
    return round(100.0 * tick / length, 3)


def difference_line(first: Beat, second: Beat, told: Sequence[HitChange]) -> GrooveLine:
    """A small line of both beats: hits they share, and those by which they differ."""
    length = max(first.length_ticks, second.length_ticks)
    lanes = sorted({*first.drums, *second.drums}, key=RANK.__getitem__, reverse=True)
    y = {drum: 2 + SMALL_LANE * (i + 0.5) for i, drum in enumerate(lanes)}
    kinds = {(c.drum, c.tick): c for c in told}
    dots = [
        Dot(h.drum, h.tick, h.velocity, _x(h.tick, length), y[h.drum], radius(h.velocity, 3.9))
        for h in first.hits
        if (h.drum, h.tick) not in kinds
    ]
    dots += [
        Dot(c.drum, c.tick, c.velocity, _x(c.tick, length), y[c.drum], radius(c.velocity, 4.4), c.kind) for c in told
    ]
    beats = tuple((_x(t, length), "", t % first.metre.bar_ticks == 0) for t in range(0, length, first.metre.beat_ticks))
    return GrooveLine(tuple((d, y[d]) for d in lanes), tuple(dots), beats, (), 4 + SMALL_LANE * len(lanes), 4.4)
