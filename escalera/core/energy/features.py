"""What every layer brings into every felt bar, from the document alone. Cached by content."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.felt import FeltBars, felt_bars
from escalera.core.energy.stats import BAND_CENTRES_HZ, BAND_EDGES_HZ, INDEX, WIDTH, Stats, empty
from escalera.core.palette.profiles import note_energy, width_of
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
from escalera.core.song.timeline import Span

OFF_BEAT = 1.5  # an onset between the beats moves more than one on them
LEAD_SHARE = {"leads": 1.0, "voices": 1.0, "chords": 0.15}
REVERB_POWER, ECHO_POWER = 0.30, 0.22  # power that a full send adds, as rendered
LIFT_PER_SEMITONE = 0.6  # a raised key is felt as more than its semitones
KNOWN_HITS = 100.0  # velocity that counts as a whole hit
ABOVE_150 = np.array([0.0, 0.5, 1.0, 1.0, 1.0, 1.0])  # how much of every band lies above 150 Hz
SPACE = 0.5  # decorrelated share of what hall and echo add
SEED_ENDS_S = 1.0  # struck energy is spread over at most this long
RISE_POWER = 4.0  # a riser's level grows with the square of time, its power with the fourth power


@lru_cache(maxsize=8192)
def layer_stats(
    events: Events, span: Span, sound_key: str, family: str, lowpass_hz: float, highpass_hz: float
) -> Stats:
    """Stats of one layer in one section at 0 dB, shape (felt bars, WIDTH)."""
    bars, sound = felt_bars(span), BY_KEY[sound_key]
    out = empty(len(bars))
    table = events.table
    if not len(table):
        return out
    start = _seconds(span, table[:, START])
    hold = np.maximum(_seconds(span, table[:, START] + table[:, DURATION]) - start, 0.005)
    energy = (
        note_energy(sound_key, table[:, PITCH].astype(float), hold) * ((table[:, VELOCITY] / 100.0) ** 3.0)[:, None]
    )
    energy *= _filters(events, lowpass_hz, highpass_hz, table[:, START])
    share = _overlap(bars, start, hold, sound)
    power = share @ energy / bars.lengths_s[:, None]
    out[:, :6] = power
    _fill_spectrum(out, power, sound)
    _fill_onsets(out, table, bars, sound, span)
    if family in LEAD_SHARE:
        lead = share @ (energy[:, 1:5].sum(axis=1) * LEAD_SHARE[family]) / bars.lengths_s
        weighted = share @ (energy[:, 1:5].sum(axis=1) * LEAD_SHARE[family] * table[:, PITCH]) / bars.lengths_s
        out[:, INDEX["lead"]], out[:, INDEX["lead_pitch"]] = lead, weighted
    if family == "voices":
        out[:, INDEX["voice"]] = power[:, 1:5].sum(axis=1)
    return out


def _seconds(span: Span, ticks: NDArray[np.int32]) -> NDArray[np.float64]:
    points = span.tempo_points
    if len(points) == 1:
        return ticks.astype(np.float64) * (60.0 / points[0][1] / 960.0)
    return np.array([span.seconds_at(float(t)) for t in ticks])


def _overlap(
    bars: FeltBars, start: NDArray[np.float64], hold: NDArray[np.float64], sound: Sound
) -> NDArray[np.float64]:
    """Share of every note's energy that falls into every felt bar, shape (bars, notes); the tail joins the last bar."""
    length = np.full(len(start), 0.15) if sound.is_drum else hold
    if sound.hold == "struck" and not sound.is_drum:
        length = np.minimum(hold, SEED_ENDS_S)
    edges = bars.seconds.copy()
    edges[0], edges[-1] = -1e9, 1e9
    passed = np.clip((edges[:, None] - start) / length, 0.0, 1.0)
    if sound.rise:
        passed = passed ** (RISE_POWER + 1.0)
    return np.diff(passed, axis=0)


def _fill_spectrum(out: Stats, power: NDArray[np.float64], sound: Sound) -> None:
    wide = power @ ABOVE_150
    out[:, INDEX["above_150"]], out[:, INDEX["side"]] = wide, wide * width_of(sound.key)
    above = power * ABOVE_150
    total, centre = above.sum(axis=1), above @ np.log2(BAND_CENTRES_HZ)
    kind = "struck" if sound.is_drum else "sustained"
    out[:, INDEX[kind]], out[:, INDEX[f"{kind}_centre"]] = total, centre


def _fill_onsets(out: Stats, table: NDArray[np.int32], bars: FeltBars, sound: Sound, span: Span) -> None:
    ticks, first = np.unique(table[:, START], return_index=True)
    where = np.clip(np.searchsorted(bars.ticks, ticks, side="right") - 1, 0, len(bars) - 1)
    strength = np.minimum(table[first, VELOCITY] / KNOWN_HITS, 1.2)
    if sound.is_drum:
        worth = strength * sound.attack
        column = "hits"
        if sound.drum == "kick":
            out[:, INDEX["kicks"]] = np.bincount(where, strength, len(bars)) / bars.lengths_s
    else:
        beat = (bars.ticks[1] - bars.ticks[0]) / max(1, round((bars.ticks[1] - bars.ticks[0]) / _felt_beat(span)))
        off = np.abs(ticks / beat - np.rint(ticks / beat)) > 0.02
        worth, column = strength * np.where(off, OFF_BEAT, 1.0), "onsets"
    out[:, INDEX[column]] = np.bincount(where, worth, len(bars)) / bars.lengths_s


def _felt_beat(span: Span) -> float:
    """Ticks of the beat that is felt: the notated beat halved or doubled into 0.35–0.7 s."""
    ticks = float(span.bar_metres[0].beat_ticks)
    seconds = span.seconds_at(ticks)
    while seconds < 0.35:
        ticks, seconds = ticks * 2, seconds * 2
    while seconds >= 0.7:
        ticks, seconds = ticks / 2, seconds / 2
    return ticks


def _band_points() -> NDArray[np.float64]:
    return np.array([np.geomspace(a, b, 7)[1:-1] for a, b in zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:])])


POINTS_HZ = _band_points()  # five frequencies in every band at which a filter's response is averaged


def filter_power(lowpass_hz: NDArray[np.float64], highpass_hz: float) -> NDArray[np.float64]:
    """Mean power response of the layer's two filters in every band, shape (n, 6): second-order Butterworth each."""
    low = 1.0 / (1.0 + (POINTS_HZ[None] / np.maximum(lowpass_hz, 20.0)[:, None, None]) ** 4)
    if np.all(lowpass_hz >= 19_000.0):
        low = np.ones_like(low)
    high = 1.0 / (1.0 + (highpass_hz / POINTS_HZ) ** 4) if highpass_hz > 20.5 else 1.0
    return (low * high).mean(axis=2)


def _filters(events: Events, lowpass_hz: float, highpass_hz: float, start: NDArray[np.int32]) -> NDArray[np.float64]:
    """Power factor of every note in every band from filters and level curves, taken at its onset."""
    cutoff, level = np.full(len(start), lowpass_hz), np.zeros(len(start))
    for index, (low, high, v) in enumerate(events.spans):
        mine = events.table[:, PLACEMENT] == index
        if mine.any() and v != PLAIN:
            share = np.clip((start[mine] - low) / max(1, high - low), 0.0, 1.0)
            level[mine] = v.level_start_db + (v.level_end_db - v.level_start_db) * share
            if v.lowpass_start_hz is not None and v.lowpass_end_hz is not None:
                bent = v.lowpass_start_hz * (v.lowpass_end_hz / v.lowpass_start_hz) ** share
                cutoff[mine] = np.minimum(bent, lowpass_hz)
    return filter_power(cutoff, highpass_hz) * (10.0 ** (level / 10.0))[:, None]


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
    layers = list(sounding_layers(song, span.section))
    bars = felt_bars(span)
    stats = np.empty((len(layers), len(bars), WIDTH))
    harmony = section_harmony(song, span.section, span.length_ticks)
    for i, layer in enumerate(layers):
        events = layer_events(song, span, layer)
        stats[i] = layer_stats(events, span, layer.sound_key, layer.family, layer.lowpass_hz, layer.highpass_hz)
        space = _space(layer)
        stats[i][:, INDEX["side"]] += SPACE * space * stats[i][:, INDEX["above_150"]]
        stats[i][:, POWER_COLUMNS] *= 10.0 ** ((layer.level_db + song.master_gain_db) / 10.0) * (1.0 + space)
        if layer.family == "chords" and not layer.sound.is_drum:
            stats[i][:, INDEX["onsets"]] += 0.5 * _changes(harmony.ticks, bars) * (stats[i][:, 0:6].sum(axis=1) > 0)
        if span.section.shift_semitones > 0:
            lift = LIFT_PER_SEMITONE * span.section.shift_semitones
            stats[i][:, INDEX["lead_pitch"]] += lift * stats[i][:, INDEX["lead"]]
    _duck(layers, stats, bars, span)
    return layers, stats


def _changes(ticks: tuple[int, ...], bars: FeltBars) -> NDArray[np.float64]:
    """Chord changes a second in every felt bar."""
    return np.histogram(np.array(ticks[1:], float), bars.ticks)[0] / bars.lengths_s


def _duck(layers: list[Layer], stats: Stats, bars: FeltBars, span: Span) -> None:  # type: ignore[type-arg]
    """Ducked layers lose the power that the kick's dips take away on average."""
    kicks = stats[:, :, INDEX["kicks"]].sum(axis=0)
    if not kicks.any():
        return
    beat_s = span.seconds_at(span.bar_metres[0].beat_ticks)
    for i, layer in enumerate(layers):
        if layer.duck_db > 0:
            dipped = np.minimum(1.0, kicks * (0.02 + 0.55 * layer.duck_release_beats * beat_s))
            stats[i][:, POWER_COLUMNS] *= (1.0 - dipped * (1.0 - 10.0 ** (-layer.duck_db / 10.0)))[:, None]
