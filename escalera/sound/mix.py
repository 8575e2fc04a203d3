"""Sections mixed from their units, and the master over the whole: cached by content, the same bytes every time."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from escalera.core.song.document import Layer, Song
from escalera.core.song.resolve import sounding_layers
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
    make: Callable[[], Unit]
    notes: Notes
    end: int
    gains: tuple[float, float, float, float, float]  # amplitude, left, right, hall send, echo send


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

    # sections ------------------------------------------------------------------------------------------------

    def parts(self, song: Song, span: Span) -> list[Part]:
        """What sounds in a section, without rendering anything."""
        parts = []
        for layer in sounding_layers(song, span.section):
            notes = schedule(song, span, layer)
            if len(notes.start):
                key = unit_key(layer, notes)
                make = _bind(self.cache, key, layer, notes)
                level, (left, right) = amplitude(layer.level_db), pan_gains(layer.pan)
                gains = (level, left, right, amplitude(layer.reverb_send_db), amplitude(layer.echo_send_db))
                parts.append(Part(layer, key, make, notes, reach(layer, notes), gains))
        return parts

    def section_key(self, song: Song, span: Span) -> str:
        return self._key(song, span, self.parts(song, span))

    def _key(self, song: Song, span: Span, parts: list[Part]) -> str:
        ducked = any(p.layer.duck_db > 0 for p in parts)
        rows = [(p.key, p.gains, p.layer.duck_db, p.layer.duck_release_beats if p.layer.duck_db else 0) for p in parts]
        duck = kick_onsets(song, span).tobytes() if ducked else b""
        return content_key("section", MIX_VERSION, rows, duck, echo_samples(span), beat_samples(span) if ducked else 0)

    def section_mix(self, song: Song, span: Span, layers: frozenset[int] | None = None, wet: bool = True) -> SectionMix:
        """The mix of a section: all layers, or some of them by id; dry leaves hall and echo out."""
        parts = self.parts(song, span)
        if layers is not None:
            parts = [p for p in parts if p.layer.id in layers]
        if not wet:
            parts = [Part(p.layer, p.key, p.make, p.notes, p.end, (*p.gains[:3], 0.0, 0.0)) for p in parts]
        return self.cache.get_or_make(self._key(song, span, parts), lambda: self._mix(song, span, parts))

    def _mix(self, song: Song, span: Span, parts: list[Part]) -> SectionMix:
        if not parts:
            return SectionMix(0, np.zeros((2, 0), np.float32))
        units = [p.make() for p in parts]
        first, last = min(u.offset for u in units), max(u.end for u in units)
        hall, echo = any(p.gains[3] for p in parts), any(p.gains[4] for p in parts)
        tail = _tail(span, parts)
        length = last - first + tail
        out = np.zeros((2, length), np.float32)
        to_hall = np.zeros((2, length if hall else 0), np.float32)
        to_echo = np.zeros(length if echo else 0, np.float32)
        ducks: dict[tuple[float, float], NDArray[np.float32]] = {}
        for part, unit in zip(parts, units):
            left, right = self._ducked(song, span, part.layer, unit, ducks)
            _enter(part, unit.offset - first, left, right, out, to_hall, to_echo)
        if echo:
            bus.ping_pong(to_echo, out[0], out[1], echo_samples(span), ECHO_FEEDBACK, ECHO_DAMPING)
        if hall:
            bus.hall(to_hall[0], to_hall[1], out[0], out[1], HALL_DECAY_S, HALL_DAMPING)
        if tail:
            out[:, -FADE:] *= np.linspace(1.0, 0.0, FADE, dtype=np.float32) ** 2
        return SectionMix(first, out)

    def _ducked(
        self, song: Song, span: Span, layer: Layer, unit: Unit, ducks: dict
    ) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        if layer.duck_db <= 0:
            return unit.left, unit.right
        onsets = kick_onsets(song, span)
        if not len(onsets):
            return unit.left, unit.right
        curve = np.ones(unit.audio.shape[1], np.float32)
        release = max(64, round(layer.duck_release_beats * beat_samples(span)))
        depth = 1.0 - 10.0 ** (-layer.duck_db / 20.0)
        bus.duck_curve(curve, onsets - unit.offset, depth, 96, 900, release)
        left = np.empty_like(unit.left)
        bus.multiply_into(left, unit.left, curve)
        if unit.audio.shape[0] == 1:
            return left, left
        right = np.empty_like(unit.right)
        bus.multiply_into(right, unit.right, curve)
        return left, right

    # the whole song --------------------------------------------------------------------------------------------

    def before_master(self, song: Song, line: Timeline, low: int, high: int, layers: frozenset[int] | None = None,
                      wet: bool = True) -> NDArray[np.float32]:  # fmt: skip
        """Samples low..high of the song's sum, mix level included, before the limiter. Shape (2, high - low)."""
        out = np.zeros((2, high - low), np.float32)
        gain = 10.0 ** (song.master_gain_db / 20.0)
        for span, start in zip(line.spans, line.samples(RATE_HZ)):
            if start - PICKUP_SAMPLES > high:
                break
            mix = self.section_mix(song, span, layers, wet)
            a, b = max(low, start + mix.offset), min(high, start + mix.offset + mix.audio.shape[1])
            if a < b:
                source = mix.audio[:, a - start - mix.offset : b - start - mix.offset]
                bus.add_stereo(out[0, a - low : b - low], out[1, a - low : b - low], source[0], source[1], gain, gain)
        return out

    def tail_samples(self, song: Song, line: Timeline) -> int:
        """How far the sound reaches past the song's last bar."""
        ends = [
            s + m.offset + m.audio.shape[1]
            for s, m in zip(line.samples(RATE_HZ), (self.section_mix(song, x) for x in line.spans))
        ]
        return max(0, max(ends, default=0) - line.samples(RATE_HZ)[-1])

    def chunk_keys(self, song: Song, line: Timeline) -> list[str]:
        """Keys of every section's finished sound: each hears the tails that reach it and the first moment after it."""
        starts = line.samples(RATE_HZ)
        all_parts = [self.parts(song, span) for span in line.spans]
        keys = [self._key(song, span, parts) for span, parts in zip(line.spans, all_parts)]
        ends = [
            s + max((p.end for p in ps), default=0) + _tail(x, ps) for s, ps, x in zip(starts, all_parts, line.spans)
        ]
        found = []
        for i in range(len(line.spans)):
            near = [j for j in range(i + 1) if j == i or ends[j] > starts[i] - 2 * PRE_ROLL_SAMPLES]
            rows = [(keys[j], starts[j] - starts[i]) for j in near]
            ahead = range(i + 1, min(i + 3, len(keys)))
            rows += [
                (_head_key(all_parts[j]), starts[j] - starts[i])
                for j in ahead
                if starts[j] - starts[i + 1] < PICKUP_SAMPLES
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


def _bind(cache: AudioCache, key: str, layer: Layer, notes: Notes) -> Callable[[], Unit]:
    return lambda: cache.get_or_make(key, lambda: render_unit(layer, notes, cache))


def _enter(
    part: Part, at: int, left: NDArray, right: NDArray, out: NDArray, to_hall: NDArray, to_echo: NDArray
) -> None:
    """Add one layer to the mix and to the sends."""
    level, pan_l, pan_r, hall, echo = part.gains
    end = at + len(left)
    bus.add_stereo(out[0, at:end], out[1, at:end], left, right, level * pan_l, level * pan_r)
    if hall:
        bus.add_stereo(to_hall[0, at:end], to_hall[1, at:end], left, right, level * pan_l * hall, level * pan_r * hall)
    if echo:
        bus.add_stereo(to_echo[at:end], to_echo[at:end], left, right, 0.5 * level * echo, 0.5 * level * echo)


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
