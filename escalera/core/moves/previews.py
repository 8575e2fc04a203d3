"""What a move would do, before it is made: the stair, the terms, and a list of what it changes."""

from __future__ import annotations

from collections.abc import Sequence

from escalera.core.document.schools import TERMS
from escalera.core.document.song import Song
from escalera.core.energy.model import arranged
from escalera.core.moves.differences import SHOWN, SectionChange, section_changes
from escalera.core.moves.move import Move, apply_move
from escalera.core.moves.suggestions import sameness_lost
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Preview:
    """`points` and `terms` are of the section that the move is about; `seconds` and `bars` before and after."""

    points: float
    terms: tuple[tuple[str, float], ...]
    changes: tuple[SectionChange, ...]
    bars: tuple[int, int]
    seconds: tuple[float, float]
    sameness: float
    after: Song


def preview(song: Song, section_id: int, moves: Sequence[Move]) -> Preview:
    """The exact effect of moves in order. Raises EditError when one does not apply."""
    after = song
    for move in moves:
        after = apply_move(after, move)
    before_energy, after_energy = arranged(song), arranged(after)
    here, there = before_energy.of(section_id), after_energy.of(section_id)
    was, has = here.contributions(), there.contributions()
    terms = [(t, has[t] - was[t]) for t in TERMS if abs(has[t] - was[t]) >= SHOWN]
    return Preview(
        there.value - here.value,
        tuple(sorted(terms, key=lambda r: -abs(r[1]))),
        tuple(section_changes(song, after)),
        (song.bars, after.bars),
        (before_energy.line.seconds, after_energy.line.seconds),
        sameness_lost(song, after, section_id),
        after,
    )
