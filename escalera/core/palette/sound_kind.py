"""What the interface, the engine and the energy model ask of a sound."""

from __future__ import annotations

from functools import cached_property

from escalera.core.palette.parameters import Parameter
from escalera.lazy_dataclasses import dataclass

FAMILIES = ("drums", "low end", "chords", "leads", "voices", "atmosphere", "effects")
JOBS = ("attack", "body", "width", "top", "movement", "texture", "weight", "hook", "answer")


@dataclass(frozen=True)
class Sound:
    """One row of the palette.

    `register` is the useful range in MIDI notes; following notes place their root at its bottom and voice-led
    chords round its middle. `hold` says whether a sound lasts as long as its note ("sustained") or dies away by
    itself ("struck"). `attack` weights its hits for drive. `tuned_kick` marks a kick that plays pitches; `mono` a
    line whose overlapping notes slide.
    """

    key: str
    label: str
    family: str
    job: str
    register: tuple[int, int]
    level_db: float
    parameters: tuple[Parameter, ...]
    promise: str  # what one hears, in a few words
    hold: str = "sustained"
    drum: str = ""
    drum_note: int = 0
    attack: float = 0.0
    program: int = 0
    rise: bool = False
    tuned_kick: bool = False
    mono: bool = False

    @property
    def is_drum(self) -> bool:
        return bool(self.drum)

    @property
    def plays_pitches(self) -> bool:
        """Whether its notes have pitches of their own: no drum, no noise, no loop."""
        return not self.is_drum and self.register[0] < self.register[1]

    @property
    def is_kick(self) -> bool:
        return self.drum == "kick" or self.tuned_kick

    @property
    def centre(self) -> int:
        return (self.register[0] + self.register[1]) // 2

    @cached_property
    def parameter_by_key(self) -> dict[str, Parameter]:
        return {p.key: p for p in self.parameters}

    def __hash__(self) -> int:
        return hash(self.key)
