"""Bars, ticks, seconds and samples of a whole song, from its sections.

Counting is the field's: bars from 1, bars before bar 1 are 0, −1, …; a section that starts at bar 17 and has
eight bars ends with bar 24, and the next starts at bar 25.
"""

from __future__ import annotations

from bisect import bisect_right
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.limits import MIN_TEMPO_BPM
from escalera.core.document.song import Section, Song
from escalera.core.time.metre import Metre
from escalera.core.time.tempo import TempoMap, TempoPoint, tempo_map
from escalera.core.time.ticks import TICKS_PER_QUARTER, ticks_to_seconds
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, eq=False)
class Grid:
    """When things happen in a section, whatever it is called and plays. One object per content, compared by identity.

    `bar_ticks` has one more entry than bars: the start of every bar, then the end.
    """

    bar_ticks: tuple[int, ...]
    bar_metres: tuple[Metre, ...]
    tempo_points: tuple[TempoPoint, ...]

    @property
    def length_ticks(self) -> int:
        return self.bar_ticks[-1]

    def seconds_at(self, tick: float) -> float:
        """Seconds from the section's start to a tick; negative ticks run at the section's first tempo."""
        if len(self.tempo_points) == 1:
            return ticks_to_seconds(tick, self.tempo_points[0].bpm)
        return float(self.tempo.seconds_at(np.array([float(tick)]))[0])

    def seconds_of(self, ticks: NDArray[np.integer]) -> NDArray[np.float64]:
        """As `seconds_at`, for many ticks at once. Ticks from the song’s start, of any shape; seconds from its start in the same shape."""
        if len(self.tempo_points) == 1:
            return ticks.astype(np.float64) * (60.0 / self.tempo_points[0].bpm / TICKS_PER_QUARTER)
        return self.tempo.seconds_at(ticks.astype(np.float64))

    @cached_property
    def tempo(self) -> TempoMap:
        return tempo_map(self.tempo_points)

    @cached_property
    def length_seconds(self) -> float:
        return self.seconds_at(self.length_ticks)

    @cached_property
    def bar_seconds(self) -> tuple[float, ...]:
        """Start of every bar from the section's start, then the end."""
        return tuple(self.seconds_at(tick) for tick in self.bar_ticks)


@dataclass(frozen=True, eq=False)
class Span:
    """Where one section lies in the song."""

    section: Section
    first_bar: int
    start_seconds: float
    grid: Grid

    @property
    def bar_ticks(self) -> tuple[int, ...]:
        return self.grid.bar_ticks

    @property
    def bar_metres(self) -> tuple[Metre, ...]:
        return self.grid.bar_metres

    @property
    def tempo_points(self) -> tuple[TempoPoint, ...]:
        return self.grid.tempo_points

    @property
    def last_bar(self) -> int:
        return self.first_bar + self.section.bars - 1

    @property
    def length_ticks(self) -> int:
        return self.grid.length_ticks

    @property
    def length_seconds(self) -> float:
        return self.grid.length_seconds

    @property
    def end_seconds(self) -> float:
        return self.start_seconds + self.length_seconds

    def seconds_at(self, tick: float) -> float:
        """Seconds from the section's start to a tick."""
        return self.grid.seconds_at(tick)

    def bar_of(self, tick: int) -> int:
        """Index of the bar, from 0, in which a tick lies."""
        return min(max(bisect_right(self.bar_ticks, tick) - 1, 0), self.section.bars - 1)

    def phrase_ticks(self) -> tuple[tuple[int, int], ...]:
        """Start and end tick of every phrase."""
        edges, bar = [], 0
        for bars in self.section.phrases:
            edges.append((self.bar_ticks[bar], self.bar_ticks[min(bar + bars, self.section.bars)]))
            bar += bars
        return tuple(edges)


@dataclass(frozen=True, eq=False)
class Timeline:
    spans: tuple[Span, ...]
    lead_bars: int

    @property
    def bars(self) -> int:
        return sum(span.section.bars for span in self.spans)

    @property
    def seconds(self) -> float:
        return self.spans[-1].end_seconds if self.spans else 0.0

    def span_of(self, section_id: int) -> Span:
        return next(span for span in self.spans if span.section.id == section_id)

    def samples(self, rate_hz: int) -> tuple[int, ...]:
        """First sample of every section and the end of the last; each section has a whole number of samples."""
        starts = [0]
        for span in self.spans:
            starts.append(starts[-1] + round(span.length_seconds * rate_hz))
        return tuple(starts)

    def locate_bar(self, bar: int) -> tuple[Span, int]:
        """The span and the tick in it where a bar (numbered from 1) starts."""
        for span in self.spans:
            if span.first_bar <= bar <= span.last_bar:
                return span, span.bar_ticks[bar - span.first_bar]
        raise IndexError(bar)

    def bar_seconds(self) -> list[float]:
        """Start of every bar in seconds, then the song's end."""
        return [s.start_seconds + s.seconds_at(t) for s in self.spans for t in s.bar_ticks[:-1]] + [self.seconds]


def section_metres(section: Section, default: Metre) -> tuple[Metre, ...]:
    """The metre of every bar of a section."""
    metres, current, changes = [], default, dict(section.metre_changes)
    for bar in range(section.bars):
        current = changes.get(bar, current)
        metres.append(current)
    return tuple(metres)


def section_bar_ticks(section: Section, default: Metre) -> tuple[int, ...]:
    """Bar lines of a section in ticks from its start, its end included: bars + 1 numbers."""
    ticks = [0]
    for metre in section_metres(section, default):
        ticks.append(ticks[-1] + metre.bar_ticks)
    return tuple(ticks)


@lru_cache(maxsize=1024)
def _grid(
    bars: int, metre_changes: tuple[tuple[int, Metre], ...], points: tuple[TempoPoint, ...], metre: Metre
) -> Grid:
    plain = Section(0, "", bars=bars, metre_changes=metre_changes)
    return Grid(section_bar_ticks(plain, metre), section_metres(plain, metre), points)


def tempo_points(section: Section, tempo_bpm: float) -> tuple[TempoPoint, ...]:
    """A section's tempo from its start on, in a song of that tempo."""
    points = tuple(TempoPoint(*p) for p in section.tempo_changes)
    return points if points and points[0].tick <= 0 else (TempoPoint(0, tempo_bpm), *points)


def _eased(points: tuple[TempoPoint, ...], length: int, following: Section) -> tuple[TempoPoint, ...]:
    """A section's tempo giving way where a device at the join after it says so; what follows has its own tempo from the one on."""
    for device in following.devices:
        if device.kind == "tempo-ease" and not device.parked:
            low, high = max(0, length + device.start_ticks), min(length, length + device.end_ticks)
            if low < high:
                now = max((p for p in points if p.tick <= low), key=lambda p: p.tick)
                slow = max(MIN_TEMPO_BPM, now.bpm * device.value("to_share") / 100.0)
                before = tuple(p for p in points if p.tick < low)
                after = tuple(p for p in points if p.tick > high)
                back = () if high == length or after[:1] and after[0].tick == high else (TempoPoint(high + 1, now.bpm),)
                points = (*before, TempoPoint(low, now.bpm, True), TempoPoint(high, slow), *back, *after)
    return points


def timeline(song: Song) -> Timeline:
    """The timeline of a song, computed once per state; grids are shared between states."""
    if "timeline" not in song.memo:
        song.memo["timeline"] = _timeline(song)
    return song.memo["timeline"]


def _timeline(song: Song) -> Timeline:
    spans, bar, seconds = [], 1 - song.lead_bars, 0.0
    for section, following in zip(song.sections, (*song.sections[1:], None)):
        points = tempo_points(section, song.tempo_bpm)
        if following is not None and following.devices:
            points = _eased(points, section_bar_ticks(section, song.metre)[-1], following)
        span = Span(section, bar, seconds, _grid(section.bars, section.metre_changes, points, song.metre))
        spans.append(span)
        bar += section.bars
        seconds = span.end_seconds
    return Timeline(tuple(spans), song.lead_bars)
