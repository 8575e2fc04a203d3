"""What is known of a song without opening it: figures, its stair, how it begins and ends, what lies open. Read once a state, and kept."""

from __future__ import annotations

from typing import Any

import numpy as np

from escalera.core.document.fields import adapter
from escalera.core.document.song import Song
from escalera.core.document.work_state import Collaborator, WorkState
from escalera.core.energy.model import SectionEnergy, arranged
from escalera.core.energy.terms import school_scale, weights
from escalera.core.planning.open_steps import OpenStep, Surroundings, open_steps
from escalera.core.reading.events import DURATION, START, section_events, sounding_layers
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.keys import key_text
from escalera.lazy_dataclasses import dataclass

FACTS = 1  # raised when more is read, so that what was kept is read anew
COMMON_SCHOOL = "balanced"  # by whose weights songs are compared with each other
EDGE_BARS = 2  # bars by which a beginning or an end is judged


@dataclass(frozen=True, slots=True)
class Step:
    """A section of the stair. `common` is its energy on the scale that all songs share, `arranged` that on the song's own."""

    name: str
    role: str
    bars: int
    seconds: float
    start: float
    end: float
    arranged: float
    common: float


@dataclass(frozen=True, slots=True)
class Edge:
    """How a song begins or ends: its first or last bars. `silent_s` is silence before the first or after the last sound."""

    name: str
    common: float
    tempo_bpm: float
    tonic_class: int
    minor: bool
    families: tuple[str, ...]
    silent_s: float


@dataclass(frozen=True, slots=True)
class SongFacts:
    """One song. `sounds` are the labels of what plays, `key` as text; `open` what can be done, `work` and `people` as they stand."""

    title: str
    tempo_bpm: float
    metre: str
    key: str
    tonic_class: int
    minor: bool
    school: str
    bars: int
    seconds: float
    layers: int
    sounds: tuple[str, ...]
    steps: tuple[Step, ...]
    first: Edge | None
    last: Edge | None
    open: tuple[OpenStep, ...]
    work: WorkState
    people: tuple[Collaborator, ...]
    brief_due: str = ""

    @property
    def peak(self) -> float:
        """The highest energy of a section on the common scale."""
        return max((s.common for s in self.steps), default=0.0)

    @property
    def mean(self) -> float:
        """The energy on the common scale, over its time."""
        total = sum(s.seconds for s in self.steps)
        return sum(s.common * s.seconds for s in self.steps) / total if total else 0.0


def song_facts(song: Song, around: Surroundings) -> SongFacts:
    """Everything of a song that lists, boards, sets and statistics ask for."""
    line, found = timeline(song), arranged(song).sections
    played = {p.layer_id for s in song.sections for p in s.placements}
    return SongFacts(
        song.title,
        song.tempo_bpm,
        str(song.metre),
        key_text(song.key),
        song.key.tonic_class,
        song.key.is_minor,
        song.school,
        song.bars,
        round(line.seconds, 2),
        len(song.layers),
        tuple(x.sound.label for x in song.layers if x.id in played and not x.muted),
        tuple(_step(s) for s in found),
        _edge(song, found[0], False) if found else None,
        _edge(song, found[-1], True) if found else None,
        tuple(s for s in open_steps(song, around) if s.kind != "overdue"),  # what depends on the day is asked every day
        song.work,
        song.people,
        dict(song.brief).get("due", ""),
    )


def _common(terms: Any) -> Any:
    gain, offset = school_scale(COMMON_SCHOOL)
    return np.clip(gain * terms @ weights(COMMON_SCHOOL) + offset, 0.0, 10.4)


def _step(found: SectionEnergy) -> Step:
    s = found.span.section
    seconds, common = found.span.length_seconds, float(_common(found.mean_terms))
    return Step(
        s.name, s.role, s.bars, round(seconds, 2), s.target.start, s.target.end, round(found.value, 2), round(common, 2)
    )


def _edge(song: Song, found: SectionEnergy, last: bool) -> Edge:
    span = found.span
    rows = _common(found.bar_terms())
    bars = rows[-EDGE_BARS:] if last else rows[:EDGE_BARS]
    tempo = span.tempo_points[-1 if last else 0][1]
    tonic = (song.key.tonic_class + span.section.shift_semitones) % 12
    families = tuple(sorted({x.family for x in sounding_layers(song, span.section)}))
    silent = _silent_s(song, span, last)
    return Edge(
        span.section.name,
        round(float(np.mean(bars)) if len(bars) else 0.0, 2),
        round(tempo, 3),
        tonic,
        song.key.is_minor,
        families,
        round(silent, 2),
    )


def _silent_s(song: Song, span: Span, last: bool) -> float:
    """Silence from the start of a section to its first note, or from the end of its last one, in seconds."""
    heard = {x.id for x in sounding_layers(song, span.section)}
    tables = [e.table for i, e in section_events(song, span).items() if i in heard and len(e)]
    if not tables:
        return float(span.length_seconds)
    if last:
        end = max(int((t[:, START] + t[:, DURATION]).max()) for t in tables)
        return max(0.0, span.length_seconds - span.seconds_at(min(end, span.length_ticks)))
    return max(0.0, span.seconds_at(max(0, min(int(t[:, START].min()) for t in tables))))


def facts_as_json(facts: SongFacts) -> bytes:
    """Facts as JSON, to be kept."""
    return adapter(SongFacts).dump_json(facts)


def read_facts(text: bytes | str) -> SongFacts:
    """Facts that were kept. Raises ValueError where they cannot be read."""
    return adapter(SongFacts).validate_json(text)
