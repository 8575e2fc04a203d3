"""What a section brings: against the one before it, against the one it is like, and among all of them."""

from __future__ import annotations

import numpy as np

from escalera.core.energy.stats import BANDS
from escalera.core.study.heard_track import StudyReading
from escalera.core.study.sounding import FADE, FLOOR_DB, SIGNS, enters, mean_bands_db, sounding
from escalera.lazy_dataclasses import dataclass

BAND_DB, LOUD_DB, WIDTH, OCTAVE, ONSETS, ENERGY = 3.0, 1.5, 0.06, 0.22, 0.3, 0.3
THREE = 3
MINUS = "−"


@dataclass(frozen=True, slots=True)
class Changes:
    """A section against another: what is new and gone by sign, and what changed, in words with figures."""

    new: tuple[str, ...]
    gone: tuple[str, ...]
    changed: tuple[str, ...]
    energy: float

    @property
    def none(self) -> bool:
        return not (self.new or self.gone or self.changed)


@dataclass(frozen=True, slots=True)
class _Means:
    bands: np.ndarray
    lufs: float
    width: float
    centre: float
    onsets: float
    energy: float


def _means(reading: StudyReading, section: int) -> _Means:
    bars = reading.bars_of(section)
    loud = [b.loudness_lufs for b in bars if b.loudness_lufs is not None]
    lufs = 10 * np.log10(np.mean([10 ** (x / 10) for x in loud])) if loud else FLOOR_DB
    centre = np.mean([np.log2(max(b.centre_hz, 20.0)) for b in bars])
    return _Means(
        mean_bands_db(bars), float(lufs), float(np.mean([b.width for b in bars])), float(centre),
        float(np.mean([sum(b.onsets) for b in bars])), reading.energy_of(section),
    )  # fmt: skip


def against(reading: StudyReading, section: int, other: int) -> Changes:
    """A section against another one of the track."""
    here, there = sounding(reading, section), sounding(reading, other)
    new = tuple(SIGNS[k].label for k in SIGNS if here[k] >= 1.0 and there[k] < FADE)
    gone = tuple(SIGNS[k].label for k in SIGNS if there[k] >= 1.0 and here[k] < FADE)
    a, b = _means(reading, section), _means(reading, other)
    return Changes(new, gone, tuple(_changed(a, b)), a.energy - b.energy)


def _changed(here: _Means, there: _Means) -> list[str]:
    found = []
    for name, by in zip(BANDS, (here.bands - there.bands).tolist()):
        if abs(by) >= BAND_DB and max(here.bands.max(), there.bands.max()) > FLOOR_DB + 5:
            found.append(f"{name} Hz {signed(by, 0)} dB")
    if abs(here.lufs - there.lufs) >= LOUD_DB:
        found.append(f"{signed(here.lufs - there.lufs)} LU")
    if abs(here.width - there.width) >= WIDTH:
        found.append("wider" if here.width > there.width else "narrower")
    if abs(here.centre - there.centre) >= OCTAVE:
        found.append("brighter" if here.centre > there.centre else "darker")
    ratio = (here.onsets + 0.5) / (there.onsets + 0.5)
    if abs(np.log2(ratio)) >= ONSETS:
        found.append(
            f"{'more' if ratio > 1 else 'less'} begins in a bar ({here.onsets:.0f} against {there.onsets:.0f})"
        )
    return found


def signed(value: float, digits: int = 1) -> str:
    """A number with its sign, as people print it."""
    return f"{round(value, digits) + 0.0:+.{digits}f}".replace("-", MINUS)


def once_only(reading: StudyReading) -> list[int]:
    """Sections that nothing else in the track is like."""
    liked = {s.like for s in reading.sections if s.like >= 0}
    return [i for i, s in enumerate(reading.sections) if s.like < 0 and i not in liked]


def root_of(reading: StudyReading, section: int) -> int:
    """The first of the sections that a section goes back to."""
    while reading.sections[section].like >= 0:
        section = reading.sections[section].like
    return section


def families(reading: StudyReading) -> dict[int, list[int]]:
    """Sections that are alike, by the first of them."""
    found: dict[int, list[int]] = {}
    for i in range(len(reading.sections)):
        found.setdefault(root_of(reading, i), []).append(i)
    return found


def in_threes(reading: StudyReading) -> list[list[int]]:
    """Sections that come exactly three times."""
    return [members for members in families(reading).values() if len(members) == THREE]


def held_back(reading: StudyReading) -> list[tuple[str, int]]:
    """Signs that are kept until late: heard in one section only, or first past the middle of the track, with that section."""
    count, found = len(reading.sections), []
    rows = [sounding(reading, i) for i in range(count)]
    for key, sign in SIGNS.items():
        there = [i for i in range(count) if rows[i][key] >= 1.0]
        if there and count >= 4 and (reading.sections[there[0]].first_bar >= reading.bar_count / 2):
            found.append((sign.label, there[0]))
    return found


def teased(reading: StudyReading) -> list[tuple[str, int, int]]:
    """Signs that are there faintly or for a moment, then gone, and come for good later: label, first section, the one it comes in."""
    count, found = len(reading.sections), []
    rows = [sounding(reading, i) for i in range(count)]
    for key, sign in SIGNS.items():
        for i in range(count - 2):
            faint = FADE <= rows[i][key] < 1.0 or (rows[i][key] < 1.0 and enters(reading, i, key) is not None)
            later = next((j for j in range(i + 1, count) if rows[j][key] >= 1.0), None)
            if faint and later is not None and later - i >= 2 and rows[i + 1][key] < FADE:
                found.append((sign.label, i, later))
                break
    return found


def compared(reading: StudyReading, section: int) -> tuple[int, Changes] | None:
    """The section that a section comes back from, and what is different this time; None where it is new."""
    like = reading.sections[section].like
    return (like, against(reading, section, like)) if like >= 0 else None


def grows(changes: Changes) -> str:
    """Whether a section that comes back has more or less energy, in words."""
    if abs(changes.energy) < ENERGY:
        return "as strong as before"
    return f"{signed(changes.energy)} energy"
