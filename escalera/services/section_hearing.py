"""What is heard of a section, from its rendered sound: once per content, kept with the sound."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.balance.low_meeting import low_meeting
from escalera.core.balance.section_heard import HeardSection, LayerHeard, Loud
from escalera.core.balance.thirds import TINY, Floats, Levels, silence, summed
from escalera.core.document.song import Song
from escalera.core.energy.terms import decibels
from escalera.core.joins import played_at
from escalera.core.reading.timeline import Span, timeline
from escalera.meters.loudness import k_energy, loudness, lufs, true_peak_dbtp
from escalera.meters.third_octaves import FRAME, slots_of, third_octaves
from escalera.services.rendering import Rendering
from escalera.sound.content import content_key
from escalera.sound.layer_levels import LOW_EVERY, PartHeard, parts_heard, samples_of, spaces_heard
from escalera.sound.master import CEILING_DBTP
from escalera.sound.schedule import RATE_HZ

HEARD_VERSION = 1
Samples = NDArray[np.float32]


def section_heard(rendering: Rendering, song: Song, section_id: int) -> HeardSection:
    """All figures of a section. What is not rendered yet is rendered; what was heard before is found at once."""
    line = timeline(song)
    span = line.span_of(section_id)
    index = line.spans.index(span)
    key = heard_key(rendering, song, index)
    memo = ("heard", section_id, key)
    if memo not in song.memo:
        found = rendering.renderer.cache.get_or_make(key, lambda: _heard(rendering, song, span, index))
        song.memo[memo] = _named(song, span, found)
    kept: HeardSection = song.memo[memo]
    return kept


def heard_key(rendering: Rendering, song: Song, index: int) -> str:
    """What the figures of a section depend on."""
    line = timeline(song)
    plan = rendering.renderer.plan(song, line.spans[index])
    chunk = rendering.renderer.chunk_keys(song, line)[index]
    return content_key(
        "heard", HEARD_VERSION, chunk, plan.key, [p.layer_id for p in plan.parts], line.spans[index].grid
    )


def _named(song: Song, span: Span, found: HeardSection) -> HeardSection:
    """Names are no part of what is heard."""
    name = span.section.name
    layers = tuple(
        replace(x, name=song.layer_by_id[x.id].name) if song.layer_by_id[x.id].name != x.name else x
        for x in found.layers
    )
    if (found.section_id, found.name) == (span.section.id, name) and layers == found.layers:
        return found
    return replace(found, section_id=span.section.id, name=name, layers=layers)


def _heard(rendering: Rendering, song: Song, span: Span, index: int) -> HeardSection:
    renderer, line = rendering.renderer, timeline(song)
    low, high = line.samples(RATE_HZ)[index : index + 2]
    with ThreadPoolExecutor(2) as pool:
        parts = pool.submit(parts_heard, renderer, song, span)
        loud, total = _whole(rendering, song, index, low, high)
        rows = parts.result()
    slots, slot_s = slots_of(samples_of(span)), FRAME / RATE_HZ
    layers = tuple(
        _layer(song, span, i, [r for r in rows if r.layer_id == i], slots, slot_s)
        for i in dict.fromkeys(r.layer_id for r in rows)
    )
    lows = {
        i: np.sum([r.low for r in rows if r.layer_id == i], axis=0) for i in dict.fromkeys(r.layer_id for r in rows)
    }
    there, where = played_at(song, span)
    spaces = spaces_heard(renderer, song, span) if rows else silence(slots, slot_s)
    return HeardSection(
        span.section.id,
        span.section.name,
        layers,
        spaces,
        total,
        loud,
        low_meeting(there, where, lows, RATE_HZ / LOW_EVERY),
    )


def _layer(song: Song, span: Span, layer_id: int, rows: list[PartHeard], slots: int, slot_s: float) -> LayerHeard:
    layer = song.layer_by_id[layer_id]
    sends = sum(10.0 ** (level / 10.0) for _, level in layer.sends if level > -59.0)
    wet = float(decibels(sends)) if sends > TINY else None
    return LayerHeard(
        layer_id,
        layer.name,
        layer.family,
        summed([r.levels for r in rows], slots, slot_s),
        wet,
        layer.pan,
        any(r.broken for r in rows),
    )


def _whole(rendering: Rendering, song: Song, index: int, low: int, high: int) -> tuple[Loud, Levels]:
    renderer, line = rendering.renderer, timeline(song)
    before = _finite_sound(renderer.before_master(song, line, low, high))
    after = _finite_sound(renderer.chunk(song, line, index)[:, : high - low])
    return loud_of(before, after), third_octaves(before)


def _finite_sound(audio: Samples) -> Samples:
    return audio if np.isfinite(audio).all() else np.nan_to_num(audio, nan=0.0, posinf=0.0, neginf=0.0)


def thirds_of(audio: Samples, beside: HeardSection | None) -> Floats:
    """Mean power of (2, n) audio by third-octave, (28,); brought to the level of a section where one is given."""
    mean = third_octaves(audio).total.mean(axis=0)
    if beside is None or beside.silent or mean.sum() <= TINY:
        return mean
    return mean * (float(beside.total.total.mean(axis=0).sum()) / float(mean.sum()))


def loud_of(before: Samples, after: Samples) -> Loud:
    """Levels of a section before and after the limiter, (2, n) each."""
    found, raw = loudness(after, RATE_HZ), loudness(before, RATE_HZ)
    peak, raw_peak = true_peak_dbtp(after), float(2.0 * decibels(np.abs(before).max(initial=0.0)))
    if not np.isfinite(found.integrated_lufs):
        return Loud(None, None, None, None, None, None)
    reduction, most = _reduction(before, after)
    return Loud(
        found.integrated_lufs, raw.integrated_lufs, _finite(found.max_short_term_lufs), _range_of(found.short_term_lufs), peak - found.integrated_lufs, peak,
        reduction, most, CEILING_DBTP - raw_peak, found.short_term_lufs,
    )  # fmt: skip


def _range_of(short_lufs: Floats) -> float | None:
    """From the 10th to the 95th percentile of short-term loudness; None below a second of it. Not gated: a section is short."""
    kept = short_lufs[np.isfinite(short_lufs)]
    if len(kept) < 10:
        return None
    low, high = np.percentile(kept, [10.0, 95.0])
    return float(high - low)


def _finite(value: float) -> float | None:
    return value if np.isfinite(value) else None


def _reduction(before: Samples, after: Samples) -> tuple[float, float]:
    """How much softer the limiter makes a section as a whole, and in its hardest 400 ms, dB, 0 or less."""
    count = min(before.shape[1], after.shape[1])
    step = round(0.4 * RATE_HZ)
    edges = np.append(np.arange(0, max(1, count - step // 2), step), count).astype(np.int64)
    raw, kept = (k_energy(np.ascontiguousarray(x[:, :count]), RATE_HZ, edges) for x in (before, after))
    if raw.sum() <= TINY:
        return 0.0, 0.0
    loud = lufs(raw / np.maximum(np.diff(edges), 1)) > -50.0
    change = decibels(kept[loud]) - decibels(raw[loud]) if loud.any() else np.zeros(1)
    whole = float(decibels(kept.sum()) - decibels(raw.sum()))
    return min(0.0, round(whole, 3)), min(0.0, round(float(change.min()), 3))


__all__ = ["heard_key", "loud_of", "section_heard"]
