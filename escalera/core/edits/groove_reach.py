"""How far a groove reaches when it is placed: here, in all sections of a kind, or wherever drums play."""

from __future__ import annotations

from escalera.core.document.song import Section, Song
from escalera.core.reading.timeline import section_metres

WHERE = {"here": "here", "like": "in all sections of this kind", "song": "wherever drums play"}


def has_drums(song: Song, section: Section) -> bool:
    """Whether a drum is placed in a section."""
    return any(song.layer_by_id[p.layer_id].sound.is_drum for p in section.placements)


def sections_meant(song: Song, section: Section, where: str) -> list[Section]:
    """The sections that are meant, those in other time signatures left out; what plays no drums stays without."""
    metre = section_metres(section, song.metre)[0]
    return [
        s
        for s in song.sections
        if section_metres(s, song.metre)[0] == metre
        and (s.id == section.id or (s.role == section.role if where == "like" else has_drums(song, s)))
    ]
