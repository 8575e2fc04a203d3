"""Tension: what pulls toward the next join. A line of its own, 0..1, never summed with energy."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import Song
from escalera.core.reading.events import DURATION, PITCH, START, heard_in, layer_events, sounding_layers
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.pattern import Pattern

DEVICES = ("riser", "roll", "shorter loops", "gap ahead", "held note")
WORTH = {"riser": 0.5, "roll": 0.4, "shorter loops": 0.25, "gap ahead": 0.35, "held note": 0.3}


Tension = tuple[NDArray[np.float64], dict[str, NDArray[np.float64]]]
_kept: Results[Tension] = Results(2048)


def section_tension(song: Song, span: Span) -> Tension:
    """`compute_tension`, remembered while the section plays the same; levels and filters do not enter it."""
    return _kept.get_or_make(heard_in(song, span), lambda: compute_tension(song, span))


def compute_tension(song: Song, span: Span) -> Tension:
    """Tension of every bar of a section, shape (bars,), and what each device brings, before they combine.

    Devices combine as independent shares: 1 - Π(1 - worth * amount).
    """
    bars = np.array(span.bar_ticks)
    amounts = {name: np.zeros(len(bars) - 1) for name in DEVICES}
    hits: list[NDArray[np.int32]] = []
    for layer in sounding_layers(song, span.section):
        table = layer_events(song, span, layer).table
        if not len(table):
            continue
        if layer.sound.rise:
            amounts["riser"] = np.maximum(amounts["riser"], _rising(table, bars))
        elif layer.sound.is_drum:
            hits.append(table[:, START])
        elif layer.family != "low end":
            amounts["held note"] = np.maximum(amounts["held note"], _unresolved(song, span, table, bars))
    amounts["roll"] = _roll(hits, bars)
    amounts["shorter loops"] = _shorter(song, span, bars)
    amounts["gap ahead"] = _gap(song, span, bars)
    calm = np.prod([1.0 - WORTH[name] * np.clip(amounts[name], 0, 1) for name in DEVICES], axis=0)
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
    usual = max(4.0, float(np.median(count)))
    return np.clip((count / usual - 1.4) / 1.2, 0.0, 1.0)


def _unresolved(song: Song, span: Span, table: NDArray[np.int32], bars: NDArray[np.int64]) -> NDArray[np.float64]:
    """Bars in which a note held for a bar or longer is foreign to the chord."""
    out, harmony = np.zeros(len(bars) - 1), section_harmony(song, span)
    bar = bars[1] - bars[0]
    for start, duration, pitch in table[table[:, DURATION] >= bar][:, [START, DURATION, PITCH]]:
        for i in range(span.bar_of(max(0, int(start))), span.bar_of(int(start + duration) - 1) + 1):
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
    """1 in the last bar when nothing starts in its last beat, though something does in the beats before."""
    out = np.zeros(len(bars) - 1)
    tables = [layer_events(song, span, x).table for x in sounding_layers(song, span.section)]
    starts = np.concatenate([t[:, START] for t in tables]) if tables else np.zeros(0)
    ends = np.concatenate([t[:, START] + t[:, DURATION] for t in tables]) if tables else np.zeros(0)
    edge = bars[-1] - span.bar_metres[-1].beat_ticks
    busy = ((starts >= bars[-2]) & (starts < edge)).sum()
    sounding = ((starts >= edge) | (ends > edge + 60)).sum() if busy else 1
    out[-1] = float(busy >= 3 and sounding == 0)
    return out
