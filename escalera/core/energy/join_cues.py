"""All that carries a song's joins as a table of cues in bars.beats and seconds, so that it can be built again elsewhere."""

from __future__ import annotations

from escalera.core.document.song import Song
from escalera.core.energy.join_reading import JoinReading, read_joins
from escalera.core.reading.timeline import Span, timeline
from escalera.lazy_dataclasses import dataclass

BUILD = "Build"


@dataclass(frozen=True, slots=True)
class JoinCue:
    """One device at a join. `start_s` and `end_s` are seconds from the song's start, texts are bar.beat (and .tick of 960 where needed)."""

    from_name: str
    to_name: str
    what: str
    purpose: str
    player: str
    placed: bool
    start: str
    end: str
    start_s: float
    end_s: float
    start_tick: int


def located(song: Song, index: int, tick: int) -> tuple[Span, int]:
    """The section in which a tick lies that is counted from the one of the join into the section at `index`, and the tick in it."""
    spans = timeline(song).spans
    while tick < 0 and index > 0:
        index -= 1
        tick += spans[index].length_ticks
    while tick >= spans[index].length_ticks and index + 1 < len(spans):
        tick -= spans[index].length_ticks
        index += 1
    return spans[index], max(0, tick)


def place_text(song: Song, index: int, tick: int) -> str:
    """A tick about a join as bar.beat, with .tick after it where it lies between beats."""
    span, at = located(song, index, tick)
    bar = span.bar_of(at)
    beats, rest = divmod(at - span.bar_ticks[bar], span.bar_metres[bar].beat_ticks)
    return f"{span.first_bar + bar}.{beats + 1}" + (f".{rest}" if rest else "")


def place_seconds(song: Song, index: int, tick: int) -> float:
    """Seconds from the song's start to a tick about a join."""
    span, at = located(song, index, tick)
    return span.start_seconds + span.seconds_at(at)


def join_cues(song: Song) -> list[JoinCue]:
    """Every device of every join, placed or found, and every build, by join and start."""
    return [cue for reading in read_joins(song) for cue in _of_join(song, reading)]


def _of_join(song: Song, reading: JoinReading) -> list[JoinCue]:
    rows = [(c.of.label, c.of.purpose, c.layer_id, c.placed, c.start_ticks, c.end_ticks) for c in reading.carriers]
    build = song.sections[reading.index].build
    if build and not build.parked:
        bars = reading.left.section.bars - build.bars
        rows.append(
            (
                BUILD,
                build.shape,
                0,
                True,
                reading.left.bar_ticks[max(0, bars)] - reading.left.length_ticks,
                -build.gap_ticks,
            )
        )
    before = sum(span.length_ticks for span in timeline(song).spans[: reading.index])
    names = {x.id: x.name for x in song.layers}
    return [
        JoinCue(
            reading.left.section.name,
            reading.right.section.name,
            label,
            purpose,
            names.get(layer_id, ""),
            placed,
            place_text(song, reading.index, low),
            place_text(song, reading.index, high),
            place_seconds(song, reading.index, low),
            place_seconds(song, reading.index, high),
            before + low,
        )
        for label, purpose, layer_id, placed, low, high in sorted(rows, key=lambda r: (r[4], r[5], r[0]))
    ]
