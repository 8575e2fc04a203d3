"""A recorded beat beside the song's own drums: how early or late its strokes lie, which kicks flam or meet, whether the swing agrees."""

from __future__ import annotations

from collections import defaultdict

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer, Song
from escalera.core.energy.features import clip_sounds
from escalera.core.energy.recorded_layers import spans_of
from escalera.core.reading.clip_reading import clip_patterns, onset_ticks
from escalera.core.reading.events import START, layer_events, sounding_layers
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.pattern import CLIP
from escalera.lazy_dataclasses import dataclass

NEAR_S = 0.06  # strokes further apart are not the same stroke
FLAM_S = (0.008, 0.045)  # two kicks so far apart are heard as two
TOGETHER_S = 0.003  # so near they add, or cancel
OFF_S = 0.006  # a median beyond that is worth a nudge
SWING_APART = 0.06
EIGHTH_TICKS, SIXTEENTH_TICKS = 480, 240
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class LoopTiming:
    """What was compared in one section. `late_ms` is the median by which the loop's strokes come after the drums' (below zero: before)."""

    strokes: int
    late_ms: float
    spread_ms: float
    flams: int
    kicks_together: int
    own_swing: float | None
    drums_swing: float | None

    @property
    def said(self) -> tuple[str, ...]:
        """Plain sentences, what matters first; empty where all agrees."""
        found = []
        if self.strokes and abs(self.late_ms) >= 1000 * OFF_S:
            found.append(
                f"Its strokes come {abs(self.late_ms):.0f} ms {'after' if self.late_ms > 0 else 'before'} the drums’."
            )
        if self.flams:
            found.append(f"{self.flams} kick{'s' if self.flams != 1 else ''} flam with the song’s own.")
        if self.kicks_together:
            found.append(
                f"{self.kicks_together} kick{'s' if self.kicks_together != 1 else ''} fall on the song’s own and may cancel or double."
            )
        if (
            self.own_swing is not None
            and self.drums_swing is not None
            and abs(self.own_swing - self.drums_swing) > SWING_APART
        ):
            found.append(f"It swings at {self.own_swing:.2f}, the drums at {self.drums_swing:.2f}.")
        return tuple(found)


def loop_timing(song: Song, span: Span, layer: Layer) -> LoopTiming | None:
    """How a recorded beat lies on the drums that play with it; None where nothing plays with it."""
    spans = spans_of(layer_events(song, span, layer), clip_sounds(song, layer), span.grid, layer.sound.is_drum)
    own, zones = spans.onset_table[:, START].astype(np.int64), spans.zones
    drums = [x for x in sounding_layers(song, span.section) if x.sound.is_drum and x.id != layer.id and not x.clips]
    if not len(own) or not drums:
        return None
    late = layer.delay_ms / 1000.0
    seconds, lows = span.grid.seconds_of(own) + late, span.grid.seconds_of(own[zones == 0]) + late
    kicks = _heard(song, span, [x for x in drums if x.sound.is_kick])
    apart = _nearest(seconds, _heard(song, span, drums))
    near = apart[np.abs(apart) < NEAR_S]
    kick_apart = np.abs(_nearest(lows, kicks)) if len(kicks) else np.zeros(0)
    return LoopTiming(
        len(near),
        round(1000.0 * float(np.median(near)), 1) if len(near) else 0.0,
        round(1000.0 * float(np.std(near)), 1) if len(near) else 0.0,
        int(((kick_apart >= FLAM_S[0]) & (kick_apart <= FLAM_S[1])).sum()),
        int((kick_apart <= TOGETHER_S).sum()),
        swing_of_ticks(own),
        swing_of_ticks(_ticks(song, span, drums)),
    )


def _ticks(song: Song, span: Span, layers: list[Layer]) -> NDArray[np.int64]:
    return np.unique(np.concatenate([layer_events(song, span, x).table[:, START] for x in layers])).astype(np.int64)


def _heard(song: Song, span: Span, layers: list[Layer]) -> Floats:
    """Seconds at which layers begin something, each with its own delay, in order."""
    found = [span.grid.seconds_of(layer_events(song, span, x).table[:, START]) + x.delay_ms / 1000.0 for x in layers]
    return np.unique(np.concatenate(found)) if found else np.zeros(0)


def _nearest(own: Floats, others: Floats) -> Floats:
    """Seconds from the nearest of the others to every one, above zero where it comes after it. Shapes (n,), (m,) -> (n,)."""
    if not len(others):
        return np.full(len(own), np.inf)
    at = np.clip(np.searchsorted(others, own), 1, max(1, len(others) - 1))
    before = others[at - 1]
    after = others[np.minimum(at, len(others) - 1)]
    found: Floats = np.where(np.abs(own - before) <= np.abs(own - after), own - before, own - after)
    return found


def swing_of_ticks(ticks: NDArray[np.int64]) -> float | None:
    """Where the strokes between the beats lie, 0.5 straight to 0.75; None where there are too few. `ticks` has shape (n,)."""
    share = (ticks % (2 * EIGHTH_TICKS)) / (2 * EIGHTH_TICKS)
    between = share[(share > 0.42) & (share < 0.78)]
    return round(float(np.median(between)), 3) if len(between) >= 4 else None


def timing_of(song: Song, layer: Layer) -> dict[int, int]:
    """How a recorded layer's strokes lie beside the sixteenths of a bar: ticks late (above zero) or early, by the sixteenth's tick.

    The median over all bars of its patterns; sixteenths without a stroke are not among them.
    """
    bar, found = song.metre.bar_ticks, defaultdict(list)
    for pattern_id in clip_patterns(song, layer):
        for start, length, kind, number, *_ in song.pattern_by_id[pattern_id].pattern.to_list():
            if kind == CLIP and number < len(layer.clips):
                for tick, _ in onset_ticks(song, layer.clips[number]):
                    slot = round((start + tick) / SIXTEENTH_TICKS) * SIXTEENTH_TICKS
                    if tick < length:
                        found[slot % bar].append(start + tick - slot)
    return {slot: round(float(np.median(ticks))) for slot, ticks in found.items()}
