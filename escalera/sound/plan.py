"""A section before it is rendered: its parts, what they pass through, and the keys of what will come out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.devices import Device, Print
from escalera.core.document.lanes import BUS_LEVEL, MASTER_LEVEL, return_settings
from escalera.core.document.song import EVERY_BEAT, Layer, Song
from escalera.core.palette.effects import EFFECT_BY_KEY, RETURN_BY_KEY, RETURNS
from escalera.core.palette.parameters import Settings, setting
from escalera.core.reading.events import START, layer_events, sounding_layers
from escalera.core.reading.timeline import Span
from escalera.lazy_dataclasses import dataclass
from escalera.sound.content import content_key
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.effect_stage import Stage
from escalera.sound.schedule import RATE_HZ, Notes, kick_onsets, schedule, ticks_to_samples
from escalera.sound.spec import (
    MIX_LANES,
    Moving,
    TempoPoints,
    UnitSpec,
    chain_moving,
    moving_of,
    quarter_samples,
    unit_key,
    unit_spec,
)
from escalera.sound.unit import effort, extent

MIX_VERSION = 5
OFF_DB = -59.5
SEND_PATHS = tuple(row.send for row in RETURNS)
RETURN_INDEX = {row.key: i for i, row in enumerate(RETURNS)}
Duck = tuple[int, float, float]  # source, depth in dB, release in beats


def amplitude(level_db: float) -> float:
    """Factor of a level in dB; 0 at OFF_DB and below."""
    return 0.0 if level_db <= OFF_DB else 10.0 ** (level_db / 20.0)


def pan_gains(pan: float) -> tuple[float, float]:
    """Constant power; 1 and 1 in the middle."""
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.sqrt(2.0) * np.cos(angle)), float(np.sqrt(2.0) * np.sin(angle))


@dataclass(frozen=True, slots=True)
class Gains:
    """How a part enters the mix, as amplitudes; `sends` in the order of the shared spaces."""

    level: float
    left: float
    right: float
    sends: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class Part:
    """One layer's share of a section mix: where its unit comes from and how it enters.

    `duck` is (source, depth in dB, release in beats), or None; `throws` are (start, end, return, amplitude).
    """

    layer_id: int
    family: str
    key: str
    spec: UnitSpec
    notes: Notes
    end: int
    gains: Gains
    moving: tuple[Moving, ...]
    duck: Duck | None
    throws: tuple[tuple[int, int, int, float], ...]
    printed: Print | None


@dataclass(frozen=True, slots=True)
class Chain:
    """A bus or the master in one section: level, effects that run here, curves on them."""

    level: float
    devices: tuple[tuple[str, Settings], ...]
    moving: tuple[Moving, ...]

    @property
    def idle(self) -> bool:
        return self.level == 1.0 and not self.devices and not self.moving


@dataclass(frozen=True, eq=False)
class Plan:
    """What sounds in a section, ready to be mixed.

    `returns` holds the settings of every shared space; `buses` the chains of families that have one; `dynamic` the
    families whose bus has an effect that answers to level, and is kept apart until the whole song is put together.
    """

    parts: list[Part]
    returns: tuple[Settings, ...]
    buses: dict[str, Chain]
    dynamic: frozenset[str]
    master: Chain
    quarter: float
    beat: int
    tempo: TempoPoints
    onsets: dict[int, NDArray[np.int64]]
    key: str
    head_key: str
    reach: int


def beat_samples(span: Span) -> int:
    """Samples of one beat at the section's first tempo and metre."""
    return round(span.bar_metres[0].beat_ticks / 960 * 60.0 / span.tempo_points[0][1] * RATE_HZ)


def make_plan(song: Song, span: Span, head_samples: int) -> Plan:
    """The plan of a section. Nothing is rendered."""
    parts = parts_of(song, span)
    families = {p.family for p in parts}
    buses, dynamic = {}, set()
    for bus in song.buses:
        if bus.family in families:
            prefix = f"bus.{bus.family.replace(' ', '-')}."
            chain = _chain(song, span, prefix, bus.devices, amplitude(bus.level_db))
            if not chain.idle:
                buses[bus.family] = chain
            if dynamic_devices(bus.devices):
                dynamic.add(bus.family)
    master = _chain(song, span, "master.", song.master, 1.0)
    return finish(song, span, parts, buses, frozenset(dynamic), master, head_samples)


def finish(
    song: Song,
    span: Span,
    parts: list[Part],
    buses: dict[str, Chain],
    dynamic: frozenset[str],
    master: Chain,
    head_samples: int,
) -> Plan:
    """A section’s plan from its parts: buses, shared spaces and the mix with their tails in samples."""
    returns = tuple(RETURN_BY_KEY[row.key].settings + return_settings(song, row.key) for row in RETURNS)
    quarter, beat = quarter_samples(span), beat_samples(span)
    used = used_returns(parts)
    onsets = {p.duck[0]: onsets_of(song, span, p.duck[0]) for p in parts if p.duck}
    rows = [_row(p, onsets, p.family in buses or p.family in dynamic) for p in parts]
    spaces = [(i, returns[i]) for i in used]
    timed = bool(used or buses or master.devices or any(p.duck for p in parts))
    curves = any(p.moving for p in parts) or any(c.moving for c in (*buses.values(), master))
    tempo = span.tempo_points if curves else ()
    whole = (rows, spaces, sorted(buses.items()), sorted(dynamic), master)
    key = content_key("section", MIX_VERSION, *whole, (quarter, beat) if timed else 0, tempo)
    reach = max((p.end for p in parts), default=0) + tail_of(used, returns, buses, master, quarter)
    plain = not buses and not dynamic and master.idle
    head_key = _head_key(parts, onsets, head_samples, plain, key, (spaces, quarter if timed else 0, tempo))
    return Plan(parts, returns, buses, dynamic, master, quarter, beat, span.tempo_points, onsets, key, head_key, reach)


def _row(part: Part, onsets: dict[int, NDArray[np.int64]], kept_apart: bool) -> tuple[object, ...]:
    """What of a part a section's sound depends on."""
    duck = (part.duck[1:], onsets[part.duck[0]].tobytes()) if part.duck else (None, b"")
    return part.key, part.gains, part.moving, *duck, part.throws, part.family if kept_apart else ""


def parts_of(song: Song, span: Span) -> list[Part]:
    """The parts of all layers that sound in a section, as it treats them; what takes longest to make comes last, and what is there
    already is added up meanwhile."""
    parts = []
    for layer in sounding_layers(song, span.section):
        notes = schedule(song, span, layer)
        if len(notes.start):
            parts.append(_part(song, span, layer, notes))
    return sorted(parts, key=lambda part: effort(part.spec))


def _part(song: Song, span: Span, layer: Layer, notes: Notes) -> Part:
    moving = moving_of(song, span, layer) if span.section.curves else ()
    spec = unit_spec(song, span, layer, moving)
    printed = print_of(layer, spec, notes)
    key = content_key("print", printed.audio, printed.offset) if printed else unit_key(spec, notes)
    end = max(extent(spec, notes).end, printed.offset if printed else 0)
    gains = Gains(
        amplitude(layer.level_db), *pan_gains(layer.pan), tuple(amplitude(layer.send_db(row.key)) for row in RETURNS)
    )
    duck = (layer.duck_by, layer.duck_db, layer.duck_release_beats) if layer.duck_db > 0 else None
    mine = tuple(m for m in moving if m.slot in MIX_LANES)
    return Part(layer.id, layer.family, key, spec, notes, end, gains, mine, duck, _throws(span, layer), printed)


def head_of(part: Part, until: int) -> Part:
    """A part with only the notes that begin before a sample: its sound is the same up to there, and a section's beginning need not
    wait for what comes after it."""
    notes = part.notes
    inside = notes.start < until
    if part.printed or inside.all() or any(weighs_the_whole(key, settings) for key, settings in part.spec.devices):
        return part
    fewer = notes.some(np.flatnonzero(inside))
    return replace(part, notes=fewer, key=unit_key(part.spec, fewer), end=extent(part.spec, fewer).end)


def weighs_the_whole(key: str, settings: Settings) -> bool:
    """Whether what an effect does at a moment depends on all that it is given: a compressor that is to be as loud as what went in."""
    kind = EFFECT_BY_KEY[key]
    return "match" in kind.parameter_by_key and setting(settings, kind.parameter_by_key["match"]) > 0.5


def print_content(spec: UnitSpec, notes: Notes) -> str:
    """What a print was made from; a newer renderer does not change it."""
    return content_key("print", spec, notes.content)


def print_of(layer: Layer, spec: UnitSpec, notes: Notes) -> Print | None:
    """The print that stands for these notes, if the layer was printed with them."""
    if not layer.prints:
        return None
    content = print_content(spec, notes)
    return next((p for p in layer.prints if p.content == content), None)


def _throws(span: Span, layer: Layer) -> tuple[tuple[int, int, int, float], ...]:
    found = []
    for t in span.section.throws:
        if t.layer_id == layer.id:
            low, high = ticks_to_samples(span.grid, np.array([t.start_ticks, t.end_ticks]))
            found.append((int(low), int(high), RETURN_INDEX[t.to], amplitude(t.level_db)))
    return tuple(sorted(found))


def _chain(song: Song, span: Span, prefix: str, devices: tuple[Device, ...], level: float) -> Chain:
    own = tuple(d for d in devices if d.on and not d.kind.dynamic)
    parameter = MASTER_LEVEL if prefix == "master." else BUS_LEVEL
    moving = chain_moving(song, span, prefix, own, parameter) if span.section.curves else ()
    return Chain(level, tuple((d.key, d.settings) for d in own), moving)


def dynamic_devices(devices: tuple[Device, ...]) -> tuple[tuple[str, Settings], ...]:
    """Effects of a chain that answer to level; they run over the whole song."""
    return tuple((d.key, d.settings) for d in devices if d.on and d.kind.dynamic)


def onsets_of(song: Song, span: Span, source: int) -> NDArray[np.int64]:
    """Samples at which a ducking source sounds: every kick, every beat, or one layer.

    Rising sample positions from the section’s start, shape (n,); `source` is a layer’s id or one of the special sources.
    """
    if source == 0:
        return kick_onsets(song, span)
    if source == EVERY_BEAT:
        edges = span.bar_ticks
        beats = [t for a, b, metre in zip(edges, edges[1:], span.bar_metres) for t in range(a, b, metre.beat_ticks)]
        return ticks_to_samples(span.grid, np.array(beats))
    layer = song.layer_by_id.get(source)
    if layer is None or layer.muted:
        return np.zeros(0, np.int64)
    return np.unique(ticks_to_samples(span.grid, layer_events(song, span, layer).table[:, START]))


def used_returns(parts: list[Part]) -> list[int]:
    """Which shared spaces anything is sent to."""
    used = {i for p in parts for i, send in enumerate(p.gains.sends) if send}
    used |= {t[2] for p in parts for t in p.throws}
    used |= {SEND_PATHS.index(m.slot) for p in parts for m in p.moving if m.slot in SEND_PATHS}
    return sorted(used)


def return_stage(index: int, settings: Settings, quarter: float, length: int = 0) -> Stage:
    """A shared space as a stage; `quarter` is samples a quarter note."""
    return Stage(RETURNS[index].effect, merged(settings), 0, length, quarter)


def merged(settings: Settings) -> Settings:
    """Settings with later values over earlier ones of the same parameter."""
    return tuple(dict(settings).items())


def return_tail(index: int, settings: Settings, quarter: float) -> int:
    """Samples for which a shared space sounds on after its input ends."""
    return PROCESSES[RETURNS[index].effect].tail(return_stage(index, settings, quarter))


def tail_of(
    used: list[int], returns: tuple[Settings, ...], buses: dict[str, Chain], master: Chain, quarter: float
) -> int:
    """Samples for which a section sounds on after its parts: the longest space, the longest bus, and the mix's effects."""
    spaces = max([return_tail(i, returns[i], quarter) for i in used], default=0)
    return spaces + max([chain_tail(c, quarter) for c in buses.values()], default=0) + chain_tail(master, quarter)


def chain_tail(chain: Chain, quarter: float) -> int:
    """Samples for which a chain of effects sounds on; tails of effects in a row add up."""
    return sum(PROCESSES[key].tail(Stage(key, settings, 0, 0, quarter)) for key, settings in chain.devices)


def _head_key(
    parts: list[Part], onsets: dict[int, NDArray[np.int64]], head: int, plain: bool, whole: str, timing: object
) -> str:
    """What a section's first moment depends on: pickups and notes that begin before the master stops looking ahead.

    A part with effects, curves or prints answers for its whole unit, and a section whose buses work for all of it.
    """
    if not plain:
        return whole
    rows: list[object] = []
    for part in parts:
        n = int(np.searchsorted(part.notes.start, head))
        spec, notes = part.spec, part.notes
        if spec.devices or spec.moving or part.moving or part.throws or part.printed or len(spec.sounds) > 1:
            ducked = onsets[part.duck[0]].tobytes() if part.duck else b""
            rows.append((part.key, part.gains, part.moving, part.duck, ducked, part.throws))
        elif n:
            heads = [a[:n].tobytes() for a in (notes.start, notes.pitch, notes.velocity)]
            holds = np.minimum(notes.hold[:n], head - notes.start[:n]).tobytes()
            duck = (part.duck[1:], onsets[part.duck[0]][:8].tobytes()) if part.duck else None
            rows.append((spec, part.gains, duck, heads, holds, notes.curves[:1]))
    return content_key("head", rows, timing)
