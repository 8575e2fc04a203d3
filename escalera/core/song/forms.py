"""Forms: lists of sections with lengths, as data; and reading one from text ('intro 8, verse 16, chorus 8')."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from escalera.core.song.document import Section, Song
from escalera.core.song.edits.sections import AddSection
from escalera.errors import EditError, shown


@dataclass(frozen=True, slots=True)
class Form:
    key: str
    label: str
    text: str
    help: str


FORMS: dict[str, Form] = {form.key: form for form in (
    Form("loop", "One loop", "Idea 8", "Eight bars to fill; sections come later."),
    Form("verse-chorus", "Verse and chorus", "Intro 8, Verse 16, Chorus 8, Verse 16, Chorus 8, Bridge 8, Chorus 16, Outro 8",
         "The song form with a bridge before the last chorus."),
    Form("chorus-first", "Chorus first", "Chorus 8, Verse 16, Pre-chorus 4, Chorus 8, Verse 8, Pre-chorus 4, Chorus 16, Outro 4",
         "Opens on the chorus, so every later one has to grow."),
    Form("two-drops", "Two drops", "Intro 16, Build 8, Drop 16, Break 16, Build 8, Drop 16, Outro 16",
         "Builds, drops and a break between them."),
    Form("strophic", "Strophes", "Intro 4, Verse 16, Interlude 4, Verse 16, Interlude 4, Verse 16, Tag 4",
         "The same strophe again; the arrangement makes the difference."),
    Form("through", "Through-composed", "Intro 8, Verse 12, Interlude 6, Jam 16, Breakdown 8, Bridge 10, Outro 12",
         "Nothing returns; the stair alone leads."),
)}  # fmt: skip


def parse_form(text: str) -> list[tuple[str, int]]:
    """Names and bars. Raises EditError that points at the part which cannot be read."""
    sections = []
    for number, part in enumerate(filter(None, (p.strip() for p in text.split(","))), 1):
        match = re.fullmatch(r"(.+?)\s+(\d{1,4})(?:\s*[x×]\s*(\d{1,2}))?", part)
        if not match:
            raise EditError(
                f"Part {number}, “{shown(part)}”, needs a name and a number of bars, for example “verse 16”."
            )
        name = match[1][0].upper() + match[1][1:]
        sections += [(name, int(match[2]))] * int(match[3] or 1)
    if not sections:
        raise EditError("The form is empty. Write sections with their bars, for example “intro 8, verse 16, chorus 8”.")
    return sections


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
