"""The newest mix from elsewhere over the stair: its line, and the chosen section as it has it."""

from __future__ import annotations

from escalera.core.bounce_judgement import BounceReading, SectionHeard, cause_of
from escalera.core.document.schools import TERMS
from escalera.core.document.song import Song
from escalera.core.energy.stats import BANDS
from escalera.lazy_dataclasses import dataclass
from escalera.services.bounces import Bounce
from escalera.web.drawing import bounce_line


@dataclass(frozen=True, slots=True)
class MixedSection:
    """One section of a mix beside the sketch's; `gain_db` brought the mix to the sketch's loudness."""

    heard: SectionHeard
    sketch: SectionHeard
    gain_db: float

    @property
    def cause(self) -> str:
        """What differs most from the sketch."""
        return cause_of(self.heard, self.sketch)

    @property
    def rows(self) -> list[tuple[str, str, str, str]]:
        """Terms and meters: name, the sketch's, the mix's, the difference."""
        terms = zip(TERMS, self.sketch.points, self.heard.points)
        bands = zip((f"{b} Hz, dB" for b in BANDS), self.sketch.bands_db, self.heard.bands_db)
        rows = [(name, f"{a:.1f}", f"{b:.1f}", f"{b - a:+.1f}") for name, a, b in terms]
        rows += [(name, f"{a:.0f}", f"{b:.0f}", f"{b - a:+.0f}") for name, a, b in bands]
        if self.heard.integrated_lufs is not None and self.sketch.integrated_lufs is not None:
            own, mix = self.sketch.integrated_lufs, self.heard.integrated_lufs - self.gain_db
            rows.append(("LUFS, as in its file", f"{own:.1f}", f"{mix:.1f}", f"{mix - own:+.1f}"))
        if self.heard.width is not None and self.sketch.width is not None:
            a, b = 100 * self.sketch.width, 100 * self.heard.width
            rows.append(("width, %", f"{a:.0f}", f"{b:.0f}", f"{b - a:+.0f}"))
        return [tuple(x.replace("-", "−") for x in row) for row in rows]  # type: ignore[misc]


@dataclass(frozen=True, slots=True)
class MixOver:
    """A bounce's name and reading, and what is drawn of it."""

    name: str
    reading: BounceReading
    lines: tuple[str, ...]

    def of(self, section_id: int) -> MixedSection | None:
        """A section as the mix has it; None where it is not in the mix."""
        heard = self.reading.of(section_id)
        sketch = next((s for s in self.reading.sketch if s.section_id == section_id), None)
        if heard is None or heard.energy is None or sketch is None:
            return None
        return MixedSection(heard, sketch, self.reading.gain_db)


def mix_over(bounces: list[Bounce], song: Song) -> MixOver | None:
    """The newest bounce that lies over the song as it is; None where there is none."""
    newest = next((b for b in bounces if b.reading is not None and b.fresh), None)
    if newest is None or newest.reading is None:
        return None
    return MixOver(newest.name, newest.reading, tuple(bounce_line(song, newest.reading)))
