"""The ruler of a song: its sections' metres and tempos, glides included; before and after it goes on as at its ends."""

from __future__ import annotations

from bisect import bisect_right
from functools import cached_property
from itertools import accumulate

import numpy as np

from escalera.core.document.song import Song
from escalera.core.reading.timeline import Span, Timeline, timeline
from escalera.core.time.metre import Metre
from escalera.core.time.ruler import Ruler, SteadyRuler
from escalera.core.time.ticks import seconds_to_ticks, ticks_to_seconds
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, eq=False)
class SongRuler:
    """Ticks and seconds count from the song's first bar."""

    line: Timeline

    @cached_property
    def starts(self) -> tuple[int, ...]:
        """First tick of every section, then the end."""
        return tuple(accumulate((span.length_ticks for span in self.line.spans), initial=0))

    @cached_property
    def bars(self) -> tuple[tuple[int, Metre], ...]:
        """Start and metre of every bar."""
        return tuple(
            (start + tick, metre)
            for start, span in zip(self.starts, self.line.spans)
            for tick, metre in zip(span.bar_ticks, span.bar_metres)
        )

    @cached_property
    def bar_starts(self) -> tuple[int, ...]:
        return tuple(start for start, _ in self.bars)

    @property
    def _first(self) -> int:
        return 1 - self.line.lead_bars

    def bar_at(self, tick: float) -> tuple[int, int, Metre]:
        end = self.starts[-1]
        if tick < 0 or tick >= end:
            origin, number = (0, self._first) if tick < 0 else (end, self._first + len(self.bars))
            metre = self.bars[0 if tick < 0 else -1][1]
            index = int((tick - origin) // metre.bar_ticks)
            return number + index, origin + index * metre.bar_ticks, metre
        index = bisect_right(self.bar_starts, tick) - 1
        return self._first + index, *self.bars[index]

    def bar_start(self, bar: int) -> int:
        index = bar - self._first
        if index < 0:
            return index * self.bars[0][1].bar_ticks
        over = index - len(self.bars)
        return self.bar_starts[index] if over < 0 else self.starts[-1] + over * self.bars[-1][1].bar_ticks

    def _section(self, index: int) -> tuple[Span, int]:
        index = min(max(index, 0), len(self.line.spans) - 1)
        return self.line.spans[index], self.starts[index]

    def seconds_at(self, tick: float) -> float:
        if tick >= self.starts[-1]:
            return self.line.seconds + ticks_to_seconds(tick - self.starts[-1], self._last_bpm)
        span, start = self._section(bisect_right(self.starts, tick) - 1)
        return span.start_seconds + span.seconds_at(tick - start)

    def ticks_at(self, seconds: float) -> float:
        if seconds >= self.line.seconds:
            return self.starts[-1] + seconds_to_ticks(seconds - self.line.seconds, self._last_bpm)
        span, start = self._section(bisect_right([s.start_seconds for s in self.line.spans], seconds) - 1)
        return start + float(span.grid.tempo.ticks_at(np.array([seconds - span.start_seconds]))[0])

    @property
    def _last_bpm(self) -> float:
        span = self.line.spans[-1]
        return span.grid.tempo.bpm_at(span.length_ticks)

    def bpm_at(self, tick: float) -> float:
        """Quarters a minute at a tick."""
        span, start = self._section(bisect_right(self.starts, tick) - 1)
        return span.grid.tempo.bpm_at(min(tick - start, span.length_ticks))


def song_ruler(song: Song) -> SongRuler:
    """The song's ruler, made once per state."""
    if "ruler" not in song.memo:
        song.memo["ruler"] = SongRuler(timeline(song))
    return song.memo["ruler"]


def ruler_for(song: Song | None, tempo_bpm: float, metre: Metre) -> Ruler:
    """The song's ruler, or a steady one where there is no song."""
    return song_ruler(song) if song is not None and song.sections else SteadyRuler(tempo_bpm, metre)
