"""Edits that bring samples into a song beside laying them: stacked on a sound, in place of a synthesised layer, read anew."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.bench.sample_fit import PERCUSSIVE, cents_off, clip_for, root_of
from escalera.core.document.bodies import each_body
from escalera.core.document.devices import StackPart
from escalera.core.document.limits import MAX_STACK
from escalera.core.document.recordings import Clip, Sample
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.edit import edit, layer_of
from escalera.core.edits.recording_edits import (
    ExchangeSample,
    clip_pattern,
    octave_at,
    one_shot,
    sample_from,
    with_sample,
)
from escalera.core.edits.sound_edits import not_printed, with_sound
from escalera.core.palette.recorded_sounds import BEAT, NOTE, PART, hit_key
from escalera.core.palette.sounds import DRUM_SOUND
from escalera.core.reading.placements import add_pattern
from escalera.errors import EditError, shown


@edit("stack_sample", "layers")
class StackSample:
    """Stack a recording on a sound: the hits or notes of its layer play it too."""

    layer_id: int
    sample: dict[str, Any]

    def apply(self, song: Song) -> Song:
        layer, sample = layer_of(song, self.layer_id), sample_from(self.sample)
        not_printed(layer)
        if layer.sound_key in (BEAT, PART):
            raise EditError(
                f"{layer.name} plays a recording from bar to bar. Stack on a drum, or on a sound with notes."
            )
        if layer.sound.mono:
            raise EditError(f"{layer.name} glides and is one voice. Lay the sample in as a layer of its own.")
        if len(layer.stack) >= MAX_STACK:
            raise EditError(f"{layer.name} has {MAX_STACK} stacked sounds, and no more fit. Take one out first.")
        part = StackPart(song.next_id, _stacked_key(layer), clip=_as_notes_play_it(song, sample, layer))
        song = with_sample(song, sample)
        return replace(song.with_layer(replace(layer, stack=(*layer.stack, part))), next_id=song.next_id + 1)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}: {shown(self.sample.get('name', ''))} stacked on it"


def _stacked_key(layer: Layer) -> str:
    drum = layer.sound.drum if layer.sound.drum in DRUM_SOUND else "snare"
    return hit_key(drum) if layer.sound.is_drum else NOTE


def _as_notes_play_it(song: Song, sample: Sample, layer: Layer) -> Clip:
    """A whole sample as a layer's notes play it: drums at its own pitch, others in tune with it at its root."""
    clip = one_shot(clip_for(song, sample, layer.family), sample, not layer.sound.is_drum)
    return replace(clip, root=layer.sound.drum_note) if layer.sound.is_drum else clip


@edit("play_sample", "layers notes placements options")
class PlaySample:
    """Let a layer play a recording in place of its sound, in the same places: hits and notes stay, a loop takes their bars."""

    layer_id: int
    sample: dict[str, Any]

    def apply(self, song: Song) -> Song:
        layer, sample = layer_of(song, self.layer_id), sample_from(self.sample)
        if layer.clips:
            return ExchangeSample(self.layer_id, self.sample).apply(song)
        not_printed(layer)
        as_notes = sample.kind == "hit"
        clip = _as_notes_play_it(song, sample, layer) if as_notes else clip_for(song, sample, layer.family)
        key = _stacked_key(layer) if as_notes else BEAT if layer.family in PERCUSSIVE else PART
        octave = octave_at(clip.root) if key == NOTE else 0
        source = sample.source[:200]
        song = with_sound(song, layer, key, clips=(clip,), octave=octave, stand_in=False, source=source)
        song = with_sample(song, sample)
        return song if as_notes else _from_bar_to_bar(song, layer, clip)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} plays the recording {shown(self.sample.get('name', ''))}"


def _from_bar_to_bar(song: Song, layer: Layer, clip: Clip) -> Song:
    """The song with a layer's placements playing its clip, wherever it played notes."""
    song, pattern_id = add_pattern(song, layer.name, layer.family, clip_pattern(clip, song.metre.bar_ticks))

    def follow(section: Section) -> Section:
        placed = (
            replace(p, pattern_id=pattern_id, offset_ticks=0) if p.layer_id == layer.id else p
            for p in section.placements
        )
        return replace(section, placements=tuple(placed))

    song = each_body(song, follow)
    return song.with_layer(replace(song.layer_by_id[layer.id], pattern_id=pattern_id))


@edit("renew_sample", "layers notes")
class RenewSample:
    """Take over what was corrected of a sample since: loops that are not cut are fitted anew, what was cut stays as it is."""

    sample: dict[str, Any]

    def apply(self, song: Song) -> Song:
        sample = sample_from(self.sample)
        old = song.sample_by_content.get(sample.content)
        if old is None:
            raise EditError(f"{sample.name} is not used in this song. Lay it in first.")
        if old == sample:
            raise EditError(f"The song already goes by what is known of {sample.name}. Nothing was changed.")
        whole = [x.id for x in song.layers if len(x.clips) == 1 and x.clips[0] == _fresh(song, old, x)]
        song = replace(song, samples=tuple(sample if s.content == sample.content else s for s in song.samples))
        for layer_id in whole:
            song = ExchangeSample(layer_id, self.sample).apply(song)
        return replace(song, layers=tuple(_at_new_root(x, old, sample) for x in song.layers))

    def summary(self, song: Song) -> str:
        return f"{shown(self.sample.get('name', ''))} read as it was corrected"


def _at_new_root(layer: Layer, old: Sample, new: Sample) -> Layer:
    """A layer whose notes played a sample at the root that was read, at the corrected one."""
    if layer.sound_key != NOTE:
        return layer
    tuned = round((cents_off(old) - cents_off(new)) / 100.0, 3)
    clips = tuple(
        replace(c, root=root_of(new), semitones=round(c.semitones + tuned, 3))
        if c.sample == new.content and c.root == root_of(old)
        else c
        for c in layer.clips
    )
    moved = clips[0].root != layer.clips[0].root
    return replace(layer, clips=clips, octave=octave_at(clips[0].root) if moved else layer.octave)


def _fresh(song: Song, sample: Sample, layer: Layer) -> Clip:
    """The clip that a layer got of a sample when it was laid in whole."""
    return clip_for(song, sample, layer.family)
