"""Older documents brought to the present format, one step a version. Every step is a function from plain data to plain data."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

Plain = dict[str, Any]
SENDS = {  # the fields that sends had in the first format, and the shared spaces they lead to
    "reverb_send_db": "hall",
    "echo_send_db": "echo",
    "near_send_db": "near",
    "chamber_send_db": "chamber",
    "shimmer_send_db": "shimmer",
}


def upgraded(plain: Plain, version: int) -> Plain:
    """A song of an older format as the present one writes it."""
    for step in STEPS[version - 1 :]:
        plain = step(plain)
    return plain


def _renamed(plain: Plain, **names: str) -> Plain:
    return {names.get(key, key): value for key, value in plain.items()}


def _rows(rows: Iterable[Any], *names: str) -> list[Plain]:
    return [dict(zip(names, row)) for row in rows]


def _first_song(song: Plain) -> Plain:
    song = _renamed(song, chords="progression")
    song["progression"] = _first_chords(song.get("progression"))
    song["layers"] = [_first_layer(x) for x in song["layers"]]
    song["sections"] = [_first_section(s) for s in song["sections"]]
    song["buses"] = [
        _renamed(b, effects="devices") | {"devices": _first_effects(b["effects"])} for b in song.get("buses", [])
    ]
    song["master"] = _first_effects(song.get("master", []))
    song["patterns"] = [_first_pattern(p) for p in song["patterns"]]
    return song


def _first_chords(chords: Plain | None) -> Plain | None:
    if chords is None:
        return None
    passes = [[p["pass"], p["changes"]] for p in chords.get("passes", [])]
    return {**chords, "passes": passes}


def _first_effects(effects: list[Plain]) -> list[Plain]:
    return [_renamed(e, effect="key") for e in effects]


def _first_layer(layer: Plain) -> Plain:
    sends = {SENDS[key]: layer[key] for key in SENDS if layer.get(key, -60.0) > -60.0}
    kept = {key: value for key, value in layer.items() if key not in SENDS}
    kept = _renamed(kept, sound="sound_key", effects="devices")
    kept["devices"] = _first_effects(kept.get("devices", []))
    kept["stack"] = [_renamed(p, sound="sound_key") for p in kept.get("stack", [])]
    kept["prints"] = _rows(kept.get("prints", []), "content", "audio", "offset")
    kept["voicing"] = kept.get("voicing") or {}
    return {**kept, "sends": sends}


def _first_lane(lane: str) -> str:
    head, _, last = lane.rpartition(".")
    return f"{head}.send.{SENDS[last]}".removeprefix(".") if last in SENDS else lane


def _first_section(section: Plain) -> Plain:
    section = _renamed(section, metres="metre_changes", tempos="tempo_changes", chords="progression")
    if "progression" in section:
        section["progression"] = _first_chords(section["progression"])
    section["placements"] = [_first_placement(p) for p in section["placements"]]
    section["curves"] = [{**c, "lane": _first_lane(c["lane"])} for c in section.get("curves", [])]
    treatments = _rows(section.get("treatments", []), "layer_id", "lane", "value")
    section["treatments"] = [{**t, "lane": _first_lane(t["lane"])} for t in treatments]
    section["throws"] = _rows(section.get("throws", []), "layer_id", "start_ticks", "end_ticks", "to", "level_db")
    section["swings"] = _rows(section.get("swings", []), "layer_id", "subdivision_ticks", "ratio")
    if "parked" in section:
        section["parked"] = [{**p, "body": _first_section(p["body"])} for p in section["parked"]]
    return section


def _first_placement(placement: Plain) -> Plain:
    placement = _renamed(
        placement, layer="layer_id", pattern="pattern_id", start="start_ticks", end="end_ticks", offset="offset_ticks"
    )
    if placement.get("variation", {}) is None:
        del placement["variation"]
    return placement


def _first_pattern(pattern: Plain) -> Plain:
    kept = {key: pattern[key] for key in ("id", "name", "family")}
    if "hash" in pattern:
        return {**kept, "pattern": pattern["hash"]}
    return {**kept, "pattern": {"length_ticks": pattern["length_ticks"], "notes": pattern["notes"]}}


STEPS: tuple[Callable[[Plain], Plain], ...] = (_first_song,)
