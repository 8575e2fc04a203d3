"""What carries a join, as the document keeps it: devices that count from the one of a section, and a build that leads to it."""

from __future__ import annotations

from typing import Annotated

from escalera.core.document.fields import AsMapping, choice, number, part
from escalera.core.document.limits import MAX_LAYERS
from escalera.core.palette.join_kinds import JOIN_KINDS, JoinKind
from escalera.core.palette.parameters import Settings, setting
from escalera.lazy_dataclasses import dataclass

MAX_JOIN_TICKS = 960 * 4 * 64
MAX_JOIN_DEVICES = 32
MAX_BUILD_BARS = 64
MAX_LOOPS = 16
TENSION_SHAPES = ("straight", "late", "two waves", "false drop")


@dataclass(frozen=True, slots=True)
class JoinDevice:
    """Something that carries the join into a section. `start_ticks` counts from the section's first tick and is negative before it.

    `layer_id` is the layer that plays it, 0 where it needs none. A parked one is kept and makes no sound: the join it
    was made for is gone.
    """

    id: int
    kind: Annotated[str, choice("Kind", tuple(JOIN_KINDS), required=True)]
    start_ticks: Annotated[int, number("Start", -MAX_JOIN_TICKS, MAX_JOIN_TICKS, "ticks")]
    length_ticks: Annotated[int, number("Length", 1, MAX_JOIN_TICKS, "ticks")]
    layer_id: Annotated[int, number("Layer", 0, scale="id", help="that plays it; 0 is none")] = 0
    settings: Annotated[Settings, AsMapping(), part("Parameters of the device")] = ()
    parked: Annotated[bool, part("Parked", help="its join is gone; it is kept and makes no sound")] = False

    @property
    def of(self) -> JoinKind:
        return JOIN_KINDS[self.kind]

    @property
    def end_ticks(self) -> int:
        return self.start_ticks + self.length_ticks

    def value(self, key: str) -> float:
        return setting(self.settings, self.of.parameter_by_key[key])

    def chosen(self, key: str) -> str:
        """The name that a choice stands at."""
        return self.of.parameter_by_key[key].choices[round(self.value(key))]


@dataclass(frozen=True, slots=True)
class Build:
    """A build over the last bars before a section, as one gesture: what plays, how its loop shortens, and what moves.

    `shape` is the way its tension takes; everything that moves follows it. `loops_ticks` are the lengths that the
    material is repeated at, longest first. Zeros leave a part of it out.
    """

    bars: Annotated[int, number("Length of the build", 1, MAX_BUILD_BARS, "bars")] = 4
    shape: Annotated[str, choice("Tension", TENSION_SHAPES)] = "straight"
    keeps: Annotated[tuple[int, ...], part("Kept layers", MAX_LAYERS, help="ids; of what plays before it")] = ()
    shows: Annotated[
        tuple[int, ...], part("Shown layers", MAX_LAYERS, help="ids; of what comes after it, filtered")
    ] = ()
    loops_ticks: Annotated[tuple[int, ...], part("Loop lengths", MAX_LOOPS, help="ticks, longest first")] = ()
    doubles: Annotated[bool, part("Notes twice as fast in the last stage")] = False
    roll_layer_id: Annotated[int, number("Roll", 0, scale="id", help="the layer that rolls; 0 is none")] = 0
    filter_from_hz: Annotated[float, number("Low-pass from", 0, 20_000, "Hz", help="0 leaves filters alone")] = 0.0
    level_from_db: Annotated[float, number("Level from", -40, 0, "dB")] = 0.0
    rise_semitones: Annotated[int, number("Rises by", 0, 24, "semitones")] = 0
    narrows: Annotated[bool, part("Width closes, and opens with what follows")] = False
    lows_out_ticks: Annotated[int, number("Low end out for the last", 0, MAX_JOIN_TICKS, "ticks")] = 0
    gap_ticks: Annotated[int, number("Stop before the one", 0, MAX_JOIN_TICKS, "ticks")] = 0
    parked: Annotated[bool, part("Parked", help="its join is gone; it is kept and makes no sound")] = False


def tension_at(shape: str, share: float) -> float:
    """How far a build's tension has come, 0..1, at a share 0..1 of its length."""
    share = min(1.0, max(0.0, share))
    if shape == "late":
        return float(share**2.5)
    if shape == "two waves":
        return 1.4 * share if share < 0.5 else 0.3 + 1.4 * (share - 0.5)
    if shape == "false drop":
        if share < 0.75:
            return share / 0.75 * 0.9
        return 0.3 + 0.7 * (share - 0.75) / 0.25 if share >= 0.8125 else 0.3
    return share
