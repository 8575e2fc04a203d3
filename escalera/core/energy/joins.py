"""What carries a join: the devices in the last phrase before it and on the first beat after it."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.caching import Results
from escalera.core.energy.model import SectionCore
from escalera.core.reading.events import START, VELOCITY, Events

# device: (what is said, sign on the medallion)
DEVICES = {
    "rise": ("a riser climbs into it", "slash"),
    "roll": ("the drums roll into it", "bars"),
    "opening": ("a filter opens into it", "wedge"),
    "crash": ("a crash on the one", "diamond"),
    "pickup": ("a pickup leads in", "hook"),
    "gap": ("a gap before it", "ring"),
    "kick leaves": ("the kick stops there", "down"),
    "kick enters": ("the kick comes in there", "up"),
    "nothing": ("nothing carries it", "hollow"),
}
ROLL_HITS_PER_BEAT = 3.0


_kept: Results[tuple[str, ...]] = Results(512)


def join_devices(left: SectionCore, right: SectionCore) -> tuple[str, ...]:
    """Devices at the join of two neighbouring sections, strongest first; ('nothing',) where there are none. Remembered while they play
    the same."""
    return _kept.get_or_make((left.heard, right.heard), lambda: tuple(_devices(left, right)) or ("nothing",))


def _devices(left: SectionCore, right: SectionCore) -> Iterator[str]:
    before, after = left.span, right.span
    tail, end = before.phrase_ticks()[-1][0], before.length_ticks
    last_beat = end - before.bar_metres[-1].beat_ticks
    if any(_starts(events, tail - 1) for layer, events in left.playing if layer.sound.rise):
        yield "rise"
    if _hits(left, last_beat, end, ("snare", "clap")) >= ROLL_HITS_PER_BEAT:
        yield "roll"
    if any(p.variation.slope > 0 and p.end_ticks == end for p in before.section.placements):
        yield "opening"
    if _hits(right, -1, after.bar_metres[0].beat_ticks // 4, ("crash",)):
        yield "crash"
    if any((events.table[:, START] < 0).any() for _, events in right.playing):
        yield "pickup"
    if not _all_starts(left, last_beat) and _all_starts(left, tail) > 3:
        yield "gap"
    kicks = _hits(left, tail, end, ("kick",)), _hits(right, -1, after.bar_ticks[1], ("kick",))
    if kicks[0] and not kicks[1]:
        yield "kick leaves"
    if kicks[1] and not kicks[0]:
        yield "kick enters"


def _hits(core: SectionCore, low: int, high: int, drums: tuple[str, ...]) -> float:
    total = 0.0
    for layer, events in core.playing:
        if layer.sound.drum in drums:
            inside = events.table[(events.table[:, START] >= low) & (events.table[:, START] < high)]
            total += float(inside[:, VELOCITY].clip(max=100).sum()) / 100.0
    return total


def _all_starts(core: SectionCore, low: int) -> int:
    return sum(_starts(events, low) for _, events in core.playing)


def _starts(events: Events, low: int) -> int:
    return int((events.table[:, START] >= low).sum())
