"""Edits that make a clip agree with what is around it: its level with its neighbours', its gap filled, its timing followed by others."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from escalera.core.bench.loop_timing import timing_of
from escalera.core.bench.sample_fit import clip_for
from escalera.core.document.limits import MAX_LEVEL_DB, MIN_LEVEL_DB
from escalera.core.document.recordings import Clip, Sample
from escalera.core.document.song import Layer, Song
from escalera.core.edits.edit import edit, layer_of, section_of
from escalera.core.edits.recording_edits import (
    VELOCITY,
    added,
    clip_of,
    clip_part,
    relaid,
    sample_from,
    with_clip,
    with_sample,
)
from escalera.core.reading.clip_reading import clip_patterns, sample_in
from escalera.core.reading.placements import add_pattern
from escalera.core.rhythm.pattern import CLIP, Pattern
from escalera.errors import EditError, shown

NEAR_DB = 0.3  # nearer levels are the same
SIXTEENTH = 240
Row = list[int]


def clip_level_db(sample: Sample, clip: Clip) -> float | None:
    """Mean level of what a clip plays, its gain included, in dB below full scale; None where nothing sounds."""
    power = sample.power.sum(axis=1)
    edges = np.clip(np.arange(len(power) + 1) * sample.slot_s, clip.start_s, clip.end_s)
    mean = float(power @ np.diff(edges)) / max(clip.seconds, 1e-6)
    return 10.0 * np.log10(mean) + clip.gain_db if mean > 1e-10 else None


def neighbours_of(song: Song, layer: Layer, number: int) -> list[Clip]:
    """The clips that a layer plays directly before and after one of its own, other ones than that."""
    found: dict[int, None] = {}
    for pattern_id in clip_patterns(song, layer):
        rows = [r[3] for r in song.pattern_by_id[pattern_id].pattern.to_list() if r[2] == CLIP]
        for before, after in zip(rows, [*rows[1:], *rows[:1]]):
            if number in (before, after) and before != after:
                found[after if before == number else before] = None
    return [layer.clips[n] for n in found if n < len(layer.clips)]


@edit("match_gain", "layers")
class MatchGain:
    """Bring a clip to the level of the clips before and after it."""

    layer_id: int
    number: int = 0

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        around = neighbours_of(song, layer, self.number)
        levels = [x for c in around if (x := clip_level_db(sample_in(song, c), c)) is not None]
        own = clip_level_db(sample_in(song, clip), clip)
        if not levels or own is None:
            raise EditError(
                f"Clip {self.number + 1} of {layer.name} has no neighbour that sounds. Cut it into slices first."
            )
        change = float(np.mean(levels)) - own
        if abs(change) < NEAR_DB:
            raise EditError(
                f"Clip {self.number + 1} of {layer.name} is as loud as its neighbours. Nothing was changed."
            )
        gain = min(MAX_LEVEL_DB + 24.0, max(MIN_LEVEL_DB, clip.gain_db + change))
        return with_clip(song, layer, self.number, replace(clip, gain_db=round(gain, 1)))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: clip {self.number + 1} as loud as its neighbours"


@edit("borrow_fill", "layers notes")
class BorrowFill:
    """Fill what a clip lacks of whole bars with the end of another recording, as loud as the clip is."""

    layer_id: int
    sample: dict[str, Any]
    number: int = 0

    def apply(self, song: Song) -> Song:
        layer, sample = layer_of(song, self.layer_id), sample_from(self.sample)
        clip, bar = clip_of(layer, self.number), song.metre.bar_ticks
        length = clip.length_ticks
        longer = -(-length // bar) * bar
        if longer == length:
            raise EditError(f"Clip {self.number + 1} of {layer.name} already fills its bars. There is no gap to fill.")
        whole = clip_for(song, sample, layer.family)
        missing = longer - length
        part = clip_part(whole, max(0, whole.length_ticks - missing), whole.length_ticks)
        levels = clip_level_db(sample, part), clip_level_db(sample_in(song, clip), clip)
        if levels[0] is None or levels[1] is None:
            raise EditError(f"Nothing sounds at the end of {sample.name}. Borrow from another sample.")
        part = replace(part, gain_db=round(min(MAX_LEVEL_DB + 24.0, max(MIN_LEVEL_DB, levels[1] - levels[0])), 1))
        song = with_sample(song.with_layer(added(layer, [part])), sample)
        rows = [
            [0, length, CLIP, self.number, 0, VELOCITY],
            [longer - part.length_ticks, part.length_ticks, CLIP, len(layer.clips), 0, VELOCITY],
        ]
        return relaid(song, layer, self.number, longer, rows)

    def summary(self, song: Song) -> str:
        return (
            f"{layer_of(song, self.layer_id).name}: its gap filled with the end of {shown(self.sample.get('name', ''))}"
        )


@edit("follow_timing", "notes placements")
class FollowTiming:
    """Let what plays in a section follow a recorded loop: every sixteenth comes as early or late as the loop's strokes there."""

    layer_id: int
    section_id: int
    amount: float = 1.0
    drums_only: bool = True

    def apply(self, song: Song) -> Song:
        layer, section = layer_of(song, self.layer_id), section_of(song, self.section_id)
        if not 0 < self.amount <= 1:
            raise EditError(f"An amount of {self.amount:g} lies outside 0 to 1. Choose one between them.")
        late = timing_of(song, layer)
        if not late:
            raise EditError(f"{layer.name} has no strokes to go by. Choose a recorded loop with a beat.")
        bar = song.metre.bar_ticks
        placements = list(section.placements)
        known: dict[int, int] = {}
        for i, place in enumerate(placements):
            other = song.layer_by_id[place.layer_id]
            if other.clips or other.prints or (self.drums_only and not other.sound.is_drum):
                continue
            if place.pattern_id not in known:
                song, known[place.pattern_id] = self._followed(song, other, place.pattern_id, late, bar)
            placements[i] = replace(place, pattern_id=known[place.pattern_id])
        if all(a == b for a, b in known.items()):
            raise EditError(f"Nothing in {section.name} would move. Its drums already lie as {layer.name} does.")
        return song.with_section(replace(song.section_by_id[section.id], placements=tuple(placements)))

    def _followed(self, song: Song, layer: Layer, pattern_id: int, late: dict[int, int], bar: int) -> tuple[Song, int]:
        """A pattern with its rows moved, as a pattern of its own: elsewhere it stays as it is."""
        entry = song.pattern_by_id[pattern_id]
        length = entry.pattern.length_ticks
        moved = Pattern(length, [self._moved(row, late, bar, length) for row in entry.pattern.to_list()])
        if moved == entry.pattern:
            return song, pattern_id
        return add_pattern(song, entry.name, layer.family, moved)

    def _moved(self, row: Row, late: dict[int, int], bar: int, length: int) -> Row:
        slot = round(row[0] / SIXTEENTH) * SIXTEENTH
        if abs(row[0] - slot) > SIXTEENTH // 3:
            return row  # triplets and flams keep their own place
        start = row[0] + round((slot + late.get(slot % bar, 0) - row[0]) * self.amount)
        return [min(max(1 - length, start), length - 1), *row[1:]]

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name} follows the timing of {layer_of(song, self.layer_id).name}"
