"""A mix of the song made elsewhere, measured section by section, and what it says of the plan: judged like the sketch, against
what is wanted."""

from __future__ import annotations

from escalera.core.document.schools import TERMS
from escalera.core.document.song import Song
from escalera.core.energy.stats import BANDS
from escalera.lazy_dataclasses import dataclass

RISES = ("chorus", "drop", "post-chorus", "break", "breakdown", "verse", "bridge", "pre-chorus", "build")
FAR = 0.8  # energy by which a mix may lie off what is wanted, or off the sketch, before that is said
LITTLE = 0.3  # a wanted step smaller than that is none
BAND_DB = 3.0
MOST_SAID = 12


@dataclass(frozen=True, slots=True)
class SectionHeard:
    """One section as a bounce has it, over the bars that are there. `energy` is None where none is.

    bars : energy of every bar, None where it is missing
    points : what every term brings to the energy; bands_db : mean level in the six bands, matched to the sketch's loudness
    """

    section_id: int
    name: str
    energy: float | None
    bars: tuple[float | None, ...]
    integrated_lufs: float | None
    width: float | None
    points: tuple[float, ...]
    bands_db: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class BounceReading:
    """A bounce laid over the song: where it lies, what it leaves out or adds, and its sections. Bars are counted from 1."""

    offset_s: float
    drift_ppm: float
    missing_bars: tuple[int, ...]
    added_bars: tuple[tuple[int, int], ...]  # before which bar, how many
    likeness: float
    gain_db: float  # by which it was brought to the sketch's loudness
    integrated_lufs: float | None
    true_peak_dbtp: float | None
    sections: tuple[SectionHeard, ...]
    sketch: tuple[SectionHeard, ...] = ()  # the song's own sections as they were rendered and measured at the same time

    def of(self, section_id: int) -> SectionHeard | None:
        return next((s for s in self.sections if s.section_id == section_id), None)


@dataclass(frozen=True, slots=True)
class BounceFinding:
    """What a bounce does that nobody wants: a sentence, the section it is about, what is likely to do it."""

    section_id: int
    said: str
    cause: str
    off: float


def bounce_findings(song: Song, bounce: BounceReading) -> list[BounceFinding]:
    """What lies off the plan in a bounce, the largest first."""
    by_id = {s.section_id: s for s in bounce.sketch}
    found = [*_against_targets(song, bounce, by_id), *_steps(song, bounce, by_id)]
    return sorted(found, key=lambda f: -abs(f.off))[:MOST_SAID]


def _against_targets(song: Song, bounce: BounceReading, sketch: dict[int, SectionHeard]) -> list[BounceFinding]:
    found = []
    for section in song.sections:
        heard = bounce.of(section.id)
        if heard is None or heard.energy is None:
            continue
        off = heard.energy - section.target.mean
        if abs(off) > FAR:
            said = f"{section.name} measures {heard.energy:.1f} in the mix; wanted is {section.target.mean:.1f}."
            found.append(BounceFinding(section.id, said, cause_of(heard, sketch.get(section.id)), off))
    return found


def _steps(song: Song, bounce: BounceReading, sketch: dict[int, SectionHeard]) -> list[BounceFinding]:
    """Sections of one kind against each other, and each against the one before it: rises that are not there."""
    found = []
    pairs = [(a, b) for a, b in zip(song.sections, song.sections[1:])]
    for role in RISES:
        alike = [s for s in song.sections if s.role == role]
        pairs += [(a, b) for a, b in zip(alike, alike[1:]) if (a, b) not in pairs]
    for a, b in pairs:
        first, second = bounce.of(a.id), bounce.of(b.id)
        if first is None or second is None or first.energy is None or second.energy is None:
            continue
        wanted, heard = b.target.mean - a.target.mean, second.energy - first.energy
        if abs(wanted) < LITTLE or abs(heard - wanted) <= FAR:
            continue
        word = "above" if heard >= 0 else "below"
        said = f"{b.name} measures {abs(heard):.1f} {word} {a.name}; wanted is {wanted:+.1f}.".replace("-", "−")
        found.append(BounceFinding(b.id, said, cause_of(second, sketch.get(b.id)), heard - wanted))
    return found


def cause_of(heard: SectionHeard, sketch: SectionHeard | None) -> str:
    """Where a section of a bounce differs most from the sketch: a term of the energy, and a band; empty where it hardly does."""
    if sketch is None or sketch.energy is None or heard.energy is None:
        return ""
    terms = [a - b for a, b in zip(heard.points, sketch.points)]
    bands = [a - b for a, b in zip(heard.bands_db, sketch.bands_db)]
    said = []
    term = max(range(len(terms)), key=lambda i: abs(terms[i]), default=0)
    if terms and abs(terms[term]) > LITTLE:
        said.append(f"{TERMS[term]} {terms[term]:+.1f}")
    band = max(range(len(bands)), key=lambda i: abs(bands[i]), default=0)
    if bands and abs(bands[band]) > BAND_DB:
        said.append(f"{BANDS[band]} Hz {bands[band]:+.0f} dB")
    return f"Against the sketch: {', '.join(said)}.".replace("-", "−") if said else ""
