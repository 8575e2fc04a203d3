"""What the page of bounces shows: mixes made elsewhere over the plan, section by section, and what they do that nobody wants."""

from __future__ import annotations

from functools import cached_property

from escalera.core.bounce_judgement import BounceFinding, BounceReading, SectionHeard, bounce_findings, cause_of
from escalera.core.document.song import Section
from escalera.core.energy.model import arranged
from escalera.lazy_dataclasses import dataclass
from escalera.services.bounces import Bounce
from escalera.store.repository import Head
from escalera.web.drawing import LINE_WIDTH, bounce_line, y_of
from escalera.web.page_view import PhraseView
from escalera.web.song_view import Selection

AUDIBLE_MS = 5.0


@dataclass(frozen=True)
class MixRow:
    """One section in the table: what is wanted, from layers, the sketch, the mix, the mix it is compared with."""

    section: Section
    arranged: float
    sketch: float | None
    heard: SectionHeard | None
    other: float | None
    cause: str

    @property
    def off(self) -> float | None:
        """The mix against what is wanted; None where it has no such bars."""
        return None if self.heard is None or self.heard.energy is None else self.heard.energy - self.section.target.mean


class BounceView(PhraseView):
    """All that the templates of the page ask for; `chosen` and `against` are bounces by their ids."""

    def __init__(self, head: Head, select: str, bounces: list[Bounce], chosen: int, against: int):
        super().__init__(head, select)
        self.selection = Selection("section", self.section.id)
        self.bounces = bounces
        self.chosen = next((b for b in bounces if b.id == chosen), bounces[0] if bounces else None)
        self.against = next((b for b in bounces if b.id == against and b is not self.chosen), None)

    @property
    def reading(self) -> BounceReading | None:
        return self.chosen.reading if self.chosen else None

    def facts(self, bounce: Bounce) -> list[str]:
        """Where a bounce lies and what it leaves out, in words."""
        r = bounce.reading
        if r is None:
            return []
        found = [f"begins {abs(r.offset_s):.3f} s {'in' if r.offset_s >= 0 else 'before the file does'}"]
        if abs(r.drift_ppm) * self.seconds * 1e-3 > AUDIBLE_MS:
            word = "slower" if r.drift_ppm > 0 else "faster"
            found.append(
                f"{abs(r.drift_ppm):.0f} ppm {word}, {abs(r.drift_ppm) * self.seconds * 1e-3:.0f} ms over the song"
            )
        if r.missing_bars:
            found.append(f"bars {spans_said(r.missing_bars)} are missing")
        found += [f"{n} bars added before bar {bar}" for bar, n in r.added_bars]
        if r.integrated_lufs is not None and r.true_peak_dbtp is not None:
            found.append(f"{r.integrated_lufs:.1f} LUFS, peak {r.true_peak_dbtp:.1f} dBTP".replace("-", "−"))
        return found

    @cached_property
    def rows(self) -> list[MixRow]:
        if self.reading is None:
            return []
        layers = {e.span.section.id: float(e.value) for e in arranged(self.song).sections}
        sketch = {s.section_id: s for s in self.reading.sketch}
        other = self.against.reading if self.against else None
        rows = []
        for section in self.song.sections:
            heard, own = self.reading.of(section.id), sketch.get(section.id)
            compared = other.of(section.id) if other else None
            cause = cause_of(heard, own) if heard else ""
            rows.append(
                MixRow(
                    section,
                    layers[section.id],
                    own.energy if own else None,
                    heard,
                    compared.energy if compared else None,
                    cause,
                )
            )
        return rows

    @cached_property
    def findings(self) -> list[BounceFinding]:
        return bounce_findings(self.song, self.reading) if self.reading else []

    # drawing -------------------------------------------------------------------------------------------------------

    def line(self, reading: BounceReading | None, sketch: bool = False) -> list[str]:
        """The bounce (or the sketch) over the song's bars, by phrase: points of lines, one for every stretch that is there."""
        return bounce_line(self.song, reading, sketch) if reading else []

    @property
    def steps(self) -> list[tuple[float, float, float, str]]:
        """What is wanted of every section: left and right in per mille, height, name."""
        total, bar, found = max(1, self.song.bars), 0, []
        for section in self.song.sections:
            left, right = LINE_WIDTH * bar / total, LINE_WIDTH * (bar + section.bars) / total
            found.append((round(left, 1), round(right, 1), y_of(section.target.mean), section.name))
            bar += section.bars
        return found


def spans_said(bars: tuple[int, ...]) -> str:
    """Bars as people say them: 5 to 8, 12."""
    runs: list[list[int]] = []
    for bar in bars:
        if runs and bar == runs[-1][1] + 1:
            runs[-1][1] = bar
        else:
            runs.append([bar, bar])
    return ", ".join(f"{a} to {b}" if b > a else str(a) for a, b in runs)
