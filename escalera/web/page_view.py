"""What the pages of a song have in common: the song, its time, and for the pages of one phrase which phrase it is."""

from __future__ import annotations

from functools import cached_property

from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import id_in
from escalera.core.joins.as_played import played_at
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.chords import roman
from escalera.core.theory.keys import Key
from escalera.store.repository import Head
from escalera.web.bench_drawing import Shade, percent
from escalera.web.slice_board import SliceBoard, slice_boards
from escalera.web.song_view import some_section, song_manifest


class PageView:
    """A page of a song in one state."""

    def __init__(self, head: Head):
        self.head = head
        self.song: Song = head.song

    @property
    def spans(self) -> tuple[Span, ...]:
        return timeline(self.song).spans

    @property
    def seconds(self) -> float:
        return timeline(self.song).seconds

    def manifest(self) -> str:
        return song_manifest(self.head, timeline(self.song))


class PhraseView(PageView):
    """A page of one phrase. `select` is what:section:layer:phrase; what is not there any more gives way to what is."""

    def __init__(self, head: Head, select: str):
        super().__init__(head)
        numbers = [id_in(p) for p in (select or "").split(":")[1:5]] + [0] * 4
        self.section: Section = some_section(self.song, numbers[0])
        self.asked_layer = numbers[1]
        self.phrase = min(numbers[2], len(self.section.phrases) - 1)

    @cached_property
    def span(self) -> Span:
        return timeline(self.song).span_of(self.section.id)

    def slice_boards(self) -> list[SliceBoard]:
        """The slices that recorded layers play in the phrase."""
        return slice_boards(self.song, self.section, *self.edges)

    @cached_property
    def edges(self) -> tuple[int, int]:
        return self.span.phrase_ticks()[self.phrase]

    @property
    def length(self) -> int:
        return self.edges[1] - self.edges[0]

    @cached_property
    def bar_range(self) -> tuple[int, int]:
        """First bar of the phrase in the section from 0, and how many bars it has."""
        first = sum(self.section.phrases[: self.phrase])
        return first, min(self.section.phrases[self.phrase], self.section.bars - first)

    def phrase_bars(self) -> list[tuple[int, int, int]]:
        """Every phrase with its first and last bar in the song."""
        found, bar = [], self.span.first_bar
        for i, bars in enumerate(self.section.phrases):
            found.append((i, bar, bar + bars - 1))
            bar += bars
        return found

    @cached_property
    def bars(self) -> list[tuple[int, int]]:
        """(phrase tick, number in the song) of every bar."""
        first, count = self.bar_range
        return [(self.span.bar_ticks[b] - self.edges[0], self.span.first_bar + b) for b in range(first, first + count)]

    @cached_property
    def beats(self) -> list[int]:
        first, count = self.bar_range
        ticks, metres = self.span.bar_ticks, self.span.bar_metres
        low = self.edges[0]
        return [
            t - low for b in range(first, first + count) for t in range(ticks[b], ticks[b + 1], metres[b].beat_ticks)
        ]

    @cached_property
    def key(self) -> Key:
        return section_harmony(self.song, self.span).key

    @cached_property
    def shades(self) -> tuple[Shade, ...]:
        harmony, (low, high) = section_harmony(*played_at(self.song, self.span)), self.edges
        first = harmony.index_at(low)
        rows = list(zip(harmony.ticks, harmony.chords))[first:]
        found = []
        for i, (tick, chord) in enumerate(rows):
            if tick >= high:
                break
            start, end = max(low, tick), min(high, rows[i + 1][0] if i + 1 < len(rows) else high)
            found.append(
                Shade(percent(start - low, high - low), percent(end - start, high - low), chord, roman(chord, self.key))
            )
        return tuple(found)
