"""What each kind of device does: one function a kind, from the device and its join to notes, silences and curves."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

from escalera.core.document.carriers import JoinDevice
from escalera.core.document.song import OFF_DB, Layer, Variation
from escalera.core.joins.workings import Join, Note, Workings
from escalera.core.palette.join_kinds import DIVISIONS, JOIN_KINDS
from escalera.core.palette.sounds import FAMILIES
from escalera.core.reading.section_harmony import section_harmony, section_key
from escalera.core.reading.timeline import Span

Act = Callable[
    [Workings, Join, JoinDevice, int, int], None
]  # the last two are its first tick and the one after its last
ACTS: dict[str, Act] = {}
DIVISION_TICKS = {name: 3840 // int(name[2:]) for name in DIVISIONS}
FADE_POINTS = 24
LEADS = ("leads", "voices")
# a fill over its length: (drums that may play it, first choice first; where, as shares; velocities from and to)
FIGURES: dict[str, tuple[tuple[tuple[str, ...], tuple[float, ...], tuple[int, int]], ...]] = {
    "falling toms": (
        (("high tom", "snare", "clap"), (0, 1 / 16, 2 / 16, 3 / 16), (90, 104)),
        (("mid tom", "snare", "rim", "clap"), (4 / 16, 5 / 16, 6 / 16, 7 / 16), (92, 106)),
        (("low tom", "snare", "clap"), (8 / 16, 9 / 16, 10 / 16, 11 / 16), (96, 110)),
        (("snare", "clap", "low tom"), (12 / 16, 14 / 16, 15 / 16), (104, 118)),
    ),
    "snare sixteenths": ((("snare", "clap", "rim"), tuple(i / 16 for i in range(16)), (64, 120)), (("kick",), (0, 0.5), (100, 100))),
    "broken": (
        (("kick",), (0, 3 / 16, 10 / 16), (108, 108)),
        (("snare", "clap", "rim"), (4 / 16, 7 / 16, 9 / 16, 12 / 16, 13 / 16, 14 / 16, 15 / 16), (86, 118)),
    ),
    "triplets": ((("snare", "clap", "rim"), tuple(i / 12 for i in range(12)), (70, 118)), (("kick",), (0, 0.25, 0.5, 0.75), (104, 104))),
}  # fmt: skip


def act(*kinds: str) -> Callable[[Act], Act]:
    """Register a function as what devices of some kinds do."""

    def register(function: Act) -> Act:
        for kind in kinds:
            ACTS[kind] = function
        return function

    return register


# sounds of their own ----------------------------------------------------------------------------------------------------


@act("riser", "sweep-up", "sweep-down", "impact", "crash", "sub-drop", "reversed-crash")
def one_note(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """One note from its start to its end, on the tonic where the sound has a pitch."""
    layer = work.layer(device.layer_id)
    if layer:
        key = section_key(work.song, join.right.section)
        pitch = _in_register(key.tonic_class, *layer.sound.register)
        work.play(
            join, layer, [(max(low, work.earliest(join)), high - max(low, work.earliest(join)), pitch, 110)], low, high
        )


@act("reversed-chord")
def reversed_chord(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    layer = work.layer(device.layer_id)
    if layer:
        classes = sorted(set(section_harmony(work.song, join.right).at(0).classes))
        bottom, top = layer.sound.register
        pitches = sorted({_in_register(c, bottom, top) for c in classes})
        start = max(low, work.earliest(join))
        work.play(join, layer, [(start, high - start, p, 100) for p in pitches], low, high)


@act("shout")
def shout(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    layer = work.layer(device.layer_id)
    if layer:
        early = any(a <= low < b for a, b in silences(work, join))
        work.play(
            join, layer, [(low, high - low, round(device.value("pitch")), 112)], low, high, early=early and low < 0
        )


def _in_register(pitch_class: int, low: int, high: int) -> int:
    """The lowest pitch of a class at or above the middle of a register, inside it; where it has one note only, that."""
    if high - low < 11:
        return low
    middle = (low + high) // 2 - 5
    pitch = middle + (pitch_class - middle) % 12
    return pitch if pitch <= high else pitch - 12


# drums ------------------------------------------------------------------------------------------------------------------


@act("roll")
def roll(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """Hits whose note values halve in equal stretches; the last one ends where the roll ends."""
    layer = work.layer(device.layer_id)
    if layer:
        starts = roll_onsets(low, high, device.chosen("from_division"), device.chosen("to_division"))
        work.play(
            join,
            layer,
            struck(layer, starts, high, device.value("from_velocity"), device.value("to_velocity")),
            low,
            high,
        )


def roll_onsets(low: int, high: int, first: str, last: str) -> list[int]:
    """Onsets of a roll over [low, high): counted back from its end, so that the last hit ends there."""
    a, b = DIVISIONS.index(first), DIVISIONS.index(last)
    steps = [DIVISION_TICKS[DIVISIONS[i]] for i in (range(a, b + 1) if a <= b else range(a, b - 1, -1))]
    share, found, at = (high - low) / len(steps), [], high
    for index in reversed(range(len(steps))):
        edge = low + round(share * index)
        while at - steps[index] >= edge:
            at -= steps[index]
            found.append(at)
    return found[::-1]


def struck(layer: Layer, starts: list[int], end: int, first: float, last: float) -> list[Note]:
    """Hits of a layer with velocities that run from first to last."""
    pitch, count = layer.sound.register[0], max(1, len(starts) - 1)
    ends = [*starts[1:], end]
    return [(s, e - s, pitch, round(first + (last - first) * i / count)) for i, (s, e) in enumerate(zip(starts, ends))]


@act("fill")
def fill(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """A figure on the song's own drums, in place of what the kit plays there."""
    kit = [x for x in work.layers() if x.sound.is_drum]
    parts: dict[int, list[Note]] = {}
    for choices, shares, (first, last) in FIGURES[device.chosen("figure")]:
        layer = next((x for drum in choices for x in kit if x.sound.drum == drum), None)
        if layer:
            starts = [low + round((high - low) * share) for share in shares]
            parts.setdefault(layer.id, []).extend(struck(layer, starts, high, first, last))
    if parts:
        work.silence(join, [x for x in kit if x.sound.drum != "crash"], low, high)
    for layer_id, notes in parts.items():
        work.play(join, work.song.layer_by_id[layer_id], sorted(notes), low, high)


# lines ------------------------------------------------------------------------------------------------------------------


@act("drawn-out")
def drawn_out(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """The last note that begins before the end is held as far as it; what the layer played after it rests."""
    layer, left = work.layer(device.layer_id), join.left
    if layer is None or left is None:
        return
    notes = [(s - left.length_ticks, d, p, v) for s, d, p, v in work.events(left, layer)]
    before = [n for n in notes if low - left.bar_ticks[1] <= n[0] < min(high, 0)]
    if before:
        last = max(n[0] for n in before)
        work.play(join, layer, [(s, high - s, p, v) for s, _, p, v in before if s == last], last, high)


@act("turnaround")
def turnaround(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """A line that falls by steps of the key, a beat each, to the root of the next section's first chord."""
    layer = work.layer(device.layer_id)
    if layer is None or join.left is None:
        return
    root = section_harmony(work.song, join.right).at(0).bass_class
    target, beat = _in_register(root, *layer.sound.register), join.left.bar_metres[-1].beat_ticks
    count = max(1, (high - low) // beat)
    steps = _scale_above(work, join.left, target, count)
    notes = [(low + i * beat, beat, p, 96) for i, p in enumerate(reversed(steps))]
    work.play(join, layer, notes, low, high)


@act("pickup")
def pickup(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """Notes that come by steps to the layer's first note after the one, from below."""
    layer = work.layer(device.layer_id)
    after = work.events(join.right, layer) if layer else []
    if layer is None or join.left is None or not after:
        return
    count = round(device.value("notes"))
    target = min(after)[2]
    tones = [p for p in range(target - 24, target) if _in_key(work, join.left, p)][-count:]
    step = (high - low) // count
    work.play(join, layer, [(low + i * step, step, p, 84 + 6 * i) for i, p in enumerate(tones)], low, high)


def _scale_above(work: Workings, span: Span, pitch: int, count: int) -> list[int]:
    return [p for p in range(pitch + 1, pitch + 3 * count + 3) if _in_key(work, span, p)][:count]


def _in_key(work: Workings, span: Span, pitch: int) -> bool:
    key = section_key(work.song, span.section)
    return (pitch - key.tonic_class) % 12 in key.degrees


@act("held-chord")
def held_chord(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """What the chords play at its start is held; drums and low end rest."""
    if join.left is None:
        return
    left = join.left
    for layer in work.layers():
        if layer.family == "chords" and not layer.sound.is_drum:
            notes = [(s - left.length_ticks, d, p, v) for s, d, p, v in work.events(left, layer)]
            last = max((s for s, *_ in notes if s <= low), default=None)
            if last is not None and last > low - left.bar_ticks[1]:
                work.play(join, layer, [(low, high - low, p, v) for s, _, p, v in notes if s == last], low, high)
    work.silence(join, [x for x in work.layers() if x.sound.is_drum or x.family == "low end"], low, high)


# rests ------------------------------------------------------------------------------------------------------------------


def silences(work: Workings, join: Join) -> list[tuple[int, int]]:
    """Where a join's gaps and breaths lie, counted from the one."""
    section = join.right.section
    found = [(d.start_ticks, d.end_ticks) for d in section.devices if d.kind in ("gap", "breath") and not d.parked]
    if section.build and section.build.gap_ticks and not section.build.parked:
        found.append((-section.build.gap_ticks, 0))
    return found


@act("gap")
def gap(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    work.silence(join, work.layers(), low, high)
    if device.chosen("tails") == "cut":
        work.mute(join, low, high)


@act("breath")
def breath(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    work.silence(join, work.layers(), low, high)


@act("stop")
def stop(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    goes_on: Callable[[Layer], bool] = {
        "leads and voices": lambda x: x.family in LEADS,
        "drums": lambda x: x.sound.is_drum,
    }.get(device.chosen("keeps"), lambda x: False)
    work.silence(join, [x for x in work.layers() if not goes_on(x)], low, high)


@act("beat-out")
def beat_out(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    work.silence(join, [x for x in work.layers() if x.sound.is_drum or x.family == "low end"], low, high)


@act("mute-pattern")
def mute_pattern(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """Everything pitched is heard only while the lead's notes last."""
    lead, left = work.layer(device.layer_id), join.left
    if lead is None or left is None:
        return
    sounding = sorted((s - left.length_ticks, s + d - left.length_ticks) for s, d, _, _ in work.events(left, lead))
    rests, at = [], low
    for start, end in sounding:
        if start > at and start > low:
            rests.append((at, min(start, high)))
        at = max(at, min(end, high))
    rests.append((at, high))
    others = [x for x in work.layers() if x.id != lead.id and not x.sound.is_drum]
    for a, b in rests:
        if a < b:
            work.silence(join, others, a, b)


# what moves -------------------------------------------------------------------------------------------------------------


def filtered(work: Workings, join: Join, chosen: str) -> Iterable[Layer]:
    """Layers that a filter over a family, or over all but drums and low end, takes hold of."""
    placed = {p.layer_id for p in work.of(join.left.section)} if join.left else set()
    if chosen in FAMILIES:
        return [x for x in work.layers() if x.family == chosen and x.id in placed]
    return [
        x for x in work.layers() if not x.sound.is_drum and x.family not in ("low end", "effects") and x.id in placed
    ]


@act("filter-open", "filter-close")
def filters(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    for layer in filtered(work, join, device.chosen("family")):
        points = [(low, device.value("from_hz")), (high, device.value("to_hz"))]
        work.move(join, f"layer.{layer.id}.lowpass_hz", low, high, points)


@act("echo-throw")
def echo_throw(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    layer = work.layer(device.layer_id)
    if layer:
        work.throw(join, layer, low, high, "echo", device.value("level_db"))


@act("overlap")
def overlap(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """Pitched layers that end at the one go on and fade, those that begin there rise, at constant power; drums and low end change at once."""
    left = join.left
    if left is None or high <= 0:
        return
    high = min(high, work.latest(join))
    held = {x.id for x in work.layers() if not x.sound.is_drum and x.family not in ("low end", "effects")}
    before = [
        p
        for p in work.of(left.section)
        if p.end_ticks == left.length_ticks and p.id not in work.playing and p.layer_id in held
    ]
    after = {p.layer_id for p in work.of(join.right.section) if p.start_ticks == 0}
    leaving = [p for p in before if p.layer_id not in after]
    ids = {p.layer_id for p in before}
    for p in leaving:
        layer, pattern = work.layer(p.layer_id), work.song.pattern_by_id[p.pattern_id].pattern
        if layer:
            offset = (p.offset_ticks - left.length_ticks) % pattern.length_ticks
            plain = Variation(
                p.variation.transpose_semitones, p.variation.keep, p.variation.double, p.variation.reverse
            )
            work.go_on(join.right.section, p, high, offset, plain)
            _fade(work, join, layer, high, down=True)
    for layer in work.layers():
        if layer.id in after and layer.id in held and layer.id not in ids:
            _fade(work, join, layer, high, down=False)


def _fade(work: Workings, join: Join, layer: Layer, high: int, down: bool) -> None:
    lane = f"layer.{layer.id}.level_db"
    still = work.value(join.right.section, lane)
    shares = [i / FADE_POINTS for i in range(FADE_POINTS + 1)]
    gains = [math.cos(math.pi / 2 * s) if down else math.sin(math.pi / 2 * s) for s in shares]
    points = [(round(high * s), max(OFF_DB, still + 20 * math.log10(max(g, 1e-6)))) for s, g in zip(shares, gains)]
    work.move(join, lane, 0, high, points)


@act("tempo-ease")
def tempo_ease(work: Workings, join: Join, device: JoinDevice, low: int, high: int) -> None:
    """Nothing is laid out: the timeline reads it (`reading.timeline`), so that bars and seconds agree everywhere."""


assert set(ACTS) == set(JOIN_KINDS)
__all__ = ["ACTS", "DIVISION_TICKS", "filtered", "roll_onsets", "silences", "struck"]
