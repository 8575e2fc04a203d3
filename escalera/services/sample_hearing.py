"""Samples heard: alone at a matched loudness, or in a section of a song as they would be laid there, and what they would do to it."""

from __future__ import annotations

from dataclasses import asdict, dataclass

import numpy as np

from escalera.core.document.recordings import Sample
from escalera.core.document.song import Song
from escalera.core.edits.edit import section_of
from escalera.core.edits.recording_edits import ExchangeSample, LaySample, usual_family
from escalera.core.energy.model import section_energy
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError, NotFound
from escalera.services.rendering import RATE_HZ, Rendering, wav_bytes
from escalera.services.samples import Samples
from escalera.sound.recording_files import library

ALONE_LUFS, CEILING = -20.0, 10.0 ** (-1.0 / 20.0)
ALONE_S = 60.0
FADE_S = 0.005


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
    return LaySample(asdict(sample), section_id, use, family or usual_family(sample)).apply(song)


def in_song_wav(rendering: Rendering, song: Song, section_id: int) -> bytes:
    """A section as it sounds, from its first sample to its last: what goes round in the loop."""
    return rendering.chunk_wav(song, song.index_of(section_of(song, section_id).id))


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
