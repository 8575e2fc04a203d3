"""Handing over: a song as MIDI, audio, stems, project or cue sheet. One row a format; every surface loops over them."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from escalera.core.document.song import Layer, Song
from escalera.core.energy.join_cues import join_cues
from escalera.core.handing.file_names import plain_name
from escalera.core.joins import played
from escalera.core.reading.tiles import where
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text
from escalera.errors import InputError, RenderStopped, shown
from escalera.formats.audio import AudioWriter
from escalera.formats.bundle import write_bundle
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.formats.wav_cues import write_wav_cues
from escalera.lazy_dataclasses import dataclass
from escalera.services.join_service import cues_csv
from escalera.services.rendering import Rendering
from escalera.services.sample_report import rights_csv
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ


@dataclass(frozen=True, slots=True)
class Options:
    """How audio is written. `tell` hears how far it is; when `wanted` says no, RenderStopped ends it."""

    stems: bool = False
    wet: bool = True
    bits: int = 16
    bars: tuple[int, int] | None = None
    tell: Callable[[float], None] = lambda share: None
    wanted: Callable[[], bool] = lambda: True


@dataclass(frozen=True, slots=True)
class ExportFormat:
    key: str
    label: str
    help: str
    extension: str
    mimetype: str
    write: Callable[[Song, Rendering, Options, Path], None]
    audio: bool = False


def _midi(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    path.write_bytes(write_midi(song))


def _project(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    path.write_bytes(write_project(song))


def _audio(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    """A mix, written as it is rendered; the whole is never in memory, and of a range of bars only their sections are rendered."""
    low, high = bar_samples(song, options.bars) if options.bars else (0, None)
    starts = timeline(song).samples(RATE_HZ)
    inside = [i for i, end in enumerate(starts[1:]) if end > low and (high is None or starts[i] < high)]
    with AudioWriter(path, RATE_HZ, 2, path.suffix[1:], options.bits) as out:
        at = starts[inside[0]] if inside else 0
        for block in rendering.renderer.blocks(
            song, lambda share: options.tell(0.98 * share), options.wanted, indices=inside
        ):
            size = block.shape[1]
            out.write(block[:, max(0, low - at) : size if high is None else max(0, min(size, high - at))])
            at += size
    if path.suffix == ".wav":
        write_wav_cues(path, wav_cues(song, low, at if high is None else high))


def wav_cues(song: Song, low: int, high: int) -> list[tuple[int, str]]:
    """Sections and what carries their joins as markers: sample from the file's start, and a name."""
    line = timeline(song)
    rows = [(start, span.section.name) for start, span in zip(line.samples(RATE_HZ), line.spans)]
    rows += [(round(c.start_s * RATE_HZ), f"{c.what} into {c.to_name}") for c in join_cues(song)]
    return [(at - low, name) for at, name in sorted(rows) if low <= at < high]


def bar_samples(song: Song, bars: tuple[int, int]) -> tuple[int, int]:
    """First sample, and the one after the last, of a range of bars. Raises InputError when the song has no such bars."""
    line, (first, last) = timeline(song), bars
    low, high = 1 - song.lead_bars, song.bars - song.lead_bars
    if not low <= first <= last <= high:
        raise InputError(
            f"Bars {first}–{last} are not in this song, which has bars {low}–{high}. Choose bars inside it."
        )
    starts = line.samples(RATE_HZ)

    def sample(bar: int) -> int:
        span, tick = line.locate_bar(bar)
        return starts[line.spans.index(span)] + round(span.seconds_at(tick) * RATE_HZ)

    return sample(first), sample(last + 1) if last < high else starts[-1]


class _Stems:
    """One file a layer, all from bar 1 and of the same length, tails included; wet ones add up to the mix."""

    def __init__(self, song: Song, rendering: Rendering, options: Options):
        self.song, self.renderer, self.options, self.line = song, rendering.renderer, options, timeline(song)
        placed = {p.layer_id for s in played(song).sections for p in s.placements}
        self.layers = [x for x in song.layers if not x.muted and x.id in placed]
        starts = self.line.samples(RATE_HZ)
        total = starts[-1] + self.renderer.tail_samples(song, self.line)
        edges = sorted({*starts, *range(0, total, 20 * RATE_HZ), total})
        self.windows = list(zip(edges, edges[1:]))
        self.steps, self.done = 2 * len(self.layers), 0

    def blocks(self, layer: Layer) -> Iterator[np.ndarray]:
        """The sound of one layer in windows that follow one another; two are worked on at a time."""

        def window(edges: tuple[int, int]) -> np.ndarray:
            if not self.options.wanted():
                raise RenderStopped("The stems were called off. Nothing was written.")
            return self.renderer.before_master(self.song, self.line, *edges, frozenset((layer.id,)), self.options.wet)

        with ThreadPoolExecutor(2) as pool:
            yield from pool.map(window, self.windows)
        self.done += 1
        self.options.tell(0.98 * self.done / self.steps)

    def gain(self) -> float:
        """What all are lowered by together, so that none passes full scale."""
        loudest = max((float(np.abs(b).max(initial=0.0)) for x in self.layers for b in self.blocks(x)), default=0.0)
        return min(1.0, 0.99 / loudest) if loudest else 1.0

    def write(self, path: Path, kind: str) -> None:
        gain = self.gain()
        with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as out:
            for number, layer in enumerate(self.layers, 1):
                stem = path.with_suffix(f".stem.{kind}")
                with AudioWriter(stem, RATE_HZ, 2, kind, self.options.bits) as audio:
                    for block in self.blocks(layer):
                        audio.write(block, gain)
                out.write(stem, f"{number:02d}-{plain_name(layer.name)}.{kind}")
                stem.unlink()
            out.writestr("cue-sheet.txt", cue_sheet(self.song, gain))


def cue_sheet(song: Song, stem_gain: float = 1.0) -> str:
    """The song as text that a person reads: sections with bars and clock times, layers with their sounds."""
    line = timeline(song)
    lines = [song.title, f"{song.tempo_bpm:g} bpm, {song.metre}, {key_text(song.key)}, {song.bars} bars", ""]
    lines += [f"{span.section.name}: {where(span)}" for span in line.spans]
    lines += ["", "Layers"] + [f"{x.name}: {x.sound.label}, {x.level_db:g} dB" for x in song.layers]
    if stem_gain < 1.0:
        lines += [
            "",
            f"All stems were lowered by {-20 * np.log10(stem_gain):.1f} dB together, so that none passes full scale.",
        ]
    return "\n".join(lines) + "\n"


def _cue(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    path.write_text(cue_sheet(song), "utf-8")


def _join_table(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    path.write_text(cues_csv(song), "utf-8")


def _bundle(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    """The project with the recordings that are there; those that are missing keep their place in it."""
    found = {s.content: library.path(s.content) for s in song.samples}
    write_bundle(write_project(song), {content: file for content, file in found.items() if file}, path)


def _rights(song: Song, rendering: Rendering, options: Options, path: Path) -> None:
    path.write_text(rights_csv(song), "utf-8")


FORMATS: dict[str, ExportFormat] = {row.key: row for row in (
    ExportFormat("midi", "MIDI file", "Notes, tempo, metre, key and a marker per section; a track per layer.", "mid", "audio/midi", _midi),
    ExportFormat("wav", "WAV", "The mix under −1 dBTP, or one file per layer.", "wav", "audio/wav", _audio, True),
    ExportFormat("flac", "FLAC", "As WAV, in about half the space.", "flac", "audio/flac", _audio, True),
    ExportFormat("json", "Project file", "Everything, to open here again or elsewhere.", "json", "application/json", _project),
    ExportFormat("bundle", "Project with its recordings", "The project file and the audio its recorded layers play, as one zip.", "zip", "application/zip", _bundle),
    ExportFormat("rights", "Table of samples", "Every recording the song uses: source, licence, credit line, and what is not cleared.", "csv", "text/csv", _rights),
    ExportFormat("joins", "Table of joins", "What carries every join, in bars.beats and clock time, to build it again elsewhere.", "csv", "text/csv", _join_table),
    ExportFormat("cue", "Cue sheet", "Sections with bars and clock times, and the layers, as text.", "txt", "text/plain", _cue),
)}  # fmt: skip


def format_of(key: str, stems: bool = False) -> ExportFormat:
    """A format by its key. Raises InputError for one that there is not, or stems of what has none."""
    if key not in FORMATS:
        raise InputError(f"“{shown(key)}” is not a format. Choose one of: {', '.join(FORMATS)}.")
    if stems and not FORMATS[key].audio:
        raise InputError(f"{FORMATS[key].label} has no stems. Choose wav or flac for one file per layer.")
    return FORMATS[key]


def export(song: Song, rendering: Rendering, key: str, options: Options, folder: Path) -> tuple[Path, str]:
    """Write a file into a folder: its path and media type. Raises InputError for an unknown format or option.

    It is written under another name first and then renamed, so that no half file has its name.
    """
    row = format_of(key, options.stems)
    name = f"{plain_name(song.title)}-stems.zip" if options.stems else f"{plain_name(song.title)}.{row.extension}"
    fresh = folder / f"unfinished.{row.extension}"
    if options.stems:
        _Stems(song, rendering, options).write(fresh, row.extension)
    else:
        row.write(song, rendering, options, fresh)
    return fresh.rename(folder / name), "application/zip" if options.stems else row.mimetype
