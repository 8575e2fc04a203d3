"""What would mend a finding: its moves are made on a copy, and all checks are asked again."""

from __future__ import annotations

from collections.abc import Iterable

from escalera.core.checks.check import CHECKS, Finding, judged
from escalera.core.document.song import Song
from escalera.core.energy.model import section_energy
from escalera.core.moves import Move, apply_move
from escalera.core.moves.move import moves_for
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

TRIED, OF_A_KIND = 24, 2
CLEARLY = 0.05
LOW_ENDS = ("two subs", "kick and bass")
TAKES_OUT = ("lift:", "strip")  # what settles a finding otherwise is offered before these


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
    """Moves that mend a finding or lessen it and leave the song as a whole better judged, the best first.

    A finding about the whole song is mended in any of its sections: one move of a kind is tried in each.
    """
    places = [song.section_by_id[found.place[0]]] if found.place else list(song.sections)
    most = OF_A_KIND if found.place else max(1, TRIED // len(places))
    ranked = [
        (rank, s.id, move)
        for s in places
        for rank, move in _few_of_a_kind(
            _nearest_first(song, found, moves_for(song, s, CHECKS[found.check].mends)), most
        )
    ]
    moves = [(place, move) for _, place, move in sorted(ranked, key=lambda row: row[0])]
    tried = (_tried(song, found, place, move) for place, move in moves[:TRIED])
    kept = [mend for mend in tried if mend is not None]
    return sorted(kept, key=lambda m: (not m.settles, m.move.key.startswith(TAKES_OUT), m.left))


def _tried(song: Song, found: Finding, place: int, move: Move) -> Mend | None:
    try:
        after = apply_move(song, move)
    except EditError:
        return None
    before, then = judged(song).open, judged(after).open
    rest = next((f.weight for f in then if f.key == found.key), 0.0)
    left = sum(f.weight for f in then)
    if rest > found.weight - CLEARLY or left > sum(f.weight for f in before) - CLEARLY:
        return None
    now, points = (section_energy(s, timeline(s).span_of(place)).value for s in (song, after))
    others = len(then) - len(before) + (not rest)
    return Mend(place, move, points - now, not rest, others, left)


def _nearest_first(song: Song, found: Finding, moves: Iterable[Move]) -> list[Move]:
    """Moves of the layer that the finding names first, then those of the low end where it is about that."""

    def far(move: Move) -> int:
        layer = move.key.split(":")[1] if ":" in move.key else ""
        of = song.layer_by_id.get(int(layer)) if layer.isdecimal() else None
        if of is None or of.id == found.layer_id:
            return 0
        return 1 if found.check in LOW_ENDS and of.family == "low end" else 2

    return sorted(moves, key=far)


def _few_of_a_kind(moves: Iterable[Move], most: int) -> list[tuple[int, Move]]:
    """The first moves of every kind, each with its rank in its kind."""
    kinds: dict[str, list[Move]] = {}
    for move in moves:
        kinds.setdefault(move.key.partition(":")[0], []).append(move)
    return [(rank, move) for row in kinds.values() for rank, move in enumerate(row[:most])]
