"""Effects, buses and level curves on the stats of a section's layers, felt bar by felt bar."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.devices import Curve, Device
from escalera.core.document.lanes import BUS_LEVEL, CONTROLS, MASTER_LEVEL, bus_of
from escalera.core.document.song import Layer, Song
from escalera.core.energy.chain import chain_power
from escalera.core.energy.felt import FeltBars
from escalera.core.energy.stats import BAND_CENTRES_HZ, INDEX, Stats
from escalera.core.reading.timeline import Span

POWER_COLUMNS = np.array([not name.startswith(("hits", "kicks", "onsets")) for name in INDEX])
ABOVE_150 = np.array([0.0, 0.5, 1.0, 1.0, 1.0, 1.0])  # how much of every band lies above 150 Hz
LOG_CENTRES = np.log2(BAND_CENTRES_HZ)
MIDDLES = 4  # points of a felt bar at which a curve is read
Floats = NDArray[np.float64]


def shape_stats(song: Song, span: Span, layers: list[Layer], stats: Stats, bars: FeltBars) -> None:
    """Change stats (layers, felt bars, WIDTH) in place by chains, buses, the mix's effects, and curves on levels."""
    curves = {c.lane: c for c in span.section.curves}
    at = bars.ticks[:-1, None] + np.diff(bars.ticks)[:, None] * (np.arange(MIDDLES) + 0.5) / MIDDLES
    for i, layer in enumerate(layers):
        family = layer.family.replace(" ", "-")
        bus = bus_of(song, layer.family)
        _level(curves.get(f"layer.{layer.id}.level_db"), CONTROLS["level_db"], layer.level_db, at, stats[i])
        _level(curves.get(f"bus.{family}.level_db"), BUS_LEVEL, 0.0, at, stats[i], bus.level_db)
        _level(curves.get("master.level_db"), MASTER_LEVEL, 0.0, at, stats[i])
        for prefix, devices in (
            (f"layer.{layer.id}", layer.devices),
            (f"bus.{family}", bus.devices),
            ("master", song.master),
        ):
            if devices:
                _chain(prefix, devices, curves, at, stats[i])


def _level(curve: Curve | None, parameter, still_db: float, at: Floats, stats: Stats, else_db: float = 0.0) -> None:  # type: ignore[no-untyped-def]
    """Where a level moves, the power it has instead of standing still; else a bus's own level."""
    if curve is None:
        if else_db:
            stats[:, POWER_COLUMNS] *= 10.0 ** (else_db / 10.0)
        return
    moved = 10.0 ** ((curve.at(at.ravel(), parameter) - still_db) / 10.0)
    stats[:, POWER_COLUMNS] *= moved.reshape(at.shape).mean(axis=1)[:, None]


def _chain(prefix: str, devices: tuple[Device, ...], curves: dict[str, Curve], at: Floats, stats: Stats) -> None:
    working = [d for d in devices if d.on]
    chain = tuple((d.key, d.settings) for d in working)
    moving = [
        (f"{place}.{p.key}", curves[f"{prefix}.fx.{d.id}.{p.key}"], p)
        for place, d in enumerate(working)
        for p in d.kind.parameters
        if f"{prefix}.fx.{d.id}.{p.key}" in curves
    ]
    still = chain_power(chain, {}) if not moving else None
    for bar in range(len(stats)):
        moved = {slot: float(curve.at(at[bar], p).mean()) for slot, curve, p in moving}
        apply_change(stats[bar], still or chain_power(chain, moved))


def apply_change(row: Floats, change) -> None:  # type: ignore[no-untyped-def]
    """One felt bar of one layer through a chain."""
    low = row[:2].sum()
    before, above = row[:6].sum(), (row[:6] * ABOVE_150).sum()
    row[:6] *= change.bands
    shaped = row[:6] * ABOVE_150
    whole, ratio = row[:6].sum() / max(before, 1e-20), shaped.sum() / max(above, 1e-20)
    for kind in ("sustained", "struck"):
        if row[INDEX[kind]] > 0:
            row[INDEX[kind]], row[INDEX[f"{kind}_centre"]] = shaped.sum(), float(shaped @ LOG_CENTRES)
    for name in ("lead", "lead_pitch", "voice"):
        row[INDEX[name]] *= whole
    row[INDEX["low_held"]] *= row[:2].sum() / max(low, 1e-20)
    row[INDEX["above_150"]] = shaped.sum()
    row[INDEX["side"]] = min(row[INDEX["side"]] * ratio * change.side + change.spread * shaped.sum(), shaped.sum())
    if change.space:
        row[POWER_COLUMNS] *= 1.0 + change.space
