"""The song's scale as a layout may fit it: everything together reaches the highest target, the least the lowest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from escalera.core.bench.seats import Seat
from escalera.core.document.song import EnergyScale, Song
from escalera.core.energy.terms import MODEL, compute_terms, school_scale, weights
from escalera.core.layout.material import Material

GAIN_RANGE = (0.6, 2.2)  # against the style's own
MARGIN = 0.4  # what everything together has above the highest target: not all of it need play
LEAST = 1.2  # energy of the quietest layer alone


def with_fitting_scale(song: Song, row: Sequence[Seat], material: Mapping[int, Material]) -> Song:
    """The song with its scale fitted to what its layers reach together; as it is where its own scale is frozen."""
    if song.scale.gain is not None or not material:
        return song
    most, least = _reach(song, list(material.values()))
    wanted = MARGIN + max((s.target.mean for s in song.sections if s.id in material), default=9.0)
    usual, _ = school_scale(song.school)
    if most - least < 0.2:
        return song
    gain = float(np.clip((wanted - LEAST) / (most - least), usual * GAIN_RANGE[0], usual * GAIN_RANGE[1]))
    offset = min(0.0, wanted - gain * most)
    return replace(song, scale=EnergyScale(round(gain, 4), round(offset, 4), MODEL))


def _reach(song: Song, material: Sequence[Material]) -> tuple[float, float]:
    """Raw energy of everything together, the highest there is, and of the quietest layer that is heard alone."""
    points = weights(song.school)
    most = max(float((compute_terms(m.with_kick[0].sum(axis=0)) @ points).max()) for m in material)
    alone = np.concatenate([(compute_terms(m.without[0]) @ points).mean(axis=1)[m.plays] for m in material])
    heard = alone[alone > 0.3]
    return most, float(heard.min()) if len(heard) else 0.0
