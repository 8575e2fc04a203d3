"""A mix as it might come out of a workstation, for trying and showing: other sounds, another balance, driven, late, a section left out."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.edits.stand_in_edits import ExchangeSound, alternatives_to
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError
from escalera.services.jobs import Tell, Wanted
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

if TYPE_CHECKING:
    from escalera.services.studio import Studio

LATE_S, DRIVE, CACHE_MB = 0.68, 2.0, 120
LEVELS_DB = {"drums": 1.5, "low end": 1.0, "voices": -1.5}  # as somebody else would balance it
Audio = NDArray[np.float32]


def elsewhere(song: Song) -> Song:
    """The song with every sound exchanged for another of its kind, and another balance."""
    for layer in song.layers:
        if len(alternatives_to(layer)) > 1:
            try:
                song = ExchangeSound(layer.id).apply(song)
            except EscaleraError:
                continue  # a printed layer keeps its sound
    levels = (replace(x, level_db=max(-60.0, x.level_db + LEVELS_DB.get(x.family, 0.0))) for x in song.layers)
    return replace(song, layers=tuple(levels))


def stand_in_mix(song: Song, tell: Tell = lambda share: None, wanted: Wanted = lambda: True) -> Audio:
    """The made-up mix, (2, n) at 44.1 kHz: it begins late, and one section in the middle is not in it where there are more than two."""
    mix = np.tanh(DRIVE * Renderer(CACHE_MB).render(elsewhere(song), tell, wanted)) / np.float32(1.1)
    spans = timeline(song).spans
    if len(spans) > 2:
        span = spans[len(spans) // 2]
        low, high = (round(x * RATE_HZ) for x in (span.start_seconds, span.start_seconds + span.length_seconds))
        mix = np.concatenate((mix[:, :low], mix[:, high:]), axis=1)
    return np.pad(mix, ((0, 0), (round(LATE_S * RATE_HZ), 0))).astype(np.float32)


def add_stand_in(
    studio: Studio, song_id: int, song: Song, tell: Tell = lambda share: None, wanted: Wanted = lambda: True
) -> int:
    """Keep a made-up mix as a bounce of a song; the bounce's id."""
    audio = stand_in_mix(song, lambda share: tell(0.9 * share), wanted)
    sample = studio.samples.add_audio(
        f"{song.title}, made-up mix", audio, "Escalera’s own", "program", f"“{song.title}” by other sounds, for trying"
    )
    return studio.add_bounce(song_id, sample, "made up, to try it out")
