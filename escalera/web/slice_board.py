"""The slices of a recorded layer as hits in a phrase: a slot for every sixteenth, a peg where a slice begins, the higher the later it was cut."""

from __future__ import annotations

from escalera.core.document.song import Layer, Section, Song
from escalera.core.reading.clip_reading import clip_patterns
from escalera.core.rhythm.pattern import CLIP
from escalera.lazy_dataclasses import dataclass

SIXTEENTH = 240
MOST_SLOTS = 64


@dataclass(frozen=True)
class Slot:
    """A sixteenth: the slice that begins in it (−1 none), and how high its peg stands in per cent."""

    tick: int
    number: int
    height: float
    on_beat: bool
    in_bar: int


@dataclass(frozen=True)
class SliceBoard:
    """One layer's slices, as far as its pattern goes round."""

    layer: Layer
    pattern_id: int
    slots: tuple[Slot, ...]

    @property
    def bars(self) -> list[list[Slot]]:
        """The slots of every bar."""
        found: list[list[Slot]] = []
        for slot in self.slots:
            if slot.in_bar == 1 or not found:
                found.append([])
            found[-1].append(slot)
        return found

    @property
    def numbers(self) -> range:
        """The clips that can be put into a slot, from 0."""
        return range(len(self.layer.clips))


def slice_boards(song: Song, section: Section, low: int, high: int) -> list[SliceBoard]:
    """A board for every layer that plays slices in a phrase, given by its first and last tick in the section."""
    found = []
    for layer in song.layers:
        patterns = clip_patterns(song, layer) if len(layer.clips) > 1 else []
        place = next(
            (
                p
                for p in section.placements
                if p.layer_id == layer.id and p.pattern_id in patterns and p.start_ticks < high and p.end_ticks > low
            ),
            None,
        )
        if place is not None:
            found.append(_board(song, layer, place.pattern_id))
    return found


def _board(song: Song, layer: Layer, pattern_id: int) -> SliceBoard:
    pattern = song.pattern_by_id[pattern_id].pattern
    begins = {row[0] // SIXTEENTH: row[3] for row in pattern.to_list() if row[2] == CLIP}
    count = min(MOST_SLOTS, -(-pattern.length_ticks // SIXTEENTH))
    top, beat, bar = max(1, len(layer.clips) - 1), song.metre.beat_ticks, song.metre.bar_ticks
    slots = [
        Slot(
            n * SIXTEENTH,
            begins.get(n, -1),
            round(100.0 * begins.get(n, 0) / top, 1),
            n * SIXTEENTH % beat == 0,
            1 + n * SIXTEENTH % bar // SIXTEENTH,
        )
        for n in range(count)
    ]
    return SliceBoard(layer, pattern_id, tuple(slots))
