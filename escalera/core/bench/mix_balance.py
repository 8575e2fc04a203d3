"""The balance of a mix by bands: a target for every style, and the small changes of level that bring a section near it.

`SPECTRA` are octave levels in dB of the whole, from 63 Hz to 16 kHz: a shelf of low end without a hole above it, then down
by three to five dB an octave, as mixes that carry over to other rooms have it. Dance music has more below 90 Hz, songs more where voices lie.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.bench.seats import Seat
from escalera.core.document.song import Song
from escalera.core.energy.features import band_powers
from escalera.core.energy.stats import BAND_EDGES_HZ
from escalera.core.reading.timeline import Span

OCTAVES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16000.0)
SPECTRA: dict[str, tuple[float, ...]] = {
    "dance": (-5.5, -10.5, -8.0, -7.0, -9.5, -13.0, -16.0, -18.5, -20.5),
    "song": (-7.5, -10.0, -7.5, -6.0, -8.5, -13.5, -17.5, -21.0, -24.0),
    "band": (-7.0, -9.5, -6.5, -6.5, -9.5, -14.0, -17.5, -21.5, -24.5),
    "weather": (-6.0, -10.5, -7.5, -6.5, -9.0, -13.5, -18.0, -22.0, -26.0),
    "balanced": (-7.5, -9.5, -7.0, -6.0, -9.5, -14.0, -17.5, -20.0, -23.0),
}  # fmt: skip
MOST_DB, STEP_DB = 6.0, 0.5
HOLD = {"lead voice": 0.5, "hook": 0.35, "kick": 0.25, "snare": 0.35}  # how firmly a seat keeps the level of its job
USUAL_HOLD = 0.08
Floats = NDArray[np.float64]


def target_bands(school: str) -> Floats:
    """The style's spectrum in the six bands of energy, shares of the whole, shape (6,)."""
    power = 10.0 ** (np.array(SPECTRA.get(school, SPECTRA["balanced"])) / 10.0)
    edges = np.log2(np.array(BAND_EDGES_HZ))
    low = np.log2(np.array(OCTAVES_HZ)) - 0.5
    overlap = np.clip(np.minimum(edges[1:, None], low + 1.0) - np.maximum(edges[:-1, None], low), 0.0, 1.0)
    shares: Floats = overlap @ power
    return shares / shares.sum()


def balancing(song: Song, span: Span, row: list[Seat]) -> dict[int, float]:
    """By layer id, the change of level in dB that brings a section nearest to its style's spectrum; at most MOST_DB each.

    What leads and what gives the pulse keep their levels most; the sum of what is changed is kept small.
    """
    layers = [s.layer for s in row]
    edges = np.array([0.0, span.length_seconds])
    powers = band_powers(song, span, layers, edges)[:, 0, :]
    heard = powers.sum(axis=1) > 0
    hold = np.array([HOLD.get(s.part, USUAL_HOLD) for s in row])
    wanted = 10.0 * np.log10(target_bands(song.school))
    change = np.zeros(len(row))
    best = _cost(powers, change[None], wanted, hold)[0]
    while True:
        tries = change + STEP_DB * np.concatenate((np.diag(heard * 1.0), -np.diag(heard * 1.0)))
        tries = tries[(np.abs(tries) <= MOST_DB).all(axis=1)]
        costs = _cost(powers, tries, wanted, hold)
        if costs.min() >= best - 1e-6:
            return {layer.id: float(db) for layer, db in zip(layers, change)}
        best, change = float(costs.min()), tries[int(costs.argmin())]


def _cost(powers: Floats, changes: Floats, wanted: Floats, hold: Floats) -> Floats:
    total = (10.0 ** (changes / 10.0)) @ powers
    shares = 10.0 * np.log10(np.maximum(total / total.sum(axis=1, keepdims=True), 1e-9))
    cost: Floats = (
        ((shares - wanted) ** 2).sum(axis=1) + (changes**2) @ hold + 0.1 * changes.sum(axis=1) ** 2 / len(hold)
    )
    return cost
