"""Samples heard: alone at a matched loudness, or in a section of a song as they would be laid there, and what they would do to it."""

from __future__ import annotations

from dataclasses import asdict, replace
from functools import lru_cache

import numpy as np

from escalera.core.document.recordings import Clip, Sample
from escalera.core.document.song import Song
from escalera.core.edits.clip_mends import BorrowFill
from escalera.core.edits.edit import layer_of, section_of
from escalera.core.edits.recording_edits import ExchangeSample, LaySample, MendClip, clip_of, usual_family
from escalera.core.edits.slice_edits import slice_rows
from escalera.core.energy.model import section_energy
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import parse_key
from escalera.errors import EscaleraError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.listen.tones import settled_pitch, third_of
from escalera.services.rendering import RATE_HZ, Rendering, wav_bytes
from escalera.services.samples import Samples
from escalera.sound.recording_files import library

ALONE_LUFS, CEILING = -20.0, 10.0 ** (-1.0 / 20.0)
ALONE_S = 60.0
FADE_S = 0.005
PITCHED = 0.85  # so much of a slice its pitch has to explain


@dataclass(frozen=True, slots=True)
class Landing:
    """Where a section's energy would land with a sample, against what it is meant to reach."""

    energy: float
    wanted: float

    @property
    def off(self) -> float:
        return self.energy - self.wanted


def alone_wav(samples: Samples, sample_id: int, start_s: float = 0.0) -> bytes:
    """A sample by itself, at the loudness all are heard at, at most a minute of it. Raises NotFound where its audio is gone."""
    card = samples.card(sample_id)
    reading = samples.reading(sample_id)
    audio = library.read(card.content, round(max(0.0, start_s) * RATE_HZ), round(ALONE_S * RATE_HZ))
    if audio is None or not audio.shape[1]:
        raise NotFound(f"The audio of {card.name} is missing. Bring the file in again; its content is recognised.")
    gain = 10.0 ** (
        (ALONE_LUFS - (reading.integrated_lufs if reading.integrated_lufs is not None else ALONE_LUFS)) / 20.0
    )
    peak = float(np.abs(audio).max(initial=1e-9))
    audio = audio * np.float32(min(gain, CEILING / peak))
    fade = min(audio.shape[1] // 2, round(FADE_S * RATE_HZ))
    if fade:
        audio[:, -fade:] *= np.linspace(1.0, 0.0, fade, dtype=np.float32)
    return wav_bytes(np.stack((audio[0], audio[-1])))


def with_laid(song: Song, sample: Sample, section_id: int, use: str, family: str, layer_id: int = 0) -> Song:
    """The song with a sample laid in a section, or in the place of a recorded layer's own."""
    if layer_id:
        return ExchangeSample(layer_id, asdict(sample)).apply(song)
    return LaySample(asdict(sample), section_id, use, family or usual_family(sample, use)).apply(song)


def in_song_wav(rendering: Rendering, song: Song, section_id: int) -> bytes:
    """A section as it sounds, from its first sample to its last: what goes round in the loop."""
    return rendering.chunk_wav(song, song.index_of(section_of(song, section_id).id))


def part_wav(rendering: Rendering, song: Song, section_id: int, layer_id: int) -> bytes:
    """One layer of a section by itself, as it enters the mix, what rings over the end heard at the beginning: laid over the rest
    of the section while that goes round."""
    span = timeline(song).span_of(section_of(song, section_id).id)
    mix = rendering.renderer.section_mix(song, span, frozenset([layer_id]))
    length = round(span.length_seconds * RATE_HZ)
    audio = np.zeros((2, length), np.float32)
    for first in range(-(-max(0, -mix.offset) // length) * -length, mix.audio.shape[1] + mix.offset, length):
        low, high = max(first, mix.offset), min(first + length, mix.offset + mix.audio.shape[1])
        if high > low:
            audio[:, low - first : high - first] += mix.audio[:, low - mix.offset : high - mix.offset]
    return wav_bytes(audio * np.float32(10.0 ** (song.master_gain_db / 20.0)))


def without_layer(song: Song, layer_id: int) -> Song:
    """The song with a layer muted."""
    return song.with_layer(replace(layer_of(song, layer_id), muted=True))


def laid_layer(before: Song, after: Song, layer_id: int) -> int:
    """The layer that plays a sample which was laid: the one it was exchanged in, or the new one."""
    old = before.layer_by_id
    return layer_id or next(x.id for x in after.layers if x.id not in old)


def landing(
    song: Song, sample: Sample, section_id: int, use: str = "loop", family: str = "", layer_id: int = 0
) -> Landing | None:
    """What laying a sample would do to a section's energy; None where it cannot be laid."""
    try:
        after = with_laid(song, sample, section_id, use, family, layer_id)
    except EscaleraError:
        return None
    section = section_of(after, section_id)
    energy = section_energy(after, timeline(after).span_of(section_id)).value
    wanted = (section.target.start + section.target.end) / 2.0
    return Landing(round(float(energy), 2), round(float(wanted), 2))


def is_here(content: str) -> bool:
    """Whether a sample's audio is there."""
    return library.has(content)


@lru_cache(maxsize=256)
def outline(content: str, start_s: float, end_s: float, steps: int) -> tuple[tuple[float, float], ...]:
    """Lowest and highest sample of every step of a stretch, read in blocks; nothing where the audio is missing."""
    first, last = round(start_s * RATE_HZ), round(end_s * RATE_HZ)
    edges = np.linspace(first, last, steps + 1).astype(int)
    found: list[tuple[float, float]] = []
    for low in range(0, steps, 64):
        high = min(steps, low + 64)
        audio = library.read(content, int(edges[low]), int(edges[high] - edges[low]))
        if audio is None:
            return ()
        mono = audio.mean(axis=0)
        for i in range(low, high):
            part = mono[edges[i] - edges[low] : max(edges[i + 1], edges[i] + 1) - edges[low]]
            found.append((float(part.min(initial=0.0)), float(part.max(initial=0.0))))
    top = max((max(-a, b) for a, b in found), default=0.0) or 1.0
    return tuple((round(a / top, 3), round(b / top, 3)) for a, b in found)


def slice_pitches(song: Song, layer_id: int, pattern_id: int) -> list[float]:
    """The pitch that every slice of a pattern settles on, as MIDI with its cents, its clip's transposition included; 0 where it has none."""
    layer = layer_of(song, layer_id)
    return [clip_pitch(clip_of(layer, row[3])) for row in slice_rows(song, layer, pattern_id)]


def clip_pitch(clip: Clip) -> float:
    """The pitch a clip settles on, as MIDI with its cents, its transposition included; 0 where it has none."""
    audio = library.read(clip.sample, round(clip.start_s * RATE_HZ), round(min(clip.seconds, 2.0) * RATE_HZ))
    pitch = settled_pitch(audio) if audio is not None else None
    if pitch is None or pitch.hz is None or pitch.confidence < PITCHED:
        return 0.0
    return 69.0 + 12.0 * float(np.log2(pitch.hz / 440.0)) + clip.semitones


@lru_cache(maxsize=256)
def chord_third(content: str, key: str) -> str:
    """The third that a recorded chord has over its key's tonic: "minor", "major", or none for a note or a bare fifth."""
    audio = library.read(content, 0, 2 * RATE_HZ)
    return third_of(audio, parse_key(key).tonic_class) if audio is not None else ""


def mended(song: Song, layer_id: int, number: int, way: str, fill: Sample | None = None) -> Song:
    """The song with a clip brought onto whole bars in one of the ways, to be heard before it is taken; `fill` is what is borrowed."""
    if fill is not None:
        return BorrowFill(layer_id, asdict(fill), number).apply(song)
    return MendClip(layer_id, number, way).apply(song)
