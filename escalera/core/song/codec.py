"""The song as plain data and back: for the store (patterns by hash) and for project files (patterns with notes).

`to_plain` and `from_plain` are exact inverses. `from_plain` trusts its input: what comes from outside goes
through formats.project, which validates first.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from escalera.core.rhythm.pattern import Pattern
from escalera.core.song.document import (
    EnergyScale,
    Layer,
    NamedPattern,
    Placement,
    Progression,
    Section,
    Song,
    Target,
    Variation,
)
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key, parse_key
from escalera.core.theory.pitch import fifths_to_name
from escalera.core.time.metre import Metre, parse_metre

Plain = dict[str, Any]

LAYER_FIELDS = (
    "id", "name", "sound", "family", "job", "seed", "level_db", "pan", "lowpass_hz", "highpass_hz", "reverb_send_db",
    "echo_send_db", "duck_db", "duck_release_beats", "octave", "muted", "pattern_id", "source",
)  # fmt: skip
VARIATION_FIELDS = tuple(Variation.__dataclass_fields__)
NO_VARIATION = Variation()


def key_text(key: Key) -> str:
    return f"{fifths_to_name(key.tonic_fifths, ascii_only=True)} {key.mode}"


def _progression(progression: Progression | None) -> Plain | None:
    if progression is None:
        return None
    changes = [[tick, chord.name(ascii_only=True)] for tick, chord in progression.changes]
    return {"length_ticks": progression.length_ticks, "changes": changes}


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
        plain["tempos"] = [list(point) for point in s.tempo_changes]
    if s.shift_semitones:
        plain["shift_semitones"] = s.shift_semitones
    if s.progression:
        plain["chords"] = _progression(s.progression)
    return plain


def _layer(layer: Layer) -> Plain:
    return {f: (layer.sound_key if f == "sound" else getattr(layer, f)) for f in LAYER_FIELDS}


def to_plain(song: Song, with_notes: bool = False) -> Plain:
    """The song as dicts, lists, strings and numbers. Patterns carry their hash, or their notes."""

    def pattern(entry: NamedPattern) -> Plain:
        plain: Plain = {"id": entry.id, "name": entry.name, "family": entry.family}
        if with_notes:
            return plain | {"length_ticks": entry.pattern.length_ticks, "notes": entry.pattern.to_list()}
        return plain | {"hash": entry.pattern.content_hash}

    return {
        "title": song.title, "tempo_bpm": song.tempo_bpm, "metre": str(song.metre), "key": key_text(song.key),
        "school": song.school, "switches": dict(song.switches), "lead_bars": song.lead_bars,
        "master_gain_db": song.master_gain_db, "scale": {"gain": song.scale.gain, "offset": song.scale.offset},
        "chords": _progression(song.progression), "layers": [_layer(x) for x in song.layers],
        "sections": [_section(s) for s in song.sections], "patterns": [pattern(p) for p in song.patterns],
        "next_id": song.next_id, "notes": song.notes,
    }  # fmt: skip


def _read_progression(plain: Plain | None) -> Progression | None:
    if plain is None:
        return None
    return Progression(tuple((int(t), _chord(name)) for t, name in plain["changes"]), int(plain["length_ticks"]))


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
        tuple((tick, bpm) for tick, bpm in s.get("tempos", ())), s.get("shift_semitones", 0),
        _read_progression(s.get("chords")), tuple(_read_placement(p) for p in s["placements"]),
    )  # fmt: skip


def from_plain(plain: Mapping[str, Any], find_pattern: Callable[[Plain], Pattern]) -> Song:
    """The song that `to_plain` wrote; `find_pattern` turns a pattern's entry into its notes."""
    metre: Metre = parse_metre(plain["metre"])
    layers = tuple(
        Layer(**{("sound_key" if f == "sound" else f): x[f] for f in LAYER_FIELDS if f in x}) for x in plain["layers"]
    )
    return Song(
        plain["title"], plain["tempo_bpm"], metre, parse_key(plain["key"]), plain["school"],
        tuple(plain["switches"].items()), plain["lead_bars"], plain["master_gain_db"], EnergyScale(**plain["scale"]),
        _read_progression(plain["chords"]), layers, tuple(_read_section(s) for s in plain["sections"]),
        tuple(NamedPattern(p["id"], p["name"], p["family"], find_pattern(p)) for p in plain["patterns"]),
        plain["next_id"], plain.get("notes", ""),
    )  # fmt: skip
