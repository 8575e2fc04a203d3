"""A scale that was fitted to an earlier energy model is fitted once to the present one; targets stay."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.song import EnergyScale, Song
from escalera.core.energy.explain import fitted_scale
from escalera.core.energy.model import arranged
from escalera.core.energy.terms import MODEL


def with_present_scale(song: Song) -> Song:
    """The song with its own scale under the present model; as it is where it has none, or one that is up to date."""
    if song.scale.gain is None or song.scale.model >= MODEL or not song.sections:
        return song
    gain, offset = fitted_scale(arranged(song))
    return replace(song, scale=EnergyScale(gain, offset, MODEL, True))
