"""Edits of what a recorded layer plays of its clips: slices muted, moved, turned, repeated, brought to another pitch or onto the beat."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.limits import MAX_LAYERS
from escalera.core.document.names import clean_name
from escalera.core.document.song import Ids, Layer, Placement, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of
from escalera.core.edits.layer_edits import free_layer_name, in_family_order, seed_of
from escalera.core.edits.recording_edits import (
    SliceClip,
    added,
    clip_of,
    clip_part,
    octave_at,
    slice_ticks,
    with_clip,
    with_patterns,
)
from escalera.core.palette.recorded_sounds import NOTE
from escalera.core.reading.clip_reading import clip_patterns, onset_ticks
from escalera.core.reading.placements import add_pattern, cleared, ordered
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.core.rhythm.pattern import CLIP, TONE, Pattern
from escalera.errors import EditError

MOST_OCTAVES, SIXTEENTH = 2, 240
Row = list[int]


def slice_rows(song: Song, layer: Layer, pattern_id: int) -> list[Row]:
    """The rows of a layer's pattern that play clips, in order. EditError where it has none."""
    if pattern_id not in clip_patterns(song, layer):
        raise EditError(f"{layer.name} plays no slices there. Cut one of its clips first.")
    return [row for row in song.pattern_by_id[pattern_id].pattern.to_list() if row[2] == CLIP]


def _mute(rows: list[Row], at: int, song: Song, layer: Layer) -> list[Row]:
    if len(rows) < 2:
        raise EditError("It is the only slice. Clear the tile instead.")
    return rows[:at] + rows[at + 1 :]


def _swap(rows: list[Row], at: int, other: int) -> list[Row]:
    """Two slices change places: each begins where the other did, as long as there is room."""
    if not 0 <= other < len(rows):
        raise EditError("There is no slice on that side. Choose another one.")
    out = [list(r) for r in rows]
    for name in (3, 4, 5):  # which clip, which octave, how loud; when and how long stay
        out[at][name], out[other][name] = out[other][name], out[at][name]
    return out


def _octave(rows: list[Row], at: int, by: int) -> list[Row]:
    out = [list(r) for r in rows]
    if not -MOST_OCTAVES <= out[at][4] + by <= MOST_OCTAVES:
        raise EditError(
            f"A slice goes at most {MOST_OCTAVES} octaves up or down. Choose another slice, or transpose the clip."
        )
    out[at][4] += by
    return out


def _repeat(rows: list[Row], at: int, song: Song, layer: Layer) -> list[Row]:
    """A slice is heard twice in its time."""
    out = [list(r) for r in rows]
    half = out[at][1] // 2
    if half < 60:
        raise EditError("The slice is too short to be heard twice. Choose a longer one.")
    again = [out[at][0] + half, out[at][1] - half, *out[at][2:]]
    out[at][1] = half
    return [*out[: at + 1], again, *out[at + 1 :]]


CHANGES = {
    "mute": _mute,
    "earlier": lambda rows, at, song, layer: _swap(rows, at, at - 1),
    "later": lambda rows, at, song, layer: _swap(rows, at, at + 1),
    "octave up": lambda rows, at, song, layer: _octave(rows, at, 1),
    "octave down": lambda rows, at, song, layer: _octave(rows, at, -1),
    "twice": _repeat,
}


@edit("change_slice", "notes")
class ChangeSlice:
    """Mute a slice, let it change places with the one before or after, put it an octave up or down, or let it be heard twice."""

    layer_id: int
    pattern_id: int
    index: int
    change: str

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        rows = slice_rows(song, layer, self.pattern_id)
        act = CHANGES[one_of(self.change, tuple(CHANGES), "change of a slice")]
        if not 0 <= self.index < len(rows):
            raise EditError(f"The pattern has slices 1 to {len(rows)}, no slice {self.index + 1}. Choose one of them.")
        pattern = song.pattern_by_id[self.pattern_id].pattern
        return with_patterns(
            song, {self.pattern_id: pattern.with_rows([*_others(pattern), *act(rows, self.index, song, layer)])}
        )

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: slice {self.index + 1} {self.change}"


def _others(pattern: Pattern) -> list[Row]:
    return [row for row in pattern.to_list() if row[2] != CLIP]


@edit("put_slice", "notes")
class PutSlice:
    """Let a slice begin on a sixteenth of a pattern, until the next one does; without a number (−1) what begins there falls silent."""

    layer_id: int
    pattern_id: int
    tick: int
    number: int = -1

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        rows = slice_rows(song, layer, self.pattern_id)
        pattern = song.pattern_by_id[self.pattern_id].pattern
        if not 0 <= self.tick < pattern.length_ticks:
            raise EditError(
                f"Tick {self.tick} lies outside the pattern, which has {pattern.length_ticks}. Choose one inside it."
            )
        kept = [r for r in rows if not self.tick <= r[0] < self.tick + SIXTEENTH]
        if self.number < 0:
            if not kept:
                raise EditError("It is the only slice. Clear the tile instead.")
        else:
            clip = clip_of(layer, self.number)
            after = min((r[0] for r in kept if r[0] > self.tick), default=pattern.length_ticks)
            kept = [[r[0], self.tick - r[0], *r[2:]] if r[0] < self.tick < r[0] + r[1] else r for r in kept]
            kept.append([self.tick, min(clip.length_ticks, after - self.tick), CLIP, self.number, 0, 100])
        return with_patterns(song, {self.pattern_id: pattern.with_rows([*_others(pattern), *kept])})

    def summary(self, song: Song) -> str:
        at = self.tick // SIXTEENTH + 1
        what = f"slice {self.number + 1} on sixteenth {at}" if self.number >= 0 else f"no slice on sixteenth {at}"
        return f"{layer_of(song, self.layer_id).name}: {what}"


@edit("turn_slice", "layers notes")
class TurnSlice:
    """Play one slice backwards, or at another pitch: it becomes a clip of its own."""

    layer_id: int
    pattern_id: int
    index: int
    semitones: int = 0
    reverse: bool = False

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        rows = slice_rows(song, layer, self.pattern_id)
        if not 0 <= self.index < len(rows):
            raise EditError(f"The pattern has slices 1 to {len(rows)}, no slice {self.index + 1}. Choose one of them.")
        if not -24 <= self.semitones <= 24:
            raise EditError(f"{self.semitones} semitones are too far: at most 24 up or down. Choose fewer.")
        clip = clip_of(layer, rows[self.index][3])
        far = max(-24.0, min(24.0, clip.semitones + self.semitones))
        return _with_own(
            song,
            layer,
            self.pattern_id,
            rows,
            {self.index: replace(clip, semitones=far, reversed=clip.reversed != self.reverse)},
        )

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: slice {self.index + 1} turned"


def _with_own(song: Song, layer: Layer, pattern_id: int, rows: list[Row], changed: dict[int, Any]) -> Song:
    """The song with some of a pattern's slices playing clips of their own; equal clips are one."""
    layer_now, out = layer, [list(r) for r in rows]
    for index, clip in changed.items():
        if clip in layer_now.clips:
            out[index][3] = layer_now.clips.index(clip)
        else:
            layer_now = added(layer_now, [clip])
            out[index][3] = len(layer_now.clips) - 1
    pattern = song.pattern_by_id[pattern_id].pattern
    return with_patterns(song.with_layer(layer_now), {pattern_id: pattern.with_rows([*_others(pattern), *out])})


@edit("rekey_slices", "layers notes")
class RekeySlices:
    """Bring slices onto the chords of a section: each to the nearest tone of the chord beneath it. `pitches` says what each sounds at."""

    layer_id: int
    pattern_id: int
    section_id: int
    pitches: list[Any]

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        rows = slice_rows(song, layer, self.pattern_id)
        if len(self.pitches) != len(rows):
            raise EditError("The slices have changed in the meantime. Ask again.")
        section = song.section_by_id.get(self.section_id)
        if section is None:
            raise EditError(f"Section {self.section_id} is not in this song any more. Choose one that is.")
        harmony = section_harmony(song, timeline(song).span_of(section.id))
        place = next(
            (p for p in section.placements if p.layer_id == layer.id and p.pattern_id == self.pattern_id), None
        )
        begins = place.start_ticks if place else 0
        changed = {}
        for index, (row, pitch) in enumerate(zip(rows, self.pitches)):
            if not isinstance(pitch, int | float) or not 0 < pitch < 128:
                continue
            chord = harmony.at(begins + max(0, row[0]))
            wanted = [(chord.root_class + t) % 12 for t in chord.tones]
            steps = min((s for s in range(-6, 7) if round(pitch + s) % 12 in wanted), key=abs, default=0)
            clip = clip_of(layer, row[3])
            exact = round(clip.semitones + steps + round(pitch) - pitch, 2)
            if abs(exact - clip.semitones) > 0.02:
                changed[index] = replace(clip, semitones=max(-24.0, min(24.0, exact)))
        if not changed:
            raise EditError("Every slice with a pitch already lies on its chord. Nothing was changed.")
        return _with_own(song, layer, self.pattern_id, rows, changed)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: slices brought onto the chords"


@edit("quantise_slices", "notes")
class QuantiseSlices:
    """Move slices towards the grid, by an amount; what lies between stays as long as it reaches."""

    layer_id: int
    pattern_id: int
    grid_ticks: int = 240
    amount: float = 1.0

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        rows = slice_rows(song, layer, self.pattern_id)
        if self.grid_ticks not in (960, 480, 320, 240, 160, 120):
            raise EditError(f"{self.grid_ticks} ticks are no grid that is offered. Choose 1/4 to 1/32, or triplets.")
        if not 0 < self.amount <= 1:
            raise EditError(f"An amount of {self.amount:g} lies outside 0 to 1. Choose one between them.")
        pattern = song.pattern_by_id[self.pattern_id].pattern
        starts = [r[0] + round((round(r[0] / self.grid_ticks) * self.grid_ticks - r[0]) * self.amount) for r in rows]
        ends = [*starts[1:], pattern.length_ticks]
        moved = []
        for row, start, end, after in zip(rows, starts, ends, [*(r[0] for r in rows[1:]), pattern.length_ticks]):
            touching = row[0] + row[1] >= after - 1
            length = max(1, end - start) if touching else row[1]
            moved.append([min(start, pattern.length_ticks - 1), length, *row[2:]])
        return with_patterns(song, {self.pattern_id: pattern.with_rows([*_others(pattern), *moved])})

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: slices brought towards the grid"


@edit("play_speed", "layers notes")
class PlaySpeed:
    """Let a clip take twice or half its time in the song."""

    layer_id: int
    number: int = 0
    times: float = 2.0

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        if self.times not in (0.5, 2.0):
            raise EditError(f"{self.times:g} times is not offered. Choose half or double.")
        song = with_clip(
            song, layer, self.number, replace(clip, beats=max(1 / 64, min(4000.0, clip.beats * self.times)))
        )
        changed = {}
        for pattern_id in clip_patterns(song, layer):
            pattern = song.pattern_by_id[pattern_id].pattern
            rows = pattern.to_list()
            if len(rows) == 1 and rows[0][3] == self.number:
                length = max(1, round(pattern.length_ticks * self.times))
                changed[pattern_id] = Pattern(length, [[0, max(1, round(rows[0][1] * self.times)), *rows[0][2:]]])
        return with_patterns(song, changed)

    def summary(self, song: Song) -> str:
        speed = "half" if self.times > 1 else "double"
        return f"{layer_of(song, self.layer_id).name}: clip {self.number + 1} at {speed} speed"


@edit("play_slice", "layers notes placements")
class PlaySlice:
    """Make an instrument of a slice: a new layer plays it at pitches, its root where it was heard, over the section's chords."""

    layer_id: int
    number: int
    section_id: int
    pitch: float = 0.0

    def apply(self, song: Song) -> Song:
        layer, section = layer_of(song, self.layer_id), section_of(song, self.section_id)
        clip = clip_of(layer, self.number)
        if len(song.layers) >= MAX_LAYERS:
            raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
        if not 0 <= self.pitch < 128:
            raise EditError(f"A pitch of {self.pitch:g} lies outside 0 to 127. Say none, and its own is heard.")
        root = round(self.pitch) or clip.root
        tuned = round(clip.semitones + (root - self.pitch if self.pitch else 0.0), 3)
        family = layer.family if layer.family not in ("drums", "effects") else "leads"
        bar = song.metre.bar_ticks
        name = free_layer_name(song, clean_name(f"{layer.name} {self.number + 1}"))
        made = Layer(
            song.next_id, name, NOTE, family, "hook", seed_of(name, {x.seed for x in song.layers}), layer.level_db,
            clips=(replace(clip, fit="alone", root=root, semitones=tuned, seam_ms=0.0),), source=layer.source,
            octave=octave_at(root),
        )  # fmt: skip
        song = replace(song, layers=in_family_order(song.layers, made), next_id=song.next_id + 1)
        song, pattern_id = add_pattern(
            song, name, family, Pattern(bar, [[0, bar // 2, TONE, 0, 0, 100], [bar // 2, bar // 2, TONE, 2, 0, 90]])
        )
        song = song.with_layer(replace(made, pattern_id=pattern_id))
        end = section_bar_ticks(section, song.metre)[-1]
        placed = ordered(
            [*song.section_by_id[section.id].placements, Placement(song.next_id, made.id, pattern_id, 0, end)]
        )
        song = song.with_section(replace(song.section_by_id[section.id], placements=placed))
        return replace(song, next_id=song.next_id + 1)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: clip {self.number + 1} played at pitches"


@edit("mute_kicks", "layers notes")
class MuteKicks:
    """Take the kicks out of a recorded beat: it is cut at its onsets, and what begins low falls silent."""

    layer_id: int
    number: int = 0

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        lows = [t for t, zone in onset_ticks(song, clip) if zone == 0]
        if not lows:
            raise EditError(f"No kick is heard in clip {self.number + 1} of {layer.name}. Nothing was changed.")
        first = len(layer.clips)
        ticks = slice_ticks(song, clip, 0)
        song = SliceClip(self.layer_id, self.number, "onsets").apply(song)
        gone = {first + i for i, t in enumerate(ticks[:-1]) if any(abs(t - low) < 40 for low in lows)}
        changed = {}
        for pattern_id in clip_patterns(song, song.layer_by_id[layer.id]):
            pattern = song.pattern_by_id[pattern_id].pattern
            kept = [r for r in pattern.to_list() if not (r[2] == CLIP and r[3] in gone)]
            changed[pattern_id] = pattern.with_rows(kept)
        return with_patterns(song, changed)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: its kicks taken out"


@edit("lead_in", "layers notes placements")
class LeadIn:
    """Let the beginning of a recorded layer lead into a section backwards, over the last beats of the section before."""

    layer_id: int
    section_id: int
    number: int = 0
    beats: int = 2

    def apply(self, song: Song) -> Song:
        layer, section = layer_of(song, self.layer_id), section_of(song, self.section_id)
        clip, index = clip_of(layer, self.number), song.index_of(section.id)
        if not index:
            raise EditError("Nothing lies before the first section. Choose a later one.")
        if not 1 <= self.beats <= 16 or self.beats * 960 > clip.length_ticks:
            raise EditError(
                f"{self.beats} beats do not lie in the clip, or are more than 16. Choose 1 to {min(16, int(clip.beats))}."
            )
        length = self.beats * 960
        turned = replace(clip_part(clip, 0, length), reversed=not clip.reversed)
        song = song.with_layer(added(layer, [turned]))
        row = [[0, length, CLIP, len(layer.clips), 0, 100]]
        song, pattern_id = add_pattern(song, f"{layer.name} backwards", layer.family, Pattern(length, row))
        before = song.sections[index - 1]
        end = section_bar_ticks(before, song.metre)[-1]
        ids = Ids(song.next_id)
        rest = cleared(before.placements, layer.id, max(0, end - length), end, ids)
        placed = ordered(
            [*rest, Placement(ids(), layer.id, pattern_id, max(0, end - length), end, max(0, end - length))]
        )
        return replace(song.with_section(replace(before, placements=placed)), next_id=ids.next_id)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} leads into {section_of(song, self.section_id).name} backwards"
