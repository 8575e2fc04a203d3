"""The low end as it sounds: who owns it sixteenth by sixteenth, and what kick and bass are together."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.balance.section_heard import LowMeeting
from escalera.core.balance.thirds import Floats
from escalera.core.bench.low_end import BELOW_LOUDEST_DB, QUIETEST_DB, STEP_TICKS
from escalera.core.document.song import Layer, Song
from escalera.core.energy.terms import decibels
from escalera.core.reading.timeline import Span

Low = dict[int, NDArray[np.float32]]
ABOUT_AS_LOUD_DB = 15.0  # further apart, kick and bass cannot change each other's level by much


def low_meeting(song: Song, span: Span, low: Low, rate_hz: float) -> LowMeeting:
    """From what every layer brings below 130 Hz, (2, n) at `rate_hz` from the section's start. Steps are sixteenths."""
    ticks = np.arange(0, span.length_ticks, STEP_TICKS)
    if not low:
        return LowMeeting((), (), ())
    ids = list(low)
    edges = np.rint(span.grid.seconds_of(np.append(ticks, span.length_ticks)) * rate_hz).astype(int)
    powers = np.stack([_by_step(low[i], edges) for i in ids])
    levels = decibels(powers)
    least = max(QUIETEST_DB, float(levels.max()) - BELOW_LOUDEST_DB)
    first = levels.argmax(axis=0)
    owners = tuple(ids[k] if levels[k, n] >= least else 0 for n, k in enumerate(first))
    kick, bass = _loudest(song, ids, powers, True), _loudest(song, ids, powers, False)
    together = meeting_db(low[kick], low[bass], edges) if kick and bass else None
    return LowMeeting(
        tuple(ticks.tolist()),
        owners,
        tuple(np.round(levels.max(axis=0), 2).tolist()),
        together,
        kick,
        bass,
        _varies(ids, levels, bass, least),
    )


def _by_step(audio: NDArray[np.float32], edges: NDArray[np.int64]) -> Floats:
    squares = np.concatenate(([0.0], np.cumsum((audio.astype(np.float64) ** 2).mean(axis=0))))
    at = np.minimum(edges, len(squares) - 1)
    return np.diff(squares[at]) / np.maximum(np.diff(at), 1)


def _loudest(song: Song, ids: list[int], powers: Floats, kick: bool) -> int:
    """The layer that brings most of its kind: kicks, or what else lives in the low end; 0 where there is none."""
    mine = [
        k
        for k, i in enumerate(ids)
        if _is_kick(song.layer_by_id[i]) == kick and (kick or _is_bass(song.layer_by_id[i]))
    ]
    return ids[max(mine, key=lambda k: powers[k].sum())] if mine else 0


def _is_kick(layer: Layer) -> bool:
    return layer.sound.is_kick and layer.sound.is_drum


def _is_bass(layer: Layer) -> bool:
    return layer.family == "low end" and not layer.sound.is_drum


def meeting_db(one: NDArray[np.float32], other: NDArray[np.float32], edges: NDArray[np.int64]) -> float | None:
    """Level of two sounds, (2, n), together over the sum of their powers, dB, where both are there: +3 where they move alike, far below 0 where they
    cancel; None where they never meet."""
    a, b, both = (_by_step(x, edges) for x in (one, other, one + other))
    loud = 10.0 ** (QUIETEST_DB / 10.0)
    near = (np.abs(decibels(a) - decibels(b)) < ABOUT_AS_LOUD_DB) & (np.minimum(a, b) > loud)
    if not near.any():
        return None
    return round(float(decibels(both[near].sum()) - decibels((a + b)[near].sum())), 2)


def _varies(ids: list[int], levels: Floats, bass: int, least: float) -> float | None:
    """How far the bass's level in the lowest octaves goes up and down, dB, where it sounds: the middle two thirds."""
    row = levels[ids.index(bass)] if bass else np.zeros(0)
    sounding = row[row > least]
    if len(sounding) < 8:
        return None
    low, high = np.percentile(sounding, [16.0, 84.0])
    return round(float(high - low), 1)
