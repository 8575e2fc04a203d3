"""Where a song stands when one comes back to it: what is undecided."""

from __future__ import annotations

from escalera.core.document.song import Section, Song


def undecided(song: Song) -> list[Section]:
    """Sections with options that nobody has decided about: parked without a word."""
    return [s for s in song.sections if any(not p.reason for p in s.parked)]
