"""Effects, curves, treatments and throws as plain data and back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from escalera.core.document.devices import Bus, Curve, Device, Throw, Treatment
from escalera.core.document.shaping import Shaping
from escalera.core.document.song import Section
from escalera.core.palette.parameters import Settings

Plain = dict[str, Any]


def devices_plain(devices: Iterable[Device]) -> list[Plain]:
    return [{"id": d.id, "effect": d.key, "settings": dict(d.settings), "on": d.on} for d in devices]


def read_settings(plain: Mapping[str, float]) -> Settings:
    return tuple(sorted(plain.items()))


def read_devices(plain: Iterable[Plain]) -> tuple[Device, ...]:
    return tuple(Device(d["id"], d["effect"], read_settings(d["settings"]), d["on"]) for d in plain)


def read_buses(plain: Mapping[str, Any]) -> tuple[Bus, ...]:
    return tuple(Bus(b["family"], b["level_db"], read_devices(b["effects"])) for b in plain.get("buses", ()))


def shaping_plain(section: Section) -> Plain:
    plain: Plain = {}
    if section.curves:
        plain["curves"] = [
            {"lane": c.lane, "rate_ticks": c.rate_ticks, "points": [list(p) for p in c.points]} for c in section.curves
        ]
    if section.treatments:
        plain["treatments"] = [[t.layer_id, t.lane, t.value] for t in section.treatments]
    if section.throws:
        plain["throws"] = [[t.layer_id, t.start_ticks, t.end_ticks, t.to, t.level_db] for t in section.throws]
    return plain


def read_shaping(plain: Mapping[str, Any]) -> Shaping:
    curves = (
        Curve(c["lane"], tuple((t, v, s) for t, v, s in c["points"]), c["rate_ticks"]) for c in plain.get("curves", ())
    )
    return {"curves": tuple(curves), "treatments": tuple(Treatment(*row) for row in plain.get("treatments", ())),
            "throws": tuple(Throw(*row) for row in plain.get("throws", ()))}  # fmt: skip
