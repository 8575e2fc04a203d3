"""Rules about what carries joins: alike builds, overruns, devices in each other's way, tails, what should enter on the one."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from escalera.core.checks.check import Facts, Finding, check
from escalera.core.energy.join_reading import Carrier, JoinReading, likeness
from escalera.core.reading.events import START, layer_events, sounding_layers

ALIKE = 0.8
CLIMBS = 1.0  # points from which on a join is a climb
LONG_SENDS = ("hall", "echo", "shimmer")
SENT_DB = -8.0


def _climbs(facts: Facts) -> list[JoinReading]:
    return [
        r
        for r, (a, b, _) in zip(facts.readings, facts.joins)
        if b.value - a.value > CLIMBS and (r.carriers or r.right.section.build)
    ]


@check(
    "builds alike",
    "Two climbs carried the same way",
    "The second time a listener knows what comes; one thing changed is enough.",
    "vary the join",
    "lead in",
    when=("builds", "varied"),
)
def builds_alike(facts: Facts) -> Iterator[Finding]:
    for a, b in combinations(_climbs(facts), 2):
        alike = likeness(a.carriers, b.carriers, a.beat_ticks)
        if alike >= ALIKE and len(a.carriers) > 1:
            yield Finding(
                "builds alike",
                f"{b.right.section.name} is entered as {a.right.section.name} is: {100 * alike:.0f} % alike.",
                (b.right.section.id, a.right.section.id),
                weight=0.9 + 0.3 * alike,
                facts=(round(alike, 1),),
            )


@check(
    "device overruns",
    "A device longer than its place",
    "What begins before its section, or lasts beyond the next one, is cut or sounds where it was not meant.",
)
def device_overruns(facts: Facts) -> Iterator[Finding]:
    for r in facts.readings:
        earliest = -r.left.length_ticks
        for device in facts.given.section_by_id[r.right.section.id].devices:
            late = device.end_ticks > r.right.length_ticks
            if not device.parked and (device.start_ticks < earliest or late):
                beats = (
                    device.end_ticks - r.right.length_ticks if late else earliest - device.start_ticks
                ) / r.beat_ticks
                where = f"beyond the end of {r.right.section.name}" if late else f"before {r.left.section.name} begins"
                yield Finding(
                    "device overruns",
                    f"{device.of.label} into {r.right.section.name} reaches {beats:g} beats {where}.",
                    (r.right.section.id, r.left.section.id),
                    device.layer_id,
                    0.9,
                    (device.kind, round(beats)),
                )


@check(
    "risers overlap",
    "Two risers at once",
    "Two things that climb together hide each other's end.",
    "lift",
)
def risers_overlap(facts: Facts) -> Iterator[Finding]:
    for r in facts.readings:
        rising = [
            c for c in r.carriers if c.kind in ("riser", "sweep-up") and c.end_ticks - c.start_ticks >= r.beat_ticks
        ]
        for a, b in combinations(rising, 2):
            shared = min(a.end_ticks, b.end_ticks) - max(a.start_ticks, b.start_ticks)
            if a.layer_id != b.layer_id and shared > 2 * r.beat_ticks:
                yield Finding(
                    "risers overlap",
                    f"Into {r.right.section.name} {_name(facts, a)} and {_name(facts, b)} climb together for {shared / r.beat_ticks:g} beats.",
                    (r.right.section.id, r.left.section.id),
                    a.layer_id,
                    0.8,
                    (round(shared / r.beat_ticks),),
                )


def _name(facts: Facts, carrier: Carrier) -> str:
    layer = facts.song.layer_by_id.get(carrier.layer_id)
    return layer.name if layer else carrier.of.label


@check(
    "roll too late",
    "A roll that ends after the one",
    "A roll leads to the one; what goes on after it blurs where the section begins.",
)
def roll_too_late(facts: Facts) -> Iterator[Finding]:
    for r in facts.readings:
        beat = r.beat_ticks
        for c in r.carriers:
            if c.kind != "roll":
                continue
            layer = facts.song.layer_by_id.get(c.layer_id)
            starts: list[int] = layer_events(facts.song, r.right, layer).table[:, START].tolist() if layer else []
            after = sum(0 < s < beat for s in starts)
            usual = sum(beat * 4 < s < beat * 5 for s in starts)
            if c.end_ticks > 0 or after >= max(3, usual + 2):
                yield Finding(
                    "roll too late",
                    f"The roll into {r.right.section.name} goes on after the one.",
                    (r.right.section.id, r.left.section.id),
                    c.layer_id,
                    1.2,
                    (after,),
                )


@check(
    "tail cut",
    "A tail that is cut off",
    "A throw into the echo just before a gap that cuts tails is never heard.",
)
def tail_cut(facts: Facts) -> Iterator[Finding]:
    for r in facts.readings:
        devices = [d for d in facts.given.section_by_id[r.right.section.id].devices if not d.parked]
        cuts = [d for d in devices if d.kind == "gap" and d.chosen("tails") == "cut"]
        for throw in (d for d in devices if d.kind == "echo-throw"):
            if any(
                throw.start_ticks < gap.end_ticks and throw.end_ticks > gap.start_ticks - r.beat_ticks for gap in cuts
            ):
                yield Finding(
                    "tail cut",
                    f"The echo thrown into {r.right.section.name} is cut off by the gap: let its tails ring.",
                    (r.right.section.id, r.left.section.id),
                    throw.layer_id,
                    1.1,
                    (throw.start_ticks,),
                )


@check(
    "gap filled",
    "A gap that something rings into",
    "A silence is one only when nothing is left over in it.",
)
def gap_filled(facts: Facts) -> Iterator[Finding]:
    for r in facts.readings:
        ringing = [
            d
            for d in facts.given.section_by_id[r.right.section.id].devices
            if d.kind == "gap" and not d.parked and d.chosen("tails") == "ring"
        ]
        if not (
            ringing
            or (
                r.gap_ticks >= r.beat_ticks // 2
                and not any(c.placed and c.kind in ("gap", "breath") for c in r.carriers)
            )
        ):
            continue
        begins = -max(r.gap_ticks, r.beat_ticks // 2)
        for layer in sounding_layers(facts.song, r.left.section):
            starts = layer_events(facts.song, r.left, layer).table[:, START] - r.left.length_ticks
            near = ((starts >= begins - r.beat_ticks) & (starts < begins)).any()
            sent = max((layer.send_db(space) for space in LONG_SENDS), default=-60.0)
            if near and (sent >= SENT_DB or layer.sound.drum in ("crash", "ride", "open hat")):
                why = (
                    f"{layer.name} is sent into a long space at {sent:.0f} dB"
                    if sent >= SENT_DB
                    else f"{layer.name} rings"
                )
                yield Finding(
                    "gap filled",
                    f"The gap into {r.right.section.name} is filled: {why}.",
                    (r.right.section.id, r.left.section.id),
                    layer.id,
                    1.0,
                    (round(sent),),
                )


@check(
    "weak one",
    "A drop where nothing enters on the one",
    "What everything leads to has to begin with something new, or with the low end that was missing.",
    "mark the one",
    "sub in",
    "crash",
)
def weak_one(facts: Facts) -> Iterator[Finding]:
    for r, (_, b, _) in zip(facts.readings, facts.joins):
        if b.span.section.role not in ("drop", "chorus"):
            continue
        marks = any(c.of.purpose == "marks the one" for c in r.carriers)
        if not r.enters and not marks and not r.gap_ticks:
            yield Finding(
                "weak one",
                f"Nothing enters on the one of {b.span.section.name}, and nothing marks it.",
                (b.span.section.id, r.left.section.id),
                weight=1.3,
                facts=(0,),
            )


@check(
    "low end late",
    "A drop whose low end does not come with it",
    "Low end taken out before the drop is owed on its one.",
    "sub in",
    "fill",
)
def low_end_late(facts: Facts) -> Iterator[Finding]:
    for r, (_, b, _) in zip(facts.readings, facts.joins):
        if b.span.section.role != "drop":
            continue
        lows = [x for x in sounding_layers(facts.song, r.right.section) if x.family == "low end" or x.sound.is_kick]
        firsts = [int(s.min()) for s in (layer_events(facts.song, r.right, x).table[:, START] for x in lows) if len(s)]
        if firsts and min(firsts) >= r.right.bar_ticks[1]:
            beats = min(firsts) / r.beat_ticks
            yield Finding(
                "low end late",
                f"The low end of {b.span.section.name} begins {beats:g} beats after its one.",
                (b.span.section.id, r.left.section.id),
                weight=1.4,
                facts=(round(beats),),
            )
