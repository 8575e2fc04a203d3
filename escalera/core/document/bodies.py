"""What is done to every body of a song: its sections, and what is parked at them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from escalera.core.document.song import Ids, Placement, Section, Song


def uses_pattern(song: Song, pattern_id: int) -> int:
    """How many placements use a pattern, those of parked bodies among them."""
    return sum(p.pattern_id == pattern_id for section in song.bodies for p in section.placements)


def each_body(song: Song, change: Callable[[Section], Section]) -> Song:
    """The song with every section and every parked body passed through a function that leaves what is parked alone."""

    def both(section: Section) -> Section:
        parked = tuple(replace(p, body=change(p.body)) for p in section.parked)
        return replace(change(section), parked=parked) if parked else change(section)

    return replace(song, sections=tuple(both(section) for section in song.sections))


def on_all_bodies(song: Song, change: Callable[[Song], Song]) -> Song:
    """The song after a change that is made with every parked body laid out as a section of its own.

    What asks where something plays, and changes it there, then reaches what is parked without knowing of it. The change
    must leave as many sections as there were.
    """
    flat = [x for s in song.sections for x in (replace(s, parked=()), *(replace(p.body, id=p.id) for p in s.parked))]
    after = change(replace(song, sections=tuple(flat)))
    found = after.section_by_id

    def folded(section: Section) -> Section:
        parked = tuple(replace(p, body=replace(found[p.id], id=p.body.id)) for p in section.parked)
        return replace(found[section.id], parked=parked)

    return replace(after, sections=tuple(folded(section) for section in song.sections))


def fresh_copy(section: Section, ids: Ids) -> Section:
    """A section that plays the same, with ids of its own for it and all that is placed or parked in it."""

    def placed(body: Section) -> tuple[Placement, ...]:
        return tuple(replace(p, id=ids()) for p in body.placements)

    parked = tuple(
        replace(
            p,
            id=ids(),
            body=replace(
                p.body, placements=placed(p.body), devices=tuple(replace(d, id=ids()) for d in p.body.devices)
            ),
        )
        for p in section.parked
    )
    devices = tuple(replace(d, id=ids()) for d in section.devices)
    return replace(section, id=ids(), placements=placed(section), devices=devices, parked=parked)
