"""Faults planted into imported songs: what was done, and which checks should tell it, where."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, replace

from escalera.core.document.song import Song
from escalera.core.edits import EDITS
from escalera.core.time.tempo import TempoPoint


@dataclass(frozen=True)
class Planted:
    song: Song
    checks: tuple[str, ...]  # any of these tells it
    section: str = ""
    layer: str = ""


def _named(song, word):
    return [x for x in song.layers if word(x)]


def _without(song, section, layers):
    ids = {x.id for x in layers}
    return song.with_section(replace(section, placements=tuple(p for p in section.placements if p.layer_id not in ids)))


def _last_again(song):
    """The last section that comes back and is full."""
    names = [s.name.rsplit(" ", 1)[0] for s in song.sections]
    most = max(len({p.layer_id for p in s.placements}) for s in song.sections)
    again = [
        s
        for s, n in zip(song.sections, names)
        if names.count(n) > 1 and len({p.layer_id for p in s.placements}) >= most - 2
    ]
    return again[-1] if len(again) > 1 else None


def _gone(word, *checks):
    def plant(song, dice):
        section, layers = _last_again(song), _named(song, word)
        layers = [x for x in layers if section and any(p.layer_id == x.id for p in section.placements)]
        if not layers:
            return None
        return Planted(_without(song, section, layers), checks, section.name, layers[0].name)

    return plant


def _muted(song, dice):
    layers = _named(song, lambda x: x.family in ("voices", "leads"))
    if not layers:
        return None
    layer = dice.choice(layers)
    return Planted(EDITS["set_muted"](layer.id, True).apply(song), ("muted",), "", layer.name)


def _silent(song, dice):
    section = _last_again(song)
    if section is None:
        return None
    bar, out = dice.choice((2, 3, 4)), song
    low = bar * song.metre.bar_ticks
    for layer in song.layers:
        kept = []
        for p in out.section_by_id[section.id].placements:
            if p.layer_id != layer.id or p.end_ticks <= low or p.start_ticks >= low + song.metre.bar_ticks:
                kept.append(p)
                continue
            if p.start_ticks < low:
                kept.append(replace(p, end_ticks=low))
            if p.end_ticks > low + song.metre.bar_ticks:
                out = replace(out, next_id=out.next_id + 1)
                kept.append(replace(p, id=out.next_id, start_ticks=low + song.metre.bar_ticks))
        out = out.with_section(replace(out.section_by_id[section.id], placements=tuple(kept)))
        out = replace(out, next_id=out.next_id + 1)
    return Planted(out, ("silent bar",), section.name)


def _off(word, by):
    def plant(song, dice):
        section = _last_again(song)
        layers = [x for x in _named(song, word) if section and any(p.layer_id == x.id for p in section.placements)]
        if not layers:
            return None
        layer = dice.choice(layers)
        moved = tuple(
            replace(p, variation=replace(p.variation, transpose_semitones=by)) if p.layer_id == layer.id else p
            for p in section.placements
        )
        return Planted(
            song.with_section(replace(section, placements=moved)),
            ("wrong notes", "high bass"),
            section.name,
            layer.name,
        )

    return plant


def _no_snare(song, dice):
    section = _last_again(song)
    snares = _named(song, lambda x: x.sound.drum in ("snare", "clap"))
    if section is None or not any(p.layer_id == x.id for p in section.placements for x in snares):
        return None
    out = song
    for x in snares:
        out = EDITS["lift"](section.id, x.id, len(section.phrases) - 2).apply(out)
    return Planted(out, ("backbeat",), section.name)


def _louder(song, dice):
    kicks = _named(song, lambda x: x.sound.is_kick)
    if not kicks:
        return None
    return Planted(
        EDITS["set_control"](kicks[0].id, "level_db", kicks[0].level_db + 12).apply(song),
        ("balance",),
        "",
        kicks[0].name,
    )


def _faster(song, dice):
    section = _last_again(song)
    if section is None:
        return None
    changed = replace(section, tempo_changes=(TempoPoint(0, round(song.tempo_bpm * dice.choice((0.88, 1.1)), 1)),))
    return Planted(song.with_section(changed), ("tempo jump",), section.name)


FAULTS: dict[str, Callable[[Song, random.Random], Planted | None]] = {
    "kick out of the last return": _gone(lambda x: x.sound.is_kick, "lost"),
    "bass out of the last return": _gone(lambda x: x.family == "low end", "lost", "kick alone", "no sub"),
    "voice out of the last return": _gone(lambda x: x.family in ("voices", "leads"), "lost"),
    "voice muted": _muted,
    "a silent bar": _silent,
    "keys a semitone off": _off(lambda x: x.family == "chords", 1),
    "voice a semitone off": _off(lambda x: x.family in ("voices", "leads"), -1),
    "bass two octaves up": _off(lambda x: x.family == "low end", 24),
    "snare missing in a phrase": _no_snare,
    "kick 12 dB up": _louder,
    "one section in another tempo": _faster,
}
