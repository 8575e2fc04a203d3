"""Powers of spectra, and their sums over stretches of bins."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray


def power_of(spectrum: NDArray[np.complex64], other: NDArray[np.complex64] | None = None) -> NDArray[np.float32]:
    """Squared magnitudes, or what two spectra have in common in phase, of the same shape. What `np.abs` does beside, a root of every
    number, takes most of its time."""
    other = spectrum if other is None else other
    found: NDArray[np.float32] = spectrum.real * other.real
    found += spectrum.imag * other.imag
    return found


def summed_between(power: NDArray[np.floating], edges: Sequence[int]) -> NDArray[np.float64]:
    """Sums of the last axis between consecutive `edges`, bins that rise and end before the last one: shape (…, n) to (…, len(edges) - 1)."""
    found = np.add.reduceat(power, edges, axis=-1)[..., :-1].astype(np.float64)
    found[..., np.diff(edges) == 0] = 0.0  # where there is nothing between, it gives the bin itself
    return found
