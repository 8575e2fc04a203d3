"""One section mixed: units entered block by block, ducked and sent, through shared spaces, buses and the mix's effects."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Executor, Future
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.lazy_dataclasses import dataclass
from escalera.sound.buffers import silent
from escalera.sound.compilation import bus
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.effect_stage import Stage
from escalera.sound.plan import (
    SEND_PATHS,
    Chain,
    Duck,
    Part,
    Plan,
    tail_of,
    used_returns,
)
from escalera.sound.spaces import Spaces, most_buffers, order_of
from escalera.sound.spec import BLOCK, Moving, TempoPoints, block_ticks
from escalera.sound.unit import Unit, extent

FADE = 2048
AT_ONCE = 2  # units that are entered together
UNITS_AT_HAND = 2  # stereo buffers that those take which are entered, and those on their way
EARLY = 2  # of the last parts, which take longest, that are begun with the first ones
SUM_BLOCK = 32768
DUCK_ATTACK, DUCK_HOLD = 96, 900  # samples
THROW_FADE = 220
Samples = NDArray[np.float32]
NONE: Samples = np.zeros(0, np.float32)
STEPS: Samples = np.arange(BLOCK).astype(np.float32)


@dataclass(frozen=True, eq=False)
class SectionMix:
    """Stereo audio (2, n) of all that starts in a section, from `offset` samples after its start, before the master.

    `buses` holds the families whose bus answers to level, apart from the rest, over the same samples.
    """

    offset: int
    audio: Samples
    buses: dict[str, Samples] = field(default_factory=dict)

    @property
    def nbytes(self) -> int:
        return self.audio.nbytes + sum(b.nbytes for b in self.buses.values()) + 64


def mix_arrays(mix: SectionMix) -> dict[str, NDArray[Any]]:
    """A mix as named arrays, as they are kept in a .npz file: `audio` and each `bus …` of shape (2, n)."""
    return {"offset": np.array(mix.offset), "audio": mix.audio} | {f"bus {n}": a for n, a in mix.buses.items()}


def mix_from(found: Mapping[str, NDArray[Any]]) -> SectionMix:
    """The mix, audio (2, n), that `mix_arrays` wrote. KeyError or ValueError where it is none."""
    return SectionMix(int(found["offset"]), found["audio"], {n[4:]: found[n] for n in found if n.startswith("bus ")})


@dataclass(eq=False)
class Desk:
    """The buffers of a section while it is mixed."""

    first: int
    out: Samples
    buses: dict[str, Samples]
    spaces: Spaces
    ducks: dict[Duck, Samples] = field(default_factory=dict)

    def duck(self, part: Part) -> Samples:
        """Gain over the mix by which a part is ducked; none where it is not, or by what is silent."""
        return self.ducks.get(part.duck, NONE) if part.duck else NONE

    def target(self, family: str) -> Samples:
        return self.buses.get(family, self.out)


Begin = Callable[[Part], Future[Unit]]


def room_of(plan: Plan, until: int | None = None) -> int:
    """About how many bytes mixing takes at most: the mix, its buses and spaces, and the units at hand."""
    length = plan.reach if until is None else min(plan.reach, until)
    return 8 * length * (1 + len(set(plan.buses) | plan.dynamic) + most_buffers(plan, AT_ONCE) + UNITS_AT_HAND)


def mix_section(
    plan: Plan,
    begin: Begin,
    until: int | None = None,
    spaces_only: bool = False,
    beside: Executor | None = None,
) -> SectionMix:
    """Mix the parts; with `until` only so many samples from the section's start, equal to those of the whole; or only what the shared
    spaces bring.

    `begin` asks for a part's sound. A few are asked for at a time, so that a long section does not hold all of them. Sums and spaces
    are worked out by `beside` as well, with the same result; nothing else may wait in it.
    """
    parts = [part for part in plan.parts if len(part.notes.start) and (not spaces_only or used_returns([part]))]
    edges = [_edges(part, begin) for part in parts]
    if not any(end > start for start, end in edges):
        return SectionMix(0, np.zeros((2, 0), np.float32))
    first, last = min(start for start, _ in edges), max(end for _, end in edges)
    used = used_returns(parts)
    tail = tail_of(used, plan.returns, plan.buses, plan.master, plan.quarter)
    whole = last - first + tail
    length = whole if until is None else min(whole, max(0, until - first))
    families = set(plan.buses) | plan.dynamic

    def still() -> Samples:
        return silent(2, length)

    spaces = Spaces(plan, parts, length, order_of(plan, AT_ONCE), beside)
    desk = Desk(first, still(), {f: still() for f in sorted(families)}, spaces)
    _fill(plan, parts, begin, desk, spaces_only, beside)
    _finish(plan, desk)
    if tail and length == whole:
        for audio in (desk.out, *desk.buses.values()):
            audio[:, -FADE:] *= np.linspace(1.0, 0.0, FADE, dtype=np.float32) ** 2
    return SectionMix(first, desk.out, {f: desk.buses[f] for f in sorted(plan.dynamic) if f in desk.buses})


def _fill(plan: Plan, parts: list[Part], begin: Begin, desk: Desk, spaces_only: bool, beside: Executor | None) -> None:
    """Enter the parts' sound, and hold nothing longer than it is needed."""
    ducked = [part.duck for part in parts]
    for some, units in _together(parts, begin):
        _duck(plan, some, desk)
        _enter(plan, some, units, desk, spaces_only, beside)
        desk.spaces.entered(some)
        del ducked[: len(some)], units
        desk.ducks = {duck: curve for duck, curve in desk.ducks.items() if duck in ducked}


def _together(parts: list[Part], begin: Begin) -> Iterator[tuple[list[Part], list[Unit]]]:
    """A few parts at a time with their sound; the next few are begun before these are handed on, the longest ones at once."""
    early = {part.key: begin(part) for part in parts[-EARLY:]}
    groups = [parts[low : low + AT_ONCE] for low in range(0, len(parts), AT_ONCE)]

    def begun(group: list[Part]) -> list[Future[Unit]]:
        return [early.pop(part.key) if part.key in early else begin(part) for part in group]

    waiting = deque(begun(group) for group in groups[:1])
    for group, following in zip(groups, [*groups[1:], []]):
        waiting.append(begun(following))
        yield group, [each.result() for each in waiting.popleft()]


def _edges(part: Part, begin: Begin) -> tuple[int, int]:
    """First sample of a part's sound and the one after its last; known without rendering, but for what was printed."""
    if part.printed:
        unit = begin(part).result()
        return unit.offset, unit.end
    where = extent(part.spec, part.notes)
    return where.offset, where.end


def _enter(
    plan: Plan,
    parts: list[Part],
    units: list[Unit],
    desk: Desk,
    spaces_only: bool,
    beside: Executor | None,
) -> None:
    """Add units to the mix, buses and sends, block by block, so that a block stays in the processor's cache."""
    rows = [row for part, unit in zip(parts, units) for row in _ways(plan, part, unit, desk)]
    if spaces_only:
        rows = [row for row in rows if any(row[0] is source for source in desk.spaces.sources)]
    length = desk.out.shape[1]
    middle = length // 2 // SUM_BLOCK * SUM_BLOCK if beside else length
    second = beside.submit(_enter_between, rows, middle, length) if beside else None
    _enter_between(rows, 0, middle)
    if second:
        second.result()


def _enter_between(rows: list[Way], first: int, last: int) -> None:
    places = np.zeros(3, np.int64)
    for low in range(first, last, SUM_BLOCK):
        places[1], places[2] = low, min(low + SUM_BLOCK, last)
        for target, left, right, curve_l, curve_r, at, gain_l, gain_r in rows:
            if at < places[2] and at + len(left) > low:
                places[0] = at
                bus.enter(target, left, right, curve_l, curve_r, places, gain_l, gain_r)


Way = tuple[Samples, Samples, Samples, Samples, Samples, int, float, float]


def _ways(plan: Plan, part: Part, unit: Unit, desk: Desk) -> list[Way]:
    """Where a unit goes: (target, left, right, curve left, curve right, place, gains) for the mix and every send."""
    g, at = part.gains, unit.offset - desk.first
    duck = desk.duck(part)
    target = desk.target(part.family)
    if part.moving:
        return _moving_ways(plan, part, unit, desk, duck)
    left, right = g.level * g.left, g.level * g.right
    ways: list[Way] = [(target, unit.left, unit.right, duck, duck, at, left, right)] if g.level else []
    ways += [
        (desk.spaces.source(i), unit.left, unit.right, duck, duck, at, left * send, right * send)
        for i, send in enumerate(g.sends)
        if send and g.level
    ]
    return ways + _throw_ways(part, unit, desk, duck, left, right)


def _moving_ways(plan: Plan, part: Part, unit: Unit, desk: Desk, duck: Samples) -> list[Way]:
    """As `_ways` where level, place or sends move: their curves are written out for every sample."""
    length, g = desk.out.shape[1], part.gains
    moving = {m.slot: m for m in part.moving}
    blocks = -(-length // BLOCK)
    ticks = block_ticks(plan.tempo, desk.first, blocks)

    def curve(slot: str, still: float) -> NDArray[np.float64]:
        return _amplitudes(moving[slot].at(ticks)) if slot in moving else np.full(blocks + 1, still)

    level = curve("level_db", g.level)
    if "pan" in moving:
        angle = (moving["pan"].at(ticks) + 1.0) * np.pi / 4.0
        sides = level * np.sqrt(2.0) * np.cos(angle), level * np.sqrt(2.0) * np.sin(angle)
    else:
        sides = level * g.left, level * g.right
    at, ways = unit.offset - desk.first, []
    ducked = duck if len(duck) else np.ones(length, np.float32)
    left, right = (_per_sample(s, length) * ducked for s in sides)
    ways.append((desk.target(part.family), unit.left, unit.right, left, right, at, 1.0, 1.0))
    for i, slot in enumerate(SEND_PATHS):
        if slot in moving or g.sends[i]:
            send = _per_sample(curve(slot, g.sends[i]), length)
            ways.append((desk.spaces.source(i), unit.left, unit.right, left * send, right * send, at, 1.0, 1.0))
    if part.throws:  # the level's curve is already part of the gains that stand in for ducking
        ways += _throw_ways(part, unit, desk, left, 1.0, 1.0)
    return ways


def _amplitudes(level_db: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.where(level_db <= -59.5, 0.0, 10.0 ** (level_db / 20.0))


def _per_sample(values: NDArray[np.float64], length: int) -> Samples:
    """Control values run straight between their grid points."""
    start, step = values[:-1].astype(np.float32), (np.diff(values) / BLOCK).astype(np.float32)
    rows: Samples = step[:, None] * STEPS
    rows += start[:, None]
    return np.ascontiguousarray(rows.reshape(-1)[:length])


def _throw_ways(part: Part, unit: Unit, desk: Desk, duck: Samples, left: float, right: float) -> list[Way]:
    """Each throw's stretch of the unit, with short ramps about it so that no wave is cut apart, on its way into a space."""
    ways: list[Way] = []
    for low, high, i, gain in part.throws:
        a, b = max(unit.offset, low - THROW_FADE), min(unit.end, high + THROW_FADE)
        b = min(b, desk.first + desk.out.shape[1])
        if a >= b:
            continue
        at = np.arange(a, b)
        window = np.minimum(
            np.clip((at - low + THROW_FADE) / THROW_FADE, 0, 1), np.clip((high + THROW_FADE - at) / THROW_FADE, 0, 1)
        )
        if len(duck):
            window = window * duck[a - desk.first : b - desk.first]
        x, y = (
            np.ascontiguousarray(s[a - unit.offset : b - unit.offset] * window, np.float32)
            for s in (unit.left, unit.right)
        )
        ways.append((desk.spaces.source(i), x, y, NONE, NONE, a - desk.first, left * gain, right * gain))
    return ways


def _duck(plan: Plan, parts: list[Part], desk: Desk) -> None:
    """Have the curves by which parts are ducked, one for every source, depth and release."""
    for part in parts:
        if part.duck and part.duck not in desk.ducks and len(plan.onsets[part.duck[0]]):
            desk.ducks[part.duck] = duck_gain(plan, part.duck, desk.first, desk.out.shape[1])


def duck_gain(plan: Plan, duck: Duck, first: int, length: int) -> Samples:
    """Gain of one ducking over `length` samples from `first` samples after the section's start."""
    source, depth_db, release_beats = duck
    curve = np.ones(length, np.float32)
    release = max(64, round(release_beats * plan.beat))
    depth = 1.0 - 10.0 ** (-depth_db / 20.0)
    bus.duck_curve(curve, plan.onsets[source] - first, depth, DUCK_ATTACK, DUCK_HOLD, release)
    return curve


def _finish(plan: Plan, desk: Desk) -> None:
    """Shared spaces and buses, then the mix's own effects."""

    def buses() -> None:
        for family, chain in plan.buses.items():
            desk.buses[family] = through(chain, desk.buses[family], desk.first, plan.quarter, plan.tempo)

    desk.spaces.finish(desk.out, buses if plan.buses else None)
    for family in plan.buses:
        if family not in plan.dynamic:
            desk.out += desk.buses.pop(family)
    if not plan.master.idle:
        desk.out = through(plan.master, desk.out, desk.first, plan.quarter, plan.tempo)
        for family in plan.dynamic:
            desk.buses[family] = through(plan.master, desk.buses[family], desk.first, plan.quarter, plan.tempo)


def through(chain: Chain, audio: Samples, first: int, quarter: float, tempo: TempoPoints) -> Samples:
    """Audio (2, n) through a bus's effects and level."""
    blocks = -(-audio.shape[1] // BLOCK)
    for index, (key, settings) in enumerate(chain.devices):
        prefix = f"fx.{index}."
        moving = {
            m.slot[len(prefix) :]: _values(m, tempo, first, blocks) for m in chain.moving if m.slot.startswith(prefix)
        }
        audio = PROCESSES[key].process(audio, Stage(key, settings, first, audio.shape[1], quarter, 0, moving))
    level = next((m for m in chain.moving if m.slot == "level_db"), None)
    if level is not None:
        gain = _amplitudes(level.at(block_ticks(tempo, first, blocks))).astype(np.float32)
        for channel in audio:
            bus.apply_gain(channel, gain, BLOCK)
    elif chain.level != 1.0:
        audio *= np.float32(chain.level)
    return np.ascontiguousarray(audio)


def _values(moving: Moving, tempo: TempoPoints, first: int, blocks: int) -> Samples:
    return moving.at(block_ticks(tempo, first, blocks)).astype(np.float32)
