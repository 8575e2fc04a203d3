"""Bounces: mixes of a song made elsewhere, laid over its bars, measured like the sketch, kept and compared."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from escalera.cleaning import clean_line
from escalera.core.bounce_judgement import BounceReading, SectionHeard
from escalera.core.document.fields import adapter
from escalera.core.document.song import Song
from escalera.core.energy.felt import felt_bars
from escalera.core.energy.model import arranged
from escalera.core.energy.stats import INDEX, empty
from escalera.core.energy.terms import scale_of, weights
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.listen.alignment import Alignment, align, traces_of
from escalera.listen.frames import Frames, read_frames
from escalera.meters.span_meters import SpanMeters, measure_spans
from escalera.services.rendering import MeasuredSection, Rendering, measured_section
from escalera.sound.content import content_key
from escalera.sound.measurement import measure_section
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ
from escalera.store import bounce_store as shelf
from escalera.store.database import Database
from escalera.store.models import BounceRow

MOST = 60  # bounces of a song
MOST_TIMES = 2.5  # as long as the song a mix may be, and a minute
BLOCK = 10 * RATE_HZ
SILENT_LUFS = -120.0
NEAR_S = 0.01
EARLY_S = 0.006  # by which a bar of a bounce is entered early: the first hit of the next one is not its last
Tell = Callable[[float], None]
Wanted = Callable[[], bool]
Audio = NDArray[np.float32]
Values = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Bounce:
    """A kept bounce. `reading` is None until it was read, or where `trouble` says why it cannot be; `fresh` is false where the
    song's bars have changed since."""

    id: int
    content: str
    name: str
    note: str
    made_at: datetime
    reading: BounceReading | None
    trouble: str
    fresh: bool


def form_of(song: Song) -> str:
    """What a bounce is laid over: the bars of every section, in seconds."""
    spans = timeline(song).spans
    return content_key(
        "bounce", [(s.section.id, [round(float(s.seconds_at(t)), 4) for t in s.bar_ticks]) for s in spans]
    )


def bars_of(song: Song) -> Values:
    """Seconds at which the song's bars begin, and its last one ends; shape (bars + 1,)."""
    line = timeline(song)
    starts = [s.start_seconds + float(s.seconds_at(t)) for s in line.spans for t in s.bar_ticks[:-1]]
    return np.array([*starts, line.seconds])


class Bounces:
    """The bounces of all songs."""

    def __init__(self, database: Database, rendering: Rendering):
        self._database, self._rendering = database, rendering

    def add(self, song_id: int, content: str, name: str, note: str = "") -> int:
        """Keep a recording of the library as a bounce of a song; its id. Raises InputError where no more fit."""
        with self._database.write() as session:
            known = shelf.of_song(session, song_id)
            if any(row.content == content for row in known):
                return next(row.id for row in known if row.content == content)
            if len(known) >= MOST:
                raise InputError(f"{MOST} bounces of this song are kept, and no more fit. Remove some first.")
            return shelf.add(
                session, BounceRow(song_id=song_id, content=content, name=name[:200], note=clean_line(note)[:300])
            )

    def of_song(self, song_id: int, song: Song) -> list[Bounce]:
        """A song's bounces, the newest first."""
        with self._database.read() as session:
            rows = shelf.of_song(session, song_id)
            form = form_of(song) if rows else ""
            return [_bounce(row, form) for row in rows]

    def remove(self, song_id: int, bounce_id: int) -> str:
        """Take a bounce away; its recording stays in the library. Returns its name. Raises NotFound."""
        with self._database.write() as session:
            name = _row_of_song(session, song_id, bounce_id).name
            shelf.remove(session, bounce_id)
            return name

    def set_note(self, song_id: int, bounce_id: int, note: str) -> None:
        with self._database.write() as session:
            _row_of_song(session, song_id, bounce_id).note = clean_line(note)[:300]

    def need(self, song_id: int, bounce_id: int) -> None:
        """Raises NotFound where a song has no such bounce."""
        with self._database.read() as session:
            _row_of_song(session, song_id, bounce_id)

    def forget(self, song_id: int) -> None:
        """A song is gone for good, and its bounces with it."""
        with self._database.write() as session:
            for row in shelf.of_song(session, song_id):
                shelf.remove(session, row.id)

    def read(self, bounce_id: int, song: Song, tell: Tell = lambda share: None, wanted: Wanted = lambda: True) -> None:
        """Lay a bounce over the song's bars and measure it; what cannot be read is kept as a sentence."""
        with self._database.read() as session:
            row = shelf.row_of(session, bounce_id)
            content, name = row.content, row.name
        report, trouble = "", ""
        try:
            found = read_bounce(song, self._rendering, content, name, tell, wanted)
            report = json.dumps(adapter(BounceReading).dump_python(found, mode="json"))
        except (InputError, NotFound) as error:
            trouble = str(error)
        with self._database.write() as session:
            row = shelf.row_of(session, bounce_id)
            row.report, row.trouble, row.form = report, trouble[:400], form_of(song)


def _row_of_song(session: Session, song_id: int, bounce_id: int) -> BounceRow:
    row = shelf.row_of(session, bounce_id)
    if row.song_id != song_id:
        raise NotFound("This bounce belongs to another song. Load the page again.")
    return row


@lru_cache(maxsize=64)  # every look at the stair asks for it
def _parsed(report: str) -> BounceReading | None:
    try:
        found: BounceReading = adapter(BounceReading).validate_python(json.loads(report))
    except ValueError:
        return None
    return found


def _bounce(row: BounceRow, form: str) -> Bounce:
    reading = _parsed(row.report)
    return Bounce(row.id, row.content, row.name, row.note, row.made_at, reading, row.trouble, row.form in ("", form))


def read_bounce(
    song: Song,
    rendering: Rendering,
    content: str,
    name: str,
    tell: Tell = lambda s: None,
    wanted: Wanted = lambda: True,
) -> BounceReading:
    """A recording of the library laid over a song. Raises InputError where it is not that song, NotFound where its audio is gone."""
    if not library.has(content):
        raise NotFound(f"The audio of {name} is missing. Bring the file in again; its content is recognised.")
    return read_mix(song, rendering, name, lambda low, count: library.read(content, low, count), tell, wanted)


def read_mix(
    song: Song,
    rendering: Rendering,
    name: str,
    read: Callable[[int, int], Audio | None],
    tell: Tell = lambda share: None,
    wanted: Wanted = lambda: True,
) -> BounceReading:
    """As `read_bounce`, of sound that `read(first sample, how many)` gives, (channels, n) at 44.1 kHz."""
    if not song.sections:
        raise InputError("The song has no sections yet, so that nothing can be laid over it. Add some first.")
    bars = bars_of(song)
    sketch = rendering.renderer.render(song, lambda share: tell(0.4 * share), wanted)
    own = read_frames(iter_blocks(lambda low, count: sketch[:, low : low + count]))
    tell(0.6)
    other = read_frames(iter_blocks(read))
    tell(0.75)
    if other.seconds > MOST_TIMES * bars[-1] + 60.0:
        raise InputError(
            f"{name} lasts {other.seconds:.0f} s, and the song {bars[-1]:.0f} s: it is taken for something else. Cut it to one song first."
        )
    starts = np.cumsum([0, *(s.bars for s in song.sections)])[:-1]
    found = align(traces_of(own), traces_of(other), bars, frozenset(starts.tolist()))
    if not found.found:
        there = int((~np.isnan(found.starts_s[:-1])).sum())
        raise InputError(
            f"{name} does not sound like this song: {there} of {len(bars) - 1} bars have their like in it. "
            f"Bring in a mix of {song.title}, or choose the song it belongs to."
        )
    tell(0.8)
    return _reading(song, rendering, read, found, own, other)


def iter_blocks(read: Callable[[int, int], Audio | None]) -> Iterator[Audio]:
    """All sound in blocks of ten seconds."""
    at = 0
    while (block := read(at, BLOCK)) is not None and block.shape[1]:
        yield np.ascontiguousarray(block[:2])
        at += block.shape[1]


def _reading(
    song: Song,
    rendering: Rendering,
    read: Callable[[int, int], Audio | None],
    found: Alignment,
    own: Frames,
    other: Frames,
) -> BounceReading:
    gain_db = own.loudness_lufs() - other.loudness_lufs()
    line, first, sections, drawn = timeline(song), 0, [], []
    keys = rendering.renderer.chunk_keys(song, line)
    for index, span in enumerate(line.spans):
        bars = span.section.bars
        place = _Laying(span, found.starts_s[first : first + bars + 1], 1.0 + found.drift_ppm * 1e-6)
        sketch = measure_section(rendering.renderer, song, line, index, keys[index]).meters
        meters, there = place.meters(read, 10.0 ** (gain_db / 20.0), sketch)
        sections.append(_heard(song, measured_section(song, span, meters), there))
        drawn.append(_heard(song, measured_section(song, span, sketch), np.ones(bars, bool)))
        first += bars
    there = ~np.isnan(found.starts_s[:-1])
    return BounceReading(
        round(found.offset_s, 4), round(found.drift_ppm, 1), tuple(i + 1 for i in found.missing),
        tuple((bar + 1, count) for bar, count in found.added), round(float(found.likeness[there].mean()), 3),
        round(gain_db, 2), round(other.loudness_lufs(), 2), round(float(other.true_peak), 2), tuple(sections), tuple(drawn),
    )  # fmt: skip


class _Laying:
    """Where one section lies in a recording: `starts_s` (bars + 1,) of its bars, nan where one is missing; the last is where the
    next section begins. `slower` is the recording's time against the song's."""

    def __init__(self, span: Span, starts_s: Values, slower: float):
        self.span, self.slower = span, slower
        self.edges = np.array([float(span.seconds_at(t)) for t in span.bar_ticks])
        self.starts = starts_s[:-1]

    def at(self, seconds: float) -> float:
        """Seconds in the recording of a moment of the section; nan where its bar is missing."""
        bar = min(len(self.starts) - 1, int(np.searchsorted(self.edges, seconds + 1e-6, side="right")) - 1)
        return float(self.starts[bar] + (seconds - self.edges[bar]) * self.slower)

    def felt(self) -> list[tuple[float, float] | None]:
        """Beginning and end of every felt bar in the recording; None where it is not there in one piece."""
        edges = felt_bars(self.span.grid).seconds
        found: list[tuple[float, float] | None] = []
        for low, high in zip(edges, edges[1:]):
            a, b = self.at(float(low)), self.at(float(high) - 1e-3) + 1e-3
            whole = abs((b - a) - (high - low) * self.slower) < NEAR_S and a > -2 * NEAR_S
            found.append((max(a, EARLY_S), b) if np.isfinite(a) and np.isfinite(b) and whole else None)
        return found

    def meters(
        self, read: Callable[[int, int], Audio | None], gain: float, sketch: SpanMeters
    ) -> tuple[SpanMeters, NDArray[np.bool_]]:
        """Meters of the section's felt bars, nothing where one is missing; and which notated bars are there."""
        places = self.felt()
        count = len(places)
        made = SpanMeters(empty(count), np.full(count, SILENT_LUFS), np.ones(count), np.zeros(count))
        for low, run in _runs(places):
            high, begin = low + len(run), round((run[0][0] - EARLY_S) * RATE_HZ)
            moments = [*(start for start, _ in run), run[-1][1]]
            edges = np.rint((np.array(moments) - EARLY_S) * RATE_HZ).astype(np.int64) - begin
            audio = read(max(0, begin), int(edges[-1]))
            audio = np.zeros((2, 0), np.float32) if audio is None else audio[:2]
            audio = np.pad(audio, ((0, 0), (0, max(0, int(edges[-1]) - audio.shape[1]))))
            heard = measure_spans(np.stack((audio[0], audio[-1])) * np.float32(gain), RATE_HZ, edges)
            made.stats[low:high], made.lufs[low:high] = heard.stats, heard.lufs
            made.correlation[low:high], made.centroid_hz[low:high] = heard.correlation, heard.centroid_hz
        whole = np.maximum(sketch.stats[:, :6].sum(axis=1), 1e-12)
        share = (
            sketch.stats[:, INDEX["voice"]] / whole
        )  # voices cannot be told apart in a mix: their share is the sketch's
        made.stats[:, INDEX["voice"]] = share * made.stats[:, :6].sum(axis=1)
        return made, ~np.isnan(self.starts)


def _runs(places: list[tuple[float, float] | None]) -> list[tuple[int, list[tuple[float, float]]]]:
    """Felt bars that follow one another in the recording: the number of the first, and where each lies."""
    runs: list[tuple[int, list[tuple[float, float]]]] = []
    for i, place in enumerate(places):
        if place is None:
            continue
        goes_on = bool(runs) and runs[-1][0] + len(runs[-1][1]) == i and abs(runs[-1][1][-1][1] - place[0]) < NEAR_S
        if goes_on:
            runs[-1][1].append(place)
        else:
            runs.append((i, [place]))
    return runs


def _heard(song: Song, section: MeasuredSection, there: NDArray[np.bool_]) -> SectionHeard:
    gain, _ = scale_of(song)
    share = float(there.mean()) if len(there) else 0.0
    bars = tuple(round(float(v), 3) if t else None for v, t in zip(section.bars, there))
    points = np.asarray(section.mean_terms) * gain * weights(song.school) / max(share, 1e-6)
    heard = bool(there.any())
    return SectionHeard(
        section.span.section.id, section.span.section.name,
        round(float(section.bars[there].mean()), 3) if heard else None, bars,
        round(float(10 * np.log10((10 ** (section.lufs[there] / 10)).mean())), 2) if heard else None,
        round(float(section.width[there].mean()), 3) if heard else None,
        tuple(round(float(x), 3) for x in points) if heard else (),
        tuple(round(float(x), 1) for x in section.bands_db[there].mean(axis=0)) if heard else (),
    )  # fmt: skip


def bounce_report(song: Song, reading: BounceReading) -> dict[str, Any]:
    """A bounce beside the plan, for the command line; null where a section is not in it."""
    values = {e.span.section.id: float(e.value) for e in arranged(song).sections}
    return {
        "offset_s": reading.offset_s, "drift_ppm": reading.drift_ppm, "missing_bars": list(reading.missing_bars),
        "added_bars": [list(x) for x in reading.added_bars],
        "sections": [
            {
                "name": s.name, "target": round(song.section_by_id[s.section_id].target.mean, 3), "arranged": round(values[s.section_id], 3),
                "sketch": own.energy, "bounce": s.energy, "integrated_lufs": None if s.integrated_lufs is None else round(s.integrated_lufs - reading.gain_db, 2),
            }
            for s, own in zip(reading.sections, reading.sketch)
        ],
    }  # fmt: skip
