"""What a move would do, before it is made: the stair, the terms, and a list of what it changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from escalera.core.energy.model import arranged
from escalera.core.energy.schools import TERMS
from escalera.core.moves.base import Move, apply_move
from escalera.core.moves.suggest import sameness_lost
from escalera.core.song.document import Song
from escalera.core.song.readings import tiles
from escalera.core.song.timeline import timeline

SHOWN = 0.05  # points from which a change is worth a line


@dataclass(frozen=True, slots=True)
class Change:
    """A section before and after: its energy (None where it is not there), and what is in, out and changed."""

    name: str
    before: float | None
    after: float | None
    what: tuple[str, ...]

    @property
    def points(self) -> float:
        return (self.after or 0.0) - (self.before or 0.0)


@dataclass(frozen=True, slots=True)
class Preview:
    """`points` and `terms` are of the section that the move is about; `seconds` and `bars` before and after."""

    points: float
    terms: tuple[tuple[str, float], ...]
    changes: tuple[Change, ...]
    bars: tuple[int, int]
    seconds: tuple[float, float]
    sameness: float
    after: Song


def preview(song: Song, section_id: int, moves: Sequence[Move]) -> Preview:
    """The exact effect of moves in order. Raises EditError when one does not apply."""
    after = song
    for move in moves:
        after = apply_move(after, move)
    before_energy, after_energy = arranged(song), arranged(after)
    here, there = before_energy.of(section_id), after_energy.of(section_id)
    was, has = here.contributions(), there.contributions()
    terms = [(t, has[t] - was[t]) for t in TERMS if abs(has[t] - was[t]) >= SHOWN]
    return Preview(
        there.value - here.value, tuple(sorted(terms, key=lambda r: -abs(r[1]))), tuple(_changes(song, after)), (song.bars, after.bars),
        (before_energy.line.seconds, after_energy.line.seconds), sameness_lost(song, after, section_id), after,
    )  # fmt: skip


def _changes(before: Song, after: Song) -> list[Change]:
    """Sections that are new, gone, or play something else."""
    old, new = before.section_by_id, after.section_by_id
    values = {s.span.section.id: s.value for s in arranged(before).sections}
    found = []
    for each in arranged(after).sections:
        section = each.span.section
        if section.id not in old:
            found.append(Change(section.name, None, each.value, (f"new, {section.bars} bars",)))
        elif section != old[section.id] or abs(each.value - values[section.id]) >= SHOWN:
            found.append(Change(section.name, values[section.id], each.value, tuple(_what(before, after, section.id))))
    found += [Change(s.name, values[s.id], None, ("gone",)) for s in before.sections if s.id not in new]
    return found


def _what(before: Song, after: Song, section_id: int) -> list[str]:
    a, b = before.section_by_id[section_id], after.section_by_id[section_id]
    told = []
    if a.bars != b.bars:
        told.append(f"{a.bars} → {b.bars} bars")
    if a.shift_semitones != b.shift_semitones:
        told.append(f"raised by {b.shift_semitones - a.shift_semitones:+d} semitones")
    if a.progression != b.progression:
        told.append("other chords")
    first = {i: [t.state for t in row] for i, row in tiles(before, timeline(before).span_of(section_id)).items()}
    second = {i: [t.state for t in row] for i, row in tiles(after, timeline(after).span_of(section_id)).items()}
    names = {x.id: x.name for x in (*before.layers, *after.layers)}
    plays_before = {i for i, row in first.items() if any(s != "bare" for s in row)}
    plays_after = {i for i, row in second.items() if any(s != "bare" for s in row)}
    for word, ids in (("in", plays_after - plays_before), ("out", plays_before - plays_after)):
        if ids:
            told.append(f"{word}: {', '.join(sorted(names[i] for i in ids))}")
    mine, theirs = _played(a), _played(b)
    changed = [names[i] for i in sorted(plays_before & plays_after) if mine.get(i) != theirs.get(i)]
    if changed and a.bars == b.bars:
        told.append(f"changed: {', '.join(changed)}")
    return told


def _played(section) -> dict[int, list[tuple[object, ...]]]:  # type: ignore[no-untyped-def]
    found: dict[int, list[tuple[object, ...]]] = {}
    for p in section.placements:
        found.setdefault(p.layer_id, []).append((p.pattern_id, p.start_ticks, p.end_ticks, p.offset_ticks, p.variation))
    return found
