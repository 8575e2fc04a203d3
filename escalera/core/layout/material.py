"""What every layer could play in a section, and what each of these brings: the table that the search looks up.

A *way* is how a layer plays: as it is, or as a variation that makes it less. Everything is computed once per kind of section.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.bench.seats import Seat
from escalera.core.document.song import Ids, Placement, Section, Song, Variation
from escalera.core.energy.features import section_stats
from escalera.core.energy.felt import felt_bars
from escalera.core.energy.stats import WIDTH
from escalera.core.reading.placements import clip
from escalera.core.reading.timeline import Span, section_bar_ticks, timeline
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class PlayedAs:
    """A way of playing: its variation, what it costs beside playing as it is, and what is said of it."""

    key: str
    said: str
    variation: Variation
    cost: float
    drums: bool
    pitched: bool


# way 0 is to play as it is
WAYS: tuple[PlayedAs, ...] = (
    PlayedAs("whole", "", Variation(), 0.0, True, True),
    PlayedAs("thinned", "with half of its hits", Variation(keep=0.5), 0.35, True, False),
    PlayedAs("softer", "4 dB softer", Variation(level_start_db=-4.0, level_end_db=-4.0), 0.3, True, True),
    PlayedAs("soft", "8 dB softer", Variation(level_start_db=-8.0, level_end_db=-8.0), 0.6, False, True),
    PlayedAs("dark", "behind a low-pass at 700 Hz", Variation(lowpass_start_hz=700.0, lowpass_end_hz=700.0), 0.4, False, True),
)  # fmt: skip
KINDS, SOFTER = len(WAYS), 2


FOUNDATION = ("kick", "snare", "sub", "bass", "chords")
TUNES = ("lead voice", "hook")


def ways_of(seat: Seat, at_peak: bool = False) -> tuple[int, ...]:
    """Numbers of the ways in which a layer may play; what carries the tune, or a peak, is not turned down to fit."""
    if seat.part == "lead voice" and not at_peak:
        return (0, SOFTER)  # a verse may be sung softer
    if seat.part in TUNES or (at_peak and seat.part in FOUNDATION):
        return (0,)
    drum = seat.layer.sound.is_drum
    return tuple(i for i, way in enumerate(WAYS) if (way.drums if drum else way.pitched))


def source_of(song: Song) -> Section | None:
    """The section that plays most: what a layer is taken from where nothing nearer plays it."""
    playing = [s for s in song.sections if s.placements]
    return max(playing, key=lambda s: (len({p.layer_id for p in s.placements}), len(s.placements)), default=None)


def whole_part(song: Song, section: Section, layer_id: int, sources: Sequence[Section]) -> list[Placement]:
    """What a layer plays where it plays throughout a section: what the first source that has it plays, repeated to the section's end.

    Where no source has it, it plays the pattern it was given; ids are those of the sources.
    """
    end = section_bar_ticks(section, song.metre)[-1]
    for source in sources:
        mine = [p for p in source.placements if p.layer_id == layer_id]
        if mine:
            return _repeated(mine, section_bar_ticks(source, song.metre)[-1], end)
    pattern_id = song.layer_by_id[layer_id].pattern_id
    return [Placement(0, layer_id, pattern_id, 0, end)] if pattern_id in song.pattern_by_id else []


def _repeated(placed: list[Placement], length: int, end: int) -> list[Placement]:
    """Placements of a source of `length` ticks said again and again until `end`."""
    if (
        len(placed) == 1
        and placed[0].start_ticks == 0
        and placed[0].end_ticks == length
        and not placed[0].variation.slope
    ):
        return [replace(placed[0], end_ticks=end)]
    found = []
    for start in range(0, end, length):
        for p in placed:
            moved = replace(
                p, start_ticks=p.start_ticks + start, end_ticks=p.end_ticks + start, offset_ticks=p.offset_ticks + start
            )
            inside = clip(moved, 0, end)
            if inside:
                found.append(inside)
    return found


def played_in(placement: Placement, way: int) -> Placement:
    """A placement in one of the ways, on top of what it varies already."""
    wanted, own = WAYS[way].variation, placement.variation
    if not way:
        return placement
    return replace(
        placement,
        variation=replace(
            own,
            keep=own.keep * wanted.keep,
            level_start_db=max(-60.0, own.level_start_db + wanted.level_start_db),
            level_end_db=max(-60.0, own.level_end_db + wanted.level_end_db),
            lowpass_start_hz=_darker(own.lowpass_start_hz, wanted.lowpass_start_hz),
            lowpass_end_hz=_darker(own.lowpass_end_hz, wanted.lowpass_end_hz),
        ),
    )


def _darker(own: float | None, wanted: float | None) -> float | None:
    return own if wanted is None else wanted if own is None else min(own, wanted)


@dataclass(frozen=True, eq=False)
class Material:
    """What the seats bring in one section.

    with_kick, without : stats at every phrase in every way, shape (KINDS, seats, phrases, WIDTH), where a kick plays and where none does
    parts : the placements of every seat where it plays throughout
    plays : whether a seat has anything to play, shape (seats,)
    """

    with_kick: Floats
    without: Floats
    parts: tuple[tuple[Placement, ...], ...]
    kicks: NDArray[np.bool_]

    @property
    def plays(self) -> NDArray[np.bool_]:
        """Which seats have anything to play, shape (seats,)."""
        return np.array([bool(p) for p in self.parts])


def sources_for(song: Song, section: Section, loop: Section | None = None) -> list[Section]:
    """Where a section's material comes from: itself, sections of its role, a loop outside the song, what plays most, the rest."""
    most = loop or source_of(song)
    same = [s for s in song.sections if s.role == section.role != "none" and s.id != section.id]
    rest = [s for s in song.sections if s.placements]
    return [section, *same, *([most] if most else []), *rest]


def read_material(
    song: Song, section: Section, row: Sequence[Seat], cache: dict[object, Material], loop: Section | None = None
) -> Material:
    """The material of a section; `cache` keeps it for others that sound the same."""
    sources = sources_for(song, section, loop)
    parts = tuple(tuple(whole_part(song, section, seat.layer.id, sources)) for seat in row)
    bare = replace(section, id=1, name="", role="none", parked=(), devices=(), build=None, placements=())
    key = (bare, tuple(tuple(replace(p, id=0) for p in part) for part in parts))
    if key not in cache:
        cache[key] = _computed(song, section, row, parts)
    return replace(cache[key], parts=parts)


def _computed(song: Song, section: Section, row: Sequence[Seat], parts: tuple[tuple[Placement, ...], ...]) -> Material:
    kicks = np.array([seat.part == "kick" for seat in row])
    tables = []
    for silent in (False, True):
        tables.append(np.stack([_stats(song, section, row, parts, way, silent) for way in range(KINDS)]))
    return Material(tables[0], tables[1], parts, kicks)


def _stats(
    song: Song, section: Section, row: Sequence[Seat], parts: tuple[tuple[Placement, ...], ...], way: int, no_kick: bool
) -> Floats:
    """Stats by phrase of every seat in one way, shape (seats, phrases, WIDTH)."""
    ids, placed = Ids(1), []
    for seat, part in zip(row, parts):
        if not (no_kick and seat.part == "kick") and way in ways_of(seat):
            placed += [replace(played_in(p, way), id=ids()) for p in part]
    body = replace(
        section, placements=tuple(sorted(placed, key=lambda p: (p.layer_id, p.start_ticks))), devices=(), build=None
    )
    alone = replace(song, sections=(body,))
    span = timeline(alone).spans[0]
    layers, stats = section_stats(alone, span)
    out = np.zeros((len(row), len(section.phrases), WIDTH))
    over = felt_bars(span.grid).over(phrase_edges(span))
    number = {seat.layer.id: i for i, seat in enumerate(row)}
    for layer, values in zip(layers, stats):
        out[number[layer.id]] = over @ values
    return out


def phrase_edges(span: Span) -> Floats:
    """Where the phrases of a section begin and end in seconds, shape (phrases + 1,)."""
    return np.array([0.0, *(span.seconds_at(end) for _, end in span.phrase_ticks())])
