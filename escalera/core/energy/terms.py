"""From stats to the terms, each 0..1, and from terms to energy. Formulas and reasons: docs/energy-model.md.

Every function is vectorised over leading axes: stats of shape (…, WIDTH) give terms of shape (…, len(TERMS)).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.schools import SCHOOLS, TERMS
from escalera.core.document.song import EnergyScale, Song
from escalera.core.energy.stats import INDEX, Stats
from escalera.lazy_dataclasses import dataclass

Values = NDArray[np.float64]

MODEL = 2  # raised when the formulas change, so that what was fitted to them is fitted anew
# name: (quiet, full) levels in dB between which a band goes from nothing to all
BAND_RANGE_DB = ((-46.0, -16.0), (-46.0, -18.0), (-48.0, -20.0), (-52.0, -24.0), (-60.0, -32.0), (-64.0, -36.0))
WEIGHT_RANGE_DB = (-40.0, -15.0)
HITS_FULL_PER_S = 5.0
ONSETS_FULL_PER_S = 8.0
KICKS_FULL_PER_S = 2.0
LOW_HELD_RANGE_DB = (-44.0, -18.0)
CENTRE_RANGE_HZ = (250.0, 2500.0)
PRESENCE_RANGE_DB = (-62.0, -34.0)
PITCH_RANGE = (52.0, 88.0)
WIDTH_FULL = 0.30
VOICE_RANGE_DB = (-44.0, -18.0)
LOUDNESS_RANGE_DB = (-42.0, -12.0)
K_POWER = np.array(
    [0.4, 0.8, 1.0, 1.17, 2.2, 2.5]
)  # what K weighting (BS.1770) makes of the power in every band, on average


def decibels(power: Values) -> Values:
    """Mean square in dB of full scale, of any shape; floor −140 dB."""
    return 10.0 * np.log10(np.maximum(power, 1e-14))


def ramp(value: Values, low: float, high: float) -> Values:
    """0 at `low`, 1 at `high`, straight between."""
    return np.clip((value - low) / (high - low), 0.0, 1.0)


def saturate(rate: Values, scale: float) -> Values:
    """1 - exp(-rate / scale): the first hits count most."""
    return 1.0 - np.exp(-rate / scale)


# columns whose levels are needed, and the ranges in dB over which they count, in one table: one logarithm for all
LEVELS = ("band0", "band1", "band2", "band3", "band4", "band5", "lead", "above_150", "voice", "low_held")
LEVEL_COLUMNS = np.array([INDEX[name] for name in LEVELS])
LOW_DB, HIGH_DB = np.array([*BAND_RANGE_DB, *(PRESENCE_RANGE_DB,) * 2, VOICE_RANGE_DB, LOW_HELD_RANGE_DB]).T
LEAD, ABOVE, VOICE, LOW_HELD = range(6, 10)


def _centre(stats: Stats) -> Values:
    """Where the centroid of all that sounds above 150 Hz lies in its range."""
    power = stats[..., INDEX["sustained"]] + stats[..., INDEX["struck"]]
    centre = (stats[..., INDEX["sustained_centre"]] + stats[..., INDEX["struck_centre"]]) / np.maximum(power, 1e-14)
    low, high = np.log2(CENTRE_RANGE_HZ)
    return ramp(centre, low, high)


def compute_terms(stats: Stats) -> Values:
    """The terms in the order of TERMS."""
    level = decibels(stats[..., LEVEL_COLUMNS])
    heard = np.clip((level - LOW_DB) / (HIGH_DB - LOW_DB), 0.0, 1.0)
    lead, above = stats[..., INDEX["lead"]], stats[..., INDEX["above_150"]]
    out = np.empty((*stats.shape[:-1], len(TERMS)))
    out[..., 0] = saturate(stats[..., INDEX["hits"]], HITS_FULL_PER_S)
    out[..., 1] = saturate(stats[..., INDEX["onsets"]], ONSETS_FULL_PER_S)
    kicks = saturate(stats[..., INDEX["kicks"]], KICKS_FULL_PER_S)
    out[..., 2] = 0.5 * ramp(level[..., 0], *WEIGHT_RANGE_DB) + 0.15 * kicks + 0.35 * heard[..., LOW_HELD]
    out[..., 3] = heard[..., :6].mean(axis=-1)
    out[..., 4] = _centre(stats) * heard[..., ABOVE]
    out[..., 5] = ramp(stats[..., INDEX["lead_pitch"]] / np.maximum(lead, 1e-14), *PITCH_RANGE) * heard[..., LEAD]
    side = stats[..., INDEX["side"]] / np.maximum(above, 1e-14)
    out[..., 6] = np.clip(side / WIDTH_FULL, 0.0, 1.0) ** 0.7 * heard[..., ABOVE]
    out[..., 7] = heard[..., VOICE]
    out[..., 8] = ramp(decibels(stats[..., :6] @ K_POWER), *LOUDNESS_RANGE_DB)
    return out


def weights(school: str) -> Values:
    """Points that every full term is worth, in the order of TERMS."""
    return np.array([SCHOOLS[school].weights[term] for term in TERMS])


def school_scale(school: str) -> tuple[float, float]:
    """Gain and offset that map the school's usual raw range to 1..9."""
    row = SCHOOLS[school]
    gain = 8.0 / (row.ceiling - row.floor)
    return gain, min(0.0, 1.0 - gain * row.floor)


def scale_of(song: Song | EnergyMeasure) -> tuple[float, float]:
    """Gain and offset that put the sum of terms on 0..10: the song's own once frozen, else its style's."""
    scale: EnergyScale = song.scale
    return school_scale(song.school) if scale.gain is None else (scale.gain, scale.offset)


@dataclass(frozen=True, slots=True)
class EnergyMeasure:
    """What energy is measured by: all of a song that `to_energy` asks for."""

    school: str
    scale: EnergyScale


def to_energy(terms: Values, song: Song | EnergyMeasure) -> Values:
    """Energy 0 and up of this song from terms (…, len(TERMS))."""
    gain, offset = scale_of(song)
    return np.maximum(0.0, gain * (terms @ weights(song.school)) + offset)
