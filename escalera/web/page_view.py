"""What the pages of a song have in common: the song, its time, and for the pages of one phrase which phrase it is."""

from __future__ import annotations

from functools import cached_property

from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import id_in
from escalera.core.reading.timeline import Span, timeline
from escalera.store.repository import Head
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
