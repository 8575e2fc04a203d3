"""Samples of our own, made by the program's engine at first use. Data in demo/samples.json."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Section, Song
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.tile_edits import Place
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import FIXED
from escalera.core.theory.pitch import STANDARD_HZ
from escalera.core.time.ruler import RATE_HZ
from escalera.core.time.tempo import TempoPoint
from escalera.lazy_dataclasses import dataclass
from escalera.services import library
from escalera.services.hearing import beat_song
from escalera.services.starting_loops import song_of
from escalera.sound.mix import Renderer

PEAK = 10.0 ** (-6.0 / 20.0)
HIT_S, FADE_S = 2.5, 0.01
QUIET = 3e-4
QUARTER_TICKS = 960
CACHE_MB = 10
Audio = NDArray[np.float32]


@dataclass(frozen=True)
class OwnSample:
    """A row of the file: what it is called, what is true of it, and how it is made."""

    name: str
    row: Mapping[str, Any]

    @property
    def recipe(self) -> str:
        """How it was made, in words."""
        row = self.row
        if "groove" in row:
            return f"Groove “{row['groove']}” at {row['tempo']} bpm, made by the program’s engine"
        if "sound" in row:
            return f"{BY_KEY[row['sound']].label}, made by the program’s engine"
        return f"From the starting loop “{row['loop'].replace('-', ' ')}”, made by the program’s engine"


def own_samples() -> list[OwnSample]:
    """All of them, in the order of the file."""
    return [OwnSample(row["name"], row) for row in library.data("samples.json")["samples"]]


def made_samples(rows: list[OwnSample]) -> Iterator[tuple[OwnSample, Audio]]:
    """Each with its sound, (2, n) or (1, n) at 44.1 kHz. The same every time."""
    renderer = Renderer(CACHE_MB)
    for sample in rows:
        yield sample, _levelled(_made(sample.row, renderer))


def _made(row: Mapping[str, Any], renderer: Renderer) -> Audio:
    if "groove" in row:
        song, _ = song_of(row["loop"])
        beat = next(g.beat for g in library.grooves().values() if g.name == row["groove"])
        played = beat_song(replace(song, tempo_bpm=float(row["tempo"])), beat, None, row.get("times", 1))
        return _once(slowed(played, row["slows"]), renderer) if "slows" in row else _round(played, renderer)
    if "sound" in row:
        return _of_sound(row, renderer)
    song = loop_song(row)
    if row.get("ending"):
        return _once(_only_start(song), renderer)
    audio = _round(song, renderer)
    return audio[:, : audio.shape[1] - round(row.get("short_beats", 0) * 60.0 / song.tempo_bpm * RATE_HZ)]


def loop_song(row: Mapping[str, Any]) -> Song:
    """A starting loop cut down to what a row of the file names: families, bars, drums left out, tuning."""
    song, _ = song_of(row["loop"])
    without = set(row.get("without", ()))
    layers = tuple(x for x in song.layers if x.family in row["parts"] and x.sound.drum not in without)
    kept = {x.id for x in layers}
    bars = row.get("bars", 1)
    first = song.sections[0]
    length = timeline(song).spans[0].bar_ticks[bars]
    placements = tuple(
        replace(p, end_ticks=min(p.end_ticks, length))
        for p in first.placements
        if p.layer_id in kept and p.start_ticks < length
    )
    section = replace(first, bars=bars, phrases=(bars,), placements=placements)
    tuning = STANDARD_HZ * 2.0 ** (row.get("cents", 0) / 1200.0)
    return replace(song, layers=layers, sections=(section,), tuning_hz=tuning, life=0.0)


def slowed(song: Song, to_share: float) -> Song:
    """A song whose section keeps its tempo for half of it and then slows beat by beat to a share of it."""
    section = song.sections[0]
    beats = timeline(song).spans[0].bar_ticks[-1] // QUARTER_TICKS
    steps = range(beats // 2, beats)
    points = tuple(
        TempoPoint(n * QUARTER_TICKS, round(song.tempo_bpm * to_share ** ((n - steps[0] + 1) / len(steps)), 3))
        for n in steps
    )
    return song.with_section(replace(section, tempo_changes=points))


def _only_start(song: Song) -> Song:
    """A song whose section stops after its first beat, with what rings on."""
    section = song.sections[0]
    placements = tuple(replace(p, end_ticks=QUARTER_TICKS) for p in section.placements if p.start_ticks == 0)
    return song.with_section(replace(section, placements=placements))


def _section(song: Song, renderer: Renderer) -> tuple[Audio, int, int]:
    span = timeline(song).spans[0]
    mix = renderer.section_mix(song, span)
    return mix.audio, mix.offset, round(span.length_seconds * RATE_HZ)


def _round(song: Song, renderer: Renderer) -> Audio:
    """A section as a loop: what rings over its end is heard at its beginning."""
    mix, offset, length = _section(song, renderer)
    audio = np.zeros((2, length), np.float32)
    for first in range(-(-max(0, -offset) // length) * -length, mix.shape[1] + offset, length):
        low, high = max(first, offset), min(first + length, offset + mix.shape[1])
        if high > low:
            audio[:, low - first : high - first] += mix[:, low - offset : high - offset]
    return audio


def _once(song: Song, renderer: Renderer) -> Audio:
    """A section from its start until its sound has died away."""
    mix, offset, _ = _section(song, renderer)
    audio = np.pad(mix, ((0, 0), (offset, 0))) if offset >= 0 else mix[:, -offset:]
    heard = np.flatnonzero(np.abs(audio).max(axis=0) > QUIET)
    audio = audio[:, : int(heard[-1]) + 1 if len(heard) else 1].copy()
    fade = min(audio.shape[1], round(FADE_S * RATE_HZ))
    audio[:, -fade:] *= np.linspace(1.0, 0.0, fade, dtype=np.float32)
    return audio


def _of_sound(row: Mapping[str, Any], renderer: Renderer) -> Audio:
    sound = BY_KEY[row["sound"]]
    tempo = float(row.get("tempo", 60.0))
    centre = sound.drum_note or sound.centre
    notes = row.get("notes", [[0.0, HIT_S if not sound.is_drum else 0.1, centre]])
    beat = tempo / 60.0 if "tempo" in row and "bars" not in row else 1.0
    ticks = [
        [round(at * beat * QUARTER_TICKS), max(1, round(hold * beat * QUARTER_TICKS)), FIXED, pitch, 0, 100]
        for at, hold, pitch in notes
    ]
    bars = row.get("bars", -(-max(t[0] + t[1] for t in ticks) // (4 * QUARTER_TICKS)))
    song = Song(tempo_bpm=tempo, sections=(Section(1, "Sample", bars=bars, phrases=(bars,)),), next_id=2)
    length = bars * 4 * QUARTER_TICKS
    song = AddLayer(sound.key, "", "", "", "Notes", length, ticks).apply(song)
    layer = song.layers[0]
    settings = tuple(sorted({**dict(layer.settings), **row.get("settings", {})}.items()))
    song = song.with_layer(replace(layer, settings=settings))
    song = Place(1, layer.id, layer.pattern_id, start_ticks=0, end_ticks=length).apply(song)
    return _round(song, renderer) if "bars" in row else _once(song, renderer)


def _levelled(audio: Audio) -> Audio:
    """Peaks at −6 dB; one channel where both are the same."""
    peak = float(np.abs(audio).max(initial=0.0))
    audio = audio * np.float32(PEAK / peak) if peak > 0 else audio
    return audio[:1] if np.array_equal(audio[0], audio[-1]) else audio
