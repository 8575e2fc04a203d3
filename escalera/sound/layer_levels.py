"""Every layer of a section by itself, as it enters the mix: by third-octave and time, and in the low end sample by sample."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.balance.thirds import Levels
from escalera.core.document.song import Song
from escalera.core.joins import played_at
from escalera.core.reading.timeline import Span
from escalera.lazy_dataclasses import dataclass
from escalera.meters.third_octaves import third_octaves
from escalera.sound.content import content_key
from escalera.sound.mix import Renderer, dry_part
from escalera.sound.plan import Part, Plan, finish
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import SectionMix, duck_gain

LEVELS_VERSION = 1
LOW_EVERY, BOX = 32, 8  # samples that one value of the low end stands for, and that are averaged first
Samples = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class PartHeard:
    """A part's levels at the gains of the mix, and what of it lies below about 130 Hz, (2, n) at a 32nd of the rate."""

    layer_id: int
    levels: Levels
    low: Samples
    broken: bool = False

    @property
    def nbytes(self) -> int:
        return self.levels.nbytes + self.low.nbytes


def parts_heard(renderer: Renderer, song: Song, span: Span) -> list[PartHeard]:
    """Every part of a section over its own bars, dry, with level, place and ducking, in the mix's gain. Tails beyond its end are left out."""
    song, span = played_at(song, span)
    plan, length = renderer.plan(song, span), samples_of(span)
    gain = 10.0 ** (song.master_gain_db / 20.0)
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(lambda part: _heard(renderer, song, span, plan, part, length, gain), plan.parts))


def samples_of(span: Span) -> int:
    """How many samples a section's own bars last."""
    return round(span.length_seconds * RATE_HZ)


def _heard(renderer: Renderer, song: Song, span: Span, plan: Plan, part: Part, length: int, gain: float) -> PartHeard:
    """Layers that only stand at a level and a place are read once at full level, whatever those are; others as they come."""
    bus = plan.buses.get(part.family)
    plain = not part.moving and not plan.master.devices and (bus is None or not (bus.devices or bus.moving))
    if plain and not plan.master.moving:
        g, level = part.gains, gain * part.gains.level * (bus.level if bus else 1.0) * plan.master.level
        ducked = (part.duck[1:], plan.onsets[part.duck[0]].tobytes()) if part.duck else ()
        key = content_key("levels", LEVELS_VERSION, part.key, ducked, plan.beat if part.duck else 0, length)
        unit = renderer.cache.get_or_make(key, lambda: _unit_heard(renderer, plan, part, length))
        sides = level * g.left, level * g.right
        low = unit.low * np.array(sides, np.float32)[:, None]
        return PartHeard(part.layer_id, unit.levels.times(*sides), low, unit.broken)
    alone = finish(song, span, [dry_part(part)], {part.family: bus} if bus else {}, frozenset(), plan.master, 0)
    key = content_key("levels", LEVELS_VERSION, alone.key, length)
    found = renderer.cache.get_or_make(key, lambda: _mixed_heard(renderer, alone, part.layer_id, length))
    return PartHeard(part.layer_id, found.levels.times(gain, gain), found.low * np.float32(gain), found.broken)


def _unit_heard(renderer: Renderer, plan: Plan, part: Part, length: int) -> PartHeard:
    unit = renderer.unit(part)
    audio = placed(unit.audio, unit.offset, length)
    if part.duck and len(plan.onsets[part.duck[0]]):
        audio = audio * duck_gain(plan, part.duck, 0, length)
    return _numbers(part.layer_id, audio)


def _mixed_heard(renderer: Renderer, plan: Plan, layer_id: int, length: int) -> PartHeard:
    mix = renderer.mix_once(plan)
    return _numbers(layer_id, placed(whole(mix), mix.offset, length))


def _numbers(layer_id: int, audio: Samples) -> PartHeard:
    """What a broken recording holds beside numbers is taken for silence, and told."""
    broken = not bool(np.isfinite(audio).all())
    audio = np.nan_to_num(audio, nan=0.0, posinf=0.0, neginf=0.0) if broken else audio
    return PartHeard(layer_id, third_octaves(audio), low_of(audio), broken)


def whole(mix: SectionMix) -> Samples:
    """A section's mix with the buses that were kept apart, (2, n)."""
    return sum(mix.buses.values(), mix.audio) if mix.buses else mix.audio


def placed(audio: Samples, offset: int, length: int) -> Samples:
    """Audio that begins `offset` samples after a section's start, over the section's own `length` samples, (channels, length)."""
    out = np.zeros((len(audio), length), np.float32)
    low, high = max(0, offset), min(length, offset + audio.shape[1])
    if low < high:
        out[:, low:high] = audio[:, low - offset : high - offset]
    return out


def low_of(audio: Samples) -> Samples:
    """What lies below about 130 Hz, (2, n // 32): means of eight samples, then a filter and every fourth; phase is kept alike for all."""
    whole = audio.shape[1] // BOX * BOX
    boxed = audio[:, :whole].reshape(len(audio), -1, BOX) @ np.full(BOX, 1.0 / BOX, np.float32)
    taps, every = _taps(), LOW_EVERY // BOX
    padded = np.pad(boxed, ((0, 0), (len(taps) // 2, len(taps) // 2)))
    found = np.lib.stride_tricks.sliding_window_view(padded, len(taps), axis=1)[:, ::every] @ taps
    return np.stack((found[0], found[-1])).astype(np.float32)


@lru_cache(maxsize=1)
def _taps() -> NDArray[np.float64]:
    """A sinc of 130 Hz under a Hamming window; by hand, since scipy.signal takes 50 MB in a server that needs nothing else of it."""
    half = 8 * LOW_EVERY // BOX
    taps = np.sinc(2.0 * 130.0 * BOX / RATE_HZ * np.arange(-half, half + 1)) * np.hamming(2 * half + 1)
    return np.asarray(taps / taps.sum())


def spaces_heard(renderer: Renderer, song: Song, span: Span) -> Levels:
    """What rooms and echoes bring into a section's own bars: its mix less the same mix dry, in the mix's gain."""
    song, span = played_at(song, span)
    length, gain = samples_of(span), np.float32(10.0 ** (song.master_gain_db / 20.0))
    key = content_key("spaces", LEVELS_VERSION, renderer.plan(song, span).key, length)

    def make() -> Levels:
        wet = renderer.section_mix(song, span)
        dry = renderer.dry_once(song, span)
        return third_octaves(placed(whole(wet), wet.offset, length) - placed(whole(dry), dry.offset, length))

    return renderer.cache.get_or_make(key, make).times(float(gain), float(gain))
