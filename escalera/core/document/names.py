"""Names that people give, cleaned; and the names that come by themselves."""

from __future__ import annotations

import re
from dataclasses import replace

from escalera.cleaning import clean_line
from escalera.core.document.limits import MAX_NAME
from escalera.core.document.song import ROLES, Song
from escalera.errors import EditError, shown

ROLE_WORDS = {
    "pre": "pre-chorus", "prechorus": "pre-chorus", "lift": "pre-chorus", "postchorus": "post-chorus",
    "refrain": "chorus", "hook": "chorus", "middle": "bridge", "breakdown": "breakdown", "rise": "build",
    "buildup": "build", "end": "outro", "ending": "outro", "coda": "outro", "opening": "intro", "inter": "interlude",
}  # fmt: skip


def clean_name(text: str, what: str = "name", limit: int = MAX_NAME) -> str:
    """One line without control characters. Raises EditError when empty or too long."""
    name = clean_line(text)
    if not name:
        raise EditError(f"The {what} is empty. Write at least one character.")
    if len(name) > limit:
        raise EditError(
            f"The {what} “{shown(name, 24)}” has {len(name):,} characters; at most {limit} fit. Shorten it."
        )
    return name


def clean_words(text: str, what: str, limit: int) -> str:
    """As `clean_name`, but nothing may be written."""
    return clean_name(text, what, limit) if text.strip() else ""


def singular(word: str) -> str:
    """An English word without its plural s: 'drums' is 'drum'; 'chorus', 'bass' and 'is' stay."""
    return word[:-1] if len(word) > 3 and word.endswith("s") and not word.endswith(("ss", "us", "is")) else word


def guess_role(name: str) -> str:
    """The role that a section's name suggests, or 'none'."""
    word = re.sub(r"[^a-z-]", "", name.lower().split()[0]) if name.split() else ""
    if word in ROLES:
        return word
    return ROLE_WORDS.get(word.replace("-", ""), "none")


def numbered_by_place(song: Song) -> Song:
    """Sections of one name in the order of their numbers: 'Chorus 1' comes before 'Chorus 2', whichever was made first."""
    stems: dict[str, list[tuple[int, str]]] = {}
    for section in song.sections:
        stem, number = _stem(section.name)
        stems.setdefault(stem, []).append((number, section.name))
    queues = {stem: iter(sorted(rows)) for stem, rows in stems.items()}
    sections = tuple(replace(s, name=next(queues[_stem(s.name)[0]])[1]) for s in song.sections)
    return song if sections == song.sections else replace(song, sections=sections)


def _stem(name: str) -> tuple[str, int]:
    found = re.fullmatch(r"(.*?) (\d{1,4})", name)
    return (found[1], int(found[2])) if found else (name, 0)


def next_name(song: Song, name: str) -> str:
    """The first free numbered name: after 'Verse' and 'Verse 2' comes 'Verse 3'."""
    stem = re.sub(r"\s+\d+$", "", name)
    taken = {section.name for section in song.sections}
    number = 2
    while f"{stem} {number}" in taken:
        number += 1
    return f"{stem} {number}"
