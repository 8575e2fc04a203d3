"""Edits of what was read from a file: saying that it is right, and moving where its parts begin."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import edit, section_of, whole_number
from escalera.core.edits.section_edits import MergeSections, SplitSection
from escalera.core.time.ticks import bars_counted
from escalera.errors import EditError


@edit("confirm_reading", "form harmony")
class ConfirmReading:
    """Say that the roles and chords that were read from a file are right, in one section or everywhere."""

    section_id: int | None = None

    def apply(self, song: Song) -> Song:
        if self.section_id is not None:
            return song.with_section(replace(section_of(song, self.section_id), guessed=False))
        if not song.chords_read and not any(s.guessed for s in song.sections):
            raise EditError("Nothing in this song was guessed, so there is nothing to confirm.")
        return replace(song, chords_read=False, sections=tuple(replace(s, guessed=False) for s in song.sections))

    def summary(self, song: Song) -> str:
        where = "" if self.section_id is None else f" of {section_of(song, self.section_id).name}"
        return f"Confirmed what was read{where}"


@edit("move_boundary", "form placements notes harmony time shaping")
class MoveBoundary:
    """Let a section begin so many bars later (or, below zero, earlier); the one before it takes or gives them."""

    section_id: int
    by_bars: int

    def apply(self, song: Song) -> Song:
        section, before = self._pair(song)
        by = whole_number(self.by_bars, "number of bars to move by", -(before.bars - 1), section.bars - 1)
        if by == 0:
            return song
        options = {s.id: s.parked for s in (section, before)}  # they stay as they are, and are exchanged whole
        song = replace(song, sections=tuple(replace(s, parked=()) if s.id in options else s for s in song.sections))
        if by > 0:
            song = SplitSection(section.id, by).apply(song)
            rest = song.sections[song.index_of(section.id) + 1]
            song = MergeSections(before.id).apply(song)
        else:
            song = SplitSection(before.id, before.bars + by).apply(song)
            rest = song.sections[song.index_of(before.id) + 1]
            song = MergeSections(rest.id).apply(song)
        song = _named_as(song, rest.id, section)
        song = song.with_section(replace(section_of(song, before.id), target=before.target))
        return replace(song, sections=tuple(replace(s, parked=options.get(s.id, s.parked)) for s in song.sections))

    def _pair(self, song: Song) -> tuple[Section, Section]:
        section = section_of(song, self.section_id)
        index = song.index_of(section.id)
        if index == 0:
            raise EditError(f"{section.name} is the first section, so nothing lies before it. Choose a later one.")
        before = song.sections[index - 1]
        return section, before

    def summary(self, song: Song) -> str:
        section, by = section_of(song, self.section_id), int(self.by_bars)
        return f"{section.name} begins {bars_counted(abs(by))} {'later' if by > 0 else 'earlier'}"


def _named_as(song: Song, section_id: int, like: Section) -> Song:
    """The section under the id, name, role and target of another one, which is gone."""
    sections = tuple(
        replace(s, id=like.id, name=like.name, role=like.role, target=like.target, guessed=like.guessed)
        if s.id == section_id
        else s
        for s in song.sections
    )
    return replace(song, sections=sections)
