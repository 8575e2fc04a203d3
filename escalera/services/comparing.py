"""Two passages beside each other at one loudness: sections of the song, of a kept version, of a mix made elsewhere, of a finished track."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.edits.edit import section_of, whole_number
from escalera.core.energy.stats import INDEX
from escalera.core.energy.terms import compute_terms, decibels, to_energy
from escalera.core.reading.timeline import timeline
from escalera.core.study.nearer import Beside, SectionFigures, beside
from escalera.errors import InputError, NotFound, shown
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import loudness, true_peak_dbtp
from escalera.meters.span_meters import measure_spans
from escalera.services.rendering import wav_bytes
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ
from escalera.store.repository import Head

if TYPE_CHECKING:
    from escalera.services.studio import Studio

LONGEST_S = 60.0
CEILING_DBTP = -1.0
EDGE = 132  # samples over which a passage is faded at its ends, so that a loop does not click
Audio = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class SetBeside:
    """A passage: what people call it, its sound (2, n) at the level it came with, and its bars in seconds with the beats of each."""

    label: str
    audio: Audio
    bars_s: tuple[float, ...]
    beats: tuple[int, ...]

    @property
    def beats_s(self) -> list[float]:
        """Every beat in seconds, and the end."""
        found = [
            low + (high - low) * k / count
            for low, high, count in zip(self.bars_s, self.bars_s[1:], self.beats)
            for k in range(count)
        ]
        return [*found, self.bars_s[-1]]


@dataclass(frozen=True, eq=False)
class BothBeside:
    """Two passages: the gain in dB that each is played with so that both are as loud, and what differs, line by line."""

    one: SetBeside
    other: SetBeside
    gains_db: tuple[float, float]
    lufs: tuple[float, float]
    peaks_dbtp: tuple[float, float]
    rows: list[Beside]

    @property
    def widths(self) -> tuple[float, float]:
        """Correlation of left and right of both."""
        a, b = (
            float(measure_spans(p.audio, RATE_HZ, np.array([0, p.audio.shape[1]])).correlation[0])
            for p in (self.one, self.other)
        )
        return a, b


def choices(studio: Studio, head: Head) -> list[tuple[str, str, str]]:
    """(key, kind, label) of everything that can be laid beside something: at most a few dozen."""
    song = head.song
    rows = [(f"section:{s.id}", "sections", s.name) for s in song.sections]
    for version in studio.versions.of(head.song_id)[:12]:
        if version.revision_id != head.revision_id:
            rows += [
                (f"version:{version.revision_id}:{s.id}", f"version {version.name}", s.name) for s in song.sections
            ]
    for bounce in studio.bounces.of_song(head.song_id, song)[:6]:
        if bounce.reading is not None:
            rows += [(f"bounce:{bounce.id}:{s.id}", f"mix {bounce.name}", s.name) for s in song.sections]
    for study in studio.studies.all()[:12]:
        if study.reading is not None:
            rows += [
                (f"study:{study.id}:{i}", f"track {study.name}", s.name) for i, s in enumerate(study.reading.sections)
            ]
    return rows


def passage_of(studio: Studio, head: Head, key: str) -> SetBeside:
    """The passage with a key. Raises InputError for what is no key, NotFound where its sound is gone."""
    kind, _, rest = key.partition(":")
    numbers = [whole_number(part) for part in rest.split(":")] if rest else []
    make = KINDS_OF_PASSAGE.get(kind)
    if make is None or len(numbers) != (1 if kind == "section" else 2):
        raise InputError(f"“{shown(key)}” is nothing to compare with. Choose a section, a version, a mix or a track.")
    return make(studio, head, *numbers)


def _of_song(studio: Studio, song: Song, section_id: int, label: str) -> SetBeside:
    line = timeline(song)
    span = line.span_of(section_of(song, section_id).id)
    index = line.spans.index(span)
    length = round(min(LONGEST_S, span.length_seconds) * RATE_HZ)
    audio = studio.rendering.renderer.chunk(song, line, index)[:, :length]
    bars = [s for s in span.grid.bar_seconds if s <= LONGEST_S + 0.01]
    return SetBeside(
        label, audio, tuple(float(b - bars[0]) for b in bars), tuple(m.beats for m in span.bar_metres[: len(bars) - 1])
    )


def _section(studio: Studio, head: Head, section_id: int) -> SetBeside:
    return _of_song(studio, head.song, section_id, section_of(head.song, section_id).name)


def _version(studio: Studio, head: Head, revision_id: int, section_id: int) -> SetBeside:
    version = next((v for v in studio.versions.of(head.song_id) if v.revision_id == revision_id), None)
    if version is None:
        raise NotFound("This version is not kept any more. Choose another one.")
    song = studio.state(head.song_id, revision_id)
    return _of_song(studio, song, section_id, f"{section_of(song, section_id).name} in {version.name}")


def _bounce(studio: Studio, head: Head, bounce_id: int, section_id: int) -> SetBeside:
    bounce = next((b for b in studio.bounces.of_song(head.song_id, head.song) if b.id == bounce_id), None)
    if bounce is None or bounce.reading is None:
        raise NotFound("This mix is not there any more, or was not read yet. Choose another one.")
    section, line = section_of(head.song, section_id), timeline(head.song)
    span = line.span_of(section.id)
    start = line.samples(RATE_HZ)[line.spans.index(span)] / RATE_HZ
    stretch = 1.0 + bounce.reading.drift_ppm * 1e-6
    low = bounce.reading.offset_s + start * stretch
    bars = [b - span.grid.bar_seconds[0] for b in span.grid.bar_seconds if b - span.grid.bar_seconds[0] <= LONGEST_S]
    audio = _cut(bounce.content, low, low + bars[-1] * stretch)
    return SetBeside(
        f"{section.name} in {bounce.name}",
        audio,
        tuple(float(b * stretch) for b in bars),
        tuple(m.beats for m in span.bar_metres[: len(bars) - 1]),
    )


def _study(studio: Studio, head: Head, study_id: int, index: int) -> SetBeside:
    study = studio.studies.get(study_id)
    reading = study.needed()
    if not 0 <= index < len(reading.sections):
        raise InputError(
            f"{study.name} has {len(reading.sections)} sections, no section {index + 1}. Choose one of them."
        )
    part = reading.sections[index]
    edges = [reading.bar_s(part.first_bar + n) for n in range(part.bars + 1)]
    edges = [e for e in edges if e - edges[0] <= LONGEST_S]
    audio = _cut(study.content, edges[0], edges[-1])
    return SetBeside(
        f"{part.name} of {study.name}",
        audio,
        tuple(e - edges[0] for e in edges),
        (max(1, reading.beats_a_bar),) * (len(edges) - 1),
    )


KINDS_OF_PASSAGE: dict[str, Callable[..., SetBeside]] = {
    "section": _section,
    "version": _version,
    "bounce": _bounce,
    "study": _study,
}


def _cut(content: str, low_s: float, high_s: float) -> Audio:
    first = max(0, round(low_s * RATE_HZ))
    audio = library.read(content, first, max(2, round(high_s * RATE_HZ) - first))
    if audio is None or not audio.shape[1]:
        raise NotFound(
            "Its audio is missing, or ends before this section. Bring the file in again; its content is recognised."
        )
    return np.stack((audio[0], audio[-1])) if len(audio) != 2 else audio


def compared(song: Song, one: SetBeside, other: SetBeside) -> BothBeside:
    """Both at the loudness of the softer one, each by one gain for the whole passage. Raises InputError for silence."""
    lufs = tuple(loudness(np.ascontiguousarray(p.audio), RATE_HZ).integrated_lufs for p in (one, other))
    for passage, value in zip((one, other), lufs):
        if not np.isfinite(value):
            raise InputError(f"{passage.label} is silent, so that nothing can be compared. Choose another one.")
    peaks = tuple(true_peak_dbtp(p.audio) for p in (one, other))
    goal = min(lufs)
    gains = [goal - value for value in lufs]
    over = max(0.0, max(peak + gain for peak, gain in zip(peaks, gains)) - CEILING_DBTP)
    rows = beside(song, *(_figures(song, p, goal - value) for p, value in zip((one, other), lufs)))
    return BothBeside(one, other, (gains[0] - over, gains[1] - over), (lufs[0], lufs[1]), (peaks[0], peaks[1]), rows)


def _figures(song: Song, passage: SetBeside, gain_db: float) -> SectionFigures:
    edges = np.minimum(np.rint(np.array(passage.bars_s) * RATE_HZ).astype(np.int64), passage.audio.shape[1])
    edges = np.unique(edges)
    meters = measure_spans(passage.audio * np.float32(10 ** (gain_db / 20)), RATE_HZ, edges)
    terms = compute_terms(meters.stats)
    bands = decibels(meters.stats[:, : INDEX["hits"]].mean(axis=0))
    return SectionFigures(
        tuple(terms.mean(axis=0).tolist()), tuple(bands.tolist()), float(to_energy(terms, song).mean())
    )


def passage_wav(passage: SetBeside, gain_db: float) -> bytes:
    """A passage at a gain, faded over its first and last three milliseconds."""
    audio = (passage.audio * np.float32(10 ** (gain_db / 20))).astype(np.float32)
    edge = min(EDGE, audio.shape[1] // 2)
    ramp = np.linspace(0.0, 1.0, edge, dtype=np.float32)
    audio[:, :edge] *= ramp
    audio[:, audio.shape[1] - edge :] *= ramp[::-1]
    return wav_bytes(audio)
