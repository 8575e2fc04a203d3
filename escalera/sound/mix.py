"""The renderer: section mixes and finished chunks of songs, cached by content, the same bytes every time."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from itertools import islice
from typing import Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import Song
from escalera.core.joins import played_at
from escalera.core.palette.parameters import Settings
from escalera.core.reading.events import layer_events, sounding_layers
from escalera.core.reading.timeline import Span, Timeline, timeline
from escalera.errors import RenderStopped
from escalera.lazy_dataclasses import dataclass
from escalera.sound.buffers import blank, silent
from escalera.sound.cache import AudioCache, ByteRoom, Shelf, how_soon
from escalera.sound.compilation import bus
from escalera.sound.content import content_key
from escalera.sound.effect_processes import PROCESSES, compressor_memory
from escalera.sound.effect_stage import Stage
from escalera.sound.master import AHEAD_SAMPLES, MASTER_VERSION, PRE_ROLL_SAMPLES, limit, take_back
from escalera.sound.plan import SEND_PATHS, Part, Plan, dynamic_devices, finish, head_of, make_plan
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import AT_ONCE, Begin, SectionMix, mix_section, room_of
from escalera.sound.spec import BLOCK
from escalera.sound.unit import Unit, render_unit
from escalera.sound.walk import SectionWalk

Samples = NDArray[np.float32]
T = TypeVar("T")
MIXING_BYTES = 125_000_000  # of buffers that may be held at once by sections being mixed
AHEAD_SECTIONS = 3  # so many are mixed, or waiting to be, before the first of them is finished
WORKERS = max(2, min(4, os.cpu_count() or 1))  # units rendered at once
# samples before a section that its finished sound may depend on, beside compressors
LIMITER_BEHIND = 2 * PRE_ROLL_SAMPLES
HEAD_MARGIN = 44_100  # samples past a section's beginning that is mixed alone: what effects may look ahead
PICKUP_SAMPLES = 4 * RATE_HZ  # how early a pickup may begin
# of a renderer that is used for one song from end to end, its mixes on disk
SPARING_MB = 20
FindAudio = Callable[[str], Samples]


@dataclass(frozen=True, eq=False)
class Window:
    """A section with what lies before it and a moment after it: (2, n) under the ceiling, the gain that was taken for it, and where the
    section itself begins and ends."""

    audio: Samples
    gain: Samples
    first: int
    last: int

    @property
    def section(self) -> Samples:
        """The section alone, under the ceiling."""
        return self.audio[:, self.first : self.last]

    def without_limiter(self) -> Samples:
        """The section alone, after what the limiter did was undone in the window itself."""
        take_back(self.audio, self.gain)
        return self.section


class Help(Protocol):
    """Other machines that mix sections of a song that is rendered whole."""

    def offer(self, song: Song, spans: list[tuple[Span, Plan]]) -> list[str]:
        """Say what is wanted; gives the keys that are on offer."""
        ...

    def take(self, plan: Plan) -> SectionMix | None:
        """What was mixed elsewhere, or None where it has to be done here."""
        ...

    def withdraw(self, keys: list[str]) -> None: ...


class Renderer:
    """Turns songs into sound. One per process; the cache is shared by all songs.

    Parameters
    ----------
    cache_mb : int
        Memory for rendered units, section mixes and master chunks.
    find_audio : callable
        Printed audio (channels, n) by its name in the store.
    shelf : Shelf
        Where section mixes are kept over a restart.
    """

    def __init__(
        self,
        cache_mb: int = 700,
        find_audio: FindAudio | None = None,
        shelf: Shelf | None = None,
    ):
        self.cache = AudioCache(cache_mb * 1_000_000, shelf)
        self.find_audio = find_audio
        self.help: Help | None = None
        self._room = ByteRoom(MIXING_BYTES)
        self._workers = ThreadPoolExecutor(WORKERS, "units")
        self._beside = ThreadPoolExecutor(WORKERS, "beside")
        self._plans: Results[Plan] = Results(256)

    def sparing(self, shelf: Shelf) -> Renderer:
        """A renderer that keeps little in memory and its mixes on a shelf of their own: for a whole song that is handed on as it is made."""
        found = Renderer(SPARING_MB, self.find_audio, shelf)
        found.help = self.help
        return found

    # sections ------------------------------------------------------------------------------------------------

    def plan(self, song: Song, span: Span) -> Plan:
        """What sounds in a section and under which keys, without rendering anything; unchanged sections are found at once."""
        song, span = played_at(song, span)
        recordings = (song.samples, library.generation) if song.samples else ()
        memo = ("plan", id(self), span.section.id, *recordings[1:])
        if memo not in song.memo:
            section = span.section
            playing = tuple((layer, layer_events(song, span, layer)) for layer in sounding_layers(song, section))
            mixed = (song.buses, song.master, song.returns, song.life, song.tuning_hz)
            shaped = (section.curves, section.throws, *mixed, *recordings)
            key = (span.grid, playing, shaped, _duck_sources(song, span))
            head = AHEAD_SAMPLES + memory(song)[1]
            song.memo[memo] = self._plans.get_or_make(key, lambda: make_plan(song, span, head))
        return song.memo[memo]

    def section_mix(
        self,
        song: Song,
        span: Span,
        layers: frozenset[int] | None = None,
        wet: bool = True,
        begin: Begin | None = None,
    ) -> SectionMix:
        """The mix of a section: all layers, or some of them by id; dry leaves the shared spaces out. `begin` asks for the parts."""
        song, span = played_at(song, span)
        plan = self.plan(song, span)
        if layers is not None or not wet:
            plan = _some(song, span, plan, layers, wet)
        return self.cache.get_or_make(
            plan.key, lambda: self._helped(plan, begin), keep=layers is None and wet, whole=True
        )

    def dry_once(self, song: Song, span: Span) -> SectionMix:
        """A section's mix without its shared spaces, for a figure: it is not kept."""
        return self._mix(_some(song, span, self.plan(song, span), None, wet=False))

    def some_once(self, song: Song, span: Span, layers: frozenset[int], ways: Sequence[bool]) -> list[SectionMix]:
        """Some layers of a section, one mix a way: False without the shared spaces, True with them; none is kept."""
        song, span = played_at(song, span)
        plans = [_some(song, span, self.plan(song, span), layers, wet) for wet in ways]
        units: dict[str, Future[Unit]] = {}

        def begin(part: Part) -> Future[Unit]:
            if part.key not in units:
                units[part.key] = self._begin(part, soon=0.0)
            return units[part.key]

        made = {plan.key: self._mix(plan, begin=begin) for plan in {p.key: p for p in plans}.values()}
        return [made[plan.key] for plan in plans]

    def spaces_once(self, song: Song, span: Span) -> SectionMix:
        """What the shared spaces bring in a section: it is not kept."""
        return self._mix(self.plan(*played_at(song, span)), spaces_only=True)

    def mix_once(self, plan: Plan) -> SectionMix:
        """What a plan sounds like, for a figure: it is not kept."""
        return self._mix(plan)

    def _helped(self, plan: Plan, begin: Begin | None) -> SectionMix:
        return (self.help.take(plan) if self.help else None) or self._mix(plan, begin=begin)

    def _mix(
        self, plan: Plan, until: int | None = None, spaces_only: bool = False, begin: Begin | None = None
    ) -> SectionMix:
        if until is not None:  # of what is there already, the whole is as good and costs nothing
            parts = [p if p.key in self.cache else head_of(p, until + HEAD_MARGIN) for p in plan.parts]
            plan = replace(plan, parts=parts)
        with self._room.take(room_of(plan, until)):
            if begin is None and not spaces_only:  # what an edit changed is on its way while what is there is added up
                for part in islice((p for p in plan.parts if p.key not in self.cache), AT_ONCE):
                    self._begin(part)
            return mix_section(plan, begin or self._begin, until, spaces_only, self._beside)

    def begin_section(self, plan: Plan, wanted: Callable[[], bool]) -> None:
        """Have the parts of a section in memory, as far as they fit, and keep them there, so that one that an edit changes is mixed with
        them at once."""
        self.cache.parts.choose(part.key for part in plan.parts)
        for part in plan.parts:
            if not wanted():
                break
            self.unit(part)
            if not self.cache.parts.holds(part.key):
                break

    def unit(self, part: Part) -> Unit:
        """The sound of one layer in one section, before its level: rendered, or as it was printed."""
        return self._begin(part).result()

    def _begin(self, part: Part, soon: float = 1.0) -> Future[Unit]:
        if part.printed and self.find_audio:
            printed, find = part.printed, self.find_audio
            return self.cache.begin(part.key, lambda: Unit(printed.offset, find(printed.audio)), self._workers, soon)
        return self.cache.begin(part.key, lambda: render_unit(part.spec, part.notes, self.cache), self._workers, soon)

    # the whole song --------------------------------------------------------------------------------------------

    def before_master(
        self, song: Song, line: Timeline, low: int, high: int, layers: frozenset[int] | None = None, wet: bool = True
    ) -> Samples:
        """Samples low..high of the song's sum, mix level included, before the limiter. Shape (2, high - low).

        Effects of buses and mix that answer to level work on the whole, so some layers alone come without them.
        """
        chains = _dynamic(song) if layers is None else {}
        behind, ahead = memory(song) if chains else (0, 0)
        begin, end = (low - behind) // BLOCK * BLOCK if chains else low, high + ahead
        out, buses = self._sum(song, line, begin, end, layers, wet)
        for family in list(buses):  # each is let go of before the next one
            out += _dynamically(chains.get(family, ()), buses.pop(family))
        gain = np.float32(10.0 ** (song.master_gain_db / 20.0))
        if chains.get("master"):
            out = _dynamically(chains["master"], out)
        if gain != 1.0:
            out *= gain
        return out[:, low - begin : high - begin]

    def through_bus(
        self, song: Song, family: str, sound: Callable[[int, int], Samples], low: int, high: int
    ) -> Samples:
        """Samples low..high, (2, n), of a family's own `sound` (given between two samples, also before 0) after the effects of its bus that
        answer to level."""
        chain = _dynamic(song).get(family, ())
        behind, ahead = memory(song) if chain else (0, 0)
        begin = (low - behind) // BLOCK * BLOCK if chain else low
        return np.ascontiguousarray(_dynamically(chain, sound(begin, high + ahead))[:, low - begin : high - begin])

    def works_together(self, song: Song, family: str) -> bool:
        """Whether a family's bus has effects that answer to level."""
        return bool(_dynamic(song).get(family))

    def bus_is_sum(self, song: Song, line: Timeline, family: str) -> bool:
        """Whether what goes into a family's bus is its layers, one by one, added up: no other effect works on all of them together."""
        chains = [self.plan(song, span).buses.get(family) for span in line.spans]
        return not any(chain and chain.devices for chain in chains)

    def _sum(
        self, song: Song, line: Timeline, low: int, high: int, layers: frozenset[int] | None, wet: bool
    ) -> tuple[Samples, dict[str, Samples]]:
        """All sections that sound between two samples: the mix, and the buses that are kept apart."""
        out = silent(2, high - low)
        buses: dict[str, Samples] = {}
        for span, start in zip(line.spans, line.samples(RATE_HZ)):
            if start - PICKUP_SAMPLES > high:
                break
            if start + self.plan(song, span).reach <= low:
                continue
            mix = self._as_far_as_needed(song, span, layers, wet, high - start)
            a, b = max(low, start + mix.offset), min(high, start + mix.offset + mix.audio.shape[1])
            if a < b:
                at = a - start - mix.offset
                _add(out, mix.audio, a - low, at, b - a)
                for family, audio in mix.buses.items():
                    buses.setdefault(family, silent(2, high - low))
                    _add(buses[family], audio, a - low, at, b - a)
        return out, buses

    def _as_far_as_needed(
        self, song: Song, span: Span, layers: frozenset[int] | None, wet: bool, until: int
    ) -> SectionMix:
        """A section's mix; when it is not there yet and only its beginning is asked for, only that is mixed."""
        plan = self.plan(song, span)
        if layers is None and wet and until < plan.reach // 2 and plan.key not in self.cache:
            return self._mix(plan, until)
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
        behind, ahead_samples = memory(song)
        before = LIMITER_BEHIND + behind
        dynamics = sorted(_dynamic(song).items())
        found = []
        for i in range(len(line.spans)):
            near = [j for j in range(i + 1) if j == i or ends[j] > starts[i] - before]
            rows = [(keys[j], starts[j] - starts[i]) for j in near]
            ahead = range(i + 1, min(i + 3, len(keys)))
            rows += [
                (plans[j].head_key, starts[j] - starts[i])
                for j in ahead
                if starts[j] - starts[i + 1] < PICKUP_SAMPLES + ahead_samples
            ]
            length, last = starts[i + 1] - starts[i], i + 1 == len(keys)
            found.append(
                content_key(
                    "chunk", MASTER_VERSION, rows, starts[i] % BLOCK, length, song.master_gain_db, dynamics, last
                )
            )
        return found

    def chunk(self, song: Song, line: Timeline, index: int, key: str = "") -> Samples:
        """The finished sound of one section, (2, n) float32; the last one carries the song's tail."""
        key = key or self.chunk_keys(song, line)[index]
        return self.cache.get_or_make(key, lambda: self._chunk(song, line, index), whole=True)

    def _edges(self, song: Song, line: Timeline, index: int) -> tuple[int, int]:
        """First sample of a section and the one after its last; the last one carries the song's tail."""
        low, high = line.samples(RATE_HZ)[index : index + 2]
        return low, high + (self.tail_samples(song, line) if index + 1 == len(line.spans) else 0)

    def _before_limiter(self, song: Song, line: Timeline, index: int) -> Samples:
        return self.before_master(song, line, *self._edges(song, line, index))

    def window(self, song: Song, line: Timeline, index: int) -> Window:
        """A section as the limiter hears it; nothing of it is kept."""
        low, high = self._edges(song, line, index)
        begin = (low - PRE_ROLL_SAMPLES) // BLOCK * BLOCK
        audio = self.before_master(song, line, begin, high + AHEAD_SAMPLES)
        return Window(audio, limit(audio), low - begin, high - begin)

    def _chunk(self, song: Song, line: Timeline, index: int) -> Samples:
        section = self.window(song, line, index).section
        found = blank(*section.shape)
        found[:] = section
        return found

    def sections(
        self,
        song: Song,
        make: Callable[[int], T],
        indices: Sequence[int] | None = None,
        progress: Callable[[float], None] | None = None,
        wanted: Callable[[], bool] = lambda: True,
        again: str = "",
    ) -> Iterator[T]:
        """What `make` gives for each section, or for those at rising `indices`, in order; two are mixed at a time, ahead of it.

        `progress` is told the share that is done; when `wanted` says no, RenderStopped is raised after the section at
        hand, and what is done stays in the cache. Parts of the family `again` are asked for once more by `make`.
        """
        line = timeline(song)
        plans = [self.plan(song, span) for span in line.spans]
        starts = line.samples(RATE_HZ)
        ends = [start + plan.reach for start, plan in zip(starts, plans)]
        before = LIMITER_BEHIND + memory(song)[0]
        walk = SectionWalk(starts, ends, before, range(len(plans)) if indices is None else indices)
        soon = how_soon({j: [part.key for part in plans[j].parts] for j in walk.mixed})

        def mix(j: int) -> SectionMix:
            if not wanted():
                raise RenderStopped("A newer state is wanted; this one is not rendered to its end.")

            def begin(part: Part) -> Future[Unit]:
                return self._begin(part, 1.0 if part.family == again else soon[j, part.key])

            return self.section_mix(song, line.spans[j], begin=begin)

        with self._helping(song, [(line.spans[j], plans[j]) for j in walk.mixed]):
            yield from walk.go(
                mix,
                make,
                AHEAD_SECTIONS,
                progress or (lambda share: None),
                lambda j: self.cache.is_on_shelf(plans[j].key),
            )

    def blocks(
        self,
        song: Song,
        progress: Callable[[float], None] | None = None,
        wanted: Callable[[], bool] = lambda: True,
        limited: bool = True,
        indices: Sequence[int] | None = None,
    ) -> Iterator[Samples]:
        """The whole song with its tail, or its sections at rising `indices`, one by one, (2, n) float32 each; under the ceiling, or as it
        is before the limiter. See `sections`."""
        line = timeline(song)
        keys = self.chunk_keys(song, line) if limited else []

        def block(index: int) -> Samples:
            return self.chunk(song, line, index, keys[index]) if limited else self._before_limiter(song, line, index)

        return self.sections(song, block, indices, progress, wanted)

    @contextmanager
    def _helping(self, song: Song, spans: list[tuple[Span, Plan]]) -> Iterator[None]:
        """While a song is rendered, sections that are not there yet may be mixed elsewhere, the last ones first."""
        if self.help is None:
            yield
            return
        keys = self.help.offer(song, [row for row in spans if row[1].key not in self.cache])
        try:
            yield
        finally:
            self.help.withdraw(keys)

    def render(
        self, song: Song, progress: Callable[[float], None] | None = None, wanted: Callable[[], bool] = lambda: True
    ) -> Samples:
        """The whole song with its tail, (2, n) float32; see `blocks`."""
        line = timeline(song)
        out = np.zeros((2, line.samples(RATE_HZ)[-1] + self.tail_samples(song, line) if line.spans else 0), np.float32)
        at = 0
        for block in self.blocks(song, progress, wanted):
            out[:, at : at + block.shape[1]] = block
            at += block.shape[1]
        return out


def _add(out: Samples, source: Samples, to: int, at: int, count: int) -> None:
    bus.add_stereo(
        out[0, to : to + count],
        out[1, to : to + count],
        source[0, at : at + count],
        source[1, at : at + count],
        1.0,
        1.0,
    )


def _some(song: Song, span: Span, plan: Plan, layers: frozenset[int] | None, wet: bool) -> Plan:
    """The plan of some layers of a section, or of all without the shared spaces."""
    parts = [p if wet else dry_part(p) for p in plan.parts if layers is None or p.layer_id in layers]
    families = {p.family for p in parts}
    buses = {f: chain for f, chain in plan.buses.items() if f in families}
    return finish(song, span, parts, buses, plan.dynamic & families, plan.master, AHEAD_SAMPLES)


def dry_part(part: Part) -> Part:
    """A part that is sent into no space."""
    gains = replace(part.gains, sends=(0.0,) * len(part.gains.sends))
    return replace(part, gains=gains, throws=(), moving=tuple(m for m in part.moving if m.slot not in SEND_PATHS))


def _duck_sources(song: Song, span: Span) -> tuple[object, ...]:
    """Events of layers that duck others without sounding themselves in what is played."""
    sources = {x.duck_by for x in song.layers if x.duck_db > 0 and x.duck_by > 0}
    return tuple(
        (i, layer_events(song, span, song.layer_by_id[i]), song.layer_by_id[i].muted)
        for i in sorted(sources)
        if i in song.layer_by_id
    )


def _dynamic(song: Song) -> dict[str, tuple[tuple[str, Settings], ...]]:
    """Effects that answer to level, by family, and of the master."""
    found = {b.family: dynamic_devices(b.devices) for b in song.buses}
    found["master"] = dynamic_devices(song.master)
    return {name: devices for name, devices in found.items() if devices}


def memory(song: Song) -> tuple[int, int]:
    """Samples that level-dependent effects of buses and mix look back and ahead, one after the other."""
    chains = _dynamic(song)
    master = [compressor_memory(Stage(k, s, 0, 0, 0.0)) for k, s in chains.get("master", ())]
    buses = [
        [compressor_memory(Stage(k, s, 0, 0, 0.0)) for k, s in chain] for f, chain in chains.items() if f != "master"
    ]
    behind = sum(b for b, _ in master) + max((sum(b for b, _ in chain) for chain in buses), default=0)
    ahead = sum(a for _, a in master) + max((sum(a for _, a in chain) for chain in buses), default=0)
    return behind, ahead


def _dynamically(devices: tuple[tuple[str, Settings], ...], audio: Samples) -> Samples:
    for key, settings in devices:
        audio = PROCESSES[key].process(audio, Stage(key, settings, 0, audio.shape[1], 0.0, whole=False))
    return audio
