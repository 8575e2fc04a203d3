"""What the inspector shows of sounds, effects, curves and spaces: rows made ready for the templates."""

from __future__ import annotations

import json

import numpy as np

from escalera.core.document.devices import Curve, Device, Point
from escalera.core.document.lanes import (
    CONTROLS,
    LAYER,
    Owner,
    bus_of,
    devices_of,
    lane_parameter,
    lane_value,
    lanes_of,
    return_settings,
)
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import EVERY_BEAT, Layer, Section, Song
from escalera.core.edits.edit import id_in
from escalera.core.energy.chain import equaliser_power
from escalera.core.palette.effects import EFFECTS, NOTE_VALUES, RETURNS, EffectKind
from escalera.core.palette.parameters import Parameter, setting
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.timeline import Span
from escalera.lazy_dataclasses import dataclass
from escalera.services.rendering import Rendering, StackReport

WIDTH, HEIGHT = 288, 104
POINTS_A_CURVE = 160


def plain_number(value: float) -> str:
    """A number as one writes it: four figures, never a power of ten."""
    return f"{value:.0f}" if abs(value) >= 1000 else f"{value:.4g}"


@dataclass(frozen=True)
class Row:
    """One parameter as a control: where it lies, what it is, what it stands at, whether this section differs."""

    lane: str
    path: str
    parameter: Parameter
    value: float
    treated: bool = False
    moves: bool = False

    @property
    def element(self) -> str:
        return "p-" + self.lane.replace(".", "-")

    @property
    def step(self) -> float:
        p = self.parameter
        if p.scale == "whole":
            return 1
        return 1 if p.high - p.low > 40 else 0.1 if p.high - p.low > 8 else 0.01

    @property
    def text(self) -> str:
        return plain_number(self.value)

    @property
    def note_value(self) -> str:
        """The name of the note value that a number of beats is, if it is one."""
        return next((name for name, beats in NOTE_VALUES.items() if abs(beats - self.value) < 0.002), "")


@dataclass(frozen=True)
class DeviceRow:
    device: Device
    rows: list[Row]
    first: bool
    last: bool

    @property
    def drawn(self) -> str:
        """The response of an equaliser as a line, 20 Hz to 20 kHz over ±18 dB."""
        hz = np.geomspace(20.0, 20_000.0, 97)
        db = 10.0 * np.log10(equaliser_power(self.device.value, hz))
        xs, ys = np.linspace(0, WIDTH, len(hz)), np.clip(HEIGHT / 2 - db * HEIGHT / 40.0, 2, HEIGHT - 2)
        return " ".join(f"{x:.1f},{y:.1f}" for x, y in zip(xs, ys))

    @property
    def steps(self) -> list[bool]:
        return [bool(int(self.device.value("steps")) >> i & 1) for i in range(16)]


@dataclass(frozen=True)
class CurveRow:
    """A curve ready to be drawn and edited."""

    lane: str
    label: str
    curve: Curve
    parameter: Parameter
    length: int
    beat: int
    bars: tuple[int, ...]

    @property
    def data(self) -> str:
        p = self.parameter
        plain = {
            "lane": self.lane,
            "label": p.label,
            "low": p.low,
            "high": p.high,
            "log": p.scale == "log",
            "unit": p.unit,
            "length": self.length,
            "beat": self.beat,
            "rate": self.curve.rate_ticks / 960,
            "points": [list(point) for point in self.curve.points],
        }
        return json.dumps(plain)

    @property
    def path(self) -> str:
        return " ".join(f"{x:.1f},{y:.1f}" for x, y in self._drawn())

    def _drawn(self) -> list[tuple[float, float]]:
        waves = any(shape in ("wave", "steps") for _, _, shape in self.curve.points)
        count = min(960, 16 * self.length // self.curve.rate_ticks + 2) if waves else 0
        even = np.linspace(0, self.length, max(count, POINTS_A_CURVE))
        ticks = np.unique(np.concatenate((even, [t for t, _, _ in self.curve.points])))
        values = self.curve.at(ticks, self.parameter)
        return [(self.x(t), self.y(v)) for t, v in zip(ticks.tolist(), values.tolist())]

    def x(self, tick: float) -> float:
        return 6 + (WIDTH - 12) * tick / max(1, self.length)

    def y(self, value: float) -> float:
        return HEIGHT - 8 - (HEIGHT - 16) * self.parameter.share(value)

    @property
    def pegs(self) -> list[tuple[int, float, float, Point]]:
        return [(i, self.x(p[0]), self.y(p[1]), p) for i, p in enumerate(self.curve.points)]

    @property
    def lines(self) -> list[float]:
        return [self.x(t) for t in self.bars]

    def said(self, value: float) -> str:
        return self.parameter.said(value)


class LayerShaping:
    """A layer as one section treats it, in rows."""

    def __init__(self, song: Song, layer: Layer, span: Span | None, rendering: Rendering):
        self.song, self.layer, self.span, self.rendering = song, layer, span, rendering
        self.section: Section | None = span.section if span else None
        self.here = layer_in(song, self.section, layer) if self.section else layer
        own = self.section.treatments if self.section else ()
        self.treated = {t.lane: t.value for t in own if t.layer_id == layer.id}
        self.curves = {c.lane: c for c in self.section.curves} if self.section else {}

    def _row(self, path: str, parameter: Parameter, value: float) -> Row:
        lane = f"layer.{self.layer.id}.{path}"
        return Row(lane, path, parameter, self.treated.get(path, value), path in self.treated, lane in self.curves)

    def strip(self) -> list[Row]:
        return self._panel("level")

    def _panel(self, panel: str) -> list[Row]:
        found = (key for key, spec in LAYER.items() if spec.panel == panel)
        return [self._row(key, CONTROLS[key], float(getattr(self.layer, key))) for key in found]

    def sends(self) -> list[Row]:
        return [self._row(r.send, CONTROLS[r.send], self.layer.send_db(r.key)) for r in RETURNS]

    def ducking(self) -> list[Row]:
        return self._panel("ducking")

    def sound(self) -> list[Row]:
        return [self._row(f"sound.{p.key}", p, setting(self.layer.settings, p)) for p in self.layer.sound.parameters]

    def devices(self) -> list[DeviceRow]:
        chain = self.layer.devices
        return [
            DeviceRow(
                d,
                [self._row(f"fx.{d.id}.{p.key}", p, d.value(p.key)) for p in d.kind.parameters],
                i == 0,
                i + 1 == len(chain),
            )
            for i, d in enumerate(chain)
        ]

    def effects(self) -> list[EffectKind]:
        return [e for e in EFFECTS if "layer" in e.where]

    def duck_sources(self) -> list[tuple[int, str]]:
        others = [(x.id, x.name) for x in self.song.layers if x.id != self.layer.id]
        return [(0, "every kick"), (EVERY_BEAT, "every beat"), *others]

    def duck_path(self) -> str:
        """Gain over the first two bars in which it is ducked, as points of a polyline; empty when nothing ducks it."""
        if self.span is None or not self.here.duck_db:
            return ""
        curve = self.rendering.duck_curve(self.song, self.span, self.layer.id)
        if curve is None:
            return ""
        y = 8.0 - np.maximum(curve, -24.0) * (40.0 / 24.0)
        return " ".join(f"{6 + 276 * i / (len(y) - 1):.1f},{v:.1f}" for i, v in enumerate(y.tolist()))

    def stack(self) -> list[tuple]:  # type: ignore[type-arg]
        rows = []
        for part in self.layer.stack:
            sound = BY_KEY[part.sound_key]
            rows.append((part, sound, [(p, setting(part.settings, p)) for p in sound.parameters]))
        return rows

    def stack_report(self) -> StackReport | None:
        return self.rendering.stack_report(self.layer)

    def curve_rows(self) -> list[CurveRow]:
        return curve_rows(self.song, self.span, f"layer.{self.layer.id}.") if self.span else []

    def lanes(self) -> list[tuple[str, str]]:
        return lanes_of(self.song, Owner("layer", self.layer.id))

    def throws(self) -> list[tuple[int, float, float, str, float]]:
        """Throws of this layer here: start tick, first and last beat counted from bar 1, space, level."""
        if self.section is None or self.span is None:
            return []
        mine = [t for t in self.section.throws if t.layer_id == self.layer.id]
        return [(t.start_ticks, *self._where(t.start_ticks), t.to, t.level_db) for t in mine]

    def _where(self, tick: int) -> tuple[int, float]:
        assert self.span is not None
        ticks = self.span.bar_ticks
        bar = max(i for i in range(len(ticks) - 1) if ticks[i] <= tick)
        return self.span.first_bar + bar, 1 + (tick - ticks[bar]) / self.span.bar_metres[bar].beat_ticks

    def print_state(self) -> tuple[int, int]:
        """In how many sections the print sounds, and in how many the layer plays."""
        return self.rendering.print_state(self.song, self.layer.id)


def curve_rows(song: Song, span: Span, prefix: str) -> list[CurveRow]:
    labels = dict(lanes_of(song, _owner(prefix)))
    found = []
    for curve in span.section.curves:
        if curve.lane.startswith(prefix):
            parameter = lane_parameter(song, curve.lane)
            beat = span.bar_metres[0].beat_ticks
            found.append(
                CurveRow(
                    curve.lane,
                    labels.get(curve.lane, parameter.label),
                    curve,
                    parameter,
                    span.length_ticks,
                    beat,
                    tuple(span.bar_ticks),
                )
            )
    return found


def _owner(prefix: str) -> Owner:
    scope, _, rest = prefix.rstrip(".").partition(".")
    if scope == "layer":
        return Owner("layer", id_in(rest))
    return Owner("bus", 0, rest.replace("-", " ")) if scope == "bus" else Owner("master")


@dataclass(frozen=True)
class OwnerShaping:
    """A bus or the mix in rows."""

    owner: str
    label: str
    level: Row
    devices: list[DeviceRow]
    effects: list[EffectKind]
    curves: list[CurveRow]
    lanes: list[tuple[str, str]]


def owner_shaping(song: Song, owner: Owner, label: str, span: Span | None) -> OwnerShaping:
    lane = f"{owner.text}.level_db"
    moving = {c.lane for c in span.section.curves} if span else set()
    chain = devices_of(song, owner)

    def row(path: str, parameter: Parameter, value: float) -> Row:
        return Row(f"{owner.text}.{path}", path, parameter, value, False, f"{owner.text}.{path}" in moving)

    devices = [
        DeviceRow(
            d, [row(f"fx.{d.id}.{p.key}", p, d.value(p.key)) for p in d.kind.parameters], i == 0, i + 1 == len(chain)
        )
        for i, d in enumerate(chain)
    ]
    level = row("level_db", lane_parameter(song, lane), lane_value(song, lane))
    effects = [e for e in EFFECTS if owner.scope in e.where]
    curves = curve_rows(song, span, f"{owner.text}.") if span else []
    return OwnerShaping(owner.text, label, level, devices, effects, curves, lanes_of(song, owner))


def mix_shaping(song: Song, span: Span | None) -> list[OwnerShaping]:
    """The mix itself, then the bus of every family that the song has."""
    families = list(dict.fromkeys(x.family for x in song.layers))
    families += [b.family for b in song.buses if b.family not in families]
    found = [owner_shaping(song, Owner("master"), "The whole mix", span)]
    return found + [owner_shaping(song, Owner("bus", 0, f), f.capitalize(), span) for f in families if bus_of(song, f)]


def spaces(song: Song) -> list[tuple[str, str, list[Row]]]:
    """Shared spaces and their parameters: key, label, rows."""
    return [
        (
            r.key,
            r.label,
            [Row(f"return.{r.key}.{p.key}", p.key, p, setting(return_settings(song, r.key), p)) for p in r.parameters],
        )
        for r in RETURNS
    ]
