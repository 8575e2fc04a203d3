"""Tension: what pulls toward the next join. A line of its own, 0..1, never summed with energy."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import Song
from escalera.core.joins import played_at
from escalera.core.reading.events import DURATION, PITCH, START, heard_in, layer_events, sounding_layers
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.pattern import Pattern

# what a thing that pulls is worth when it pulls fully
WORTH = {"riser": 0.5, "roll": 0.4, "shorter loops": 0.25, "gap ahead": 0.35, "held note": 0.3, "opening": 0.3, "lows out": 0.25, "rising": 0.25}  # fmt: skip
STRUCK_TICKS = 60  # how long a struck sound counts as there
OCTAVES_OPEN = 4.0  # of a low-pass that count as fully opened
RISES_FULLY = 7.0  # semitones


Tension = tuple[NDArray[np.float64], dict[str, NDArray[np.float64]]]
_kept: Results[Tension] = Results(512)


def section_tension(song: Song, span: Span) -> Tension:
    """`compute_tension`, remembered while the section plays the same; levels and filters do not enter it."""
    song, span = played_at(song, span)
    key = (heard_in(song, span), span.section.curves)
    return _kept.get_or_make(key, lambda: compute_tension(song, span, np.array(span.bar_ticks)))


def tension_line(song: Song, span: Span) -> Tension:
    """As `section_tension` for every beat of a section, shape (beats,)."""
    song, span = played_at(song, span)
    return _kept.get_or_make(
        ("beats", heard_in(song, span), span.section.curves), lambda: compute_tension(song, span, beat_edges(span))
    )


def beat_edges(span: Span) -> NDArray[np.int64]:
    """Ticks of a section at which its beats begin, and its end; shape (beats + 1,)."""
    starts = [
        t
        for bar, metre in zip(span.bar_ticks, span.bar_metres)
        for t in range(bar, bar + metre.bar_ticks, metre.beat_ticks)
    ]
    return np.array([*starts, span.length_ticks])


def compute_tension(song: Song, span: Span, bars: NDArray[np.int64]) -> Tension:
    """Tension between edges (bars or beats, ticks of the section, one more than stretches), and what each device brings before they
    combine, each of shape (stretches,).

    Devices combine as independent shares: 1 - Π(1 - worth * amount).
    """
    amounts = {name: np.zeros(len(bars) - 1) for name in WORTH}
    lows: list[NDArray[np.bool_]] = []
    hits: list[NDArray[np.int32]] = []
    for layer in sounding_layers(song, span.section):
        table = layer_events(song, span, layer).table
        if not len(table):
            continue
        if layer.family == "low end" or layer.sound.is_kick:
            lows.append(_sounding(table, bars))
        if layer.sound.rise:
            amounts["riser"] = np.maximum(amounts["riser"], _rising(table, bars))
        elif layer.sound.is_drum:
            hits.append(table[:, START])
        elif layer.family != "low end":
            amounts["held note"] = np.maximum(amounts["held note"], _unresolved(song, span, table, bars))
    amounts["roll"] = _roll(hits, bars)
    amounts["shorter loops"] = _shorter(song, span, bars)
    amounts["gap ahead"] = _gap(song, span, bars)
    amounts["opening"] = _opening(span, bars)
    amounts["lows out"] = _without_lows(lows, bars)
    amounts["rising"] = _transposed(song, span, bars)
    amounts = {name: np.clip(amount, 0.0, 1.0) for name, amount in amounts.items()}
    rest = int(np.argmax(amounts["gap ahead"] >= 1.0)) if len(bars) - 1 > span.section.bars else 0
    if rest and amounts["gap ahead"][rest] >= 1.0:  # a silence holds what led to it
        for name in WORTH:
            if name != "gap ahead":
                amounts[name][rest:] = amounts[name][rest - 1]
    calm = np.prod([1.0 - WORTH[name] * amounts[name] for name in WORTH], axis=0)
    return 1.0 - calm, amounts


def _rising(table: NDArray[np.int32], bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far a riser has come at the end of every bar."""
    out = np.zeros(len(bars) - 1)
    for start, duration in table[:, [START, DURATION]]:
        share = np.clip((bars[1:] - start) / max(1, duration), 0.0, 1.0)
        out = np.maximum(out, share * (bars[:-1] < start + duration) * (bars[1:] > start))
    return out


def _roll(hits: list[NDArray[np.int32]], bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """Drum hits above twice the section's usual number a bar, growing toward the end."""
    if not hits:
        return np.zeros(len(bars) - 1)
    count = np.histogram(np.concatenate(hits), bars)[0].astype(float)
    usual = max(4.0 * (bars[1] - bars[0]) / 3840.0, float(np.median(count)))
    return np.clip((count / usual - 1.4) / 1.2, 0.0, 1.0)


def _unresolved(song: Song, span: Span, table: NDArray[np.int32], bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """Bars in which a note held for a bar or longer is foreign to the chord."""
    out, harmony = np.zeros(len(bars) - 1), section_harmony(song, span)
    bar = span.bar_ticks[1] - span.bar_ticks[0]
    for start, duration, pitch in table[table[:, DURATION] >= bar][:, [START, DURATION, PITCH]]:
        first, last = np.searchsorted(bars, [max(0, int(start)), max(0, int(start + duration) - 1)], side="right") - 1
        for i in range(int(first), min(int(last), len(out) - 1) + 1):
            middle = int(bars[i] + bars[i + 1]) // 2
            if start <= middle < start + duration:
                out[i] = max(out[i], float(pitch % 12 not in harmony.chords[harmony.index_at(middle)].classes))
    return out


def _shorter(song: Song, span: Span, bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """Layers whose pattern becomes shorter from one placement to the next."""
    out = np.zeros(len(bars) - 1)
    by_layer: dict[int, list[tuple[int, int, Pattern]]] = {}
    for p in span.section.placements:
        by_layer.setdefault(p.layer_id, []).append(
            (p.start_ticks, p.end_ticks, song.pattern_by_id[p.pattern_id].pattern)
        )
    for rows in by_layer.values():
        for before, after in zip(rows, rows[1:]):
            if after[2].length_ticks < before[2].length_ticks and before[1] == after[0]:
                out[(bars[:-1] >= after[0]) & (bars[:-1] < after[1])] += 0.5
    return out


def _gap(song: Song, span: Span, bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """1 from the bar's beginning to the section's end when nothing sounds in its last beat, though something does in the beats before.

    Edges of beats: the beats of silence themselves, and half as much in the other beats of that bar.
    """
    out = np.zeros(len(bars) - 1)
    tables = [(x.sound.is_drum, layer_events(song, span, x).table) for x in sounding_layers(song, span.section)]
    starts = np.concatenate([t[:, START] for _, t in tables]) if tables else np.zeros(0)
    lasting = [np.minimum(t[:, DURATION], STRUCK_TICKS) if drum else t[:, DURATION] for drum, t in tables]
    ends = np.concatenate([t[:, START] + d for (_, t), d in zip(tables, lasting)]) if tables else np.zeros(0)
    edge = span.length_ticks - span.bar_metres[-1].beat_ticks
    last = float(ends.max(initial=0.0))  # when the last sound ends
    bar = span.bar_ticks[-1] - span.bar_ticks[-2]
    busy = ((starts >= last - bar) & (starts < last)).sum()
    if busy >= 3 and last <= edge + STRUCK_TICKS and last > 0:
        if len(out) == span.section.bars:
            out[-1] = 1.0
        else:
            out[bars[:-1] >= span.bar_ticks[span.bar_of(int(last) - 1)]] = 0.5
            out[bars[:-1] >= last - STRUCK_TICKS] = 1.0
    return out


def _opening(span: Span, bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far low-passes have opened since they were most closed, by octaves, while they go on opening toward the end."""
    out = np.zeros(len(bars) - 1)
    middles = (bars[:-1] + bars[1:]) / 2.0
    for p in span.section.placements:
        low, high = p.variation.lowpass_start_hz, p.variation.lowpass_end_hz
        if low is not None and high is not None and high > low and p.end_ticks == span.length_ticks:
            share = np.clip((middles - p.start_ticks) / (p.end_ticks - p.start_ticks), 0.0, 1.0)
            out = np.maximum(out, share * np.log2(high / low) / OCTAVES_OPEN)
    for curve in span.section.curves:
        if curve.lane.endswith(".lowpass_hz") and len(curve.points) > 1:
            hz = np.log2([max(20.0, v) for _, v, _ in curve.points])
            lowest = int(np.argmin(hz))
            if hz[-1] <= hz[lowest]:
                continue
            ticks = [t for t, _, _ in curve.points]
            now = np.interp(middles, ticks[lowest:], hz[lowest:])
            out = np.maximum(out, np.where(middles >= ticks[lowest], (now - hz[lowest]) / OCTAVES_OPEN, 0.0))
    return np.clip(out, 0.0, 1.0)


def _sounding(table: NDArray[np.int32], bars: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Whether something of a layer sounds or starts between every two edges."""
    starts, ends = table[:, START, None], (table[:, START] + table[:, DURATION])[:, None]
    sounds = (starts < bars[1:]) & (ends > bars[:-1])
    return np.asarray(sounds.any(axis=0), bool)


def _without_lows(lows: list[NDArray[np.bool_]], bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """1 where low end and kick are silent up to the section's end, after they had played in it."""
    out = np.zeros(len(bars) - 1)
    there = np.any(lows, axis=0) if lows else np.zeros(len(out), bool)
    if there.any() and not there[-1]:
        out[int(np.flatnonzero(there)[-1]) + 1 :] = 1.0
    return out


def _transposed(song: Song, span: Span, bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far placements of one layer have been raised since its first one, up to the section's end."""
    out = np.zeros(len(bars) - 1)
    first: dict[int, int] = {}
    for p in sorted(span.section.placements, key=lambda p: p.start_ticks):
        base = first.setdefault(p.layer_id, p.variation.transpose_semitones)
        raised = (p.variation.transpose_semitones - base) / RISES_FULLY
        if raised > 0:
            out[(bars[:-1] >= p.start_ticks) & (bars[:-1] < p.end_ticks)] = max(raised, 0.0)
    return np.clip(out, 0.0, 1.0)
