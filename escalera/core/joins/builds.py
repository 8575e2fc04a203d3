"""A build made of one gesture: loops that shorten, a roll, filters, levels and width that all follow one line of tension."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.document.carriers import Build, tension_at
from escalera.core.document.song import Layer, Variation
from escalera.core.joins.actions import DIVISION_TICKS, silences, struck
from escalera.core.joins.workings import Join, Workings
from escalera.core.palette.join_kinds import DIVISIONS
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.pattern import FIXED, Pattern

ROLL_DIVISIONS = DIVISIONS[1:]
FULL_HZ = 18_000.0
Stage = tuple[int, int, int]  # first tick and the one after the last, counted from the one; which of the loops


def build_ticks(span: Span, build: Build) -> int:
    """Length of a build's bars at the end of a section; the whole section where it is shorter."""
    return span.length_ticks - span.bar_ticks[max(0, span.section.bars - build.bars)]


def stages(build: Build, low: int, high: int, beat: int) -> list[Stage]:
    """Stretches of one loop length, changing on beats as the tension climbs."""
    count = max(1, len(build.loops_ticks))
    found: list[Stage] = []
    for start in range(low, high, beat):
        index = min(count - 1, int(tension_at(build.shape, (start - low) / (high - low)) * count))
        if found and found[-1][2] == index:
            found[-1] = (found[-1][0], min(high, start + beat), index)
        else:
            found.append((start, min(high, start + beat), index))
    return found


def lay_build(work: Workings, join: Join, build: Build) -> None:
    """All of a build into the section before the join; nothing where there is none."""
    left = join.left
    if left is None:
        return
    low, beat = -build_ticks(left, build), left.bar_metres[-1].beat_ticks
    high = min([0, *(a for a, b in silences(work, join) if b >= 0)])  # it ends where the silence before the one begins
    if low >= high:
        return
    rows = stages(build, low, high, beat)
    moving = [x for x in map(work.layer, (*build.keeps, *build.shows)) if x]
    for layer in moving:
        _loop(work, join, build, layer, rows, low)
    roller = work.layer(build.roll_layer_id)
    if roller:
        work.play(join, roller, struck(roller, _roll(build, low, high), high, 48, 118), low, high)
    _moves(work, join, build, moving, low, high, beat)
    if build.lows_out_ticks:
        lows = [x for x in work.layers() if x.family == "low end" or x.sound.is_kick]
        work.silence(join, lows, max(low, -build.lows_out_ticks), high)
    if build.gap_ticks:
        work.silence(join, work.layers(), -build.gap_ticks, 0)
        work.mute(join, -build.gap_ticks, 0)


def _loop(work: Workings, join: Join, build: Build, layer: Layer, rows: list[Stage], low: int) -> None:
    """One layer's material, the first so many ticks of it again and again."""
    left = join.left
    assert left is not None
    source, at = _source(work, join, build, layer, low)
    if source is None:
        return
    whole = -low
    shift = 0 if layer.sound.is_drum else left.section.shift_semitones
    events = [(s - at, d, p - shift, v) for s, d, p, v in work.events(source, layer) if at <= s]
    held_back = build.lows_out_ticks if layer.family == "low end" or layer.sound.is_kick else 0
    for a, b, index in rows:
        b = min(b, -held_back) if held_back else b
        if a >= b:
            continue
        length = build.loops_ticks[index] if build.loops_ticks else whole
        mine = [(s, min(d, length - s), FIXED, p, 0, v) for s, d, p, v in events if s < length]
        if mine:
            last = index == max(r[2] for r in rows)
            rise = (
                round(build.rise_semitones * index / max(1, len(build.loops_ticks) - 1))
                if not layer.sound.is_drum
                else 0
            )
            variation = Variation(transpose_semitones=rise, double=build.doubles and last and len(rows) > 1)
            start = a + left.length_ticks
            work.clear(left.section, layer, start, b + left.length_ticks)
            work.place(left.section, layer, Pattern(length, mine), start, b + left.length_ticks, variation)


def _source(work: Workings, join: Join, build: Build, layer: Layer, low: int) -> tuple[Span | None, int]:
    """Where a layer's material comes from: what is shown from the section after, what is kept from the build's own bars, or from
    the end of the section before it."""
    if layer.id in build.shows:
        return join.right, 0
    assert join.left is not None
    start = join.left.length_ticks + low
    if any(s >= start for s, *_ in work.events(join.left, layer)):
        return join.left, start
    if join.index > 1:
        before = work.line.spans[join.index - 2]
        return before, before.bar_ticks[max(0, before.section.bars - build.bars)]
    return None, 0


def _roll(build: Build, low: int, high: int) -> list[int]:
    """Onsets whose note values follow the tension; the last one ends where the build ends."""
    found, at = [], low
    while at < high:
        tension = tension_at(build.shape, (at - low) / (high - low))
        step = DIVISION_TICKS[ROLL_DIVISIONS[min(len(ROLL_DIVISIONS) - 1, int(tension * len(ROLL_DIVISIONS)))]]
        found.append(at)
        at += min(step, high - at)
    return found


def _moves(work: Workings, join: Join, build: Build, moving: list[Layer], low: int, high: int, beat: int) -> None:
    grid = [*range(low, high, beat), high]
    tension = [tension_at(build.shape, (t - low) / (high - low)) for t in grid]
    for lane, values in _lanes(work, join, build, moving, tension):
        work.move(join, lane, low, high, list(zip(grid, values)))


def _lanes(
    work: Workings, join: Join, build: Build, moving: list[Layer], tension: list[float]
) -> Iterator[tuple[str, list[float]]]:
    assert join.left is not None
    section = join.left.section
    for layer in moving:
        name = f"layer.{layer.id}"
        if build.filter_from_hz and not layer.sound.is_drum and layer.family != "low end":
            yield f"{name}.lowpass_hz", [build.filter_from_hz * (FULL_HZ / build.filter_from_hz) ** t for t in tension]
        if build.level_from_db:
            still = work.value(section, f"{name}.level_db")
            yield f"{name}.level_db", [still + build.level_from_db * (1.0 - t) for t in tension]
    if build.narrows:
        for layer in work.layers():
            pan = work.value(section, f"layer.{layer.id}.pan")
            if abs(pan) > 0.05:
                yield f"layer.{layer.id}.pan", [pan * (1.0 - t) for t in tension]
