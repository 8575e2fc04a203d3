"""Sound for the rest of the program: chunks to play, measurements that arrive later, whole songs and stems."""

from __future__ import annotations

import io
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from threading import Event, Lock
from typing import Any, TypeVar

import numpy as np
from cachetools import TTLCache
from numpy.typing import NDArray

from escalera.core.caching import Results
from escalera.core.document.song import Layer, Song
from escalera.core.energy.explain import Agreement, agreement
from escalera.core.energy.features import known_events
from escalera.core.energy.felt import felt_bars
from escalera.core.energy.stats import INDEX
from escalera.core.energy.terms import compute_terms, to_energy
from escalera.core.reading.timeline import Span, Timeline, timeline
from escalera.errors import MeasureError, RenderStopped
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import SILENCE, Loudness
from escalera.meters.span_meters import SpanMeters, band_levels_db
from escalera.services.logs import LOG
from escalera.services.memory import give_back
from escalera.sound.content import content_key
from escalera.sound.disk import DiskShelf
from escalera.sound.master import limit
from escalera.sound.measurement import SectionMeters, measure_key, measure_section, song_loudness
from escalera.sound.mix import FindAudio, Renderer
from escalera.sound.plan import Plan
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import duck_gain
from escalera.sound.stacking import StackReport, stack_report

MEASURE_TRIES = 3
WAV_PIECE = 1 << 16  # samples that are turned into bytes at once
OUTDATED, FAILED = "outdated", "failed"
Values = NDArray[np.float64]
T = TypeVar("T")


@dataclass(frozen=True, eq=False)
class Chunk:
    """One section as the player asks for it."""

    section_id: int
    key: str
    start: int
    samples: int


@dataclass(frozen=True, eq=False)
class MeasuredSection:
    """Measured energy and figures of one section; arrays are per notated bar."""

    span: Span
    value: float
    bars: Values
    lufs: Values
    bands_db: Values
    onsets_per_s: Values
    centroid_hz: Values
    width: Values
    correlation: Values
    section_lufs: float
    mean_terms: Values

    @property
    def phrases(self) -> Values:
        """Measured energy of every phrase."""
        starts = np.cumsum((0, *self.span.section.phrases[:-1]))
        return np.asarray(np.add.reduceat(self.bars, starts) / self.span.section.phrases)


@dataclass(frozen=True, eq=False)
class MeasuredSong:
    sections: tuple[MeasuredSection, ...]
    loudness: Loudness
    true_peak_dbtp: float
    agreement: Agreement

    def of(self, section_id: int) -> MeasuredSection:
        return next(s for s in self.sections if s.span.section.id == section_id)


class Rendering:
    """One per process. `disk` is a folder and a size in megabytes for sound that outlives a restart."""

    def __init__(self, cache_mb: int, find_audio: FindAudio | None = None, disk: tuple[Path, int] | None = None):
        self.shelf = DiskShelf(disk[0], disk[1] * 1_000_000) if disk and disk[1] else None
        self.renderer = Renderer(cache_mb, find_audio, self.shelf)
        self._progress: dict[int, float] = {}
        self._stacks: Results[tuple[StackReport | None]] = Results(256)
        self._figures: Results[Any] = Results(1024)
        self._jobs: dict[str, Future[MeasuredSong | str]] = {}
        self._newest: dict[int, str] = {}
        self._chosen = ""
        self._failed: TTLCache[str, int] = TTLCache(64, 600)
        self._lock = Lock()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="measure")
        # cleared while a start makes its first pages, which kernels on their way would hold up
        self.may_measure = Event()
        self.may_measure.set()
        self.patience_s = 0.0  # how long a measurement waits, so that what was changed is heard before

    def kept(self, key: str, make: Callable[[], T]) -> T:
        """A figure by what it depends on, made once."""
        found: T = self._figures.get_or_make(key, make)
        return found

    # playing ---------------------------------------------------------------------------------------------------

    def chunks(self, song: Song) -> list[Chunk]:
        """What to play, section by section; nothing is rendered yet."""
        line = timeline(song)
        starts, keys = line.samples(RATE_HZ), self.renderer.chunk_keys(song, line)
        return [Chunk(span.section.id, key, a, b - a) for span, key, a, b in zip(line.spans, keys, starts, starts[1:])]

    def chunk_wav(self, song: Song, index: int) -> bytes:
        """One section as a 16-bit WAV; the last one carries the song's tail."""
        line = timeline(song)
        key = self.renderer.chunk_keys(song, line)[index]
        found = self.shelf.get_wav(key) if self.shelf else None
        if found is None:
            begun = time.perf_counter()
            found = wav_bytes(self.renderer.chunk(song, line, index, key))
            LOG.info("section %d rendered in %.0f ms", index + 1, 1000 * (time.perf_counter() - begun))
            if self.shelf:
                self.shelf.put(key, found)
        return found

    # measuring -------------------------------------------------------------------------------------------------

    def alone_wav(self, song: Song, section_id: int, layer_id: int) -> bytes:
        """One layer by itself in one section, with its spaces, under the ceiling, as a 16-bit WAV."""
        line = timeline(song)
        span = line.span_of(section_id)
        start = line.samples(RATE_HZ)[line.spans.index(span)]
        end = start + max(1, self.renderer.plan(song, span).reach)
        audio = self.renderer.before_master(song, line, start, end, frozenset((layer_id,)))
        limit(audio)
        return wav_bytes(audio)

    def duck_curve(self, song: Song, span: Span, layer_id: int, bars: int = 2, points: int = 240) -> Values | None:
        """Gain in dB that ducking gives a layer over the first bars of a section in which it is ducked, or None."""
        plan = self.renderer.plan(song, span)
        part = next((p for p in plan.parts if p.layer_id == layer_id and p.duck), None)
        if part is None or part.duck is None or not len(plan.onsets[part.duck[0]]):
            return None
        edges = [round(s * RATE_HZ) for s in span.grid.bar_seconds]
        first = int(np.searchsorted(edges, plan.onsets[part.duck[0]][0], side="right")) - 1
        low, high = edges[max(0, first)], edges[min(len(edges) - 1, max(0, first) + bars)]
        gain = duck_gain(plan, part.duck, low, high - low)
        return 20 * np.log10(np.maximum(gain[:: max(1, len(gain) // points)], 1e-3))

    def stack_report(self, layer: Layer) -> StackReport | None:
        """Whether a layer's stacked sounds cancel in the low end."""
        key = content_key("stack", layer.sound_key, layer.settings, [replace(p, id=0) for p in layer.stack])
        found = self._stacks.get(key)
        if found is None:
            found = self._stacks.put(key, (stack_report(layer),))
        report = found[0]
        if report and report.remedy:  # ids are no part of what is remembered
            mine = next((p for p in layer.stack if p.sound_key == report.remedy.sound_key), layer.stack[0])
            report = replace(report, remedy=replace(report.remedy, id=mine.id))
        return report

    def print_state(self, song: Song, layer_id: int) -> tuple[int, int]:
        """In how many sections a layer's print sounds, and in how many it plays."""
        parts = [
            p for span in timeline(song).spans for p in self.renderer.plan(song, span).parts if p.layer_id == layer_id
        ]
        return sum(p.printed is not None for p in parts), len(parts)

    def measure(
        self, song: Song, progress: Callable[[float], None] | None = None, wanted: Callable[[], bool] = lambda: True
    ) -> MeasuredSong:
        """Render what is not cached, and measure it. Raises RenderStopped between sections when it is not wanted."""
        line = timeline(song)
        renderer, keys = self.renderer, self.renderer.chunk_keys(song, line)

        def measure(index: int) -> SectionMeters:
            return measure_section(renderer, song, line, index, keys[index])

        heard = {i: measure(i) for i, key in enumerate(self._measure_keys(song)) if key in renderer.cache}
        missing = [i for i in range(len(keys)) if i not in heard]
        heard |= zip(missing, renderer.sections(song, measure, missing, progress, wanted, again="voices"))
        parts = [heard[i] for i in range(len(keys))]
        sections = tuple(measured_section(song, span, part.meters) for span, part in zip(line.spans, parts))
        found = agreement(song.sections, [s.value for s in sections], [s.phrases.tolist() for s in sections])
        starts = line.samples(RATE_HZ)
        whole = song_loudness(parts, starts, starts[-1] + renderer.tail_samples(song, line))
        peak = max((part.true_peak_dbtp for part in parts), default=SILENCE)
        return MeasuredSong(sections, whole, peak, found)

    def _measure_keys(self, song: Song) -> list[str]:
        line = timeline(song)
        chunk_keys = self.renderer.chunk_keys(song, line)
        return [measure_key(self.renderer, song, line, i, key) for i, key in enumerate(chunk_keys)]

    def _song_key(self, song: Song) -> str:
        targets = [(s.id, s.target, s.bars) for s in song.sections]
        return content_key(self._measure_keys(song), song.school, song.scale, targets)

    def measured_now(self, song: Song) -> MeasuredSong | None:
        """The measurement if it is there; nothing is begun."""
        with self._lock:
            job = self._jobs.get(self._song_key(song))
        found = job.result() if job is not None and job.done() and not job.cancelled() else None
        return found if isinstance(found, MeasuredSong) else None

    def measured_later(self, song_id: int, song: Song) -> MeasuredSong | None:
        """The measurement if it is there; else start it and return None. Only the newest state of a song is measured."""
        key = self._song_key(song)
        with self._lock:
            self._newest[song_id] = key
            job = self._jobs.get(key)
            if job is None:
                while len(self._jobs) > 24:
                    self._jobs.pop(next(iter(self._jobs)))
                self._jobs[key] = self._pool.submit(self._if_newest, song_id, key, song)
                return None
        if not job.done() or job.cancelled():
            return None
        found = job.result()
        if isinstance(found, MeasuredSong):
            return found
        with self._lock:
            tries = self._failed[key] = self._failed.get(key, 0) + (found == FAILED)
            if tries < MEASURE_TRIES:
                self._jobs.pop(key, None)  # tried again when it is asked for again
                return None
        raise MeasureError(
            f"This state could not be measured ({tries} tries); what went wrong is in the log. "
            f"Listening and editing go on; change something, and it is tried again."
        )

    def _if_newest(self, song_id: int, key: str, song: Song) -> MeasuredSong | str:
        """The measurement, or why there is none. Nothing is raised: a kept exception would hold the sound of its frames."""
        self.may_measure.wait()
        time.sleep(self.patience_s)
        if self._newest.get(song_id) != key:
            return OUTDATED
        try:
            return self.measure(
                song, lambda share: self._progress.__setitem__(song_id, share), lambda: self._newest.get(song_id) == key
            )
        except RenderStopped:
            return OUTDATED
        except Exception:
            LOG.exception("measuring song %s failed", song_id)
            return FAILED
        finally:
            give_back()

    def choose(self, song: Song, section_id: int) -> None:
        """Say which section is worked in: once what is being measured is done, its parts are brought into memory, so that the next edit
        in it is soon heard. Only the section that was chosen last is."""
        plan = self.renderer.plan(song, timeline(song).span_of(section_id))
        if self._chosen != plan.key:
            self._chosen = plan.key
            self._pool.submit(self._get_ready, plan)

    def _get_ready(self, plan: Plan) -> None:
        self.may_measure.wait()
        try:
            self.renderer.begin_section(plan, lambda: self._chosen == plan.key)
        except Exception:  # it is made again when it is listened to, and said there
            LOG.exception("the parts of a section could not be made ready")

    def measured_share(self, song_id: int) -> float:
        """How far the measurement at hand has come, 0..1."""
        return self._progress.get(song_id, 0.0)

    def forget(self) -> None:
        """Let go of all kept sound, in memory and on disk; it is made again when it is wanted."""
        self.renderer.cache.clear()
        if self.shelf:
            self.shelf.clear()

    def close(self) -> None:
        self._newest.clear()
        self._chosen = ""
        self.may_measure.set()
        if self.shelf:
            self.shelf.close()
        self._pool.shutdown(wait=True, cancel_futures=True)


def measured_section(song: Song, span: Span, meters: SpanMeters) -> MeasuredSection:
    """Energy and figures of a section from the meters of its felt bars."""
    felt = felt_bars(span.grid)
    terms = compute_terms(known_events(song, span, meters.stats))
    energy = to_energy(terms, song)
    energy = np.where(meters.stats[:, :6].sum(axis=1) > 1e-9, energy, 0.0)
    per_bar = felt.over(np.array([span.seconds_at(t) for t in span.bar_ticks]))
    power, whole = 10.0 ** (meters.lufs / 10.0), felt.lengths_s / felt.lengths_s.sum()
    side = meters.stats[:, INDEX["side"]] / np.maximum(meters.stats[:, INDEX["above_150"]], 1e-14)
    with np.errstate(divide="ignore"):
        return MeasuredSection(
            span,
            float(energy @ whole),
            per_bar @ energy,
            10 * np.log10(per_bar @ power),
            band_levels_db(per_bar @ meters.stats),
            per_bar @ (meters.stats[:, INDEX["hits"]] + meters.stats[:, INDEX["onsets"]]),
            per_bar @ meters.centroid_hz,
            per_bar @ side,
            per_bar @ meters.correlation,
            float(10 * np.log10(power @ whole)),
            whole @ terms,
        )


def wav_bytes(audio: NDArray[np.float32]) -> bytes:
    """A 16-bit WAV file of (2, n) samples, without soundfile's overhead."""
    import wave

    target = io.BytesIO()
    with wave.open(target, "wb") as out:
        out.setnchannels(2)
        out.setsampwidth(2)
        out.setframerate(RATE_HZ)
        out.setnframes(audio.shape[1])
        for at in range(0, audio.shape[1], WAV_PIECE):  # the steps in between take several times the room of the file
            piece = np.rint(audio[:, at : at + WAV_PIECE].T * 32767.0)
            out.writeframesraw(np.clip(piece, -32768, 32767).astype("<i2").tobytes())
    return target.getvalue()


__all__ = ["RATE_HZ", "Chunk", "MeasuredSection", "MeasuredSong", "Rendering", "StackReport", "Timeline", "wav_bytes"]
