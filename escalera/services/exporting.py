"""Handing over: a song as MIDI, audio, stems, project or cue sheet. One row a format; every surface loops over them."""

from __future__ import annotations

import io
import re
import unicodedata
import zipfile
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from escalera.core.document.song import Song
from escalera.core.reading.tiles import where
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text
from escalera.errors import InputError, RenderStopped, shown
from escalera.formats.audio import encode_audio
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.services.rendering import Rendering
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
    write: Callable[[Song, Rendering, Options], bytes]
    audio: bool = False


def _midi(song: Song, rendering: Rendering, options: Options) -> bytes:
    return write_midi(song)


def _project(song: Song, rendering: Rendering, options: Options) -> bytes:
    return write_project(song)


def _wav(song: Song, rendering: Rendering, options: Options) -> bytes:
    return (
        _stems(song, rendering, options, "wav")
        if options.stems
        else encode_audio(_mix(song, rendering, options), RATE_HZ, "wav", options.bits)
    )


def _flac(song: Song, rendering: Rendering, options: Options) -> bytes:
    return (
        _stems(song, rendering, options, "flac")
        if options.stems
        else encode_audio(_mix(song, rendering, options), RATE_HZ, "flac", options.bits)
    )


def _mix(song: Song, rendering: Rendering, options: Options) -> np.ndarray:
    audio = rendering.renderer.render(song, lambda share: options.tell(0.9 * share), options.wanted)
    return cut_bars(song, audio, options.bars) if options.bars else audio


def cut_bars(song: Song, audio: np.ndarray, bars: tuple[int, int]) -> np.ndarray:
    """Samples of a range of bars, first and last included. Raises InputError when the song has no such bars."""
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

    return audio[:, sample(first) : sample(last + 1) if last < high else starts[-1]]


def _stems(song: Song, rendering: Rendering, options: Options, kind: str) -> bytes:
    """A zip with one file a layer, all from bar 1 and of the same length, tails included; wet ones add up to the mix."""
    line, renderer = timeline(song), rendering.renderer
    total = line.samples(RATE_HZ)[-1] + renderer.tail_samples(song, line)
    layers = [
        x for x in song.layers if not x.muted and any(p.layer_id == x.id for s in song.sections for p in s.placements)
    ]
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as out:
        stems = []
        for number, x in enumerate(layers):
            if not options.wanted():
                raise RenderStopped("The stems were called off. Nothing was written.")
            stems.append(renderer.before_master(song, line, 0, total, frozenset((x.id,)), options.wet))
            options.tell(0.8 * (number + 1) / len(layers))
        loudest = max((float(np.abs(s).max(initial=0.0)) for s in stems), default=0.0)
        gain = min(1.0, 0.99 / loudest) if loudest else 1.0
        for number, (layer, stem) in enumerate(zip(layers, stems), 1):
            out.writestr(
                f"{number:02d}-{file_name(layer.name)}.{kind}",
                encode_audio(stem * np.float32(gain), RATE_HZ, kind, options.bits),
            )
        out.writestr("cue-sheet.txt", cue_sheet(song, gain))
    return target.getvalue()


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


def _cue(song: Song, rendering: Rendering, options: Options) -> bytes:
    return cue_sheet(song).encode()


FORMATS: dict[str, ExportFormat] = {row.key: row for row in (
    ExportFormat("midi", "MIDI file", "Notes, tempo, metre, key and a marker per section; a track per layer.", "mid", "audio/midi", _midi),
    ExportFormat("wav", "WAV", "The mix under −1 dBTP, or one file per layer.", "wav", "audio/wav", _wav, True),
    ExportFormat("flac", "FLAC", "As WAV, in about half the space.", "flac", "audio/flac", _flac, True),
    ExportFormat("json", "Project file", "Everything, to open here again or elsewhere.", "json", "application/json", _project),
    ExportFormat("cue", "Cue sheet", "Sections with bars and clock times, and the layers, as text.", "txt", "text/plain", _cue),
)}  # fmt: skip


def export(song: Song, rendering: Rendering, key: str, options: Options) -> tuple[str, str, bytes]:
    """File name, media type and bytes. Raises InputError for an unknown format or option."""
    if key not in FORMATS:
        raise InputError(f"“{shown(key)}” is not a format. Choose one of: {', '.join(FORMATS)}.")
    row = FORMATS[key]
    if options.stems and not row.audio:
        raise InputError(f"{row.label} has no stems. Choose wav or flac for one file per layer.")
    data = row.write(song, rendering, options)
    if options.stems:
        return f"{file_name(song.title)}-stems.zip", "application/zip", data
    return f"{file_name(song.title)}.{row.extension}", row.mimetype, data


def file_name(title: str) -> str:
    """A title as a plain file name: letters, digits and hyphens; never a path."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9]+", "-", plain).strip("-").lower()[:60] or "song"
