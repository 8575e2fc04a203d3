"""How much energy a note of every sound brings into each band, as a table the core may trust.

`MEASURED[key]` is (width, energy_db[pitch][hold][band]): the decorrelated share of the power above 150 Hz, and
the energy of one note at velocity 100 and 0 dB (10 log10 of mean square times seconds) in the six bands of
core.energy.stats, at the bottom, middle and top of the sound's register and for the holds of HOLDS_S. The
numbers below the line are written by tools/measure_palette.py; a test holds rendered sound within 3 dB of them.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.sounds import BY_KEY, Sound

HOLDS_S = (0.12, 0.5, 2.0)
LOG_HOLDS = np.log(np.array(HOLDS_S))


def pitches_of(sound: Sound) -> tuple[int, ...]:
    """The pitches at which a sound's profile is measured."""
    low, high = sound.register
    return (low,) if low == high else (low, (low + high) // 2, high)


def width_of(key: str) -> float:
    return MEASURED[key][0]


@lru_cache(maxsize=1)
def _tables() -> tuple[dict[str, int], NDArray[np.float64], NDArray[np.float64]]:
    """All profiles in one array: index of every sound, pitch grids (sounds, 3), levels (sounds, 3, holds, bands).

    A sound with one pitch has its row three times, on three neighbouring pitches.
    """
    keys, grids, tables = {}, [], []
    for number, (key, (_, rows)) in enumerate(MEASURED.items()):
        pitches = pitches_of(BY_KEY[key])
        keys[key] = number
        grids.append(pitches if len(pitches) == 3 else (pitches[0], pitches[0] + 1, pitches[0] + 2))
        tables.append(rows if len(rows) == 3 else rows * 3)
    return keys, np.array(grids, float), np.array(tables, float)


def sound_index(key: str) -> int:
    """Number of a sound in the table, for `note_energies`."""
    return _tables()[0][key]


def note_energies(
    sounds: NDArray[np.int64], pitch: NDArray[np.float64], hold_s: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Energy of notes in the six bands, shape (n, 6): mean square times seconds at velocity 100 and 0 dB.

    `sounds` holds numbers from `sound_index`. Between measured pitches and holds the level is interpolated in dB;
    beyond the longest hold the energy grows by what it gained from the middle to the longest one; outside the
    register the nearest pitch stands.
    """
    _, grids, tables = _tables()
    grid = grids[sounds]
    inside = np.clip(pitch, grid[:, 0], grid[:, 2])
    upper = (inside >= grid[:, 1]).astype(np.int64)
    rows = np.arange(len(pitch))
    low, high = grid[rows, upper], grid[rows, upper + 1]
    share = ((inside - low) / (high - low))[:, None, None]
    by_hold = tables[sounds, upper] * (1 - share) + tables[sounds, upper + 1] * share
    hold = np.maximum(hold_s, 0.02)
    at = (hold >= HOLDS_S[1]).astype(np.int64)
    spread = (np.log(np.clip(hold, HOLDS_S[0], HOLDS_S[2])) - LOG_HOLDS[at]) / (LOG_HOLDS[at + 1] - LOG_HOLDS[at])
    level = by_hold[rows, at] * (1 - spread)[:, None] + by_hold[rows, at + 1] * spread[:, None]
    energy = 10.0 ** (level / 10.0)
    longer = hold > HOLDS_S[2]
    if longer.any():
        growth = np.maximum(10.0 ** (by_hold[longer, 2] / 10.0) - 10.0 ** (by_hold[longer, 1] / 10.0), 0.0)
        energy[longer] += growth / (HOLDS_S[2] - HOLDS_S[1]) * (hold[longer] - HOLDS_S[2])[:, None]
    return energy * np.minimum(1.0, hold / HOLDS_S[0])[:, None]


def note_energy(key: str, pitch: NDArray[np.float64], hold_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """`note_energies` for notes of one sound."""
    return note_energies(np.full(len(pitch), sound_index(key)), pitch, hold_s)


# --- measured ---
MEASURED: dict[str, tuple[float, list[list[list[float]]]]] = {
    "round-kick": (
        0.000,
        [
            [
                [-14.9, -18.8, -38.8, -55.0, -57.5, -59.1],
                [-14.9, -18.8, -38.8, -55.0, -57.5, -59.1],
                [-14.9, -18.8, -38.8, -55.0, -57.5, -59.1],
            ]
        ],
    ),
    "room-snare": (
        0.108,
        [
            [
                [-45.8, -26.7, -31.3, -30.6, -27.7, -28.0],
                [-45.8, -26.7, -31.3, -30.6, -27.7, -28.0],
                [-45.8, -26.7, -31.3, -30.6, -27.7, -28.0],
            ]
        ],
    ),
    "loose-clap": (
        0.184,
        [
            [
                [-68.0, -56.9, -40.9, -29.4, -34.6, -38.9],
                [-68.0, -56.9, -40.9, -29.4, -34.6, -38.9],
                [-68.0, -56.9, -40.9, -29.4, -34.6, -38.9],
            ]
        ],
    ),
    "tin-hat": (
        0.000,
        [
            [
                [-97.7, -92.0, -78.9, -55.2, -41.2, -32.8],
                [-97.7, -92.0, -78.9, -55.2, -41.2, -32.8],
                [-97.7, -92.0, -78.9, -55.2, -41.2, -32.8],
            ]
        ],
    ),
    "open-tin-hat": (
        0.064,
        [
            [
                [-104.1, -90.3, -76.5, -50.1, -36.3, -28.2],
                [-104.1, -90.3, -76.5, -50.1, -36.3, -28.2],
                [-104.1, -90.3, -76.5, -50.1, -36.3, -28.2],
            ]
        ],
    ),
    "wide-crash": (
        0.304,
        [
            [
                [-79.1, -65.8, -50.0, -32.1, -27.1, -24.1],
                [-79.1, -65.8, -50.0, -32.1, -27.1, -24.1],
                [-79.1, -65.8, -50.0, -32.1, -27.1, -24.1],
            ]
        ],
    ),
    "seed-shaker": (
        0.000,
        [
            [
                [-96.1, -82.4, -65.7, -48.4, -34.9, -30.7],
                [-96.1, -82.4, -65.7, -48.4, -34.9, -30.7],
                [-96.1, -82.4, -65.7, -48.4, -34.9, -30.7],
            ]
        ],
    ),
    "sub-sine": (
        0.000,
        [
            [
                [-15.5, -39.0, -67.0, -83.0, -100.3, -111.1],
                [-9.8, -34.5, -67.3, -83.3, -100.6, -111.4],
                [-4.0, -29.1, -67.5, -83.5, -100.8, -111.5],
            ],
            [
                [-15.5, -34.0, -68.5, -95.4, -115.7, -119.6],
                [-9.8, -30.9, -68.6, -93.8, -112.7, -118.8],
                [-4.0, -26.3, -69.0, -96.6, -117.4, -119.7],
            ],
            [
                [-34.2, -15.5, -58.7, -80.8, -98.5, -109.5],
                [-34.4, -9.7, -59.1, -81.3, -98.9, -109.9],
                [-34.2, -4.0, -59.3, -81.5, -99.2, -110.1],
            ],
        ],
    ),
    "plucked-bass": (
        0.000,
        [
            [
                [-24.7, -27.5, -36.6, -59.0, -85.6, -99.5],
                [-21.4, -26.0, -36.9, -59.3, -86.0, -99.9],
                [-20.9, -26.0, -37.1, -59.6, -86.3, -100.2],
            ],
            [
                [-32.5, -24.1, -30.5, -46.2, -75.2, -98.0],
                [-29.9, -21.0, -30.1, -46.6, -75.6, -98.4],
                [-29.5, -20.5, -30.3, -46.8, -75.9, -98.7],
            ],
            [
                [-53.8, -24.7, -27.8, -35.4, -61.1, -86.2],
                [-54.2, -21.4, -26.2, -35.7, -61.4, -86.6],
                [-54.5, -20.9, -26.2, -35.9, -61.7, -86.8],
            ],
        ],
    ),
    "wide-saws": (
        0.130,
        [
            [
                [-73.3, -26.0, -28.9, -32.8, -40.2, -46.5],
                [-72.5, -19.2, -22.3, -27.9, -34.8, -41.2],
                [-70.5, -13.7, -17.0, -22.4, -29.2, -35.6],
            ],
            [
                [-92.0, -72.3, -23.7, -29.8, -36.6, -43.3],
                [-91.8, -72.0, -17.8, -24.7, -31.3, -37.9],
                [-92.1, -71.6, -12.6, -19.1, -25.8, -32.3],
            ],
            [
                [-104.7, -97.4, -24.9, -28.4, -33.4, -40.3],
                [-104.9, -97.5, -19.2, -23.1, -28.1, -35.0],
                [-105.2, -97.8, -13.6, -17.4, -22.5, -29.4],
            ],
        ],
    ),
    "soft-pad": (
        0.449,
        [
            [
                [-82.9, -24.2, -29.0, -40.0, -65.3, -90.1],
                [-77.3, -18.4, -23.5, -33.9, -59.3, -84.2],
                [-71.7, -12.6, -17.1, -28.8, -54.1, -79.0],
            ],
            [
                [-105.8, -78.9, -23.8, -33.8, -58.8, -83.2],
                [-103.1, -73.6, -17.7, -27.8, -52.8, -77.3],
                [-99.1, -67.8, -11.9, -22.5, -47.6, -72.0],
            ],
            [
                [-116.9, -111.3, -24.5, -30.6, -51.0, -73.4],
                [-116.0, -109.3, -18.7, -24.8, -45.0, -67.4],
                [-114.7, -106.4, -12.9, -19.3, -39.7, -62.1],
            ],
        ],
    ),
    "tine-keys": (
        0.049,
        [
            [
                [-55.3, -28.2, -26.7, -49.7, -87.1, -101.2],
                [-55.5, -20.9, -24.4, -49.9, -87.4, -101.4],
                [-55.6, -17.2, -24.0, -50.1, -87.5, -101.6],
            ],
            [
                [-76.8, -60.3, -24.9, -37.2, -49.9, -109.9],
                [-77.0, -60.5, -20.2, -36.3, -50.1, -110.0],
                [-77.1, -60.7, -18.4, -36.4, -50.3, -110.2],
            ],
            [
                [-85.9, -77.9, -29.4, -26.8, -49.8, -50.0],
                [-86.1, -78.1, -23.2, -24.7, -49.5, -50.2],
                [-86.3, -78.3, -21.6, -24.4, -49.7, -50.4],
            ],
        ],
    ),
    "glass-bell": (
        0.004,
        [
            [
                [-65.5, -57.1, -20.7, -26.7, -79.7, -99.5],
                [-65.5, -57.1, -19.0, -25.7, -79.7, -99.5],
                [-65.5, -57.1, -17.8, -25.4, -79.7, -99.5],
            ],
            [
                [-80.6, -71.8, -53.0, -19.8, -36.3, -96.6],
                [-80.6, -71.8, -53.0, -18.2, -35.8, -96.6],
                [-80.7, -71.9, -53.0, -17.2, -35.8, -96.6],
            ],
            [
                [-99.8, -95.1, -90.1, -20.7, -27.2, -36.3],
                [-99.8, -95.1, -90.1, -19.0, -26.1, -35.8],
                [-99.8, -95.1, -90.2, -17.8, -25.8, -35.8],
            ],
        ],
    ),
    "plucked-lead": (
        0.017,
        [
            [
                [-68.3, -52.8, -29.4, -31.4, -36.9, -53.7],
                [-68.7, -52.5, -23.9, -28.9, -37.0, -54.0],
                [-69.1, -52.5, -23.0, -29.2, -37.4, -54.4],
            ],
            [
                [-90.6, -76.4, -29.8, -27.9, -33.8, -48.8],
                [-91.0, -76.8, -22.2, -25.5, -33.9, -49.2],
                [-91.4, -77.2, -22.2, -25.5, -34.3, -49.5],
            ],
            [
                [-96.1, -92.8, -77.9, -23.9, -29.6, -44.5],
                [-96.5, -93.1, -78.3, -20.4, -28.9, -44.8],
                [-96.9, -93.5, -78.7, -20.4, -29.2, -45.2],
            ],
        ],
    ),
    "vowel-voice": (
        0.000,
        [
            [
                [-92.7, -31.8, -26.9, -29.9, -45.8, -61.3],
                [-89.8, -25.6, -20.6, -23.7, -39.5, -54.9],
                [-85.7, -19.7, -14.9, -17.6, -33.6, -49.0],
            ],
            [
                [-97.1, -83.7, -22.9, -25.4, -42.0, -58.3],
                [-92.4, -78.3, -16.7, -19.2, -35.7, -52.0],
                [-87.1, -72.5, -11.1, -12.9, -29.8, -46.2],
            ],
            [
                [-99.1, -85.3, -16.3, -24.6, -37.4, -55.7],
                [-93.3, -79.3, -10.1, -18.6, -31.2, -49.5],
                [-87.8, -73.2, -4.6, -10.4, -25.3, -43.6],
            ],
        ],
    ),
    "noise-riser": (
        0.267,
        [
            [
                [-86.3, -71.6, -55.5, -40.2, -31.3, -31.6],
                [-80.6, -66.5, -50.0, -34.4, -26.5, -28.1],
                [-75.1, -60.4, -44.5, -28.9, -21.0, -23.2],
            ]
        ],
    ),
}
