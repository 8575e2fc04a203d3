"""Metre: how many of which note value make a bar."""

from __future__ import annotations

import re

from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import InputError, shown
from escalera.lazy_dataclasses import dataclass

DENOMINATORS = (1, 2, 4, 8, 16, 32)
MAX_NUMERATOR = 32


@dataclass(frozen=True, slots=True)
class Metre:
    """A time signature such as 4/4, 6/8 or 7/16."""

    numerator: int = 4
    denominator: int = 4

    @property
    def unit_ticks(self) -> int:
        """Ticks of one notated unit (the denominator's note value)."""
        return TICKS_PER_QUARTER * 4 // self.denominator

    @property
    def bar_ticks(self) -> int:
        return self.numerator * self.unit_ticks

    @property
    def beat_ticks(self) -> int:
        """Ticks of one beat: dotted quarters in 6/8, 9/8, 12/8, else the notated unit."""
        compound = self.denominator == 8 and self.numerator % 3 == 0 and self.numerator > 3
        return self.unit_ticks * 3 if compound else self.unit_ticks

    @property
    def beats(self) -> int:
        return max(1, self.bar_ticks // self.beat_ticks)

    def __str__(self) -> str:
        return f"{self.numerator}/{self.denominator}"


def parse_metre(text: str) -> Metre:
    """Read '4/4'. Raises InputError with value, limit and remedy."""
    match = re.fullmatch(r"\s*(\d{1,3})\s*/\s*(\d{1,3})\s*", str(text))
    if not match:
        raise InputError(
            f"“{shown(text)}” is not a time signature. Write it as beats over note value, for example 4/4 or 6/8."
        )
    numerator, denominator = int(match[1]), int(match[2])
    if not 1 <= numerator <= MAX_NUMERATOR or denominator not in DENOMINATORS:
        raise InputError(
            f"{numerator}/{denominator} is not a time signature that can be counted: 1 to "
            f"{MAX_NUMERATOR} beats over 1, 2, 4, 8, 16"
            " or 32. Try 4/4, 3/4, 6/8 or 7/8."
        )
    return Metre(numerator, denominator)
