"""The key of a set of notes: correlation with key profiles (Krumhansl and Kessler 1982)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.theory.keys import MODES, Key
from escalera.core.theory.pitch import nearest_fifths

MAJOR = np.array([6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88])
MINOR = np.array([6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17])


def find_key(weights: NDArray[np.float64]) -> tuple[Key, Key, float]:
    """Best and second-best key for weights (12,) of the pitch classes, and the margin between their correlations."""
    if weights.sum() <= 0 or np.ptp(weights) == 0:
        return Key(), Key(-3 + 3, "minor"), 0.0
    rows = []
    for mode, profile in (("major", MAJOR), ("minor", MINOR)):
        for tonic in range(12):
            value = float(np.corrcoef(np.roll(profile, tonic), weights)[0, 1])
            rows.append((value, Key(nearest_fifths(tonic, -MODES[mode][1]), mode)))
    rows.sort(key=lambda row: -row[0])
    return rows[0][1], rows[1][1], rows[0][0] - rows[1][0]
