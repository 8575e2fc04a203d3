"""A song laid out by a form that nothing plays in yet."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.form_text import parse_form
from escalera.core.document.song import Section, Song
from escalera.core.edits.section_edits import AddSection


def song_with_form(song: Song, text: str) -> Song:
    """The song with its sections replaced by the form's, empty and with their roles' usual targets."""
    song = replace(song, sections=())
    for name, bars in parse_form(text):
        song = AddSection(name, "", bars).apply(song)
    return number_repeats(song)


def number_repeats(song: Song) -> Song:
    """'Verse, Verse 2' reads better as 'Verse 1, Verse 2'."""
    names = {section.name for section in song.sections}

    def named(section: Section) -> Section:
        return replace(section, name=section.name + " 1") if section.name + " 2" in names else section

    return replace(song, sections=tuple(named(section) for section in song.sections))
