"""What differs between two states of a song, in words: the song, its layers, and section by section."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from escalera.core.document.chord_text import write_chordline
from escalera.core.document.fields import FieldSpec, specs
from escalera.core.document.song import OFF_DB, Layer, Section, Song
from escalera.core.document.target import Target
from escalera.core.energy.model import arranged
from escalera.core.palette.effects import RETURN_BY_KEY, RETURNS
from escalera.core.reading.tiles import tiles
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.core.theory.keys import Key
from escalera.core.time.metre import Metre
from escalera.core.time.ticks import bars_counted
from escalera.lazy_dataclasses import dataclass

SHOWN = 0.05  # points from which a change of energy is worth a line


@dataclass(frozen=True, slots=True)
class SectionChange:
    """A section before and after: its energy (None where it is not there), and what is in, out and changed."""

    name: str
    before: float | None
    after: float | None
    what: tuple[str, ...]

    @property
    def points(self) -> float:
        return (self.after or 0.0) - (self.before or 0.0)


def section_changes(before: Song, after: Song) -> list[SectionChange]:
    """Sections that are new, gone, or play something else."""
    old, new = before.section_by_id, after.section_by_id
    values = {s.span.section.id: s.value for s in arranged(before).sections}
    found = []
    for each in arranged(after).sections:
        section = each.span.section
        if section.id not in old:
            found.append(SectionChange(section.name, None, each.value, (f"new, {bars_counted(section.bars)}",)))
            continue
        what = _what(before, after, section.id)
        if what or section != old[section.id] or abs(each.value - values[section.id]) >= SHOWN:
            found.append(SectionChange(section.name, values[section.id], each.value, tuple(what)))
    found += [SectionChange(s.name, values[s.id], None, ("gone",)) for s in before.sections if s.id not in new]
    return found


def song_changes(before: Song, after: Song) -> list[str]:
    """What differs in the song as a whole, and in its layers beside what they play."""
    told = list(_of_fields(before, after, ("progression",), ": "))
    chords = [write_chordline(s.progression, s.metre) or "none" for s in (before, after)]
    told += [f"chords of the song: {chords[0]} → {chords[1]}"] * (chords[0] != chords[1])
    told += [f"length: {before.bars} bars → {after.bars} bars"] * (before.bars != after.bars)
    order = [
        [s.name for s in song.sections if s.id in before.section_by_id and s.id in after.section_by_id]
        for song in (before, after)
    ]
    if sorted(order[0]) == sorted(order[1]) and order[0] != order[1]:
        told.append(f"order: {', '.join(order[1])}")
    old, new = before.layer_by_id, after.layer_by_id
    told += [f"new layer {x.name} ({x.sound.label})" for x in after.layers if x.id not in old]
    told += [f"layer {x.name} gone" for x in before.layers if x.id not in new]
    both = [(old[x.id], x) for x in after.layers if x.id in old and x != old[x.id]]
    return told + [f"{a.name}: {', '.join(words)}" for a, b in both if (words := list(_of_layer(a, b)))]


def _of_fields(a: Any, b: Any, skip: tuple[str, ...] = (), between: str = " ") -> Iterator[str]:
    """The fields by which two states of one part differ, by the labels they are declared with."""
    for name, spec in specs(a.__class__).items():
        was, has = getattr(a, name), getattr(b, name)
        if was != has and spec.compared and name not in skip:
            yield f"{spec.label.lower()}{_told(spec, was, has, between)}"


def _told(spec: FieldSpec, was: Any, has: Any, between: str) -> str:
    writer = WRITTEN.get(type(has)) or WRITTEN.get(type(was)) or spec.said
    before, after = writer(was), writer(has)
    return f"{between}{before} → {after}" if before and after and before != after else " changed"


WRITTEN: dict[type, Callable[[Any], str]] = {
    Key: str,
    Metre: str,
    Target: lambda target: f"{target.mean:.1f}",
}


def _of_layer(a: Layer, b: Layer) -> Iterator[str]:
    if a.sound_key != b.sound_key:
        yield f"{a.sound.label} → {b.sound.label}"
    sends = {row.key: (a.send_db(row.key), b.send_db(row.key)) for row in RETURNS}
    yield from _of_fields(a, b, ("sound_key", "sends"))
    yield from (
        f"{RETURN_BY_KEY[k].label.lower()} send {_sent(was)} → {_sent(has)}"
        for k, (was, has) in sends.items()
        if was != has
    )


def _sent(level_db: float) -> str:
    return "none" if level_db <= OFF_DB else f"{level_db:g} dB".replace("-", "−")


def _what(before: Song, after: Song, section_id: int) -> list[str]:
    a, b = before.section_by_id[section_id], after.section_by_id[section_id]
    told = list(_of_fields(a, b))
    plays_before, plays_after = _playing(before, section_id), _playing(after, section_id)
    names = {x.id: x.name for x in (*before.layers, *after.layers)}
    for word, ids in (("in", plays_after - plays_before), ("out", plays_before - plays_after)):
        if ids:
            told.append(f"{word}: {', '.join(sorted(names[i] for i in ids))}")
    until = min(section_bar_ticks(s, song.metre)[-1] for s, song in ((a, before), (b, after)))
    mine, theirs = _played(before, a, until), _played(after, b, until)
    changed = [names[i] for i in sorted(plays_before & plays_after) if mine.get(i) != theirs.get(i)]
    if changed:
        told.append(f"changed: {', '.join(changed)}")
    return told


def _playing(song: Song, section_id: int) -> set[int]:
    read = tiles(song, timeline(song).span_of(section_id))
    return {i for i, row in read.items() if any(tile.state != "empty" for tile in row)}


def _played(song: Song, section: Section, until: int) -> dict[int, list[tuple[object, ...]]]:
    """Every layer's placements before a tick with the notes themselves, not their names: a rewritten pattern differs."""
    found: dict[int, list[tuple[object, ...]]] = {}
    for p in section.placements:
        entry = song.pattern_by_id.get(p.pattern_id)
        notes = entry.pattern.content_hash if entry else ""
        if p.start_ticks < until:
            row = (notes, p.start_ticks, min(p.end_ticks, until), p.offset_ticks, p.variation)
            found.setdefault(p.layer_id, []).append(row)
    return found
