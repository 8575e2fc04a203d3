"""The ceiling: a limiter with finite memory, so that a section rendered alone equals the same bars of the whole."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.sound.compilation import bus
from escalera.sound.schedule import RATE_HZ

MASTER_VERSION = 1
CEILING_DBTP = -1.0
MARGIN_DB = 0.25  # the four-times estimate may read a true peak up to about 0.2 dB low
BLOCK = 16  # as the kernel that finds peaks has it
AHEAD = 66  # blocks: 24 ms of looking ahead, also the width of the smoothing on either side
BEHIND = 330  # blocks: 120 ms before the gain starts to come back
PRE_ROLL_SAMPLES = 16_384
AHEAD_SAMPLES = 4_096
TAPS = 12
Samples = NDArray[np.float32]

assert (BEHIND + 2 * AHEAD + 4) * BLOCK < PRE_ROLL_SAMPLES < RATE_HZ // 2


def _phases() -> Samples:
    """Windowed-sinc interpolators at 1/4, 2/4 and 3/4 between samples, each summing to 1."""
    offsets = np.arange(TAPS) - TAPS // 2
    rows = []
    for share in (0.25, 0.5, 0.75):
        x = offsets - share
        row = np.sinc(x) * np.cos(np.pi * x / (TAPS + 1)) ** 2
        rows.append(row / row.sum())
    return np.ascontiguousarray(rows, dtype=np.float32)


PHASES = _phases()
UNTOUCHED: Samples = np.zeros(0, np.float32)


def limit(audio: Samples) -> Samples:
    """Hold (2, n) samples at or under the ceiling, in place. Gives the gain of every BLOCK, none where nothing comes near the ceiling and
    nothing changes."""
    left, right = audio
    blocks = -(-len(left) // BLOCK)
    peaks, lowest, gain = (np.empty(blocks, np.float32) for _ in range(3))
    bus.block_peaks(left, right, PHASES, peaks)
    ceiling = 10.0 ** ((CEILING_DBTP - MARGIN_DB) / 20.0)
    if peaks.max(initial=0.0) <= ceiling:
        return UNTOUCHED
    bus.limit_gain(peaks, lowest, gain, ceiling, AHEAD, BEHIND)
    bus.limit_apply(left, right, gain, BLOCK, 0)
    return gain


def take_back(audio: Samples, gain: Samples) -> None:
    """Undo what `limit` did to (2, n) samples, in place."""
    if len(gain):
        bus.limit_apply(audio[0], audio[1], gain, BLOCK, 1)
