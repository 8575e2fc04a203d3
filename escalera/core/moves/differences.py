"""What differs between two states of a song, in words: the song, its layers, and section by section."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from escalera.core.document.chord_text import write_chordline
from escalera.core.document.song import Layer, Section, Song
from escalera.core.energy.model import arranged
from escalera.core.reading.tiles import tiles
from escalera.core.reading.timeline import timeline

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
            found.append(SectionChange(section.name, None, each.value, (f"new, {section.bars} bars",)))
            continue
        what = _what(before, after, section.id)
        if what or section != old[section.id] or abs(each.value - values[section.id]) >= SHOWN:
            found.append(SectionChange(section.name, values[section.id], each.value, tuple(what)))
    found += [SectionChange(s.name, values[s.id], None, ("gone",)) for s in before.sections if s.id not in new]
    return found


def song_changes(before: Song, after: Song) -> list[str]:
    """What differs in the song as a whole, and in its layers beside what they play."""
    told = [f"{name}: {a} → {b}" for name, read in OF_SONG.items() if (a := read(before)) != (b := read(after))]
    order = [[s.name for s in song.sections if s.id in before.section_by_id and s.id in after.section_by_id] for song in (before, after)]  # fmt: skip
    if sorted(order[0]) == sorted(order[1]) and order[0] != order[1]:
        told.append(f"order: {', '.join(order[1])}")
    old, new = before.layer_by_id, after.layer_by_id
    told += [f"new layer {x.name} ({x.sound.label})" for x in after.layers if x.id not in old]
    told += [f"layer {x.name} gone" for x in before.layers if x.id not in new]
    both = [(old[x.id], x) for x in after.layers if x.id in old and x != old[x.id]]
    return told + [f"{a.name}: {', '.join(words)}" for a, b in both if (words := list(_of_layer(a, b)))]


OF_SONG: dict[str, Callable[[Song], str]] = {
    "title": lambda s: s.title,
    "tempo": lambda s: f"{s.tempo_bpm:g} bpm",
    "metre": lambda s: str(s.metre),
    "key": lambda s: str(s.key),
    "school": lambda s: s.school,
    "length": lambda s: f"{s.bars} bars",
    "tuning": lambda s: f"{s.tuning_hz:g} Hz",
    "chords of the song": lambda s: write_chordline(s.progression, s.metre) or "none",
}
LAYER_WORDS: dict[str, tuple[str, Callable[[object], str]]] = {
    "name": ("called", str),
    "family": ("family", str),
    "job": ("job", str),
    "level_db": ("level", lambda v: f"{v:g} dB"),
    "pan": ("side", lambda v: f"{v:+g}"),
    "lowpass_hz": ("low-pass", lambda v: f"{v:g} Hz"),
    "highpass_hz": ("high-pass", lambda v: f"{v:g} Hz"),
    "duck_db": ("ducking", lambda v: f"{v:g} dB"),
    "octave": ("octave", lambda v: f"{v:+d}" if isinstance(v, int) else str(v)),
    "tune_cents": ("tuning", lambda v: f"{v:g} cents"),
}
LAYER_OTHER = {
    "settings": "its sound's shape",
    "devices": "effects",
    "stack": "stacked sounds",
    "prints": "print",
    "recipe": "how it was made",
    "reason": "what it is there for",
    "aside": "why it is set aside",
    "sent_by": "who sent it",
    "voicing": "voicing",
    "duck_by": "what ducks it",
    "seed": "its small variations",
}
SENDS = ("reverb_send_db", "echo_send_db", "near_send_db", "chamber_send_db", "shimmer_send_db")


def _of_layer(a: Layer, b: Layer) -> Iterator[str]:
    if a.sound_key != b.sound_key:
        yield f"{a.sound.label} → {b.sound.label}"
    for field, (word, written) in LAYER_WORDS.items():
        was, has = getattr(a, field), getattr(b, field)
        if was != has:
            yield f"{word} {written(was)} → {written(has)}".replace("-", "−")
    if a.muted != b.muted:
        yield "muted" if b.muted else "heard again"
    yield from (f"{word} changed" for field, word in LAYER_OTHER.items() if getattr(a, field) != getattr(b, field))
    if any(getattr(a, send) != getattr(b, send) for send in SENDS):
        yield "sends changed"


def _what(before: Song, after: Song, section_id: int) -> list[str]:
    a, b = before.section_by_id[section_id], after.section_by_id[section_id]
    told = list(_of_section(a, b))
    plays_before, plays_after = _playing(before, section_id), _playing(after, section_id)
    names = {x.id: x.name for x in (*before.layers, *after.layers)}
    for word, ids in (("in", plays_after - plays_before), ("out", plays_before - plays_after)):
        if ids:
            told.append(f"{word}: {', '.join(sorted(names[i] for i in ids))}")
    mine, theirs = _played(before, a), _played(after, b)
    changed = [names[i] for i in sorted(plays_before & plays_after) if mine.get(i) != theirs.get(i)]
    if changed and a.bars == b.bars:
        told.append(f"changed: {', '.join(changed)}")
    return told


def _of_section(a: Section, b: Section) -> Iterator[str]:
    if a.name != b.name:
        yield f"was {a.name}"
    if a.bars != b.bars:
        yield f"{a.bars} → {b.bars} bars"
    if a.shift_semitones != b.shift_semitones:
        yield f"raised by {b.shift_semitones - a.shift_semitones:+d} semitones"
    if a.progression != b.progression:
        yield "other chords"
    if a.target != b.target:
        yield f"wanted {a.target.mean:.1f} → {b.target.mean:.1f}"


def _playing(song: Song, section_id: int) -> set[int]:
    read = tiles(song, timeline(song).span_of(section_id))
    return {i for i, row in read.items() if any(tile.state != "bare" for tile in row)}


def _played(song: Song, section: Section) -> dict[int, list[tuple[object, ...]]]:
    """Every layer's placements with the notes themselves, not their names: a rewritten pattern differs."""
    found: dict[int, list[tuple[object, ...]]] = {}
    for p in section.placements:
        entry = song.pattern_by_id.get(p.pattern_id)
        notes = entry.pattern.content_hash if entry else ""
        found.setdefault(p.layer_id, []).append((notes, p.start_ticks, p.end_ticks, p.offset_ticks, p.variation))
    return found
