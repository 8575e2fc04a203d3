"""The newest mix from elsewhere over the stair: its line, and the chosen section as it has it."""

from __future__ import annotations

from dataclasses import dataclass

from escalera.core.bounce_judgement import BounceReading, SectionHeard, cause_of
from escalera.core.document.song import Song
from escalera.services.bounces import Bounce
from escalera.web.drawing import bounce_line


@dataclass(frozen=True, slots=True)
class MixOver:
    """A bounce's name and reading, and what is drawn of it."""

    name: str
    reading: BounceReading
    lines: tuple[str, ...]

    def of(self, section_id: int) -> tuple[SectionHeard, str] | None:
        """A section as the mix has it, and what differs most from the sketch there; None where it is not in the mix."""
        heard = self.reading.of(section_id)
        if heard is None or heard.energy is None:
            return None
        return heard, cause_of(heard, next((s for s in self.reading.sketch if s.section_id == section_id), None))


def mix_over(bounces: list[Bounce], song: Song) -> MixOver | None:
    """The newest bounce that lies over the song as it is; None where there is none."""
    newest = next((b for b in bounces if b.reading is not None and b.fresh), None)
    if newest is None or newest.reading is None:
        return None
    return MixOver(newest.name, newest.reading, tuple(bounce_line(song, newest.reading)))
