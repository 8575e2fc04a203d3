"""Bars, ticks, seconds and samples of a whole song, from its sections.

Counting is the field's: bars from 1, bars before bar 1 are 0, −1, …; a section that starts at bar 17 and has
eight bars ends with bar 24, and the next starts at bar 25.
"""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass
from functools import lru_cache

from escalera.core.song.document import Section, Song
from escalera.core.time.metre import Metre
from escalera.core.time.ticks import ticks_to_seconds


@dataclass(frozen=True)
class Span:
    """Where one section lies. `bar_ticks` has one more entry than bars: the start of every bar, then the end."""

    section: Section
    first_bar: int
    start_seconds: float
    bar_ticks: tuple[int, ...]
    bar_metres: tuple[Metre, ...]
    tempo_points: tuple[tuple[int, float], ...]

    @property
    def last_bar(self) -> int:
        return self.first_bar + self.section.bars - 1

    @property
    def length_ticks(self) -> int:
        return self.bar_ticks[-1]

    @property
    def length_seconds(self) -> float:
        return self.seconds_at(self.length_ticks)

    @property
    def end_seconds(self) -> float:
        return self.start_seconds + self.length_seconds

    def seconds_at(self, tick: float) -> float:
        """Seconds from the section's start to a tick; negative ticks run at the section's first tempo."""
        seconds, points = 0.0, self.tempo_points
        for index, (start, bpm) in enumerate(points):
            end = points[index + 1][0] if index + 1 < len(points) else None
            if end is None or tick <= end:
                return seconds + ticks_to_seconds(tick - start, bpm)
            seconds += ticks_to_seconds(end - start, bpm)
        return seconds

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


@dataclass(frozen=True)
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
    ticks = [0]
    for metre in section_metres(section, default):
        ticks.append(ticks[-1] + metre.bar_ticks)
    return tuple(ticks)


@lru_cache(maxsize=256)
def _span(section: Section, tempo_bpm: float, metre: Metre, first_bar: int, start_seconds: float) -> Span:
    points = section.tempo_changes
    if not points or points[0][0] > 0:
        points = ((0, tempo_bpm), *points)
    return Span(
        section, first_bar, start_seconds, section_bar_ticks(section, metre), section_metres(section, metre), points
    )


def timeline(song: Song) -> Timeline:
    """The timeline of a song; spans are cached by content."""
    spans, bar, seconds = [], 1 - song.lead_bars, 0.0
    for section in song.sections:
        span = _span(section, song.tempo_bpm, song.metre, bar, seconds)
        spans.append(span)
        bar += section.bars
        seconds = span.end_seconds
    return Timeline(tuple(spans), song.lead_bars)
