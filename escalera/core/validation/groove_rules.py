"""Whole validation of grooves, swing and own words that come from outside."""

from __future__ import annotations

from collections.abc import Callable

from escalera.core.document.limits import SWING_TICKS
from escalera.core.document.song import Song
from escalera.core.rhythm.beat import RANK

Need = Callable[[bool, str], None]


def grooves(song: Song, need: Need) -> None:
    """Hold that grooves name drums and patterns that exist, each pattern in one groove only; `need` collects what fails."""
    used: set[int] = set()
    for groove in song.grooves:
        need(
            all(d in RANK and i in song.pattern_by_id for d, i in groove.parts),
            f"the groove {groove.name} names a drum or pattern that does not exist",
        )
        need(not used & {i for _, i in groove.parts}, f"the groove {groove.name} shares a pattern with another one")
        used |= {i for _, i in groove.parts}
    need(all(drum in RANK for _, drum in song.words), "an own word stands for an unknown drum")
    for section in song.bodies:
        owners = [s.layer_id for s in section.swings]
        need(len(owners) == len(set(owners)), f"{section.name} has two swings for one layer")
        for s in section.swings:
            holds = s.subdivision_ticks in SWING_TICKS
            need(
                holds and (s.layer_id == 0 or s.layer_id in song.layer_by_id),
                f"a swing of {section.name} is out of range",
            )
