"""What shapes a sound: effects in chains, stacked sounds, prints, and curves that move parameters.

Times inside a section are ticks from its start.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.fields import AsMapping, choice, number, part, text
from escalera.core.document.limits import (
    MAX_CHAIN,
    MAX_LANE,
    MAX_LEVEL_DB,
    MAX_NAME,
    MAX_POINTS,
    MAX_REASON,
    MAX_SEND_DB,
    MIN_LEVEL_DB,
)
from escalera.core.document.recordings import Clip
from escalera.core.palette.effects import EFFECT_BY_KEY, EffectKind
from escalera.core.palette.parameters import Parameter, Settings, setting
from escalera.core.palette.sound_kind import FAMILIES
from escalera.lazy_dataclasses import dataclass

SHAPES = ("line", "ease", "hold", "wave", "steps")


@dataclass(frozen=True, slots=True)
class Device:
    """An effect in a chain."""

    id: int
    key: Annotated[str, text("Effect", MAX_NAME, required=True)]
    settings: Annotated[Settings, AsMapping(), part("Settings")] = ()
    on: bool = True

    @property
    def kind(self) -> EffectKind:
        return EFFECT_BY_KEY[self.key]

    def value(self, key: str) -> float:
        return setting(self.settings, self.kind.parameter_by_key[key])


@dataclass(frozen=True, slots=True)
class StackPart:
    """A further sound that a layer's notes play, with its own level, offset, polarity and place."""

    id: int
    sound_key: Annotated[str, text("Sound", MAX_NAME, required=True)]
    settings: Annotated[Settings, AsMapping(), part("Settings")] = ()
    level_db: Annotated[float, number("Level", -40, 12, "dB")] = 0.0
    offset_ms: Annotated[float, number("Delay", 0, 100, "ms")] = 0.0
    inverted: Annotated[bool, part("Polarity inverted")] = False
    pan: Annotated[float, number("Pan", -1, 1)] = 0.0
    reason: Annotated[str, text("Reason", MAX_REASON)] = ""
    clip: Annotated[Clip | None, part("Recording", help="what a stacked recording plays")] = None


@dataclass(frozen=True, slots=True)
class Bus:
    """What the layers of a family pass through together."""

    family: Annotated[str, choice("Family", FAMILIES)]
    level_db: Annotated[float, number("Level", MIN_LEVEL_DB, MAX_LEVEL_DB, "dB")] = 0.0
    devices: Annotated[tuple[Device, ...], part("Effects", MAX_CHAIN)] = ()


@dataclass(frozen=True, slots=True)
class Print:
    """Frozen audio of a layer in a section: it sounds wherever the layer's notes have this content.

    `offset` is where its first sample lies from the section's start; `audio` names it in the store.
    """

    content: str
    audio: str
    offset: int


@dataclass(frozen=True, slots=True)
class Treatment:
    """Another value of one of a layer's parameters, in one section only. `lane` is relative to the layer."""

    layer_id: int
    lane: Annotated[str, text("Parameter", MAX_LANE, required=True)]
    value: float


@dataclass(frozen=True, slots=True)
class Throw:
    """A stretch of a layer that is sent into a shared space, only there."""

    layer_id: int
    start_ticks: int
    end_ticks: int
    to: Annotated[str, text("Shared space", MAX_NAME)] = "echo"
    level_db: Annotated[float, number("Level", -40, MAX_SEND_DB, "dB")] = -3.0


Point = tuple[int, float, str]  # tick, value, shape of the way to the next point


@dataclass(frozen=True, slots=True)
class Curve:
    """A parameter moving over one section: points in order, held before the first and after the last.

    `rate_ticks` is the period of waves and the length of steps. A wave swings between its point's value and the
    next one's, beginning at its own; steps climb from one to the other.
    """

    lane: Annotated[str, text("Parameter", MAX_LANE, required=True)]
    points: Annotated[tuple[Point, ...], part("Points", MAX_POINTS, required=True, help="tick, value, shape")]
    rate_ticks: Annotated[int, number("Rate", 1, 100_000, "ticks")] = 960

    def at(self, ticks: NDArray[np.float64], parameter: Parameter) -> NDArray[np.float64]:
        """Values at ticks, along the parameter's scale (by ratio for frequencies).

        `ticks` of any shape, counted from the section’s start; the answer has that shape, in the parameter’s unit.
        """
        log = parameter.scale == "log"
        values = [math.log(v) if log else v for _, v, _ in self.points]
        edges = [t for t, _, _ in self.points]
        out = np.full(len(ticks), values[0])
        for i, (tick, _, shape) in enumerate(self.points):
            inside = ticks >= tick
            if i + 1 == len(self.points):
                out[inside] = values[i]
                break
            inside &= ticks < edges[i + 1]
            out[inside] = self._way(shape, ticks[inside] - tick, edges[i + 1] - tick, values[i], values[i + 1])
        return np.exp(out) if log else out

    def _way(self, shape: str, since: NDArray[np.float64], length: int, a: float, b: float) -> NDArray[np.float64]:
        share = since / max(1, length)
        if shape == "hold":
            share = share * 0.0
        elif shape == "ease":
            share = share * share * (3.0 - 2.0 * share)
        elif shape == "wave":
            share = 0.5 - 0.5 * np.cos(2.0 * np.pi * since / self.rate_ticks)
        elif shape == "steps":
            count = max(1, round(length / self.rate_ticks))
            share = np.minimum(np.floor(share * count), count - 1) / max(1, count - 1)
        return a + (b - a) * share

    def one(self, tick: float, parameter: Parameter) -> float:
        return float(self.at(np.array([float(tick)]), parameter)[0])

    def cut(self, low: int, high: int, parameter: Parameter) -> tuple[Point, ...]:
        """The points between two ticks, from `low` on counted from there, with the values at both ends kept.

        A part of an eased way, a wave or steps is no such way of its own; short lines follow it.
        """
        found: dict[int, Point] = {}
        edges = [t for t, _, _ in self.points]
        first = max(0, bisect_right(edges, low) - 1)
        for i in range(first, len(self.points)):
            tick, value, shape = self.points[i]
            until = edges[i + 1] if i + 1 < len(edges) else max(high, tick)
            if tick >= high:
                break
            start, end = max(tick, low), min(until, high)
            if (start, end) == (tick, until) or shape in ("line", "hold"):
                found[start - low] = (start - low, value if start == tick else self.one(start, parameter), shape)
                continue
            for t in self._marks(shape, tick, until, start, end):
                way = "hold" if shape == "steps" else "line"
                found[t - low] = (t - low, self.one(t, parameter), way)
        found.setdefault(0, (0, self.one(low, parameter), "hold"))
        found[high - low] = (high - low, self.one(high, parameter), "line")
        return tuple(found[t] for t in sorted(found))

    def _marks(self, shape: str, tick: int, until: int, start: int, end: int) -> list[int]:
        """Ticks at which a part of an eased way, a wave or steps is read: closely, or where steps begin."""
        if shape == "steps":
            count = max(1, round((until - tick) / self.rate_ticks))
            edges = [tick + -(-k * (until - tick) // count) for k in range(count)]
            return sorted({start, *(t for t in edges if start < t < end)})
        count = 16 if shape == "ease" else min(96, max(16, 12 * (end - start) // self.rate_ticks))
        marks = np.unique(np.linspace(start, end, count + 1).astype(int))[:-1].tolist()
        return sorted({*marks, end - 1}) if shape == "wave" else marks  # a wave may end in a jump
