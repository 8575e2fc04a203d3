"""A song laid out by a form that nothing plays in yet."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.form_text import parse_form
from escalera.core.document.schools import switch_value
from escalera.core.document.song import Section, Song
from escalera.core.document.target import Target
from escalera.core.edits.section_edits import AddSection


def song_with_form(song: Song, text: str) -> Song:
    """The song with its sections replaced by the form's, empty and with their roles' usual targets."""
    song = replace(song, sections=())
    for name, bars in parse_form(text):
        song = AddSection(name, "", bars).apply(song)
    return with_grown_targets(number_repeats(song))


# from the first to the last section of a role: how far its target lies below the usual one, and above it
GROWTH: dict[str, tuple[float, float]] = {
    "chorus": (-0.7, 0.8), "drop": (-0.8, 0.4), "post-chorus": (-0.4, 0.6), "verse": (-0.3, 0.6), "pre-chorus": (-0.3, 0.5), "none": (-1.0, 2.5),
    "jam": (-0.5, 0.8), "build": (-0.2, 0.3),
}  # fmt: skip
GROOVE_GOES_ON = 1.0  # a verse that keeps the groove is that much higher
SAME = 0.4  # of that where a repeat may come back the same


def with_grown_targets(song: Song) -> Song:
    """The song with sections of one role climbing from its first to its last: a return that gains nothing is a copy."""
    share = 1.0 if switch_value(song.school, song.switches, "repeats") == "change" else SAME
    groove = switch_value(song.school, song.switches, "verses") == "groove"
    sections = []
    for section in song.sections:
        same = [s.id for s in song.sections if s.role == section.role and _is_again(s, section)]
        low, high = GROWTH.get(section.role, (0.0, 0.0))
        if len(same) > 1:
            at = low + (high - low) * same.index(section.id) / (len(same) - 1)
            section = replace(section, target=_moved(section.target, share * at))
        if section.role == "verse" and groove:
            section = replace(section, target=_moved(section.target, GROOVE_GOES_ON))
        sections.append(section)
    return replace(song, sections=tuple(sections))


def _is_again(a: Section, b: Section) -> bool:
    """Sections without a role are the same where they are called alike, numbers aside."""
    return a.role != "none" or a.name.rstrip(" 0123456789") == b.name.rstrip(" 0123456789")


def _moved(target: Target, by: float) -> Target:
    return replace(target, start=round(min(10.0, target.start + by), 1), end=round(min(10.0, target.end + by), 1))


def number_repeats(song: Song) -> Song:
    """'Verse, Verse 2' reads better as 'Verse 1, Verse 2'."""
    names = {section.name for section in song.sections}

    def named(section: Section) -> Section:
        return replace(section, name=section.name + " 1") if section.name + " 2" in names else section

    return replace(song, sections=tuple(named(section) for section in song.sections))
