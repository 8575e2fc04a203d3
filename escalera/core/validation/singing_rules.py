"""What must hold of takes and words: recordings that are known, stretches that are not empty, one version that is sung."""

from __future__ import annotations

from collections.abc import Callable

from escalera.core.document.singing import CHORD
from escalera.core.document.song import Song
from escalera.errors import shown

Need = Callable[[bool, str], None]


def singing(song: Song, need: Need) -> None:
    """Every take names recordings that the song knows; every section sings a version of its words that is there."""
    known = {s.content for s in song.samples}
    for number, take in enumerate(song.takes, 1):
        for content in (take.content, take.polished):
            need(
                not content or content in known,
                f"take {number} names the recording “{shown(content)}”, which the song does not know",
            )
        need(not take.high_ticks or take.low_ticks < take.high_ticks, f"take {number} ends before it begins")
    for section in song.bodies:
        for number, moment in enumerate(section.moments, 1):
            need(
                (moment.kind == CHORD) == (moment.chord is not None),
                f"moment {number} of “{shown(section.name)}” has a chord without being one, or is one without it",
            )
        need(
            section.lyric < max(1, len(section.lyrics)),
            f"“{shown(section.name)}” sings version {section.lyric + 1} of its words and has {len(section.lyrics)}",
        )
