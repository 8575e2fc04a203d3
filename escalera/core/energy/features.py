"""What every layer brings into every felt bar, from the document alone. Cached by content.

All layers of a section that are not cached yet are computed together: one pass over all their notes.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.felt import FeltBars, felt_bars
from escalera.core.energy.stats import BAND_CENTRES_HZ, BAND_EDGES_HZ, INDEX, WIDTH, Stats, empty
from escalera.core.kept import Kept
from escalera.core.palette.profiles import note_energies, sound_index, width_of
from escalera.core.palette.sounds import BY_KEY, Sound
from escalera.core.song.document import Layer, Song, Variation
from escalera.core.song.resolve import (
    DURATION,
    PITCH,
    PLACEMENT,
    START,
    VELOCITY,
    Events,
    layer_events,
    section_harmony,
    sounding_layers,
)
from escalera.core.song.timeline import Grid, Span

OFF_BEAT = 1.5  # an onset between the beats moves more than one on them
LEAD_SHARE = {"leads": 1.0, "voices": 1.0, "chords": 0.15}
REVERB_POWER, ECHO_POWER = 0.30, 0.22  # power that a full send adds, as rendered
LIFT_PER_SEMITONE = 0.6  # a raised key is felt as more than its semitones
KNOWN_HITS = 100.0  # velocity that counts as a whole hit
ABOVE_150 = np.array([0.0, 0.5, 1.0, 1.0, 1.0, 1.0])  # how much of every band lies above 150 Hz
SPACE = 0.5  # decorrelated share of what hall and echo add
DRUM_SPREAD_S, STRUCK_SPREAD_S = 0.15, 1.0  # over how long the energy of a hit and of a struck note is spread at most
RISE_POWER = 4.0  # a riser's level grows with the square of time, its power with the fourth power
CHORD_CHANGE = 0.5  # onsets that a chord change is worth
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Voice:
    """What of a layer and section decides its stats at 0 dB; the key of the cache."""

    events: Events
    grid: Grid
    sound_key: str
    family: str
    lowpass_hz: float
    highpass_hz: float

    @property
    def sound(self) -> Sound:
        return BY_KEY[self.sound_key]


_kept: Kept[Stats] = Kept(8192)


def voice_stats(voices: list[Voice], grid: Grid) -> list[Stats]:
    """Stats of layers at 0 dB in one section, each of shape (felt bars, WIDTH)."""
    found = {v: _kept.get(v) for v in voices}
    missing = [v for v, stats in found.items() if stats is None]
    if missing:
        for voice, stats in zip(missing, _compute(missing, grid)):
            found[voice] = _kept.put(voice, stats)
    return [found[v] for v in voices]  # type: ignore[misc]


def _compute(voices: list[Voice], grid: Grid) -> Stats:
    """Stats of all voices, shape (voices, felt bars, WIDTH), from one table of all their notes."""
    bars = felt_bars(grid)
    out = empty(len(voices), len(bars))
    table = np.concatenate([v.events.table for v in voices])
    counts = [len(v.events.table) for v in voices]
    if not len(table):
        return out
    edges = np.concatenate(([0], np.cumsum(counts)))
    owner = np.repeat(np.arange(len(voices)), counts)
    start = _seconds(grid, table[:, START])
    hold = np.maximum(_seconds(grid, table[:, START] + table[:, DURATION]) - start, 0.005)
    drum = np.array([v.sound.is_drum for v in voices])
    sounds = np.array([sound_index(v.sound_key) for v in voices])
    hold_heard = np.where(drum[owner], 0.5, hold)
    energy = note_energies(sounds[owner], table[:, PITCH].astype(float), hold_heard)
    energy *= ((table[:, VELOCITY] / 100.0) ** 3.0)[:, None] * _filters(voices, counts, table)
    share = _overlap(bars, start, hold, voices, owner)
    for i, voice in enumerate(voices):
        mine = slice(edges[i], edges[i + 1])
        _fill_power(out[i], share[:, mine], energy[mine], table[mine, PITCH], voice, bars)
    _fill_onsets(out, table, owner, voices, bars, grid)
    return out


def _fill_power(
    out: Stats, share: Floats, energy: Floats, pitch: NDArray[np.int32], voice: Voice, bars: FeltBars
) -> None:
    power = share @ energy / bars.lengths_s[:, None]
    above = power * ABOVE_150
    out[:, :6] = power
    wide = above.sum(axis=1)
    out[:, INDEX["above_150"]], out[:, INDEX["side"]] = wide, wide * width_of(voice.sound_key)
    kind = "struck" if voice.sound.is_drum else "sustained"
    out[:, INDEX[kind]], out[:, INDEX[f"{kind}_centre"]] = wide, above @ LOG_CENTRES
    if voice.family in LEAD_SHARE:
        leading = energy[:, 1:5].sum(axis=1) * LEAD_SHARE[voice.family]
        out[:, INDEX["lead"]] = share @ leading / bars.lengths_s
        out[:, INDEX["lead_pitch"]] = share @ (leading * pitch) / bars.lengths_s
    if voice.family == "voices":
        out[:, INDEX["voice"]] = power[:, 1:5].sum(axis=1)


LOG_CENTRES = np.log2(BAND_CENTRES_HZ)


def _seconds(grid: Grid, ticks: NDArray[np.int32]) -> Floats:
    points = grid.tempo_points
    if len(points) == 1:
        return ticks.astype(np.float64) * (60.0 / points[0][1] / 960.0)
    return np.array([grid.seconds_at(float(t)) for t in ticks])


def _overlap(bars: FeltBars, start: Floats, hold: Floats, voices: list[Voice], owner: NDArray[np.int64]) -> Floats:
    """Share of every note's energy that falls into every felt bar, shape (bars, notes); tails join the last bar."""
    longest = np.array(
        [DRUM_SPREAD_S if v.sound.is_drum else STRUCK_SPREAD_S if v.sound.hold == "struck" else np.inf for v in voices]
    )
    drum = np.array([v.sound.is_drum for v in voices])[owner]
    length = np.where(drum, DRUM_SPREAD_S, np.minimum(hold, longest[owner]))
    edges = bars.seconds.copy()
    edges[0], edges[-1] = -1e9, 1e9
    passed = np.clip((edges[:, None] - start) / length, 0.0, 1.0)
    rising = np.array([v.sound.rise for v in voices])[owner]
    if rising.any():
        passed[:, rising] **= RISE_POWER + 1.0
    return np.diff(passed, axis=0)


def _fill_onsets(
    out: Stats, table: NDArray[np.int32], owner: NDArray[np.int64], voices: list[Voice], bars: FeltBars, grid: Grid
) -> None:
    """Hits, kicks and onsets a second; notes that start together in a layer are one."""
    count = len(bars)
    _, first = np.unique(owner * (1 << 40) + table[:, START], return_index=True)
    ticks, mine = table[first, START], owner[first]
    where = mine * count + np.clip(np.searchsorted(bars.ticks, ticks, side="right") - 1, 0, count - 1)
    strength = np.minimum(table[first, VELOCITY] / KNOWN_HITS, 1.2)
    bar_ticks = bars.ticks[1] - bars.ticks[0]
    beat = bar_ticks / max(1, round(bar_ticks / _felt_beat(grid)))
    off = np.abs(ticks / beat - np.rint(ticks / beat)) > 0.02

    def rate(worth: Floats) -> Floats:
        return np.bincount(where, worth, len(voices) * count).reshape(len(voices), count) / bars.lengths_s

    attack = np.array([v.sound.attack for v in voices])[mine]
    drum = np.array([v.sound.is_drum for v in voices])[mine]
    kick = np.array([v.sound.drum == "kick" for v in voices])[mine]
    out[:, :, INDEX["hits"]] = rate(strength * attack * drum)
    out[:, :, INDEX["kicks"]] = rate(strength * kick)
    out[:, :, INDEX["onsets"]] = rate(strength * np.where(off, OFF_BEAT, 1.0) * ~drum)


def _felt_beat(grid: Grid) -> float:
    """Ticks of the beat that is felt: the notated beat halved or doubled into 0.35–0.7 s."""
    ticks = float(grid.bar_metres[0].beat_ticks)
    seconds = grid.seconds_at(ticks)
    while seconds < 0.35:
        ticks, seconds = ticks * 2, seconds * 2
    while seconds >= 0.7:
        ticks, seconds = ticks / 2, seconds / 2
    return ticks


# five frequencies in every band at which a filter's response is averaged
POINTS_HZ = np.array([np.geomspace(a, b, 7)[1:-1] for a, b in zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:])])


def filter_power(lowpass_hz: Floats, highpass_hz: Floats) -> Floats:
    """Mean power response of a layer's two filters in every band, shape (n, 6): second-order Butterworth each."""
    low = 1.0 / (1.0 + (POINTS_HZ[None] / np.maximum(lowpass_hz, 20.0)[:, None, None]) ** 4)
    low[lowpass_hz >= 19_000.0] = 1.0
    high = 1.0 / (1.0 + (highpass_hz[:, None, None] / POINTS_HZ) ** 4)
    high[highpass_hz <= 20.5] = 1.0
    return (low * high).mean(axis=2)


def _filters(voices: list[Voice], counts: list[int], table: NDArray[np.int32]) -> Floats:
    """Power factor of every note in every band from filters and level curves, taken at its onset."""
    cutoff = np.repeat([v.lowpass_hz for v in voices], counts)
    highpass, level, first = np.repeat([v.highpass_hz for v in voices], counts), np.zeros(len(table)), 0
    for voice, count in zip(voices, counts):
        mine = table[first : first + count]
        for index, (low, high, v) in enumerate(voice.events.spans):
            if v != PLAIN:
                rows = first + np.flatnonzero(mine[:, PLACEMENT] == index)
                share = np.clip((table[rows, START] - low) / max(1, high - low), 0.0, 1.0)
                level[rows] = v.level_start_db + (v.level_end_db - v.level_start_db) * share
                if v.lowpass_start_hz is not None and v.lowpass_end_hz is not None:
                    bent = v.lowpass_start_hz * (v.lowpass_end_hz / v.lowpass_start_hz) ** share
                    cutoff[rows] = np.minimum(bent, voice.lowpass_hz)
        first += count
    pairs, where = np.unique(np.stack((cutoff, highpass)), axis=1, return_inverse=True)
    return filter_power(pairs[0], pairs[1])[where.ravel()] * (10.0 ** (level / 10.0))[:, None]


PLAIN = Variation()


def _space(layer: Layer) -> float:
    """Power that the layer's sends add, as a share of its own."""
    sends = 0.0
    for level, amount in ((layer.reverb_send_db, REVERB_POWER), (layer.echo_send_db, ECHO_POWER)):
        if level > -59.5:
            sends += amount * 10.0 ** (level / 10.0)
    return sends


POWER_COLUMNS = np.array([not name.startswith(("hits", "kicks", "onsets")) for name in INDEX])


def section_stats(song: Song, span: Span) -> tuple[list[Layer], Stats]:
    """Sounding layers of a section and their stats, shape (layers, felt bars, WIDTH), levels and ducking applied."""
    layers, bars = list(sounding_layers(song, span.section)), felt_bars(span.grid)
    if not layers:
        return [], np.zeros((0, len(bars), WIDTH))
    voices = [
        Voice(layer_events(song, span, x), span.grid, x.sound_key, x.family, x.lowpass_hz, x.highpass_hz)
        for x in layers
    ]
    stats = np.stack(voice_stats(voices, span.grid))
    space = np.array([_space(x) for x in layers])[:, None]
    stats[:, :, INDEX["side"]] += SPACE * space * stats[:, :, INDEX["above_150"]]
    gain = np.array([10.0 ** ((x.level_db + song.master_gain_db) / 10.0) for x in layers])[:, None, None]
    stats[:, :, POWER_COLUMNS] *= gain * (1.0 + space)[:, :, None]
    _add_harmony(song, span, layers, stats, bars)
    _duck(layers, stats, span)
    return layers, stats


def _add_harmony(song: Song, span: Span, layers: list[Layer], stats: Stats, bars: FeltBars) -> None:
    """Chord changes move, through the layers that play chords; a raised key lifts the leading line."""
    harmony = section_harmony(song, span.section, span.length_ticks)
    changes = np.histogram(np.array(harmony.ticks[1:], float), bars.ticks)[0] / bars.lengths_s
    lift = LIFT_PER_SEMITONE * max(0, span.section.shift_semitones)
    for i, layer in enumerate(layers):
        if layer.family == "chords" and not layer.sound.is_drum:
            stats[i][:, INDEX["onsets"]] += CHORD_CHANGE * changes * (stats[i][:, :6].sum(axis=1) > 0)
        if lift:
            stats[i][:, INDEX["lead_pitch"]] += lift * stats[i][:, INDEX["lead"]]


def _duck(layers: list[Layer], stats: Stats, span: Span) -> None:
    """Ducked layers lose the power that the kick's dips take away on average."""
    kicks = stats[:, :, INDEX["kicks"]].sum(axis=0)
    if not kicks.any():
        return
    beat_s = span.seconds_at(span.bar_metres[0].beat_ticks)
    for i, layer in enumerate(layers):
        if layer.duck_db > 0:
            dipped = np.minimum(1.0, kicks * (0.02 + 0.55 * layer.duck_release_beats * beat_s))
            stats[i][:, POWER_COLUMNS] *= (1.0 - dipped * (1.0 - 10.0 ** (-layer.duck_db / 10.0)))[:, None]
