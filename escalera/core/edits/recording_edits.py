"""Edits of recorded layers: a recording laid into the song, its clips changed, mended, cut into slices, exchanged for another one."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import ValidationError

from escalera.core.bench.mix_places import loudness_at_zero, whole_section
from escalera.core.bench.sample_fit import cents_off, clip_for
from escalera.core.document.fields import adapter
from escalera.core.document.limits import MAX_CLIPS, MAX_LAYERS, MAX_LEVEL_DB, MAX_SAMPLES, MIN_LEVEL_DB
from escalera.core.document.names import clean_name
from escalera.core.document.recordings import QUARTER_TICKS, Clip, Sample
from escalera.core.document.song import Layer, Placement, Section, Song
from escalera.core.edits.edit import edit, layer_of, one_of, section_of
from escalera.core.edits.layer_edits import free_layer_name, in_family_order, seed_of
from escalera.core.palette.recorded_sounds import BEAT, NOTE, PART, hit_key
from escalera.core.palette.sounds import BY_KEY, DRUM_SOUND, FAMILIES
from escalera.core.reading.clip_reading import clip_patterns, onset_ticks, sample_in
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.rhythm.pattern import CLIP, FIXED, TONE, Pattern
from escalera.errors import EditError, shown

USES = {"loop": "loop", "fill": "fill at the end", "hit": "drum hit", "note": "notes along the chords"}
USUAL_JOB = {
    "drums": "movement", "low end": "body", "chords": "body", "leads": "hook", "voices": "hook", "atmosphere": "texture",
    "effects": "movement",
}  # fmt: skip
USUAL_LUFS = {
    "drums": -25.0, "low end": -26.0, "chords": -28.5, "leads": -27.5, "voices": -25.5, "atmosphere": -36.0, "effects": -29.0,
}  # fmt: skip
SHORTEST_S = 0.005
DEEP_HZ = 120.0
VELOCITY = 100
GRIDS = {"onsets": 0, "1/4": 960, "1/8": 480, "1/16": 240}
TAIL_FADE_MS = 6.0


def _read(cls: type, values: dict[str, Any], what: str) -> Any:
    try:
        return adapter(cls).validate_python(values)
    except ValidationError as error:
        first = error.errors()[0]
        where = " ".join(str(p) for p in first["loc"]).replace("_", " ")
        raise EditError(
            f"{what}: {where} “{shown(first.get('input', ''))}” cannot be used ({first['msg'].lower()})."
        ) from error


def sample_from(values: dict[str, Any]) -> Sample:
    """A sample from plain values. Raises EditError."""
    found: Sample = _read(Sample, values, "The sample")
    if found.seconds < SHORTEST_S:
        raise EditError(f"{found.name} lasts {found.seconds:g} s; at least {SHORTEST_S:g} s can be played.")
    return found


def with_sample(song: Song, sample: Sample, keep: frozenset[str] = frozenset()) -> Song:
    """The song knowing a sample; those that no clip plays any more make room, but for those that are still to be laid."""
    used = (
        keep
        | {clip.sample for layer in song.layers for clip in layer.recordings}
        | {c for t in song.takes for c in (t.content, t.polished)}
    )
    kept = [s for s in song.samples if s.content in used and s.content != sample.content]
    if len(kept) >= MAX_SAMPLES:
        raise EditError(f"The song uses {MAX_SAMPLES} samples, and no more fit. Remove a recorded layer first.")
    return replace(song, samples=(*kept, sample))


def clip_of(layer: Layer, number: int) -> Clip:
    """One of a layer's clips by its number from 0. EditError where there is none."""
    if not layer.clips:
        raise EditError(f"{layer.name} plays no recording. Choose a recorded layer.")
    if not 0 <= number < len(layer.clips):
        raise EditError(f"{layer.name} has clips 1 to {len(layer.clips)}, no clip {number + 1}. Choose one of them.")
    return layer.clips[number]


@edit("lay_sample", "layers notes placements")
class LaySample:
    """Lay a recording into the song as a layer: a loop in its tempo and key, a fill at the end, a drum's hit, or a sound at pitches."""

    sample: dict[str, Any]
    section_id: int = 0
    use: str = "loop"
    family: str = ""
    drum: str = ""
    name: str = ""
    phrase: int | None = None
    at_ticks: int | None = None  # from there on, once
    in_place: bool = True

    def apply(self, song: Song) -> Song:
        sample = sample_from(self.sample)
        if len(song.layers) >= MAX_LAYERS:
            raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
        family = one_of(self.family or usual_family(sample, self.use), FAMILIES, "family")
        use = one_of(self.use, tuple(USES), "use of a sample")
        section = section_of(song, self.section_id) if self.section_id else None
        song = with_sample(song, sample)
        clip = clip_for(song, sample, family, section)
        key = self._sound_key(use, family)
        if use in ("hit", "note"):
            clip = one_shot(clip, sample, use == "note")
        name = free_layer_name(song, clean_name(self.name or sample.name))
        layer = Layer(
            song.next_id, name, key, family, USUAL_JOB[family] if use != "hit" else BY_KEY[key].job,
            seed_of(name, {x.seed for x in song.layers}), BY_KEY[key].level_db, clips=(clip,), source=sample.source[:200],
            octave=octave_at(clip.root) if use == "note" else 0,
        )  # fmt: skip
        song = replace(song, layers=in_family_order(song.layers, layer), next_id=song.next_id + 1)
        song, pattern_id = add_pattern(song, name, family, first_pattern(song, clip, sample, use, key))
        song = song.with_layer(replace(layer, pattern_id=pattern_id))
        if section is None:
            return song
        at_end = clip.length_ticks if use == "fill" else 0
        if self.at_ticks is None:
            song = _placed(song, section, song.layer_by_id[layer.id], self.phrase, at_end)
        else:
            song = _placed_once(song, section, song.layer_by_id[layer.id], self.at_ticks, clip.length_ticks)
        return levelled(song, song.section_by_id[section.id], layer.id) if self.in_place else song

    def _sound_key(self, use: str, family: str) -> str:
        if use == "note":
            return NOTE
        if use == "hit":
            return hit_key(one_of(self.drum or "snare", tuple(DRUM_SOUND), "drum"))
        return BEAT if family in ("drums", "effects") else PART

    def summary(self, song: Song) -> str:
        return f"Laid in the recording {shown(self.sample.get('name', ''))}"


def levelled(song: Song, section: Section, layer_id: int) -> Song:
    """The song with a recorded layer as loud as its family is meant to be; its place and bands are its own."""
    layer = song.layer_by_id[layer_id]
    loudness = loudness_at_zero(song, section, layer, whole_section(song, section, layer))
    if loudness is None:
        return song
    level = float(np.clip(USUAL_LUFS[layer.family] - loudness, MIN_LEVEL_DB, MAX_LEVEL_DB))
    return song.with_layer(replace(layer, level_db=round(level, 1)))


def one_shot(clip: Clip, sample: Sample, tuned: bool) -> Clip:
    """A whole sample as notes play it: left alone, and in tune where they have pitches."""
    return replace(clip, fit="alone", semitones=round(-cents_off(sample) / 100.0, 3) + 0.0 if tuned else 0.0)


def octave_at(root: int) -> int:
    """The octave of a recorded note's register in which its own pitch lies, so that chord tones sound near it."""
    return max(-3, min(3, (root - BY_KEY[NOTE].register[0]) // 12))


def usual_family(sample: Sample, use: str = "") -> str:
    """The family that a sample is laid in when none is asked for; what notes play is a bass or a lead."""
    if sample.kind == "voice":
        return "voices"
    if sample.kind == "texture":
        return "atmosphere"
    if use == "note":
        return "low end" if 0 < sample.pitch_hz < DEEP_HZ else "leads"
    return "chords" if sample.key and sample.kind not in ("hit", "fill") else "drums"


def first_pattern(song: Song, clip: Clip, sample: Sample, use: str, key: str) -> Pattern:
    """What a new recorded layer plays: its clip from bar to bar, one hit on the one, or one held note at its root."""
    bar = song.metre.bar_ticks
    if use == "hit":
        return Pattern(bar, [[0, 240, FIXED, BY_KEY[key].drum_note, 0, VELOCITY]])
    if use == "note":
        return Pattern(bar, [[0, bar, TONE, 0, 0, VELOCITY]])  # single notes go along with the chords
    return clip_pattern(clip, bar)


def clip_pattern(clip: Clip, bar_ticks: int) -> Pattern:
    """A clip from its beginning, its pattern as long as the bars it takes: what is missing of the last one is silent."""
    length = clip.length_ticks
    bars = max(1, round(length / bar_ticks)) if length % bar_ticks <= bar_ticks / 32 else -(-length // bar_ticks)
    return Pattern(bars * bar_ticks, [[0, min(length, bars * bar_ticks), CLIP, 0, 0, VELOCITY]])


def _placed(song: Song, section: Section, layer: Layer, phrase: int | None, at_end: int = 0) -> Song:
    """The layer playing in a phrase or the whole section; with `at_end` over so many ticks before its end only."""
    edges = section_bar_ticks(section, song.metre)
    low, high = 0, edges[-1]
    if phrase is not None:
        if not 0 <= phrase < len(section.phrases):
            raise EditError(
                f"{section.name} has phrases 1 to {len(section.phrases)}, no phrase {phrase + 1}. Choose one of them."
            )
        first = sum(section.phrases[:phrase])
        low, high = edges[first], edges[min(len(edges) - 1, first + section.phrases[phrase])]
    low = max(low, high - at_end) if at_end else low
    return _with_placement(
        song, section, Placement(song.next_id, layer.id, layer.pattern_id, low, high, low if at_end else 0)
    )


def _placed_once(song: Song, section: Section, layer: Layer, at_ticks: int, length: int) -> Song:
    end = section_bar_ticks(section, song.metre)[-1]
    if not 0 <= at_ticks < end:
        raise EditError(f"Tick {at_ticks} lies outside {section.name}, which has {end} ticks. Choose one inside it.")
    until = min(end, at_ticks + length)
    return _with_placement(
        song, section, Placement(song.next_id, layer.id, layer.pattern_id, at_ticks, until, at_ticks)
    )


def _with_placement(song: Song, section: Section, placement: Placement) -> Song:
    section = replace(section, placements=ordered([*section.placements, placement]))
    return replace(song.with_section(section), next_id=song.next_id + 1)


@edit("set_clip", "layers")
class SetClip:
    """Change how a clip is played: where it begins and ends, how long it is in the song, its fit, pitch, gain, fades, direction."""

    layer_id: int
    number: int
    values: dict[str, Any]

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        known = adapter(Clip).dump_python(clip)
        unknown = next((name for name in self.values if name not in known or name == "sample"), None)
        if unknown is not None:
            raise EditError(
                f"A clip has no “{shown(unknown)}” to be set. Choose one of: {', '.join(n for n in known if n != 'sample')}."
            )
        changed: Clip = _read(Clip, {**known, **self.values}, layer.name)
        sample = sample_in(song, clip)
        changed = replace(changed, end_s=min(changed.end_s, sample.seconds))
        if changed.end_s - changed.start_s < SHORTEST_S:
            raise EditError(
                f"The clip would begin at {changed.start_s:g} s and end at {changed.end_s:g} s. Let it end at least {SHORTEST_S:g} s "
                f"after it begins, and by {sample.seconds:.3f} s."
            )
        return with_clip(song, layer, self.number, changed)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: clip {self.number + 1} changed"


def with_clip(song: Song, layer: Layer, number: int, clip: Clip) -> Song:
    """The song with one of a layer's clips exchanged."""
    clips = tuple(clip if i == number else c for i, c in enumerate(layer.clips))
    return song.with_layer(replace(layer, clips=clips))


def with_patterns(song: Song, changed: dict[int, Pattern]) -> Song:
    """The song with some patterns exchanged, by id."""
    patterns = tuple(replace(e, pattern=changed[e.id]) if e.id in changed else e for e in song.patterns)
    return replace(song, patterns=patterns)


def added(layer: Layer, clips: list[Clip]) -> Layer:
    """A layer with further clips. EditError where no more fit."""
    if len(layer.clips) + len(clips) > MAX_CLIPS:
        raise EditError(
            f"{layer.name} would have {len(layer.clips) + len(clips)} clips; at most {MAX_CLIPS} fit. Cut it at fewer places."
        )
    return replace(layer, clips=(*layer.clips, *clips))


@edit("slice_clip", "layers notes")
class SliceClip:
    """Cut a clip into slices where something begins, on a grid, or at ticks from its start: each becomes a note that can be moved,
    muted, repeated."""

    layer_id: int
    number: int = 0
    at: str = "onsets"
    ticks: list[Any] | None = None

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        grid = GRIDS[one_of(self.at, tuple(GRIDS), "way of cutting")]
        ticks = slice_ticks(song, clip, grid) if self.ticks is None else _by_hand(clip, self.ticks)
        if len(ticks) < 3:
            raise EditError(f"Nothing begins inside clip {self.number + 1} of {layer.name}. Cut it on a grid instead.")
        first = len(layer.clips)
        pieces = [clip_part(clip, a, b) for a, b in zip(ticks, ticks[1:])]
        song = song.with_layer(added(layer, pieces))
        changed = {}
        for pattern_id in clip_patterns(song, layer):
            pattern = song.pattern_by_id[pattern_id].pattern
            rows = [row for old in pattern.to_list() for row in _sliced(old, self.number, first, ticks)]
            changed[pattern_id] = pattern.with_rows(rows)
        return with_patterns(song, changed)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: clip {self.number + 1} cut into slices"


def _by_hand(clip: Clip, ticks: list[Any]) -> list[int]:
    length = clip.length_ticks
    if not all(isinstance(t, int | float) and 0 < t < length for t in ticks):
        raise EditError(f"A cut lies outside the clip, which is {length} ticks long. Cut inside it.")
    return sorted({0, length, *(round(t) for t in ticks)})


def slice_ticks(song: Song, clip: Clip, grid_ticks: int) -> list[int]:
    """Where slices of a clip begin, in ticks from its start; the last one is its end. `grid_ticks` 0 asks for its onsets."""
    length = clip.length_ticks
    if grid_ticks:
        return [*range(0, length, grid_ticks), length]
    found = {t for t, _ in onset_ticks(song, clip)}
    return sorted({0, length, *(t for t in found if 30 < t < length - 30)})


def clip_part(clip: Clip, low: int, high: int) -> Clip:
    """The part of a clip between two ticks from its start, playing as it played there."""
    length = clip.length_ticks
    a, b = (clip.start_s + clip.seconds * t / length for t in (low, high))
    if clip.reversed:
        a, b = clip.start_s + clip.end_s - b, clip.start_s + clip.end_s - a
    return replace(
        clip,
        start_s=round(a, 9),
        end_s=round(b, 9),
        beats=(high - low) / QUARTER_TICKS,
        fade_in_ms=clip.fade_in_ms if low == 0 else 0.0,
        fade_out_ms=clip.fade_out_ms if high == length else 0.0,
        seam_ms=0.0,
    )


def _sliced(row: list[int], number: int, first: int, ticks: list[int]) -> list[list[int]]:
    """A pattern's row as the rows of its slices, where it plays the clip that was cut."""
    start, duration, kind, value, octave, velocity = row
    if kind != CLIP or value != number:
        return [row]
    return [
        [start + a, min(b, duration) - a, CLIP, first + i, octave, velocity]
        for i, (a, b) in enumerate(zip(ticks, ticks[1:]))
        if a < duration
    ]


@edit("mend_clip", "layers notes")
class MendClip:
    """Bring a clip that is too short or too long onto whole bars: stretched, its tail repeated, a gap left, or cut off."""

    layer_id: int
    number: int = 0
    way: str = "stretch"

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        way = WAYS[one_of(self.way, tuple(WAYS), "way of mending")]
        bar = song.metre.bar_ticks
        whole = max(1, round(clip.length_ticks / bar)) * bar
        longer = -(-clip.length_ticks // bar) * bar
        return way(song, layer, self.number, whole, longer)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: clip {self.number + 1} brought onto whole bars ({self.way})"


def relaid(song: Song, layer: Layer, number: int, length: int, rows: list[list[int]]) -> Song:
    """The patterns of a layer that play a clip from their beginning, with other rows in its place."""
    changed = {}
    for pattern_id in clip_patterns(song, layer):
        pattern = song.pattern_by_id[pattern_id].pattern
        mine = [r for r in pattern.to_list() if r[2] == CLIP and r[3] == number]
        if len(mine) == 1 and mine[0][0] == 0:
            others = [r for r in pattern.to_list() if r not in mine and r[0] < length]
            changed[pattern_id] = Pattern(length, [*others, *rows])
    return with_patterns(song, changed)


def _stretch(song: Song, layer: Layer, number: int, whole: int, longer: int) -> Song:
    clip = replace(layer.clips[number], beats=whole / QUARTER_TICKS)
    return relaid(with_clip(song, layer, number, clip), layer, number, whole, [[0, whole, CLIP, number, 0, VELOCITY]])


def _repeat_tail(song: Song, layer: Layer, number: int, whole: int, longer: int) -> Song:
    clip = layer.clips[number]
    length = clip.length_ticks
    missing = longer - length
    if missing <= 0:
        raise EditError(f"Clip {number + 1} of {layer.name} already fills its bars. Nothing has to be repeated.")
    if missing > length:
        raise EditError(f"More is missing of clip {number + 1} than there is of it. Stretch it, or leave a gap.")
    tail = replace(clip_part(clip, length - missing, length), fade_in_ms=TAIL_FADE_MS)
    song = song.with_layer(added(layer, [tail]))
    rows = [[0, length, CLIP, number, 0, VELOCITY], [length, missing, CLIP, len(layer.clips), 0, VELOCITY]]
    return relaid(song, layer, number, longer, rows)


def _gap(song: Song, layer: Layer, number: int, whole: int, longer: int) -> Song:
    length = layer.clips[number].length_ticks
    return relaid(song, layer, number, longer, [[0, length, CLIP, number, 0, VELOCITY]])


def _trim(song: Song, layer: Layer, number: int, whole: int, longer: int) -> Song:
    clip = layer.clips[number]
    shorter = max(song.metre.bar_ticks, clip.length_ticks // song.metre.bar_ticks * song.metre.bar_ticks)
    if shorter >= clip.length_ticks:
        raise EditError(f"Clip {number + 1} of {layer.name} is no longer than its bars. Nothing has to be cut off.")
    cut = clip_part(clip, 0, shorter)
    return relaid(
        with_clip(song, layer, number, cut), layer, number, shorter, [[0, shorter, CLIP, number, 0, VELOCITY]]
    )


WAYS = {"stretch": _stretch, "repeat tail": _repeat_tail, "gap": _gap, "trim": _trim}


@edit("exchange_sample", "layers notes")
class ExchangeSample:
    """Let a recorded layer play another recording in the same places, fitted to the song anew."""

    layer_id: int
    sample: dict[str, Any]

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip_of(layer, 0)
        sample = sample_from(self.sample)
        song = with_sample(song, sample)
        clip = clip_for(song, sample, layer.family)
        if layer.sound_key not in (BEAT, PART):
            clip = one_shot(clip, sample, layer.sound_key == NOTE)
            layer = replace(layer, octave=octave_at(clip.root)) if layer.sound_key == NOTE else layer
        named = layer.name == layer.clips[0].sample or any(s.name == layer.name for s in song.samples)
        rest = replace(song, layers=tuple(x for x in song.layers if x.id != layer.id))
        name = free_layer_name(rest, clean_name(sample.name)) if named else layer.name
        song = song.with_layer(replace(layer, clips=(clip,), name=name, source=sample.source[:200]))
        changed = {i: clip_pattern(clip, song.metre.bar_ticks) for i in clip_patterns(song, layer)}
        return with_sample(with_patterns(song, changed), sample)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: exchanged for the recording {shown(self.sample.get('name', ''))}"


@edit("tune_clip", "layers")
class TuneClip:
    """Bring a recorded layer's pitch onto a note: its root onto a chord's tone, and what it lies off in cents."""

    layer_id: int
    semitones: int = 0
    number: int = 0

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        clip = clip_of(layer, self.number)
        sample = sample_in(song, clip)
        off = cents_off(sample) if sample.pitch_hz else sample.tuning_cents
        changed: Clip = _read(
            Clip, {**adapter(Clip).dump_python(clip), "semitones": round(self.semitones - off / 100.0, 3)}, layer.name
        )
        return with_clip(song, layer, self.number, changed)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} tuned"
