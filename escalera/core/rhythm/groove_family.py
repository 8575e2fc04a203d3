"""A family of beats from one: what a drummer would play of it in every part of a song. A row each in FAMILY."""

from __future__ import annotations

from collections.abc import Mapping

from escalera.core.rhythm.beat import Beat, tiled
from escalera.core.rhythm.beat_variations import VARIATIONS, vary
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Relative:
    """How a beat changes for sections of some roles: by which variations, in order; `said` is why."""

    roles: tuple[str, ...]
    variations: tuple[str, ...]
    said: str


FAMILY: Mapping[str, Relative] = {
    "thin": Relative(("intro", "re-intro", "interlude"), ("no-kick", "sparser"), "without the kick, so that it can come"),
    "plain": Relative(("verse", "jam", "turnaround"), (), "the beat itself"),
    "leaning": Relative(("pre-chorus", "build", "pre-drop"), ("busier", "lead-in"), "busier, and leaning into what comes"),
    "full": Relative(("chorus", "drop", "post-chorus"), ("open-up", "crash-one"), "hats open, a crash on the one"),
    "riding": Relative(("solo", "tag"), ("lead-ride", "crash-one"), "on the ride"),
    "slow": Relative(("bridge", "breakdown"), ("half-time",), "felt half as fast"),
    "bare": Relative(("break", "outro"), ("sparser",), "what carries the beat, and little else"),
}  # fmt: skip
BY_ROLE = {role: key for key, row in FAMILY.items() for role in row.roles}


def related(played: Beat, key: str, bars: int) -> Beat:
    """The member of a beat's family, at most `bars` long where something in it is meant once."""
    found = played
    for name in FAMILY[key].variations:
        if VARIATIONS[name].once and found.bars < bars and bars % found.bars == 0:
            found = tiled(found, bars * found.metre.bar_ticks)
        after = vary(found, name)
        found = after if after.hits else found
    return found


def history(key: str) -> str:
    """What was done to the beat, in words."""
    return "; ".join(VARIATIONS[name].label.lower() for name in FAMILY[key].variations) or FAMILY[key].said
