"""The low end of a section: who owns 30–90 Hz in every sixteenth after ducking, and how kick and bass meet."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import EVERY_BEAT, Layer, Song
from escalera.core.energy.features import band_powers
from escalera.core.palette.parameters import setting
from escalera.core.reading.events import PITCH, START, layer_events, sounding_layers
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.measures import Meeting, kick_and_bass, met
from escalera.core.time.ruler import RATE_HZ
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
LOWEST_HEARD = 42  # F♯2, 92 Hz
STEP_TICKS = TICKS_PER_QUARTER // 4
SUB_BAND = 0  # 30–90 Hz among the bands of core.energy.stats
QUIETEST_DB = -48.0  # mean square below which nothing is said to own the band
BELOW_LOUDEST_DB = 26.0  # what lies further below the section's loudest step owns nothing
CLEAR_DB = 4.0  # by how much the owner leads
USUAL_BODY_S = 0.2  # of a drum that has no length of its own
HOLD_S = 996 / RATE_HZ  # for how long the renderer holds a dip


class LowStep(NamedTuple):
    """One sixteenth: its tick in the section, the owner (layer id, 0 for nobody), its level and the next one's in dB."""

    tick: int
    owner: int
    level_db: float
    second: int = 0
    behind_db: float = 99.0

    @property
    def shared(self) -> bool:
        return bool(self.owner and self.second and self.behind_db < CLEAR_DB)


@dataclass(frozen=True, slots=True)
class LowEnd:
    """Steps of a stretch; kick onsets that a bass joins as lock or mask, by tick; and what to call it."""

    steps: tuple[LowStep, ...]
    locked: tuple[int, ...]
    masked: tuple[int, ...]
    meeting: Meeting

    def owned(self) -> dict[int, float]:
        """Share of the steps that every owner has; 0 is nobody."""
        found: dict[int, float] = {}
        for step in self.steps:
            found[step.owner] = found.get(step.owner, 0.0) + 1.0 / len(self.steps)
        return dict(sorted(found.items(), key=lambda row: -row[1]))

    @property
    def shared(self) -> int:
        return sum(s.shared for s in self.steps)

    @property
    def said(self) -> str:
        """How kick and bass meet, in words."""
        met, kicks = len(self.locked) + len(self.masked), self.meeting.kicks
        if not kicks or not self.meeting.notes or not met:
            return self.meeting.said
        if self.masked:
            return f"masking: {len(self.masked)} of {met} meetings leave neither ahead; duck the bass, or let one wait"
        if met >= 0.6 * kicks:
            return f"lock: together on {met} of {kicks} kicks, and one of the two stays clearly ahead"
        return f"now together ({met} of {kicks}), now apart; where they meet one stays ahead"


def low_end(song: Song, span: Span, low: int = 0, high: int | None = None) -> LowEnd:
    """The low end over [low, high) ticks of a section (all of it by default)."""
    key = ("low end", span.section.id, low, high)
    if key not in song.memo:
        song.memo[key] = _low_end(song, span, low, span.length_ticks if high is None else high)
    return song.memo[key]


def _low_end(song: Song, span: Span, low: int, high: int) -> LowEnd:
    layers = [x for x in sounding_layers(song, span.section) if _reaches_down(song, span, x)]
    ticks = np.arange(low, high, STEP_TICKS)
    edges = span.grid.seconds_of(np.append(ticks, high))
    powers = band_powers(song, span, layers, edges)[:, :, SUB_BAND] if layers else np.zeros((0, len(ticks)))
    for i, layer in enumerate(layers):
        if layer.sound.is_drum:
            powers[i] = _ringing(powers[i], edges, layer)
        if layer.duck_db > 0:
            powers[i] *= _dips(song, span, layer, edges)
    steps = _owners(ticks, powers, [x.id for x in layers])
    kicks, basses = (
        [x for x in layers if x.sound.is_kick],
        [x for x in layers if x.family == "low end" and not x.sound.is_kick],
    )
    hit, played = _onsets(song, span, kicks, low, high), _onsets(song, span, basses, low, high)
    together = met(hit, played)
    rows = {x.id: powers[i] for i, x in enumerate(layers)}
    masked = tuple(k for k in together if _masks(rows, kicks, basses, min(len(ticks) - 1, (k - low) // STEP_TICKS)))
    locked = tuple(k for k in together if k not in masked)
    return LowEnd(steps, locked, masked, kick_and_bass(hit, played, max((x.duck_db for x in basses), default=0.0)))


def _ringing(power: Floats, edges_s: Floats, layer: Layer) -> Floats:
    """A drum's power with every hit dying away over its length instead of within the step that it falls into."""
    parameter = layer.sound.parameter_by_key.get("body_s")
    body = setting(layer.settings, parameter) if parameter else USUAL_BODY_S
    lengths = np.diff(edges_s)
    kept = np.exp(-2.0 * lengths / body)  # of the energy, from one step to the next
    out, ringing = np.zeros_like(power), 0.0
    for i, (energy, share) in enumerate(zip(power * lengths, kept)):
        ringing += energy
        out[i] = ringing * (1.0 - share) / lengths[i]
        ringing *= share
    return out


def _reaches_down(song: Song, span: Span, layer: Layer) -> bool:
    """Whether a layer can sound below 90 Hz at all: kicks and toms, effects, and what plays a note that low."""
    if layer.sound.is_drum:
        return layer.sound.is_kick or "tom" in layer.sound.drum
    table = layer_events(song, span, layer).table
    return bool(len(table)) and (layer.family == "effects" or int(table[:, PITCH].min()) <= LOWEST_HEARD)


def _masks(rows: dict[int, Floats], kicks: Sequence[Layer], basses: Sequence[Layer], step: int) -> bool:
    """Whether kick and bass are both strong in a step, so that neither is heard for itself."""
    kick, bass = (sum(float(rows[x.id][step]) for x in group) for group in (kicks, basses))
    if min(kick, bass) <= 10.0 ** (QUIETEST_DB / 10.0):
        return False
    return abs(10.0 * math.log10(kick / bass)) < CLEAR_DB


def _owners(ticks: NDArray[np.int64], powers: Floats, ids: list[int]) -> tuple[LowStep, ...]:
    if not len(powers):
        return tuple(LowStep(int(t), 0, -99.0) for t in ticks)
    levels = 10.0 * np.log10(np.maximum(powers, 1e-10))
    least = max(QUIETEST_DB, float(levels.max()) - BELOW_LOUDEST_DB)
    order = np.argsort(-levels, axis=0, kind="stable")
    first, second = order[0].tolist(), order[min(1, len(ids) - 1)].tolist()
    ranked = np.take_along_axis(levels, order[:2], axis=0)
    strongest, next_to_it = ranked[0].tolist(), ranked[min(1, len(ids) - 1)].tolist()
    return tuple(
        _step(tick, ids[a], ids[b] if a != b else 0, level, below) if level >= least else LowStep(tick, 0, level)
        for tick, a, b, level, below in zip(ticks.tolist(), first, second, strongest, next_to_it)
    )


def _step(tick: int, owner: int, second: int, level_db: float, second_db: float) -> LowStep:
    behind = level_db - second_db if second else 99.0
    return LowStep(tick, owner, level_db, second if behind < 99 else 0, behind)


def _onsets(song: Song, span: Span, layers: Sequence[Layer], low: int, high: int) -> list[int]:
    found = {int(t) for x in layers for t in layer_events(song, span, x).table[:, START] if low <= t < high}
    return sorted(found)


def _triggers(song: Song, span: Span, layer: Layer) -> Floats:
    """Seconds at which a layer is ducked: every kick, another layer's onsets, or the beat."""
    if layer.duck_by == EVERY_BEAT:
        ticks = [
            t for a, b, m in zip(span.bar_ticks, span.bar_ticks[1:], span.bar_metres) for t in range(a, b, m.beat_ticks)
        ]
    else:
        sounding = sounding_layers(song, span.section)
        sources = [
            x for x in sounding if (x.id == layer.duck_by if layer.duck_by else x.sound.is_kick) and x.id != layer.id
        ]
        ticks = _onsets(song, span, sources, -span.length_ticks, span.length_ticks)
    return span.grid.seconds_of(np.array(ticks, np.int64))


def _dips(song: Song, span: Span, layer: Layer, edges_s: Floats) -> Floats:
    """Mean power gain of a layer's ducking in every step; whatever the levels are, it is worked out once."""
    triggers = _triggers(song, span, layer)
    release_s = layer.duck_release_beats * span.seconds_at(span.bar_metres[0].beat_ticks)
    key = (edges_s.tobytes(), triggers.tobytes(), layer.duck_db, release_s)
    return _kept_dips.get_or_make(key, lambda: ducked_power(edges_s, triggers, layer.duck_db, release_s))


_kept_dips: Results[Floats] = Results(256)


def ducked_power(edges_s: Floats, triggers_s: Floats, duck_db: float, release_s: float) -> Floats:
    """Mean power gain in every step: down to the depth at a trigger, back along a raised cosine, as the renderer does."""
    if not len(triggers_s):
        return np.ones(len(edges_s) - 1)
    points = np.linspace(edges_s[:-1], edges_s[1:], 9)[:-1]
    index = np.searchsorted(triggers_s, points, side="right") - 1
    since = np.where(index >= 0, points - triggers_s[np.maximum(index, 0)], np.inf)
    share = np.clip((since - HOLD_S) / release_s, 0.0, 1.0)
    dip = np.where(np.isinf(since), 0.0, 0.5 + 0.5 * np.cos(np.pi * share))
    depth = 1.0 - 10.0 ** (-duck_db / 20.0)
    return np.mean((1.0 - depth * dip) ** 2, axis=0)
