"""Commands that lay out: a form from what a loop plays, and sections after their targets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from escalera.core.document.bodies import fresh_copy
from escalera.core.document.form_text import numbered, parse_form
from escalera.core.document.limits import MAX_BARS, MAX_SECTIONS
from escalera.core.document.names import guess_role
from escalera.core.document.song import Ids, Section, Song, default_phrases
from escalera.core.document.target import Target
from escalera.core.edits.edit import Fields, edit, layer_of, one_of, section_of, whole_number, within
from escalera.core.edits.form_layout import with_grown_targets
from escalera.core.edits.section_edits import USUAL_TARGET, ResizeSection
from escalera.core.edits.touched import EVERYTHING
from escalera.core.layout import Layout, lay_out_song
from escalera.core.layout.plans import STANCES
from escalera.errors import EditError

FILLS = ("by target", "full", "empty")
MOST_OFF = 5.0


@edit("lay_out", EVERYTHING)
class LayOut:
    """Lay the song out by a form: sections of the same name stay, others are made of what the song has, after their targets."""

    text: str
    source_id: int = 0
    fill: str = "by target"
    stance: str = "voice"

    def apply(self, song: Song) -> Song:
        parts = form_parts(self.text)
        one_of(self.fill, FILLS, "way of filling")
        one_of(self.stance, list(STANCES), "way of laying out")
        source = song.section_by_id.get(self.source_id) or max(song.sections, key=lambda s: len(s.placements))
        after, made = _with_sections(song, parts, source if self.fill == "full" else None)
        playing = {p.layer_id for p in source.placements}
        if self.fill != "by target" or not made or not playing:
            return after
        kept = [s for s in after.sections if s.id not in made]
        if all(x.muted for x in song.layers if x.id in playing):
            return after
        return lay_out_song(after, self.stance, section_ids=sorted(made), fit_scale=not kept, loop=source).song

    def summary(self, song: Song) -> str:
        parts = form_parts(self.text)
        return f"Laid out: {len(parts)} sections, {sum(b for _, b in parts)} bars"


def _with_sections(song: Song, parts: Sequence[tuple[str, int]], source: Section | None) -> tuple[Song, set[int]]:
    """The song in the form of `parts`, and the ids of its new sections: empty, or as the source plays."""
    ids, made, new = Ids(song.next_id), [], set()
    left = {s.name.lower(): s for s in song.sections}
    for name, bars in parts:
        kept = left.pop(name.lower(), None)
        if kept is not None:
            made.append(kept if kept.bars == bars else _in_bars(song, kept, bars))
            continue
        role = guess_role(name)
        fresh = Section(ids(), name, role, bars, default_phrases(bars), Target(*USUAL_TARGET[role]))
        if source is not None:
            copy = fresh_copy(_in_bars(song, source, bars), ids)
            fresh = replace(fresh, placements=copy.placements, swings=copy.swings, progression=copy.progression)
        made.append(fresh)
        new.add(made[-1].id)
    after = replace(song, sections=tuple(made), next_id=ids.next_id)
    grown = with_grown_targets(after).section_by_id
    return replace(after, sections=tuple(grown[s.id] if s.id in new else s for s in after.sections)), new


def _in_bars(song: Song, section: Section, bars: int) -> Section:
    """A section with another number of bars, as ResizeSection makes it."""
    alone = replace(song, sections=(section,))
    return ResizeSection(section.id, bars).apply(alone).sections[0] if section.bars != bars else section


def form_parts(text: str) -> list[tuple[str, int]]:
    """Names and bars of a form, numbered where names repeat. EditError where it cannot be read or does not fit."""
    parts = numbered(parse_form(text))
    total = sum(bars for _, bars in parts)
    for number, (name, bars) in enumerate(parts, 1):
        within(bars, 1, MAX_BARS, f"Part {number}, {name}: a length of", "bars")
    if total > MAX_BARS or len(parts) > MAX_SECTIONS:
        raise EditError(
            f"The form has {len(parts)} sections and {total} bars; at most {MAX_SECTIONS} and "
            f"{MAX_BARS} fit. Shorten it."
        )
    return parts


def _pins(fields: Fields, song: Song) -> Fields:
    """Fields `pin.7` of a form, ticked ones only, become the layers that stay."""
    pinned = [name[4:] for name in fields if name.startswith("pin.")]
    rest = {name: value for name, value in fields.items() if not name.startswith("pin.")}
    return {**rest, "pinned": [whole_number(x) for x in pinned]} if pinned else rest


@edit("arrange", EVERYTHING, _pins)
class Arrange:
    """Lay sections out anew (all, or one) after their targets, in one of several ways; what is pinned stays where it is."""

    stance: str
    section_id: int = 0
    pinned: list[int] | None = None
    fit_scale: bool = False
    off: dict[str, float] | None = None  # by section id: how much more was measured than arranged

    def apply(self, song: Song) -> Song:
        return self.layout(song).song

    def layout(self, song: Song) -> Layout:
        """The whole layout, with its reasons. EditError."""
        one_of(self.stance, list(STANCES), "way of laying out")
        section_ids = [section_of(song, self.section_id).id] if self.section_id else []
        off = {
            whole_number(k): within(v, -MOST_OFF, MOST_OFF, "A difference of", "points")
            for k, v in (self.off or {}).items()
        }
        pinned = [layer_of(song, x).id for x in self.pinned or []]
        return lay_out_song(song, self.stance, section_ids, pinned, off, self.fit_scale)

    def summary(self, song: Song) -> str:
        where = section_of(song, self.section_id).name if self.section_id else "The song"
        return f"{where} laid out: {STANCES[self.stance].label.lower() if self.stance in STANCES else self.stance}"


__all__ = ["Arrange", "FILLS", "LayOut", "form_parts"]
