"""A song's section beside a track's: term by term and band by band, and what would bring it nearer."""

from __future__ import annotations

import numpy as np

from escalera.core.document.schools import TERMS
from escalera.core.document.song import Song
from escalera.core.energy.stats import BANDS
from escalera.core.energy.terms import scale_of, weights
from escalera.core.study.changes import signed
from escalera.core.study.heard_track import StudyReading
from escalera.core.study.sounding import mean_bands_db
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Beside:
    """One line: a term in points of energy or a band in dB of its own loudness; the song's, the track's, and what the song lacks."""

    name: str
    own: float
    track: float
    unit: str

    @property
    def lacks(self) -> float:
        return self.track - self.own

    @property
    def said(self) -> str:
        return f"{signed(self.lacks, 1 if self.unit == 'points' else 0)} {self.unit}"


@dataclass(frozen=True, slots=True)
class SectionFigures:
    """A section's mean terms (each 0 to 1) and mean levels in the six bands in dB, both at one loudness."""

    terms: tuple[float, ...]
    bands_db: tuple[float, ...]
    energy: float


def track_figures(reading: StudyReading, index: int) -> SectionFigures:
    """A track's section, as it was measured at a common loudness."""
    bars = reading.bars_of(index)
    terms = np.mean([b.terms for b in bars], axis=0)
    return SectionFigures(tuple(terms.tolist()), tuple(mean_bands_db(bars).tolist()), reading.energy_of(index))


def beside(song: Song, own: SectionFigures, track: SectionFigures) -> list[Beside]:
    """Every term and band of both, terms in points of the song's own scale, bands with the loudness of both brought to one."""
    points = scale_of(song)[0] * weights(song.school)
    rows = [
        Beside(n, float(a * p), float(b * p), "points") for n, a, b, p in zip(TERMS, own.terms, track.terms, points)
    ]
    by = _loud(own.bands_db) - _loud(track.bands_db)
    rows += [Beside(f"{n} Hz", a, b + by, "dB") for n, a, b in zip(BANDS, own.bands_db, track.bands_db)]
    return rows


def _loud(bands_db: tuple[float, ...]) -> float:
    return float(10 * np.log10(sum(10 ** (x / 10) for x in bands_db)))


def largest(rows: list[Beside]) -> list[str]:
    """What differs most, in words."""
    terms = sorted((r for r in rows if r.unit == "points"), key=lambda r: -abs(r.lacks))[:2]
    bands = sorted((r for r in rows if r.unit == "dB"), key=lambda r: -abs(r.lacks))[:2]
    found = [f"{r.name} {r.said}" for r in terms if abs(r.lacks) >= 0.3]
    return found + [f"{r.name} {r.said}" for r in bands if abs(r.lacks) >= 3.0]
