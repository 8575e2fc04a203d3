"""Counting along music: bars, beats, eighths, sixteenths, ticks, seconds and samples, either way.

A ruler knows where bars lie and when ticks sound. Bars count from 1 (before it 0, −1, …), so do beats and what divides
them; ticks, seconds and samples count from 0 at the ruler's start.
"""

from __future__ import annotations

from typing import Protocol

from escalera.core.time.metre import Metre
from escalera.core.time.ticks import TICKS_PER_QUARTER, seconds_to_ticks, ticks_to_seconds
from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass

RATE_HZ = 44_100
EIGHTH, SIXTEENTH = TICKS_PER_QUARTER // 2, TICKS_PER_QUARTER // 4
UNITS = ("bars", "beats", "quarters", "eighths", "sixteenths", "ticks", "seconds", "samples")
UNIT_TICKS = {"quarters": TICKS_PER_QUARTER, "eighths": EIGHTH, "sixteenths": SIXTEENTH, "ticks": 1}
MAX_TICKS = 10_000_000


class Ruler(Protocol):
    def bar_at(self, tick: float) -> tuple[int, int, Metre]:
        """The bar in which a tick lies: its number, the tick at which it starts, its metre."""
        ...

    def bar_start(self, bar: int) -> int:
        """The tick at which a bar starts."""
        ...

    def seconds_at(self, tick: float) -> float: ...

    def ticks_at(self, seconds: float) -> float: ...


@dataclass(frozen=True, slots=True)
class SteadyRuler:
    """One tempo and one metre for ever."""

    tempo_bpm: float
    metre: Metre = Metre()

    def bar_at(self, tick: float) -> tuple[int, int, Metre]:
        index = int(tick // self.metre.bar_ticks)
        return index + 1, index * self.metre.bar_ticks, self.metre

    def bar_start(self, bar: int) -> int:
        return (bar - 1) * self.metre.bar_ticks

    def seconds_at(self, tick: float) -> float:
        return ticks_to_seconds(tick, self.tempo_bpm)

    def ticks_at(self, seconds: float) -> float:
        return seconds_to_ticks(seconds, self.tempo_bpm)


@dataclass(frozen=True, slots=True)
class Moment:
    """A moment in every unit. `eighth` and `sixteenth` count inside the bar; `rest_ticks` is what is left after them."""

    tick: int
    seconds: float
    bar: int
    beat: int
    eighth: int
    sixteenth: int
    rest_ticks: int
    in_beat: int  # ticks into the beat
    beat_ticks: int

    @property
    def samples(self) -> int:
        return round(self.seconds * RATE_HZ)

    @property
    def position(self) -> str:
        """'29.3' on a beat, else '29.3.2' with the sixteenth of the beat, and a plus for ticks beyond it."""
        step = self.in_beat // SIXTEENTH + 1
        text = f"{self.bar}.{self.beat}" + (f".{step}" if self.in_beat else "")
        return text + (f" +{self.rest_ticks} ticks" if self.rest_ticks else "")

    @property
    def spoken(self) -> str:
        """As it is counted aloud: 'bar 29, three', 'bar 29, three-and', 'bar 29, three-e'."""
        word = WORDS[self.beat] if self.beat < len(WORDS) else str(self.beat)
        parts = 3 if self.beat_ticks % (3 * EIGHTH) == 0 else 4
        names = ("", "-la", "-li") if parts == 3 else ("", "-e", "-and", "-a")
        index, rest = divmod(self.in_beat * parts, self.beat_ticks)
        tail = names[index] if not rest else f" and {self.in_beat} ticks"
        return f"bar {self.bar}, {word}{tail}"


WORDS = ("", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve", "thirteen",
         "fourteen", "fifteen", "sixteen")  # fmt: skip


def place_at(ruler: Ruler, tick: int) -> Moment:
    """A tick in every unit."""
    bar, start, metre = ruler.bar_at(tick)
    into = tick - start
    beat, in_beat = divmod(into, metre.beat_ticks)
    return Moment(
        tick,
        ruler.seconds_at(tick),
        bar,
        beat + 1,
        into // EIGHTH + 1,
        into // SIXTEENTH + 1,
        in_beat % SIXTEENTH,
        in_beat,
        metre.beat_ticks,
    )


def tick_of(ruler: Ruler, bar: int, beat: float = 1.0) -> int:
    """The tick of a beat of a bar (4.5 is the second half of beat 4). Raises InputError outside the bar."""
    start = ruler.bar_start(bar)
    metre = ruler.bar_at(start)[2]
    tick = round((beat - 1) * metre.beat_ticks)
    if not 0 <= tick < metre.bar_ticks:
        raise InputError(f"Bar {bar} has {metre.beats} beats, no beat {beat:g}. Choose 1 to {metre.beats}.")
    return start + tick


def ticks_of_length(ruler: Ruler, amount: float, unit: str, start: int = 0) -> float:
    """Ticks that a length takes from a tick on. Bars and beats follow the metre there, seconds the tempo there."""
    if unit in UNIT_TICKS:
        return amount * UNIT_TICKS[unit]
    if unit in ("seconds", "samples"):
        seconds = amount / (RATE_HZ if unit == "samples" else 1.0)
        return ruler.ticks_at(ruler.seconds_at(start) + seconds) - start
    at, left = float(start), amount
    while left > 1e-9 and at < MAX_TICKS:
        bar, low, metre = ruler.bar_at(at)
        size = metre.bar_ticks if unit == "bars" else metre.beat_ticks
        room = (low + metre.bar_ticks - at) / size  # as much of it as this bar still holds
        step = min(left, room)
        at, left = at + step * size, left - step
    return at - start


def length_in(ruler: Ruler, ticks: float, unit: str, start: int = 0) -> float:
    """The inverse of `ticks_of_length`."""
    if unit in UNIT_TICKS:
        return ticks / UNIT_TICKS[unit]
    if unit in ("seconds", "samples"):
        seconds = ruler.seconds_at(start + ticks) - ruler.seconds_at(start)
        return seconds * (RATE_HZ if unit == "samples" else 1.0)
    at, end, amount = float(start), start + ticks, 0.0
    while at < end - 1e-9:
        _, low, metre = ruler.bar_at(at)
        step = min(end, low + metre.bar_ticks) - at
        amount, at = amount + step / (metre.bar_ticks if unit == "bars" else metre.beat_ticks), at + step
    return amount


@dataclass(frozen=True, slots=True)
class BarCount:
    """How many whole bars a span holds, and what is left over."""

    bars: int
    beats: int
    ticks: int

    @property
    def said(self) -> str:
        parts = [
            f"{n} {word}{'' if n == 1 else 's'}"
            for n, word in ((self.bars, "bar"), (self.beats, "beat"), (self.ticks, "tick"))
            if n
        ]
        return ", ".join(parts) or "nothing"


def bars_held(ruler: Ruler, ticks: int, start: int = 0) -> BarCount:
    """Whole bars, then beats, then ticks of a span that starts at a tick."""
    at, end, bars = start, start + ticks, 0
    while True:
        size = round(ticks_of_length(ruler, 1, "bars", at))
        if at + size > end:
            break
        at, bars = at + size, bars + 1
    beat = ruler.bar_at(at)[2].beat_ticks
    return BarCount(bars, (end - at) // beat, (end - at) % beat)
