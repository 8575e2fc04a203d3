"""The columns that energy is computed from. Arranged and measured energy fill the same ones, in the same units.

All powers are mean squares of one channel at full scale 1, averaged over both channels; a span is a felt bar.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

BAND_EDGES_HZ = (30.0, 90.0, 250.0, 800.0, 3000.0, 8000.0, 18000.0)
BANDS = ("30–90", "90–250", "250–800", "800–3k", "3k–8k", "above 8k")
BAND_CENTRES_HZ = tuple(float(np.sqrt(a * b)) for a, b in zip(BAND_EDGES_HZ, BAND_EDGES_HZ[1:]))

COLUMNS = (
    *(f"band{i}" for i in range(6)),
    "hits",  # weighted drum hits a second
    "kicks",  # kick hits a second
    "onsets",  # weighted other onsets a second
    "side",  # decorrelated side power above 150 Hz
    "above_150",  # power above 150 Hz
    "sustained",  # power of held sounds
    "sustained_centre",  # … times log2 of its centroid in hertz
    "struck",  # power of struck sounds
    "struck_centre",
    "lead",  # power that carries the leading line
    "lead_pitch",  # … times its MIDI pitch
    "low_held",  # power below 250 Hz of what is no drum: basses, subs, low chords
    "voice",  # voices sounding, weighted by how audible they are
)
INDEX = {name: i for i, name in enumerate(COLUMNS)}
WIDTH = len(COLUMNS)

Stats = NDArray[np.float64]  # (…, WIDTH)


def empty(*shape: int) -> Stats:
    """Statistics of nothing, zeros of shape (*shape, WIDTH)."""
    return np.zeros((*shape, WIDTH))
