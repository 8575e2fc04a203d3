"""A join read: what carries it (placed, or found in patterns), who leaves and enters, its gap, its tension, and how alike two are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.carriers import tension_at
from escalera.core.document.song import Layer, Song
from escalera.core.energy.joins import DEVICES
from escalera.core.energy.tension import beat_edges, tension_line
from escalera.core.joins import played
from escalera.core.joins.as_played import placed_at
from escalera.core.joins.builds import build_ticks
from escalera.core.palette.join_kinds import JOIN_KINDS, ROWS, JoinKind
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.events import DURATION, START, heard_in, layer_events, sounding_layers
from escalera.core.reading.timeline import Span, timeline
from escalera.lazy_dataclasses import dataclass

KIND_OF_SOUND = {sound: row.key for row in reversed(ROWS) for sound in row.sounds if BY_KEY[sound].family == "effects"}
TOMS = ("low tom", "mid tom", "high tom")
ROLL_PER_BEAT = 3
SHORTEST_GAP = 4  # of a beat: a quarter; shorter rests are how notes end
ON_THE_ONE = 120  # ticks about the one that count as it
LIKE_KIND, LIKE_START, LIKE_LENGTH = 0.5, 0.25, 0.25


@dataclass(frozen=True, slots=True)
class Carrier:
    """Something that carries a join: its kind, from when to when (ticks from the one), placed as a device or found in patterns."""

    kind: str
    start_ticks: int
    end_ticks: int
    layer_id: int
    placed: bool
    device_id: int = 0  # of a placed one

    @property
    def of(self) -> JoinKind:
        return JOIN_KINDS[self.kind]


@dataclass(frozen=True, eq=False)
class JoinReading:
    """The join into a section as it plays; ticks count from the one."""

    index: int
    left: Span
    right: Span
    carriers: tuple[Carrier, ...]
    leaves: tuple[tuple[Layer, int], ...]  # layers, and when their last sound ends
    enters: tuple[Layer, ...]
    gap_ticks: int
    song: Song = field(repr=False)  # as it is played

    @cached_property
    def beats(self) -> NDArray[np.int64]:
        """Where the beats of the section before begin, in its ticks; shape (beats,)."""
        return beat_edges(self.left)[:-1]

    @property
    def tension(self) -> NDArray[np.float64]:
        """Tension of every beat of the section before, 0..1; shape (beats,)."""
        return tension_line(self.song, self.left)[0]

    @property
    def pulls(self) -> dict[str, NDArray[np.float64]]:
        """What makes the tension, each 0..1 and of its shape."""
        return tension_line(self.song, self.left)[1]

    @property
    def beat_ticks(self) -> int:
        return self.left.bar_metres[-1].beat_ticks

    @property
    def gap_beats(self) -> float:
        return self.gap_ticks / self.beat_ticks

    @property
    def peak_ticks(self) -> int:
        """Where the last beat of the highest tension begins, counted from the one."""
        best = float(self.tension.max())
        return int(self.beats[int(np.flatnonzero(self.tension >= best - 1e-9)[-1])]) - self.left.length_ticks


def read_join(song: Song, index: int) -> JoinReading:
    """The join into the section at a place, from 1. Read once per state."""
    key = ("join", index)
    if key not in song.memo:
        song.memo[key] = _read(song, index)
    return song.memo[key]


def read_joins(song: Song) -> list[JoinReading]:
    """Every join of a song, in order."""
    return [read_join(song, i) for i in range(1, len(song.sections))]


@dataclass(frozen=True, slots=True)
class _Parts:
    """What of a reading is the same wherever its two sections stand; layers by id."""

    carriers: tuple[Carrier, ...]
    leaves: tuple[tuple[int, int], ...]
    enters: tuple[int, ...]
    gap_ticks: int


_kept: Results[_Parts] = Results(512)


def _read(song: Song, index: int) -> JoinReading:
    after = played(song)
    left, right = timeline(after).spans[index - 1 : index + 1]
    placed = tuple(placed_carriers(song, index))
    states = [song] if after is song else [song, after]
    heard = tuple(
        (heard_in(s, span), tuple(x.id for x in sounding_layers(s, span.section)))
        for s in states
        for span in timeline(s).spans[index - 1 : index + 1]
    )
    parts = _kept.get_or_make((heard, placed, _quiet(song, index)), lambda: _parts(song, index, left, right, placed))
    layers = after.layer_by_id
    leaves = tuple((layers[i], end) for i, end in parts.leaves)
    enters = tuple(layers[i] for i in parts.enters)
    return JoinReading(index, left, right, parts.carriers, leaves, enters, parts.gap_ticks, after)


def _quiet(song: Song, index: int) -> bool:
    """Whether something placed makes a gap already, so that none is looked for."""
    return any(d.kind in ("gap", "breath", "stop") and not d.parked for d in song.sections[index].devices)


def _parts(song: Song, index: int, left: Span, right: Span, placed: tuple[Carrier, ...]) -> _Parts:
    after = played(song)
    carriers = (*placed, *found_carriers(song, index))
    before, then = sounding_layers(after, left.section), sounding_layers(after, right.section)
    ends = {x.id: _last_end(after, left, x) for x in before}
    in_first = {x.id for x in then if _starts_within(after, right, x, -left.bar_ticks[1], right.bar_ticks[1])}
    leaves = tuple((x.id, ends[x.id]) for x in before if x.id not in in_first and ends[x.id] > -left.bar_ticks[1] * 2)
    were = {x.id for x in before if ends[x.id] > -left.bar_ticks[1]}
    enters = tuple(x.id for x in then if x.id in in_first and x.id not in were)
    ordered = tuple(sorted(carriers, key=lambda c: (c.start_ticks, -c.end_ticks, c.kind)))
    return _Parts(ordered, leaves, enters, _silence(after, left, right, carriers))


def placed_carriers(song: Song, index: int) -> list[Carrier]:
    """Devices that were placed and sound, with the ticks at which they really begin and end; a build counts as what it is made of."""
    return [Carrier(d.kind, low, high, d.layer_id, True, d.id) for d, low, high in placed_at(song, index)]


def join_said(song: Song, index: int, found: Sequence[str]) -> tuple[str, str]:
    """What carries the join into a section in a line, and the sign of it: what was placed first, then what was `found` (names of
    energy.joins)."""
    placed = placed_carriers(song, index)
    words = list(dict.fromkeys(c.of.label.lower() for c in placed))
    build = song.sections[index].build
    words += ["a build"] if build and not build.parked else []
    words += [DEVICES[name][0] for name in found if name != "nothing" or not words]
    sign = placed[0].of.sign if placed else "wedge" if build and not build.parked else DEVICES[found[0]][1]
    return ", ".join(words), sign


def found_carriers(song: Song, index: int) -> list[Carrier]:
    """Devices that patterns of the document make, read as a listener would."""
    left, right = timeline(song).spans[index - 1 : index + 1]
    length, zone = left.length_ticks, left.phrase_ticks()[-1][0]
    found: list[Carrier] = []
    for layer in sounding_layers(song, left.section):
        table = layer_events(song, left, layer).table
        kind = KIND_OF_SOUND.get(layer.sound_key, "")
        if kind and JOIN_KINDS[kind].start_beats < 0:
            found += [
                Carrier(kind, int(s) - length, min(int(s + d), length) - length, layer.id, False)
                for s, d in table[:, [START, DURATION]]
                if s >= zone - 1 or s + d >= length - left.bar_metres[-1].beat_ticks
            ][-1:]
        elif layer.sound.drum in ("snare", "clap"):
            found += _found_roll(table, left, layer)
    found += _found_fill(song, left)
    for p in left.section.placements:
        if p.variation.slope > 0 and p.end_ticks == length and p.variation.lowpass_start_hz is not None:
            found.append(Carrier("filter-open", p.start_ticks - length, 0, p.layer_id, False))
    for layer in sounding_layers(song, right.section):
        table = layer_events(song, right, layer).table
        kind = KIND_OF_SOUND.get(layer.sound_key, "crash" if layer.sound.drum == "crash" else "")
        on_one = table[np.abs(table[:, START]) <= ON_THE_ONE]
        if kind and JOIN_KINDS[kind].start_beats >= 0 and len(on_one):
            found.append(
                Carrier(kind, 0, max(right.bar_metres[0].beat_ticks, int(on_one[0, DURATION])), layer.id, False)
            )
        if (table[:, START] < -ON_THE_ONE).any() and not kind:
            found.append(Carrier("pickup", int(table[:, START].min()), 0, layer.id, False))
    if not _quiet(song, index):
        gap = _gap_ticks(song, left, right)
        if gap >= left.bar_metres[-1].beat_ticks // 2:
            found.append(Carrier("gap", -gap, 0, 0, False))
    return list({(c.kind, c.layer_id): c for c in found}.values())


def _found_roll(table: NDArray[np.int32], left: Span, layer: Layer) -> list[Carrier]:
    edges = beat_edges(left)
    dense = np.histogram(table[:, START], edges)[0] >= ROLL_PER_BEAT
    if not len(dense) or not dense[-1]:
        return []
    first = len(dense) - 1 - int(np.argmin(dense[::-1])) + 1 if not dense.all() else 0
    return (
        [Carrier("roll", int(edges[first]) - left.length_ticks, 0, layer.id, False)] if first or len(dense) <= 4 else []
    )


def _found_fill(song: Song, left: Span) -> list[Carrier]:
    """Toms in the last bar that are not played in every bar."""
    bar = left.bar_ticks[-2]
    for layer in sounding_layers(song, left.section):
        starts = layer_events(song, left, layer).table[:, START]
        here = starts[starts >= bar]
        if (
            layer.sound.drum in TOMS
            and len(here)
            and (left.section.bars == 1 or len(starts) < 2 * len(here) * left.section.bars // 2)
        ):
            return [Carrier("fill", int(here.min()) - left.length_ticks, 0, layer.id, False)]
    return []


def _last_end(song: Song, span: Span, layer: Layer) -> int:
    """When a layer's last sound of a section ends, from its end; struck sounds are over with the beat they start in."""
    table = layer_events(song, span, layer).table
    if not len(table):
        return -span.length_ticks
    ends = table[:, START] + (np.minimum(table[:, DURATION], 240) if layer.sound.is_drum else table[:, DURATION])
    return min(0, int(ends.max()) - span.length_ticks)


def _starts_within(song: Song, span: Span, layer: Layer, low: int, high: int) -> bool:
    starts = layer_events(song, span, layer).table[:, START]
    return bool(((starts >= low) & (starts < high)).any())


def _silence(song: Song, left: Span, right: Span, carriers: Sequence[Carrier]) -> int:
    """The gap before the one; where one was placed that is it, however much earlier the last note ends."""
    found = _gap_ticks(song, left, right)
    placed = max(
        (-c.start_ticks for c in carriers if c.placed and c.kind in ("gap", "breath") and c.end_ticks == 0), default=0
    )
    return placed if 0 < placed <= found < placed + left.bar_metres[-1].beat_ticks else found


def _gap_ticks(song: Song, left: Span, right: Span) -> int:
    """How long nothing sounds before the one; 0 where something lasts until it, or nothing played before."""
    ends = [_last_end(song, left, x) for x in sounding_layers(song, left.section)]
    early = [
        int(layer_events(song, right, x).table[:, START].min(initial=0)) for x in sounding_layers(song, right.section)
    ]
    if any(e < -ON_THE_ONE for e in early):
        return 0
    last = max(ends, default=-left.length_ticks)
    return -last if -left.length_ticks < last <= -left.bar_metres[-1].beat_ticks // SHORTEST_GAP else 0


def wanted_tension(song: Song, index: int) -> NDArray[np.float64] | None:
    """The tension that a build's shape asks for in every beat of the section before a join, 0..1, NaN before the build; shape (beats,).
    None where nothing builds."""
    build, reading = song.sections[index].build, read_join(song, index)
    if build is None or build.parked:
        return None
    first, last = -build_ticks(reading.left, build), min(0, -max(build.gap_ticks, reading.gap_ticks))
    middles = reading.beats - reading.left.length_ticks + reading.beat_ticks / 2
    shares = (middles - first) / max(1, last - first)
    return np.array([tension_at(build.shape, float(s)) if s >= 0 else np.nan for s in shares])


def lows_out_ticks(reading: JoinReading) -> int:
    """For how long before the one neither low end nor kick plays, 0 where they do."""
    out = reading.pulls["lows out"] >= 1.0
    return int(reading.left.length_ticks - reading.beats[int(np.argmax(out))]) if out.any() else 0


# likeness ---------------------------------------------------------------------------------------------------------------


def likeness(a: Sequence[Carrier], b: Sequence[Carrier], beat_ticks: int) -> float:
    """How alike two joins are carried, 0..1: kinds in common, and for those how near their starts and lengths lie."""
    if not a and not b:
        return 1.0
    rest, shared = list(b), 0.0
    for x in a:
        best = max((y for y in rest if y.kind == x.kind), key=lambda y: _alike(x, y, beat_ticks), default=None)
        if best is not None:
            shared += _alike(x, best, beat_ticks)
            rest.remove(best)
    return 2.0 * shared / (len(a) + len(b))


def _alike(x: Carrier, y: Carrier, beat_ticks: int) -> float:
    def near(a: int, b: int) -> float:
        return max(0.0, 1.0 - abs(a - b) / (4.0 * beat_ticks))

    return (
        LIKE_KIND
        + LIKE_START * near(x.start_ticks, y.start_ticks)
        + LIKE_LENGTH * near(x.end_ticks - x.start_ticks, y.end_ticks - y.start_ticks)
    )
