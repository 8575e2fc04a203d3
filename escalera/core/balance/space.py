"""Rooms and echoes against the song: pre-delays beside the beat, repeats that clash with the next chord."""

from __future__ import annotations

from math import log10

from escalera.core.document.lanes import return_settings
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Layer, Song
from escalera.core.palette.effects import EFFECT_BY_KEY, RETURN_BY_KEY
from escalera.core.palette.parameters import setting
from escalera.core.reading.events import DURATION, PITCH, START, layer_events
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.lazy_dataclasses import dataclass

HEARD_DB = -26.0  # beside the dry sound: a repeat softer than that clashes with nobody
SENT_DB = -40.0
LAST_TICKS = TICKS_PER_QUARTER // 2
ROUND_BEATS = (0.0, 1 / 64, 1 / 32, 1 / 16, 1 / 8, 1 / 4, 1 / 2)


@dataclass(frozen=True, slots=True)
class EchoClash:
    """Repeats of a layer's notes that sound into a chord they are not part of: how often, and the first place (tick) with its note and chord."""

    layer: Layer
    count: int
    tick: int
    pitch: int
    chord: str


@dataclass(frozen=True, slots=True)
class PreDelay:
    """A room's pre-delay in milliseconds at a section's tempo, and the nearest even share of a beat in milliseconds."""

    label: str
    ms: float
    near_ms: float
    near_beats: float


def _set(song: Song, key: str, name: str) -> float:
    row = RETURN_BY_KEY[key]
    kind = EFFECT_BY_KEY[row.effect]
    return setting(row.settings + return_settings(song, key), kind.parameter_by_key[name])


def pre_delays(song: Song, span: Span) -> list[PreDelay]:
    """Of every room that somebody in the section is sent into."""
    used = {k for p in span.section.placements for k, level in _sends(song, span, p.layer_id) if level > SENT_DB}
    beat_ms = 1000.0 * span.seconds_at(span.bar_metres[0].beat_ticks)
    found = []
    for key in sorted(used):
        row = RETURN_BY_KEY[key]
        if row.effect == "room":
            beats = _set(song, key, "pre_delay_beats")
            near = min(ROUND_BEATS, key=lambda b: abs(b - beats))
            found.append(PreDelay(row.label, beats * beat_ms, near * beat_ms, near))
    return found


def _sends(song: Song, span: Span, layer_id: int) -> tuple[tuple[str, float], ...]:
    layer = song.layer_by_id.get(layer_id)
    return layer_in(song, span.section, layer).sends if layer is not None and not layer.muted else ()


def echo_clashes(song: Song, span: Span) -> list[EchoClash]:
    """Layers whose echoes repeat notes into a later chord that does not hold them, the most first."""
    harmony = section_harmony(song, span)
    found = []
    for layer_id in dict.fromkeys(p.layer_id for p in span.section.placements):
        layer = song.layer_by_id[layer_id]
        if layer.muted or layer.sound.is_drum:
            continue
        for key, level in _sends(song, span, layer_id):
            row = RETURN_BY_KEY[key]
            if row.effect == "echo" and level > SENT_DB:
                time = round(_set(song, key, "time_beats") * TICKS_PER_QUARTER)
                rows = _clashing(song, span, layer, time, _repeats(level, _set(song, key, "feedback")))
                if rows:
                    tick, pitch = rows[0]
                    found.append(EchoClash(layer, len(rows), tick, pitch, str(harmony.at(tick))))
    return sorted(found, key=lambda c: -c.count)


def _repeats(level_db: float, feedback: float) -> int:
    """How many repeats are loud enough to be heard against what plays then."""
    count, level = 0, level_db
    while level > HEARD_DB and count < 16:
        count += 1
        if feedback < 0.01:
            break
        level += 20.0 * log10(feedback)
    return count


def _clashing(song: Song, span: Span, layer: Layer, time_ticks: int, repeats: int) -> list[tuple[int, int]]:
    harmony, found = section_harmony(song, span), []
    table = layer_events(song, span, layer).table
    for start, duration, pitch in table[:, [START, DURATION, PITCH]].tolist():
        last = start + max(0, duration - LAST_TICKS)  # what of a held note is repeated last
        first = harmony.index_at(last)
        for n in range(1, repeats + 1):
            tick = last + n * time_ticks
            if tick >= span.length_ticks:
                break
            if (
                harmony.index_at(tick) != first
                and pitch % 12 not in harmony.at(tick).classes
                and _near(pitch, harmony.at(tick).classes)
            ):
                found.append((tick, pitch))
    return found


def _near(pitch: int, classes: frozenset[int]) -> bool:
    """Whether a note lies a semitone beside one of a chord: then its echo rubs."""
    return any((pitch - c) % 12 in (1, 11) for c in classes)
