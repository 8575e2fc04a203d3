"""Joins heard and measured: a passage about the one, its contrast by bands, reports and the table of cues."""

from __future__ import annotations

from typing import Any

import numpy as np

from escalera.core.document.song import Song
from escalera.core.energy.join_cues import join_cues, place_text
from escalera.core.energy.join_reading import JoinReading, read_join, read_joins
from escalera.core.energy.stats import BANDS
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import clock_ms
from escalera.formats.tables import csv_text
from escalera.meters.span_meters import measure_spans
from escalera.services.rendering import Rendering, wav_bytes
from escalera.sound.content import content_key
from escalera.sound.master import AHEAD_SAMPLES, BLOCK, PRE_ROLL_SAMPLES, limit
from escalera.sound.schedule import RATE_HZ

QUIETEST_DB = -90.0  # what is softer counts as this
SILENT = 1e-4  # amplitude below which nothing sounds: −80 dB
EDGE_S = 0.002
NEAR_BARS = 2
COLUMNS = (
    "from",
    "to",
    "what",
    "purpose",
    "played by",
    "placed",
    "start bar.beat",
    "end bar.beat",
    "start time",
    "end time",
)


def passage_edges(song: Song, index: int, before: int, after: int) -> tuple[int, int, int]:
    """First sample of a passage of so many bars about a join, the one, and the sample after its last."""
    line = timeline(song)
    starts = line.samples(RATE_HZ)
    left, right = line.spans[index - 1], line.spans[index]
    low = left.bar_ticks[max(0, left.section.bars - before)]
    high = right.bar_ticks[min(right.section.bars, after)]
    return (
        starts[index - 1] + round(left.seconds_at(low) * RATE_HZ),
        starts[index],
        starts[index] + round(right.seconds_at(high) * RATE_HZ),
    )


def passage_key(rendering: Rendering, song: Song, index: int, before: int, after: int) -> str:
    """What the sound of a passage depends on."""
    keys = rendering.renderer.chunk_keys(song, timeline(song))
    low, one, high = passage_edges(song, index, before, after)
    return content_key("passage", keys[max(0, index - 1) : index + 2], low - one, high - one)


def join_passage(rendering: Rendering, song: Song, index: int, before: int, after: int) -> bytes:
    """The last bars before a join and the first ones after it as they sound, as a WAV that can go round without a gap."""
    line, (low, _, high) = timeline(song), passage_edges(song, index, before, after)
    begin = (low - PRE_ROLL_SAMPLES) // BLOCK * BLOCK  # as chunks are, so that it is the same sound
    window = rendering.renderer.before_master(song, line, begin, high + AHEAD_SAMPLES)
    limit(window)
    audio = np.ascontiguousarray(window[:, low - begin : high - begin])
    edge = min(round(EDGE_S * RATE_HZ), audio.shape[1] // 4)
    ramp = np.linspace(0.0, 1.0, edge, dtype=np.float32)
    audio[:, :edge] *= ramp
    audio[:, audio.shape[1] - edge :] *= ramp[::-1]
    return wav_bytes(audio)


def contrast(rendering: Rendering, song: Song, reading: JoinReading) -> dict[str, tuple[float, float]]:
    """How much louder every band is after a join, in dB: its first beat against the last beat that is heard before it, and two bars
    against two bars."""
    line, renderer = timeline(song), rendering.renderer
    starts = line.samples(RATE_HZ)
    left, right, one = line.spans[reading.index - 1], line.spans[reading.index], starts[reading.index]
    first = one + round(right.seconds_at(right.bar_metres[0].beat_ticks) * RATE_HZ)
    low, _, high = passage_edges(song, reading.index, NEAR_BARS, NEAR_BARS)
    base = max(starts[reading.index - 1], min(low, one - 4 * RATE_HZ))
    audio = renderer.before_master(song, line, base, max(high, first))
    heard = np.flatnonzero(np.abs(audio[:, : one - base]).max(axis=0) > SILENT)
    beat = round((left.length_seconds - left.seconds_at(max(0, left.length_ticks - reading.beat_ticks))) * RATE_HZ)
    stop = (
        one if not len(heard) or base + heard[-1] > one - beat // 4 else base + int(heard[-1]) + 1
    )  # what a silence leaves
    begin = max(base, stop - beat)

    def bands(a: int, b: int) -> np.ndarray:
        power = measure_spans(audio[:, a - base : b - base], RATE_HZ, np.array([0, b - a])).stats[0, : len(BANDS)]
        return np.maximum(10.0 * np.log10(np.maximum(power, 1e-12)), QUIETEST_DB)

    beats, bars = bands(one, first) - bands(begin, stop), bands(one, high) - bands(low, one)
    return {name: (round(float(a), 1), round(float(b), 1)) for name, a, b in zip(BANDS, beats, bars)}


def contrast_of(rendering: Rendering, song: Song, index: int) -> dict[str, tuple[float, float]]:
    """As `contrast`, kept while nothing of it changes."""
    reading = read_join(song, index)
    key = content_key("contrast", passage_key(rendering, song, index, NEAR_BARS, NEAR_BARS), reading.gap_ticks)
    return rendering.kept(key, lambda: contrast(rendering, song, reading))


def joins_report(rendering: Rendering, song: Song) -> dict[str, Any]:
    """Every join with its devices, gap, peak of tension and contrast, for the command line."""
    rows = []
    for r in read_joins(song):
        found = contrast_of(rendering, song, r.index)
        rows.append(
            {
                "from": r.left.section.name,
                "to": r.right.section.name,
                "bar": r.right.first_bar,
                "devices": [
                    {
                        "kind": c.kind,
                        "start": place_text(song, r.index, c.start_ticks),
                        "end": place_text(song, r.index, c.end_ticks),
                        "placed": c.placed,
                    }
                    for c in r.carriers
                ],
                "gap_beats": round(r.gap_beats, 3),
                "tension_peak": place_text(song, r.index, r.peak_ticks),
                "contrast_db": {band: beat for band, (beat, _) in found.items()},
            }
        )
    return {"joins": rows}


def cues_csv(song: Song) -> str:
    """The table of cues as CSV."""
    rows = (
        (cue.from_name, cue.to_name, cue.what, cue.purpose, cue.player, "yes" if cue.placed else "found", cue.start, cue.end,
         clock_ms(cue.start_s), clock_ms(cue.end_s))
        for cue in join_cues(song)
    )  # fmt: skip
    return csv_text((COLUMNS, *rows))
