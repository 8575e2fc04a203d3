"""What would mend a finding: its moves are made on a copy, and all checks are asked again."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from escalera.core.checks.base import CHECKS, Finding, judged
from escalera.core.energy.model import section_energy
from escalera.core.moves import Move, apply_move
from escalera.core.moves.base import moves_for
from escalera.core.song.document import Song
from escalera.core.song.timeline import timeline
from escalera.errors import EditError

TRIED, OF_A_KIND = 14, 2
CLEARLY = 0.05


@dataclass(frozen=True, slots=True)
class Mend:
    """A move tried against a finding: `points` of its section's energy, `others` more (or fewer) findings beside it.

    `left` is the weight of all findings that are open afterwards.
    """

    section_id: int
    move: Move
    points: float
    settles: bool
    others: int
    left: float


def mends(song: Song, found: Finding) -> list[Mend]:
    """Moves that mend a finding or lessen it and leave the song as a whole better judged, the best first."""
    if not found.place:
        return []
    section = song.section_by_id[found.place[0]]
    moves = _few_of_a_kind(moves_for(song, section, CHECKS[found.check].mends))
    tried = [mend for move in moves if (mend := _tried(song, found, move)) is not None]
    return sorted(tried, key=lambda m: (not m.settles, m.left))


def _tried(song: Song, found: Finding, move: Move) -> Mend | None:
    try:
        after = apply_move(song, move)
    except EditError:
        return None
    before, then = judged(song).open, judged(after).open
    rest = next((f.weight for f in then if f.key == found.key), 0.0)
    left = sum(f.weight for f in then)
    if rest > found.weight - CLEARLY or left > sum(f.weight for f in before) - CLEARLY:
        return None
    place = found.place[0]
    now, points = (section_energy(s, timeline(s).span_of(place)).value for s in (song, after))
    others = len(then) - len(before) + (not rest)
    return Mend(place, move, points - now, not rest, others, left)


def _few_of_a_kind(moves: Iterable[Move]) -> list[Move]:
    kinds: dict[str, list[Move]] = {}
    for move in moves:
        kinds.setdefault(move.key.partition(":")[0], []).append(move)
    return [move for row in kinds.values() for move in row[:OF_A_KIND]][:TRIED]
