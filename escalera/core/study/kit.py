"""A song out of stems: laid as recorded layers over the form that their sum has, with tiles only where something sounds."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.limits import MAX_LAYERS, MAX_LEVEL_DB, MIN_LEVEL_DB
from escalera.core.document.names import clean_name
from escalera.core.document.recordings import QUARTER_TICKS, Clip, Sample
from escalera.core.document.song import Layer, Placement, Section, Song
from escalera.core.edits.layer_edits import free_layer_name, in_family_order, seed_of
from escalera.core.edits.recording_edits import USUAL_JOB, VELOCITY
from escalera.core.palette.recorded_sounds import BEAT, PART
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.rhythm.pattern import CLIP, Pattern
from escalera.core.study.building import shape_of
from escalera.core.study.heard_track import StudyReading
from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass

SOUNDS_DB = -38.0  # below its loudest bar, from which on a stem sounds
FAINT_DB = -72.0
PAUSE_BARS = 1  # so long it may be silent within a tile
NUMBERED = re.compile(r"^\d{1,3}[ ._-]+")  # as files are put in order
Levels = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Stem:
    """A stem: its sample, the family it is laid in and why, and where it begins against the others in seconds."""

    sample: Sample
    family: str
    why: str
    offset_s: float = 0.0


def bar_levels(sample: Sample, bars_s: Levels, offset_s: float = 0.0) -> Levels:
    """Level of a stem in every bar, in dB; shape (bars,)."""
    power = sample.power.sum(axis=1)
    total = np.concatenate(([0.0], np.cumsum(power)))
    at = np.clip((bars_s - offset_s) / sample.slot_s, 0, len(power))
    whole = np.floor(at).astype(int)
    upto = total[whole] + (at - whole) * (total[np.minimum(whole + 1, len(power))] - total[whole])
    return np.asarray(10.0 * np.log10(np.diff(upto) / np.maximum(np.diff(bars_s) / sample.slot_s, 1e-9) + 1e-12))


def sounds_in(levels_db: Levels) -> NDArray[np.bool_]:
    """In which bars a stem sounds, shape (bars,)."""
    return np.asarray(levels_db > max(FAINT_DB, float(levels_db.max(initial=-120.0)) + SOUNDS_DB))


def arrivals(stems: list[Stem], bars_s: Levels) -> Levels:
    """What speaks for a section beginning at every bar: stems that come in or leave there, by their share of the loudness; (bars + 1,)."""
    count = len(bars_s) - 1
    cues = np.zeros(count + 1)
    for stem in stems:
        there = sounds_in(bar_levels(stem.sample, bars_s, stem.offset_s))
        for bar in range(1, count):
            before, after = there[max(0, bar - 2) : bar], there[bar : bar + 2]
            if there[bar] and not before.any() or there[bar - 1] and not after.any():
                cues[bar] += 1.0
    return np.minimum(cues / max(1.0, 0.25 * len(stems)), 2.0)


def song_of_kit(reading: StudyReading, stems: list[Stem], title: str, level_db: float) -> Song:
    """The song: the form, key and tempo of the sum, every stem a layer at one level, so that together they are the mix they came from.
    Raises InputError where no bars were read, or there are too many stems."""
    if len(stems) > MAX_LAYERS:
        raise InputError(
            f"{len(stems)} stems are more than the {MAX_LAYERS} layers of a song. Put some of them together first."
        )
    song = shape_of(reading, title)
    song = replace(song, samples=tuple(s.sample for s in stems), brief=_brief(stems), school="balanced")
    for stem in stems:
        song = _laid(song, reading, stem, level_db)
    return song


def _brief(stems: list[Stem]) -> tuple[tuple[str, str], ...]:
    names = ", ".join(s.sample.name for s in stems)[:290]
    return (("job", "for somebody else"), ("instruments", names))


def _laid(song: Song, reading: StudyReading, stem: Stem, level_db: float) -> Song:
    """The song with one stem as a layer: a clip and a tile for every stretch of a section in which it sounds."""
    name = free_layer_name(song, clean_name(NUMBERED.sub("", stem.sample.name) or stem.sample.name))
    key = BEAT if stem.family in ("drums", "effects") else PART
    layer = Layer(
        song.next_id, name, key, stem.family, USUAL_JOB[stem.family], seed_of(name, {x.seed for x in song.layers}),
        float(np.clip(level_db, MIN_LEVEL_DB, MAX_LEVEL_DB)), source=stem.sample.source[:200], reason=f"stem of the kit, {stem.family} since {stem.why}"[:300],
    )  # fmt: skip
    song = replace(song, layers=in_family_order(song.layers, layer), next_id=song.next_id + 1)
    bars_s = np.array([reading.bar_s(i) for i in range(reading.bar_count + 1)])
    there = sounds_in(bar_levels(stem.sample, bars_s, stem.offset_s))
    for section, heard in zip(song.sections, reading.sections):
        for low, high in _runs(there[heard.first_bar : heard.first_bar + heard.bars]):
            song = _with_run(song, reading, stem, layer.id, section.id, heard.first_bar, low, high)
    return song


def _runs(there: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Stretches of bars in which something sounds, over short pauses."""
    runs: list[tuple[int, int]] = []
    for bar in np.flatnonzero(there).tolist():
        if runs and bar - runs[-1][1] <= PAUSE_BARS:
            runs[-1] = (runs[-1][0], bar + 1)
        else:
            runs.append((bar, bar + 1))
    return runs


def _with_run(
    song: Song, reading: StudyReading, stem: Stem, layer_id: int, section_id: int, first_bar: int, low: int, high: int
) -> Song:
    start_s = reading.bar_s(first_bar + low) - stem.offset_s
    end_s = min(stem.sample.seconds, reading.bar_s(first_bar + high) - stem.offset_s)
    late_s = max(0.0, -start_s)  # it begins within the stretch
    if end_s - start_s - late_s < 0.05:
        return song
    layer = song.layer_by_id[layer_id]
    beats = (
        (high - low)
        * reading.beats_a_bar
        * (end_s - start_s - late_s)
        / (reading.bar_s(first_bar + high) - stem.offset_s - start_s)
    )
    clip = Clip(stem.sample.content, round(max(0.0, start_s), 6), round(end_s, 6), round(beats, 6), "stretch")
    song = song.with_layer(replace(layer, clips=(*layer.clips, clip)))
    bar_ticks = reading.beats_a_bar * QUARTER_TICKS
    length = (high - low) * bar_ticks
    begins = round(length * late_s / (reading.bar_s(first_bar + high) - stem.offset_s - start_s))
    pattern = Pattern(length, [[begins, min(length - begins, clip.length_ticks), CLIP, len(layer.clips), 0, VELOCITY]])
    song, pattern_id = add_pattern(
        song, f"{layer.name}, bars {first_bar + low + 1} to {first_bar + high}", layer.family, pattern
    )
    section: Section = song.section_by_id[section_id]
    placement = Placement(song.next_id, layer_id, pattern_id, low * bar_ticks, high * bar_ticks, low * bar_ticks)
    song = song.with_section(replace(section, placements=ordered([*section.placements, placement])))
    song = replace(song, next_id=song.next_id + 1)
    if not song.layer_by_id[layer_id].pattern_id:
        song = song.with_layer(replace(song.layer_by_id[layer_id], pattern_id=pattern_id))
    return song
