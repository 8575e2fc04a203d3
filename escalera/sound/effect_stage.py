"""Where an effect works, and what it is made of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.core.palette.effects import EFFECT_BY_KEY
from escalera.core.palette.parameters import Settings, setting
from escalera.core.time.ruler import RATE_HZ
from escalera.lazy_dataclasses import dataclass
from escalera.sound.buffers import blank
from escalera.sound.compilation import bus

BLOCK = 16
Audio = NDArray[np.float32]
Values = NDArray[np.float32]
LONGEST_TAIL = 8 * RATE_HZ


@dataclass(frozen=True)
class Stage:
    """Where an effect works: which settings, how the song's time runs there.

    offset : of the audio's first sample from the section's start
    quarter : samples of a quarter note
    moving : control values of parameters that a curve moves, one for every 16 samples and one more
    """

    key: str
    settings: Settings
    offset: int
    length: int
    quarter: float
    seed: int = 0
    moving: dict[str, Values] = field(default_factory=dict)
    whole: bool = True  # whether the audio is all there is, and no window of it

    @cached_property
    def blocks(self) -> int:
        return -(-self.length // BLOCK)

    def still(self, name: str) -> float:
        """A parameter that holds for the whole sound."""
        return (
            float(self.moving[name][0])
            if name in self.moving
            else setting(self.settings, EFFECT_BY_KEY[self.key].parameter_by_key[name])
        )

    def values(self, name: str) -> Values:
        """A parameter for every block, and one more."""
        if name in self.moving:
            return self.moving[name]
        return np.full(self.blocks + 1, self.still(name), np.float32)

    def cycles(self, rate: str) -> NDArray[np.float64]:
        """Cycles passed at every block since the section's start, for a rate in beats that may move.

        Shape (blocks,); the rate is the name of a parameter in beats.
        """
        step = BLOCK / (self.values(rate).astype(np.float64) * self.quarter)
        return self.offset / (float(self.values(rate)[0]) * self.quarter) + np.concatenate(
            ([0.0], np.cumsum(step[:-1]))
        )


Process = Callable[[Audio, Stage], Audio]
Tail = Callable[[Stage], int]
Add = Callable[[Audio, Audio, Stage], None]


@dataclass(frozen=True, slots=True)
class Effect:
    """What an effect does; those that stand as a shared space also `add` their answer to what is there, and say how long that takes
    beside the others."""

    process: Process
    tail: Tail = lambda stage: 0
    add: Add = lambda source, out, stage: None
    effort: Tail = lambda stage: 1


def both(audio: Audio) -> Audio:
    """Two channels."""
    if len(audio) == 2:
        return audio
    found = blank(2, audio.shape[1])
    found[:] = audio
    return found


def mixed(dry: Audio, wet: Audio, mix: Values) -> Audio:
    """The sum of what went in and of an answer at a level that may move, in the answer's place."""
    for channel in wet:
        bus.apply_gain(channel, mix, BLOCK)
    wet += dry
    return wet
