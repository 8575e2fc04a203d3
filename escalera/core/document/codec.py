"""The song as plain data and back: for the store (patterns by hash) and for project files (patterns with notes).

`to_plain` and `from_plain` are exact inverses. `from_plain` trusts its input: what comes from outside goes
through formats.project, which validates first.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from typing import Any

from escalera.core.document.codec_shaping import (
    devices_plain,
    read_buses,
    read_devices,
    read_settings,
    read_shaping,
    shaping_plain,
)
from escalera.core.document.devices import Print, StackPart
from escalera.core.document.song import (
    Changes,
    EnergyScale,
    Groove,
    Layer,
    NamedPattern,
    Parked,
    Placement,
    Progression,
    Section,
    Song,
    Swing,
    Target,
    Variation,
)
from escalera.core.rhythm.pattern import Pattern
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key, parse_key
from escalera.core.theory.pitch import fifths_to_name
from escalera.core.theory.voicings import Voicing
from escalera.core.time.metre import Metre, parse_metre
from escalera.core.time.tempo import TempoPoint

Plain = dict[str, Any]

LAYER_FIELDS = (
    "id", "name", "sound", "family", "job", "seed", "level_db", "pan", "lowpass_hz", "highpass_hz", "reverb_send_db",
    "echo_send_db", "near_send_db", "chamber_send_db", "shimmer_send_db", "duck_db", "duck_release_beats", "duck_by", "octave", "tune_cents",
    "muted", "pattern_id", "source", "recipe", "reason", "aside", "sent_by",
)  # fmt: skip
VARIATION_FIELDS = tuple(Variation.__dataclass_fields__)
NO_VARIATION = Variation()


def key_text(key: Key) -> str:
    return f"{fifths_to_name(key.tonic_fifths, ascii_only=True)} {key.mode}"


def _tune(plain: list[int] | None) -> tuple[int, int, int]:
    section, layer, phrase = plain or (0, 0, 0)
    return section, layer, phrase


def _progression(progression: Progression | None) -> Plain | None:
    if progression is None:
        return None
    plain: Plain = {"length_ticks": progression.length_ticks, "changes": _changes(progression.changes)}
    if progression.passes:
        plain["passes"] = [{"pass": n, "changes": _changes(changes)} for n, changes in progression.passes]
    return plain


def _changes(changes: Changes) -> list[list[Any]]:
    return [[tick, chord.name(ascii_only=True)] for tick, chord in changes]


def _placement(p: Placement) -> Plain:
    plain: Plain = {
        "id": p.id,
        "layer": p.layer_id,
        "pattern": p.pattern_id,
        "start": p.start_ticks,
        "end": p.end_ticks,
    }
    if p.offset_ticks:
        plain["offset"] = p.offset_ticks
    changed = {
        f: getattr(p.variation, f) for f in VARIATION_FIELDS if getattr(p.variation, f) != getattr(NO_VARIATION, f)
    }
    if changed:
        plain["variation"] = changed
    return plain


def _section(s: Section) -> Plain:
    plain: Plain = {
        "id": s.id, "name": s.name, "role": s.role, "bars": s.bars, "phrases": list(s.phrases),
        "target": {"start": s.target.start, "end": s.target.end, "shape": s.target.shape},
        "placements": [_placement(p) for p in s.placements],
    }  # fmt: skip
    if s.metre_changes:
        plain["metres"] = [[bar, str(metre)] for bar, metre in s.metre_changes]
    if s.tempo_changes:
        plain["tempos"] = [[p.tick, p.bpm, *([True] if p.glides else [])] for p in s.tempo_changes]
    if s.shift_semitones:
        plain["shift_semitones"] = s.shift_semitones
    if s.stretched:
        plain["stretched"] = s.stretched
    if s.length_reason:
        plain["length_reason"] = s.length_reason
    if s.swings:
        plain["swings"] = [[w.layer_id, w.subdivision_ticks, w.ratio] for w in s.swings]
    if s.progression:
        plain["chords"] = _progression(s.progression)
    if s.body_name:
        plain["body_name"] = s.body_name
    if s.body_who:
        plain["body_who"] = s.body_who
    if s.parked:
        plain["parked"] = [{"id": p.id, "name": p.name, "who": p.who, "reason": p.reason, "body": _section(p.body)} for p in s.parked]  # fmt: skip
    return plain | shaping_plain(s)


def _layer(layer: Layer, with_prints: bool) -> Plain:
    plain = {f: (layer.sound_key if f == "sound" else getattr(layer, f)) for f in LAYER_FIELDS}
    if layer.settings:
        plain["settings"] = dict(layer.settings)
    if layer.devices:
        plain["effects"] = devices_plain(layer.devices)
    if layer.stack:
        plain["stack"] = [
            {"id": p.id, "sound": p.sound_key, "settings": dict(p.settings), "level_db": p.level_db, "offset_ms": p.offset_ms,
             "inverted": p.inverted, "pan": p.pan, "reason": p.reason} for p in layer.stack
        ]  # fmt: skip
    if layer.voicing != Voicing():
        plain["voicing"] = asdict(layer.voicing)
    if layer.prints and with_prints:
        plain["prints"] = [[p.content, p.audio, p.offset] for p in layer.prints]
    return plain


def to_plain(song: Song, with_notes: bool = False) -> Plain:
    """The song as dicts, lists, strings and numbers. Patterns carry their hash, or their notes; prints stay in the store."""

    def pattern(entry: NamedPattern) -> Plain:
        plain: Plain = {"id": entry.id, "name": entry.name, "family": entry.family}
        if with_notes:
            return plain | {"length_ticks": entry.pattern.length_ticks, "notes": entry.pattern.to_list()}
        return plain | {"hash": entry.pattern.content_hash}

    return {
        "title": song.title, "tempo_bpm": song.tempo_bpm, "metre": str(song.metre), "key": key_text(song.key),
        "school": song.school, "switches": dict(song.switches), "lead_bars": song.lead_bars,
        "master_gain_db": song.master_gain_db, "scale": {"gain": song.scale.gain, "offset": song.scale.offset},
        "chords": _progression(song.progression), "layers": [_layer(x, not with_notes) for x in song.layers],
        "buses": [{"family": b.family, "level_db": b.level_db, "effects": devices_plain(b.devices)} for b in song.buses],
        "master": devices_plain(song.master), "returns": {key: dict(settings) for key, settings in song.returns},
        "sections": [_section(s) for s in song.sections], "patterns": [pattern(p) for p in song.patterns],
        "next_id": song.next_id, "notes": song.notes, "push_ticks": song.push_ticks, "tuning_hz": song.tuning_hz,
        "tuned_down": song.tuned_down, "capo_fret": song.capo_fret, "words": dict(song.words),
        **({"brief": dict(song.brief)} if song.brief else {}), **({"accepted": [list(row) for row in song.accepted]} if song.accepted else {}), **({"drop_means": song.drop_means} if song.drop_means else {}), **({"tune": list(song.tune)} if any(song.tune) else {}),
        "grooves": [{"id": g.id, "name": g.name, "feel": g.feel, "variant_of": g.variant_of, "parts": dict(g.parts)} for g in song.grooves],
    }  # fmt: skip


def _read_progression(plain: Plain | None) -> Progression | None:
    if plain is None:
        return None
    passes = tuple((int(p["pass"]), _read_changes(p["changes"])) for p in plain.get("passes", ()))
    return Progression(_read_changes(plain["changes"]), int(plain["length_ticks"]), passes)


def _read_changes(rows: Sequence[Sequence[Any]]) -> Changes:
    return tuple((int(tick), _chord(name)) for tick, name in rows)


_chords: dict[str, Chord] = {}


def _chord(name: str) -> Chord:
    if name not in _chords:
        _chords[name] = parse_chord(name)
    return _chords[name]


def _read_placement(p: Plain) -> Placement:
    variation = Variation(**p["variation"]) if "variation" in p else NO_VARIATION
    return Placement(p["id"], p["layer"], p["pattern"], p["start"], p["end"], p.get("offset", 0), variation)


def _read_section(s: Plain) -> Section:
    return Section(
        s["id"], s["name"], s["role"], s["bars"], tuple(s["phrases"]), Target(**s["target"]),
        tuple((bar, parse_metre(text)) for bar, text in s.get("metres", ())),
        tuple(TempoPoint(*point) for point in s.get("tempos", ())), s.get("shift_semitones", 0),
        _read_progression(s.get("chords")), tuple(_read_placement(p) for p in s["placements"]), **read_shaping(s),
        swings=tuple(Swing(*row) for row in s.get("swings", ())), stretched=s.get("stretched", 0), length_reason=s.get("length_reason", ""),
        body_name=s.get("body_name", ""), body_who=s.get("body_who", ""), parked=tuple(Parked(p["id"], p["name"], _read_section(p["body"]), p["who"], p["reason"]) for p in s.get("parked", ())),
    )  # fmt: skip


def _read_layer(x: Plain) -> Layer:
    fields = {("sound_key" if f == "sound" else f): x[f] for f in LAYER_FIELDS if f in x}
    return Layer(**fields, settings=read_settings(x.get("settings", {})), devices=read_devices(x.get("effects", ())),
                 stack=tuple(_read_stack(p) for p in x.get("stack", ())),
                 prints=tuple(Print(*row) for row in x.get("prints", ())),
                 voicing=Voicing(**(x.get("voicing") or {})))  # fmt: skip


def _read_stack(p: Plain) -> StackPart:
    return StackPart(
        p["id"],
        p["sound"],
        read_settings(p["settings"]),
        p["level_db"],
        p["offset_ms"],
        p["inverted"],
        p["pan"],
        p.get("reason", ""),
    )


def from_plain(plain: Mapping[str, Any], find_pattern: Callable[[Plain], Pattern]) -> Song:
    """The song that `to_plain` wrote; `find_pattern` turns a pattern's entry into its notes."""
    metre: Metre = parse_metre(plain["metre"])
    return Song(
        title=plain["title"], tempo_bpm=plain["tempo_bpm"], metre=metre, key=parse_key(plain["key"]),
        school=plain["school"], switches=tuple(plain["switches"].items()), lead_bars=plain["lead_bars"],
        master_gain_db=plain["master_gain_db"], buses=read_buses(plain), master=read_devices(plain.get("master", ())),
        returns=tuple((key, read_settings(s)) for key, s in plain.get("returns", {}).items()),
        scale=EnergyScale(**plain["scale"]), progression=_read_progression(plain["chords"]),
        layers=tuple(_read_layer(x) for x in plain["layers"]),
        sections=tuple(_read_section(s) for s in plain["sections"]),
        patterns=tuple(NamedPattern(p["id"], p["name"], p["family"], find_pattern(p)) for p in plain["patterns"]),
        next_id=plain["next_id"], notes=plain.get("notes", ""), push_ticks=plain.get("push_ticks", 0),
        tuning_hz=plain.get("tuning_hz", 440.0), tuned_down=plain.get("tuned_down", 0), capo_fret=plain.get("capo_fret", 0),
        brief=tuple((str(k), str(v)) for k, v in plain.get("brief", {}).items()), accepted=tuple((str(k), str(f), str(r)) for k, f, r in plain.get("accepted", ())), drop_means=plain.get("drop_means", ""), tune=_tune(plain.get("tune")),
        grooves=tuple(Groove(g["id"], g["name"], g["feel"], g["variant_of"], tuple(g["parts"].items())) for g in plain.get("grooves", ())),
        words=tuple(plain.get("words", {}).items()),
    )  # fmt: skip
