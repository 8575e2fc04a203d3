"""What every layer brings into every felt bar, from the document alone. Cached by content.

All layers of a section that are not cached yet are computed together: one pass over all their notes.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.devices import Curve
from escalera.core.document.lanes import CONTROLS
from escalera.core.document.recordings import Clip
from escalera.core.document.song import EVERY_BEAT, Layer, Song, Variation
from escalera.core.energy.chain import filter_power
from escalera.core.energy.felt import FeltBars, felt_bars
from escalera.core.energy.recorded_layers import HIT_WORTH, ClipSound, spans_of, stacked_energies
from escalera.core.energy.shape import POWER_COLUMNS, shape_stats
from escalera.core.energy.stats import BAND_CENTRES_HZ, INDEX, WIDTH, Stats, empty
from escalera.core.energy.terms import K_POWER
from escalera.core.joins import played_at
from escalera.core.palette.effects import RETURNS
from escalera.core.palette.profiles import note_energies, sound_index, width_of
from escalera.core.palette.recorded_sounds import is_recorded
from escalera.core.palette.sounds import BY_KEY, Sound
from escalera.core.reading.clip_reading import played_clips
from escalera.core.reading.events import (
    DURATION,
    PITCH,
    PLACEMENT,
    START,
    VELOCITY,
    Events,
    layer_events,
    sounding_layers,
)
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Grid, Span
from escalera.lazy_dataclasses import dataclass

OFF_BEAT = 1.5  # an onset between the beats moves more than one on them
LEAD_SHARE = {"leads": 1.0, "voices": 1.0, "chords": 0.15}
RETURN_POWER = {
    "echo": 0.22,
    "near": 0.3,
    "chamber": 0.3,
    "hall": 0.3,
    "shimmer": 0.25,
}  # what a full send adds, as rendered
LIFT_PER_SEMITONE = 0.6  # a raised key is felt as more than its semitones
KNOWN_HITS = 100.0  # velocity that counts as a whole hit
ABOVE_150 = np.array([0.0, 0.5, 1.0, 1.0, 1.0, 1.0])  # how much of every band lies above 150 Hz
SPACE = 0.5  # decorrelated share of what hall and echo add
DRUM_SPREAD_S, STRUCK_SPREAD_S = 0.15, 1.0  # over how long the energy of a hit and of a struck note is spread at most
EVENT_COLUMNS = np.array([INDEX[name] for name in ("hits", "kicks", "onsets")])
HEARD_DB = (-58.0, -34.0)  # level of a hit or note a second at which it begins to count, and counts in full
RISE_POWER = 4.0  # a riser's level grows with the square of time, its power with the fourth power
CHORD_CHANGE = 0.5  # onsets that a chord change is worth
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class LayerVoice:
    """What of a layer and section decides its stats at 0 dB; the key of the cache."""

    events: Events
    grid: Grid
    sound_key: str
    family: str
    lowpass_hz: float
    highpass_hz: float
    stack: tuple[
        tuple[str, float, ClipSound | None], ...
    ] = ()  # stacked sounds, their power, what they play of a recording
    curves: tuple[tuple[str, Curve], ...] = ()  # on the two filters
    clips: tuple[ClipSound, ...] = ()  # of a recorded layer

    @property
    def width(self) -> float:
        """The decorrelated share of its power, 0..1."""
        return max(c.width for c in self.clips) if self.clips else width_of(self.sound_key)

    @property
    def sound(self) -> Sound:
        return BY_KEY[self.sound_key]


_kept: Results[Stats] = Results(2048)
_kept_bands: Results[Floats] = Results(256)


def voice_stats(voices: list[LayerVoice], grid: Grid) -> list[Stats]:
    """Stats of layers at 0 dB in one section, each of shape (felt bars, WIDTH)."""
    found = {v: _kept.get(v) for v in voices}
    missing = [v for v, stats in found.items() if stats is None]
    if missing:
        for voice, stats in zip(missing, _compute(missing, grid)):
            found[voice] = _kept.put(voice, stats)
    return [found[v] for v in voices]  # type: ignore[misc]


@dataclass(frozen=True, eq=False)
class _Sounding:
    """All notes of some voices: their table, how many each voice has, whose each is, and their energy by band.

    What begins is told apart: `onset_table` and `onset_owner` with the zone of each onset of a recording, −1 for notes. `exact`
    marks spans whose energy lies evenly over them.
    """

    table: NDArray[np.int32]
    counts: list[int]
    owner: NDArray[np.int64]
    start: Floats
    hold: Floats
    energy: Floats
    exact: NDArray[np.bool_]
    onset_table: NDArray[np.int32]
    onset_owner: NDArray[np.int64]
    zones: NDArray[np.int64]

    def of(self, index: int) -> slice:
        first = sum(self.counts[:index])
        return slice(first, first + self.counts[index])


def _sounding(voices: list[LayerVoice], grid: Grid) -> _Sounding:
    recorded = [spans_of(v.events, v.clips, grid, v.sound.is_drum) if v.clips else None for v in voices]
    tables = [r.table if r else v.events.table[:, : PLACEMENT + 1] for v, r in zip(voices, recorded)]
    begun = [r.onset_table if r else t for t, r in zip(tables, recorded)]
    table = np.concatenate(tables)
    counts = [len(t) for t in tables]
    edges = np.concatenate(([0], np.cumsum(counts)))
    owner = np.repeat(np.arange(len(voices)), counts)
    start = grid.seconds_of(table[:, START])
    hold = np.maximum(grid.seconds_of(table[:, START] + table[:, DURATION]) - start, 0.005)
    drum = np.array([v.sound.is_drum for v in voices])
    sounds = np.array([sound_index(v.sound_key) for v in voices])
    hold_heard = np.where(drum[owner], 0.5, hold)
    pitch = table[:, PITCH].astype(float)
    energy = note_energies(sounds[owner], pitch, hold_heard)
    for i, voice in enumerate(voices):
        mine = slice(edges[i], edges[i + 1])
        energy[mine] += _stacked(voice, pitch[mine], hold[mine], hold_heard[mine])
    energy *= ((table[:, VELOCITY] / 100.0) ** 3.0)[:, None]
    for i, spans in enumerate(recorded):
        if spans:
            mine = slice(edges[i], edges[i + 1])
            start[mine], hold[mine], energy[mine] = spans.start, spans.hold, spans.energy
    energy *= _filters(voices, counts, table)
    return _Sounding(
        table,
        counts,
        owner,
        start,
        hold,
        energy,
        np.repeat(np.array([r is not None for r in recorded]), counts),
        np.concatenate(begun),
        np.repeat(np.arange(len(voices)), [len(b) for b in begun]),
        np.concatenate([r.zones if r else np.full(len(t), -1) for t, r in zip(tables, recorded)]),
    )


def _stacked(voice: LayerVoice, pitch: Floats, hold: Floats, hold_heard: Floats) -> Floats:
    """What the sounds stacked on a voice add to its notes at velocity 100, shape (n, 6)."""
    found = np.zeros((len(pitch), 6))
    for key, power, recording in voice.stack:
        if recording is None:
            found += power * note_energies(np.full(len(pitch), sound_index(key)), pitch, hold_heard)
        else:
            found += power * stacked_energies(recording, pitch, hold, voice.sound.is_drum)
    return found


def _compute(voices: list[LayerVoice], grid: Grid) -> Stats:
    """Stats of all voices, shape (voices, felt bars, WIDTH), from one table of all their notes."""
    bars = felt_bars(grid)
    out = empty(len(voices), len(bars))
    if not any(len(v.events.table) for v in voices):
        return out
    notes = _sounding(voices, grid)
    share = _overlap(bars.seconds, notes, voices)
    for i, voice in enumerate(voices):
        mine = notes.of(i)
        _fill_power(out[i], share[:, mine], notes.energy[mine], notes.table[mine, PITCH], voice, bars)
    _fill_onsets(out, notes, voices, bars, grid)
    return out


def band_powers(song: Song, span: Span, layers: list[Layer], edges_s: Floats) -> Floats:
    """Mean square of every layer in the six bands over spans given by their edges in seconds, shape (layers, spans, 6).

    Levels and filters are in, ducking and what a bus adds are not.
    """
    voices = tuple(_voice(song, span, x) for x in layers)
    unit = _kept_bands.get_or_make((voices, span.grid, edges_s.tobytes()), lambda: _bands(voices, span.grid, edges_s))
    gains = 10.0 ** ((np.array([x.level_db for x in layers]) + song.master_gain_db) / 10.0)
    return unit * gains[:, None, None]


def _bands(voices: tuple[LayerVoice, ...], grid: Grid, edges_s: Floats) -> Floats:
    """As `band_powers`, at a level of 0 dB: a changed level needs nothing of it anew."""
    found = np.zeros((len(voices), len(edges_s) - 1, 6))
    if not any(len(v.events.table) for v in voices):
        return found
    notes = _sounding(list(voices), grid)
    share = _overlap(edges_s, notes, list(voices))
    for i in range(len(voices)):
        mine = notes.of(i)
        found[i] = (share[:, mine] @ notes.energy[mine]) / np.diff(edges_s)[:, None]
    return found


def _fill_power(
    out: Stats, share: Floats, energy: Floats, pitch: NDArray[np.int32], voice: LayerVoice, bars: FeltBars
) -> None:
    power = share @ energy / bars.lengths_s[:, None]
    above = power * ABOVE_150
    out[:, :6] = power
    wide = above.sum(axis=1)
    out[:, INDEX["above_150"]], out[:, INDEX["side"]] = wide, wide * voice.width
    kind = "struck" if voice.sound.is_drum else "sustained"
    out[:, INDEX[kind]], out[:, INDEX[f"{kind}_centre"]] = wide, above @ LOG_CENTRES
    if not voice.sound.is_drum:
        out[:, INDEX["low_held"]] = power[:, :2] @ LOW_SHARE
    if voice.family in LEAD_SHARE:
        leading = energy[:, 1:5].sum(axis=1) * LEAD_SHARE[voice.family]
        out[:, INDEX["lead"]] = share @ leading / bars.lengths_s
        out[:, INDEX["lead_pitch"]] = share @ (leading * pitch) / bars.lengths_s
    if voice.family == "voices":
        out[:, INDEX["voice"]] = power[:, 1:5].sum(axis=1)


LOG_CENTRES = np.log2(BAND_CENTRES_HZ)
LOW_SHARE = np.array([1.0, 0.5])  # how much of the two lowest bands carries a song's low end


def _overlap(edges_s: Floats, notes: _Sounding, voices: list[LayerVoice]) -> Floats:
    """Share of every note's energy that falls between every two edges, shape (spans, notes); tails join the last span."""
    owner, start, hold = notes.owner, notes.start, notes.hold
    longest = np.array(
        [DRUM_SPREAD_S if v.sound.is_drum else STRUCK_SPREAD_S if v.sound.hold == "struck" else np.inf for v in voices]
    )
    drum = np.array([v.sound.is_drum for v in voices])[owner]
    length = np.where(drum, DRUM_SPREAD_S, np.minimum(hold, longest[owner]))
    length = np.where(notes.exact, hold, length)
    edges = edges_s.copy()
    edges[0], edges[-1] = -1e9, 1e9
    passed = np.clip((edges[:, None] - start) / length, 0.0, 1.0)
    rising = np.array([v.sound.rise for v in voices])[owner]
    if rising.any():
        passed[:, rising] **= RISE_POWER + 1.0
    return np.diff(passed, axis=0)


def _fill_onsets(out: Stats, notes: _Sounding, voices: list[LayerVoice], bars: FeltBars, grid: Grid) -> None:
    """Hits, kicks and onsets a second; notes that start together in a layer are one."""
    count, table, owner = len(bars), notes.onset_table, notes.onset_owner
    _, first = np.unique(owner * (1 << 40) + table[:, START], return_index=True)
    ticks, mine, zones = table[first, START], owner[first], notes.zones[first]
    where = mine * count + np.clip(np.searchsorted(bars.ticks, ticks, side="right") - 1, 0, count - 1)
    strength = np.minimum(table[first, VELOCITY] / KNOWN_HITS, 1.2)
    bar_ticks = bars.ticks[1] - bars.ticks[0]
    beat = bar_ticks / max(1, round(bar_ticks / _felt_beat(grid)))
    off = np.abs(ticks / beat - np.rint(ticks / beat)) > 0.02

    def rate(worth: Floats) -> Floats:
        return np.bincount(where, worth, len(voices) * count).reshape(len(voices), count) / bars.lengths_s

    attack = np.array([v.sound.attack for v in voices])[mine]
    drum = np.array([v.sound.is_drum for v in voices])[mine]
    kick = np.array([v.sound.is_kick for v in voices])[mine]
    loop = zones >= 0  # of a recording, whose onsets say by their zone what they are
    beats = loop & np.array([v.family == "drums" for v in voices])[mine]
    attack = np.where(loop, np.array(HIT_WORTH)[np.maximum(zones, 0)], attack)
    drum, kick = np.where(loop, beats, drum), np.where(loop, beats & (zones == 0), kick)
    out[:, :, INDEX["hits"]] = rate(strength * attack * (drum | kick))
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


def _filters(voices: list[LayerVoice], counts: list[int], table: NDArray[np.int32]) -> Floats:
    """Power factor of every note in every band from filters and level curves, taken at its onset."""
    cutoff = np.repeat([v.lowpass_hz for v in voices], counts)
    highpass, level, first = np.repeat([v.highpass_hz for v in voices], counts), np.zeros(len(table)), 0
    for voice, count in zip(voices, counts):
        mine = table[first : first + count]
        for slot, curve in voice.curves:
            values = curve.at(mine[:, START].astype(float), CONTROLS[slot])
            (cutoff if slot == "lowpass_hz" else highpass)[first : first + count] = values
        for index, (low, high, v) in enumerate(voice.events.spans):
            if v != PLAIN:
                rows = first + np.flatnonzero(mine[:, PLACEMENT] == index)
                share = np.clip((table[rows, START] - low) / max(1, high - low), 0.0, 1.0)
                level[rows] = v.level_start_db + (v.level_end_db - v.level_start_db) * share
                if v.lowpass_start_hz is not None and v.lowpass_end_hz is not None:
                    bent = v.lowpass_start_hz * (v.lowpass_end_hz / v.lowpass_start_hz) ** share
                    cutoff[rows] = np.minimum(bent, cutoff[rows])
        first += count
    pairs, where = np.unique(np.stack((cutoff, highpass)), axis=1, return_inverse=True)
    return filter_power(pairs[0], pairs[1])[where.ravel()] * (10.0 ** (level / 10.0))[:, None]


PLAIN = Variation()


def _space(layer: Layer) -> float:
    """Power that the layer's sends add, as a share of its own."""
    sends = 0.0
    for row in RETURNS:
        level = layer.send_db(row.key)
        if level > -59.5:
            sends += RETURN_POWER[row.key] * 10.0 ** (level / 10.0)
    return sends


def prepare_stats(states: Iterable[tuple[Song, Span]]) -> None:
    """Compute in one go what `section_stats` of several states will need; many small tables cost more than a large one."""
    missing: dict[Grid, dict[LayerVoice, None]] = {}
    for song, span in (played_at(*state) for state in states):
        for layer in sounding_layers(song, span.section):
            voice = _voice(song, span, layer)
            if _kept.get(voice) is None:
                missing.setdefault(span.grid, {})[voice] = None
    for grid, voices in missing.items():
        voice_stats(list(voices), grid)


def section_stats(song: Song, span: Span) -> tuple[list[Layer], Stats]:
    """Sounding layers of a section and their stats, shape (layers, felt bars, WIDTH), levels and ducking applied."""
    song, span = played_at(song, span)
    layers, bars = list(sounding_layers(song, span.section)), felt_bars(span.grid)
    if not layers:
        return [], np.zeros((0, len(bars), WIDTH))
    voices = [_voice(song, span, x) for x in layers]
    stats = np.stack(voice_stats(voices, span.grid))
    space = np.array([_space(x) for x in layers])[:, None]
    stats[:, :, INDEX["side"]] += SPACE * space * stats[:, :, INDEX["above_150"]]
    gain = np.array([10.0 ** ((x.level_db + song.master_gain_db) / 10.0) for x in layers])[:, None, None]
    stats[:, :, POWER_COLUMNS] *= gain * (1.0 + space)[:, :, None]
    if song.buses or song.master or span.section.curves or any(x.devices for x in layers):
        shape_stats(song, span, layers, stats, bars)
    _add_harmony(song, span, layers, stats, bars)
    stats[:, :, EVENT_COLUMNS] *= audible(stats)[:, :, None]
    _duck(layers, stats, span)
    return layers, stats


def audible(stats: Stats) -> Floats:
    """How far the hits and onsets of a layer are heard, 0..1, from the level they come with; shape of the leading axes."""
    rate = np.maximum(stats[..., INDEX["hits"]] + stats[..., INDEX["onsets"]], 0.5)
    level = 10.0 * np.log10(np.maximum(stats[..., :6] @ K_POWER / rate, 1e-14))
    heard: Floats = np.clip((level - HEARD_DB[0]) / (HEARD_DB[1] - HEARD_DB[0]), 0.0, 1.0)
    return heard


def known_events(song: Song, span: Span, measured: Stats) -> Stats:
    """Measured stats (felt bars, WIDTH) with what the notes say better than sound does: hits, onsets, the pitch of the leading line.

    Their levels stay as measured: the leading line has its share of what is heard.
    """
    layers, stats = section_stats(song, span)
    known = stats.sum(axis=0) if layers else np.zeros_like(measured)
    out = measured.copy()
    out[:, EVENT_COLUMNS] = known[:, EVENT_COLUMNS]
    heard = measured[:, :6].sum(axis=1) / np.maximum(known[:, :6].sum(axis=1), 1e-14)
    for name in ("lead", "lead_pitch"):
        out[:, INDEX[name]] = known[:, INDEX[name]] * heard
    low = (measured[:, :2] @ LOW_SHARE) / np.maximum(known[:, :2] @ LOW_SHARE, 1e-14)
    out[:, INDEX["low_held"]] = known[:, INDEX["low_held"]] * low
    return out


def _voice(song: Song, span: Span, layer: Layer) -> LayerVoice:
    stack = tuple(
        (p.sound_key, 10.0 ** (p.level_db / 10.0), clip_sound(song, p.clip) if p.clip else None) for p in layer.stack
    )
    curves = tuple(
        (slot, curve)
        for curve in span.section.curves
        for slot in ("lowpass_hz", "highpass_hz")
        if curve.lane == f"layer.{layer.id}.{slot}"
    )
    return LayerVoice(
        layer_events(song, span, layer),
        span.grid,
        layer.sound_key,
        layer.family,
        layer.lowpass_hz,
        layer.highpass_hz,
        stack,
        curves,
        clip_sounds(song, layer),
    )


def clip_sounds(song: Song, layer: Layer) -> tuple[ClipSound, ...]:
    """The clips of a recorded layer with what was read from their samples; a sample that is not known brings nothing."""
    return tuple(clip_sound(song, clip) for clip in played_clips(layer)) if is_recorded(layer.sound_key) else ()


def clip_sound(song: Song, clip: Clip) -> ClipSound:
    """A clip with what was read from its sample; nothing sounds where that is not known."""
    sample = song.sample_by_content.get(clip.sample)
    known = (sample.slot_s, sample.slots, sample.onsets, sample.width) if sample else (1.0, "", "", 0.0)
    return ClipSound(clip, *known)


def _add_harmony(song: Song, span: Span, layers: list[Layer], stats: Stats, bars: FeltBars) -> None:
    """Chord changes move, through the layers that play chords; a raised key lifts the leading line."""
    harmony = section_harmony(song, span)
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
    beat_s = span.seconds_at(span.bar_metres[0].beat_ticks)
    for i, layer in enumerate(layers):
        if layer.duck_db > 0:
            hits = kicks
            if layer.duck_by:
                source = next((j for j, x in enumerate(layers) if x.id == layer.duck_by), None)
                rate = 1.0 / beat_s if layer.duck_by == EVERY_BEAT else 0.0
                hits = (
                    stats[source][:, [INDEX["hits"], INDEX["onsets"]]].sum(axis=1)
                    if source is not None
                    else np.full(len(kicks), rate)
                )
            dipped = np.minimum(1.0, hits * (0.02 + 0.55 * layer.duck_release_beats * beat_s))
            stats[i][:, POWER_COLUMNS] *= (1.0 - dipped * (1.0 - 10.0 ** (-layer.duck_db / 10.0)))[:, None]
