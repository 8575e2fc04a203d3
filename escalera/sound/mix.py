"""Sections mixed from their units, and the master over the whole: cached by content, the same bytes every time."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.kept import Kept
from escalera.core.song.document import Layer, Song
from escalera.core.song.resolve import layer_events, sounding_layers
from escalera.core.song.timeline import Span, Timeline, timeline
from escalera.sound.cache import AudioCache, content_key
from escalera.sound.kernels import bus
from escalera.sound.master import AHEAD_SAMPLES, MASTER_VERSION, PRE_ROLL_SAMPLES, limit
from escalera.sound.schedule import RATE_HZ, Notes, kick_onsets, schedule
from escalera.sound.unit import BLOCK, Unit, reach, render_unit, unit_key

MIX_VERSION = 1
OFF_DB = -59.5
HALL_DECAY_S, HALL_DAMPING = 1.9, 0.42
HALL_TAIL = 2 * RATE_HZ
ECHO_FEEDBACK, ECHO_DAMPING = 0.42, 0.38
ECHO_TURNS = 8
FADE = 2048
SUM_BLOCK = 8192
DUCK_ATTACK, DUCK_HOLD = 96, 900  # samples
Samples = NDArray[np.float32]
NO_DUCK: Samples = np.zeros(0, np.float32)
PICKUP_SAMPLES = 4 * RATE_HZ  # how early a pickup may begin


@dataclass(frozen=True, eq=False)
class SectionMix:
    """Stereo audio (2, n) of all that starts in a section, from `offset` samples after its start, before the master."""

    offset: int
    audio: NDArray[np.float32]

    @property
    def nbytes(self) -> int:
        return self.audio.nbytes + 64


@dataclass(frozen=True, eq=False)
class Part:
    """One layer's share of a section mix: where its unit comes from and how it enters."""

    layer: Layer
    key: str
    notes: Notes
    end: int
    gains: tuple[float, float, float, float, float]  # amplitude, left, right, hall send, echo send


@dataclass(frozen=True, eq=False)
class Plan:
    """A section before it is rendered: its parts, the key of its mix, the key of its first moment, where its sound ends."""

    parts: list[Part]
    key: str
    head_key: str
    reach: int


def amplitude(level_db: float) -> float:
    return 0.0 if level_db <= OFF_DB else 10.0 ** (level_db / 20.0)


def pan_gains(pan: float) -> tuple[float, float]:
    """Constant power; 1 and 1 in the middle."""
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.sqrt(2.0) * np.cos(angle)), float(np.sqrt(2.0) * np.sin(angle))


class Renderer:
    """Turns songs into sound. One per process; the cache is shared by all songs.

    Parameters
    ----------
    cache_mb : int
        Memory for rendered units, section mixes and master chunks.
    """

    def __init__(self, cache_mb: int = 700):
        self.cache = AudioCache(cache_mb * 1_000_000)
        self._plans: Kept[Plan] = Kept(2048)

    # sections ------------------------------------------------------------------------------------------------

    def plan(self, song: Song, span: Span) -> Plan:
        """What sounds in a section and under which keys, without rendering anything; unchanged sections are found at once."""
        memo = ("plan", id(self), span.section.id)
        if memo not in song.memo:
            playing = tuple((layer, layer_events(song, span, layer)) for layer in sounding_layers(song, span.section))
            song.memo[memo] = self._plans.get_or_make((span.grid, playing), lambda: self._plan(song, span))
        return song.memo[memo]

    def _plan(self, song: Song, span: Span) -> Plan:
        parts = self._parts(song, span)
        reach = max((p.end for p in parts), default=0) + _tail(span, parts)
        return Plan(parts, self._key(song, span, parts), _head_key(parts), reach)

    def _parts(self, song: Song, span: Span) -> list[Part]:
        parts = []
        for layer in sounding_layers(song, span.section):
            notes = schedule(song, span, layer)
            if len(notes.start):
                level, (left, right) = amplitude(layer.level_db), pan_gains(layer.pan)
                gains = (level, left, right, amplitude(layer.reverb_send_db), amplitude(layer.echo_send_db))
                parts.append(Part(layer, unit_key(layer, notes), notes, reach(layer, notes), gains))
        return parts

    def _key(self, song: Song, span: Span, parts: list[Part]) -> str:
        ducked = any(p.layer.duck_db > 0 for p in parts)
        rows = [(p.key, p.gains, p.layer.duck_db, p.layer.duck_release_beats if p.layer.duck_db else 0) for p in parts]
        duck = kick_onsets(song, span).tobytes() if ducked else b""
        return content_key("section", MIX_VERSION, rows, duck, echo_samples(span), beat_samples(span) if ducked else 0)

    def section_mix(self, song: Song, span: Span, layers: frozenset[int] | None = None, wet: bool = True) -> SectionMix:
        """The mix of a section: all layers, or some of them by id; dry leaves hall and echo out."""
        plan = self.plan(song, span)
        if layers is None and wet:
            return self.cache.get_or_make(plan.key, lambda: self._mix(song, span, plan.parts))
        parts = [p for p in plan.parts if layers is None or p.layer.id in layers]
        if not wet:
            parts = [replace(p, gains=(*p.gains[:3], 0.0, 0.0)) for p in parts]
        return self.cache.get_or_make(self._key(song, span, parts), lambda: self._mix(song, span, parts))

    def _mix(self, song: Song, span: Span, parts: list[Part], until: int | None = None) -> SectionMix:
        """Mix the parts; with `until` only so many samples from the section's start, equal to those of the whole."""
        units = [self._unit(p) for p in parts]
        if not any(u.audio.shape[1] for u in units):
            return SectionMix(0, np.zeros((2, 0), np.float32))
        first, last = min(u.offset for u in units), max(u.end for u in units)
        hall, echo = any(p.gains[3] for p in parts), any(p.gains[4] for p in parts)
        tail = _tail(span, parts)
        whole = last - first + tail
        length = whole if until is None else min(whole, max(0, until - first))
        out = np.zeros((2, length), np.float32)
        to_hall, to_echo = np.zeros((2, length if hall else 0), np.float32), np.zeros(length if echo else 0, np.float32)
        self._sum(song, span, list(zip(parts, units)), first, out, to_hall, to_echo)
        if echo:
            bus.ping_pong(to_echo, out[0], out[1], echo_samples(span), ECHO_FEEDBACK, ECHO_DAMPING)
        if hall:
            bus.hall(to_hall[0], to_hall[1], out[0], out[1], HALL_DECAY_S, HALL_DAMPING)
        if tail and length == whole:
            out[:, -FADE:] *= np.linspace(1.0, 0.0, FADE, dtype=np.float32) ** 2
        return SectionMix(first, out)

    def _unit(self, part: Part) -> Unit:
        return self.cache.get_or_make(part.key, lambda: render_unit(part.layer, part.notes, self.cache))

    def _sum(self, song: Song, span: Span, items: list[tuple[Part, Unit]], first: int, out: Samples, to_hall: Samples,
             to_echo: Samples) -> None:  # fmt: skip
        """Add all units to the mix and the sends, block by block, so that a block stays in the processor's cache."""
        ducks = _duck_curves(song, span, [part.layer for part, _ in items], first, out.shape[1])
        rows = []
        for part, unit in items:
            level, left, right, hall, echo = part.gains
            gains = np.array([level * left, level * right, hall, 0.5 * level * echo])
            duck = ducks.get((part.layer.duck_db, part.layer.duck_release_beats), NO_DUCK)
            rows.append((unit.left, unit.right, duck, unit.offset - first, gains))
        places = np.zeros(3, np.int64)
        for low in range(0, out.shape[1], SUM_BLOCK):
            places[1], places[2] = low, min(low + SUM_BLOCK, out.shape[1])
            for left_audio, right_audio, duck, at, gains in rows:
                if at < places[2] and at + len(left_audio) > low:
                    places[0] = at
                    bus.enter_block(out, to_hall, to_echo, left_audio, right_audio, duck, places, gains)

    # the whole song --------------------------------------------------------------------------------------------

    def before_master(self, song: Song, line: Timeline, low: int, high: int, layers: frozenset[int] | None = None,
                      wet: bool = True) -> NDArray[np.float32]:  # fmt: skip
        """Samples low..high of the song's sum, mix level included, before the limiter. Shape (2, high - low)."""
        out = np.zeros((2, high - low), np.float32)
        gain = 10.0 ** (song.master_gain_db / 20.0)
        for span, start in zip(line.spans, line.samples(RATE_HZ)):
            if start - PICKUP_SAMPLES > high:
                break
            if start + self.plan(song, span).reach <= low:
                continue
            mix = self._as_far_as_needed(song, span, layers, wet, high - start)
            a, b = max(low, start + mix.offset), min(high, start + mix.offset + mix.audio.shape[1])
            if a < b:
                source = mix.audio[:, a - start - mix.offset : b - start - mix.offset]
                bus.add_stereo(out[0, a - low : b - low], out[1, a - low : b - low], source[0], source[1], gain, gain)
        return out

    def _as_far_as_needed(
        self, song: Song, span: Span, layers: frozenset[int] | None, wet: bool, until: int
    ) -> SectionMix:
        """A section's mix; when it is not there yet and only its beginning is asked for, only that is mixed."""
        plan = self.plan(song, span)
        if layers is None and wet and until < plan.reach // 2 and plan.key not in self.cache:
            return self._mix(song, span, plan.parts, until)
        return self.section_mix(song, span, layers, wet)

    def tail_samples(self, song: Song, line: Timeline) -> int:
        """How far the sound reaches past the song's last bar."""
        starts = line.samples(RATE_HZ)
        return max(
            0, max((s + self.plan(song, span).reach for s, span in zip(starts, line.spans)), default=0) - starts[-1]
        )

    def chunk_keys(self, song: Song, line: Timeline) -> list[str]:
        """Keys of every section's finished sound: each hears the tails that reach it and the first moment after it."""
        starts = line.samples(RATE_HZ)
        plans = [self.plan(song, span) for span in line.spans]
        keys = [plan.key for plan in plans]
        ends = [s + plan.reach for s, plan in zip(starts, plans)]
        found = []
        for i in range(len(line.spans)):
            near = [j for j in range(i + 1) if j == i or ends[j] > starts[i] - 2 * PRE_ROLL_SAMPLES]
            rows = [(keys[j], starts[j] - starts[i]) for j in near]
            ahead = range(i + 1, min(i + 3, len(keys)))
            rows += [
                (plans[j].head_key, starts[j] - starts[i]) for j in ahead if starts[j] - starts[i + 1] < PICKUP_SAMPLES
            ]
            length, last = starts[i + 1] - starts[i], i + 1 == len(keys)
            found.append(
                content_key("chunk", MASTER_VERSION, rows, starts[i] % BLOCK, length, song.master_gain_db, last)
            )
        return found

    def chunk(self, song: Song, line: Timeline, index: int, key: str = "") -> NDArray[np.float32]:
        """The finished sound of one section, (2, n) float32; the last one carries the song's tail."""
        key = key or self.chunk_keys(song, line)[index]
        return self.cache.get_or_make(key, lambda: self._chunk(song, line, index))

    def _chunk(self, song: Song, line: Timeline, index: int) -> NDArray[np.float32]:
        starts = line.samples(RATE_HZ)
        low, high = starts[index], starts[index + 1]
        if index + 1 == len(line.spans):
            high += self.tail_samples(song, line)
        begin = (low - PRE_ROLL_SAMPLES) // BLOCK * BLOCK
        window = self.before_master(song, line, begin, high + AHEAD_SAMPLES)
        limit(window)
        return np.ascontiguousarray(window[:, low - begin : high - begin])

    def render(self, song: Song, progress: Callable[[float], None] | None = None) -> NDArray[np.float32]:
        """The whole song with its tail, (2, n) float32, on two threads."""
        line = timeline(song)
        if not line.spans:
            return np.zeros((2, 0), np.float32)
        done = 0

        def mixed(span: Span) -> None:
            nonlocal done
            self.section_mix(song, span)
            done += 1
            if progress:
                progress(0.8 * done / len(line.spans))

        with ThreadPoolExecutor(2) as pool:
            list(pool.map(mixed, sorted(line.spans, key=lambda s: -s.section.bars)))
            keys = self.chunk_keys(song, line)
            chunks = list(pool.map(lambda i: self.chunk(song, line, i, keys[i]), range(len(keys))))
        if progress:
            progress(1.0)
        return np.concatenate(chunks, axis=1)


def _duck_curves(
    song: Song, span: Span, layers: list[Layer], first: int, length: int
) -> dict[tuple[float, float], Samples]:
    """Gain over the section's mix for every depth and release in use; empty when no kick sounds."""
    curves: dict[tuple[float, float], Samples] = {}
    onsets = kick_onsets(song, span)
    for layer in layers:
        key = (layer.duck_db, layer.duck_release_beats)
        if layer.duck_db > 0 and len(onsets) and key not in curves:
            curves[key] = np.ones(length, np.float32)
            release = max(64, round(layer.duck_release_beats * beat_samples(span)))
            depth = 1.0 - 10.0 ** (-layer.duck_db / 20.0)
            bus.duck_curve(curves[key], onsets - first, depth, DUCK_ATTACK, DUCK_HOLD, release)
    return curves


def _head_key(parts: list[Part]) -> str:
    """What a section's first moment depends on: pickups and notes that begin before the limiter stops looking ahead."""
    rows = []
    for part in parts:
        n = int(np.searchsorted(part.notes.start, AHEAD_SAMPLES))
        if n:
            layer, notes = part.layer, part.notes
            chain = (
                layer.sound_key,
                layer.lowpass_hz,
                layer.highpass_hz,
                layer.seed,
                layer.duck_db,
                layer.duck_release_beats,
            )
            heads = [a[:n].tobytes() for a in (notes.start, notes.pitch, notes.velocity)]
            rows.append(
                (
                    chain,
                    part.gains,
                    heads,
                    np.minimum(notes.hold[:n], AHEAD_SAMPLES - notes.start[:n]).tobytes(),
                    notes.curves[:1],
                )
            )
    return content_key("head", rows)


def _tail(span: Span, parts: list[Part]) -> int:
    """Samples that hall and echo need after the last note."""
    hall, echo = any(p.gains[3] for p in parts), any(p.gains[4] for p in parts)
    return max(HALL_TAIL if hall else 0, echo_samples(span) * ECHO_TURNS if echo else 0)


def beat_samples(span: Span) -> int:
    """Samples of one beat at the section's first tempo and metre."""
    return round(span.bar_metres[0].beat_ticks / 960 * 60.0 / span.tempo_points[0][1] * RATE_HZ)


def echo_samples(span: Span) -> int:
    """Delay of the tempo echo: a dotted eighth at the section's first tempo."""
    return round(0.75 * 60.0 / span.tempo_points[0][1] * RATE_HZ)
