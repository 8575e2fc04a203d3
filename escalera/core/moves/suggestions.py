"""What would bring a section, or the song, nearer to what is wanted: a search over moves and combinations of up to three.

Single moves are scored by their exact stats; combinations first by adding up what each changes in the stats (all at once, in one
array), and the best of them exactly. The effect that is shown is always the exact one.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import section_of
from escalera.core.energy.features import prepare_stats, section_stats
from escalera.core.energy.felt import felt_bars
from escalera.core.energy.model import section_energy
from escalera.core.energy.terms import compute_terms, to_energy
from escalera.core.moves.advice import PARKED, Advice, may_join, said_why
from escalera.core.moves.move import HERE, KINDS, Move, MoveStep, apply_move, moves_for
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

APART = 1.0  # points between arranged and measured energy from which on the measured one is believed
SMALLEST = 0.1  # points below which a move is not worth a line
CLOSE = 0.3  # points from the target within which a section is where it should be
EXTENDED, EXACT = 8, 30  # singles that are combined; combinations that are scored exactly
MOST = 90  # single moves that are scored for the whole song
DEPTH = 3
PER_MOVE = 0.15  # points that a further move has to gain
Values = NDArray[np.float64]


@dataclass(frozen=True)
class Suggestion:
    """Moves in order (one to three), the section's energy change in points, and what they cost in sameness (0..1)."""

    section_id: int
    moves: tuple[Move, ...]
    points: float
    sameness: float
    outcome: tuple[object, ...] = ()

    @property
    def why(self) -> str:
        """What its first move is for, in a sentence."""
        return said_why(self.moves)

    @property
    def label(self) -> str:
        return "; ".join(m.label for m in self.moves)

    @property
    def key(self) -> str:
        return "|".join(m.key for m in self.moves)

    @property
    def move(self) -> Move:
        return self.moves[0]


@dataclass(frozen=True, eq=False)
class _Scored:
    move: Move
    song: Song
    value: float
    change: Values  # of the section's summed stats, (felt bars, WIDTH)
    advice: Advice


def suggest(song: Song, section_id: int, count: int = 3, measured: float | None = None) -> list[Suggestion]:
    """The moves that bring a section nearest to its target, best first; none when it is there already. Where its `measured` energy
    lies more than APART from what is arranged, it is that which is brought there."""
    section = section_of(song, section_id)
    span = timeline(song).span_of(section_id)
    now, wanted = section_energy(song, span).value, section.target.mean
    if measured is not None and abs(measured - now) > APART:
        wanted += now - measured
    if abs(wanted - now) < CLOSE:
        return []
    singles = _singles(song, section, list(moves_for(song, section, _toward(wanted - now))), wanted - now)
    found = _best(song, section, singles, now, wanted)
    return _different(found, count)


def suggest_song(song: Song, count: int = 5) -> list[Suggestion]:
    """The moves that most improve the agreement of the whole song: over the sections that are furthest from their targets."""
    distances = sorted(song.sections, key=lambda s: -abs(_distance(song, s)) * s.bars)
    found: list[tuple[float, Suggestion]] = []
    spent = 0
    for section in distances:
        now, wanted = section_energy(song, timeline(song).span_of(section.id)).value, section.target.mean
        moves = list(moves_for(song, section, _toward(wanted - now)))
        if abs(wanted - now) < CLOSE or (spent and spent + len(moves) > MOST):
            continue
        spent += len(moves)
        best = _best(song, section, _singles(song, section, moves, wanted - now), now, wanted)
        found += [(gain * section.bars / max(1, song.bars), s) for gain, s in best]
    found.sort(key=lambda row: -row[0])
    return _different(found, count)


def _toward(far: float) -> tuple[str, ...]:
    """Kinds of moves that stay in the section and may lead that way."""
    way = 1 if far > 0 else -1
    return tuple(key for key, kind in KINDS.items() if kind.touches == HERE and not kind.room and kind.way in (0, way))


def _distance(song: Song, section: Section) -> float:
    return section.target.mean - section_energy(song, timeline(song).span_of(section.id)).value


def _totals(song: Song, span: Span) -> Values:
    layers, stats = section_stats(song, span)
    return stats.sum(axis=0) if layers else np.zeros((len(felt_bars(span.grid)), stats.shape[-1]))


def _value(song: Song, span: Span, totals: Values) -> float:
    felt = to_energy(compute_terms(totals), song)
    felt = np.where(totals[..., :6].sum(axis=-1) > 0, felt, 0.0)
    lengths = felt_bars(span.grid).lengths_s
    return float(felt @ lengths / lengths.sum())


def _singles(song: Song, section: Section, moves: Sequence[Move], far: float) -> list[_Scored]:
    """Moves with their exact effect on the section's stats; those that do not apply, are no advice here, or change its length, are
    left out."""
    span = timeline(song).span_of(section.id)
    base, made, found = _totals(song, span), [], []
    now = _value(song, span, base)
    for move in moves:
        try:
            after = apply_move(song, move)
        except EditError:
            continue
        made.append((move, after, timeline(after).span_of(section.id)))
    prepare_stats((after, there) for _, after, there in made)
    for move, after, there in made:
        totals = _totals(after, there)
        if totals.shape != base.shape:
            continue
        value = _value(after, there, totals)
        advice = Advice(move, song, after, section.id, value - now, far)
        if advice.is_fit:
            found.append(_Scored(move, after, value, totals - base, advice))
    return found


def _best(
    song: Song, section: Section, singles: list[_Scored], now: float, wanted: float
) -> list[tuple[float, Suggestion]]:
    """Single moves and combinations that gain most, with their gain."""
    span = timeline(song).span_of(section.id)
    far = abs(wanted - now)
    gain = {id(s): far - abs(wanted - s.value) for s in singles}
    found = [
        (gain[id(s)] + PARKED * s.advice.is_parked, _suggestion(song, section, (s.move,), s.value - now, s.song))
        for s in singles
        if gain[id(s)] > SMALLEST
    ]
    leading = sorted(singles, key=lambda s: -gain[id(s)])[:EXTENDED]
    for group in _promising(song, span, leading, singles, wanted):
        group = tuple(sorted(group, key=lambda s: not any(isinstance(e, MoveStep) for e in s.move.edits)))
        moves = tuple(
            s.move for s in group
        )  # what was made for a single already need not be made again: the dearest first
        after = _applied(group[0].song, moves[1:])
        if after is None:
            continue
        value = section_energy(after, timeline(after).span_of(section.id)).value
        better = far - abs(wanted - value)
        if better <= max(gain[id(s)] for s in group) + SMALLEST:
            continue
        if Advice(moves[0], song, after, section.id, value - now, wanted - now).is_fit:
            made = _suggestion(song, section, moves, value - now, after)
            found.append((better - PER_MOVE * (len(moves) - 1), made))
    found.sort(key=lambda row: -row[0])
    return found


def _suggestion(song: Song, section: Section, moves: tuple[Move, ...], points: float, after: Song) -> Suggestion:
    outcome = Advice(moves[0], song, after, section.id, points, points).outcome
    return Suggestion(section.id, moves, points, sameness_lost(song, after, section.id), outcome)


def _applied(song: Song, moves: Sequence[Move]) -> Song | None:
    try:
        for move in moves:
            song = apply_move(song, move)
    except EditError:
        return None
    return song


def _promising(
    song: Song, span: Span, leading: list[_Scored], singles: list[_Scored], wanted: float
) -> list[tuple[_Scored, ...]]:
    """Combinations of two and three whose added changes come nearest to what is wanted."""
    groups: list[tuple[_Scored, ...]] = []
    pairs = {frozenset((id(a), id(b))): (a, b) for a in leading for b in singles if a is not b and _apart(a, b)}
    groups += list(pairs.values())
    groups += [g for g in combinations(leading, DEPTH) if all(_apart(a, b) for a, b in combinations(g, 2))]
    if not groups:
        return []
    base = _totals(song, span)
    totals = np.maximum(base + np.stack([sum(s.change for s in g) for g in groups]), 0.0)
    felt = to_energy(compute_terms(totals), song)
    lengths = felt_bars(span.grid).lengths_s
    values = felt @ lengths / lengths.sum()
    order = np.argsort(np.abs(values - wanted) + PER_MOVE * np.array([len(g) for g in groups]))
    return [groups[i] for i in order[:EXACT]]


def _apart(a: _Scored, b: _Scored) -> bool:
    """Whether two moves may be made together: of different kinds, or of one kind on different layers."""
    return (
        a.move.key != b.move.key
        and may_join(a.advice, b.advice)
        and (a.move.key.partition(":")[0] != b.move.key.partition(":")[0] or ":" in a.move.key)
        and a.move.key.partition(":")[2] != (b.move.key.partition(":")[2] or None)
    )


def _different(found: list[tuple[float, Suggestion]], count: int) -> list[Suggestion]:
    """The best ones, each beginning with another kind of move for its section, so that there is a choice."""
    kept: list[Suggestion] = []
    kinds: set[tuple[int, str]] = set()
    outcomes: set[tuple[object, ...]] = set()
    for _, suggestion in found:
        first = (suggestion.section_id, suggestion.move.key.partition(":")[0])
        comes_to = (suggestion.section_id, suggestion.outcome)
        if first not in kinds and comes_to not in outcomes:
            kept.append(suggestion)
            kinds.add(first)
            outcomes.add(comes_to)
        if len(kept) == count:
            break
    return kept


# sameness ------------------------------------------------------------------------------------------------------------------


def sameness(song: Song, a: Section, b: Section) -> float:
    """How alike two sections are arranged, 0..1: the share of tiles (layer, place, pattern) that they have in common."""
    first, second = _tiles(song, a), _tiles(song, b)
    return len(first & second) / len(first | second) if first | second else 1.0


def _tiles(song: Song, section: Section) -> set[tuple[object, ...]]:
    found: set[tuple[object, ...]] = set()
    for i, (low, high) in enumerate(timeline(song).span_of(section.id).phrase_ticks()):
        for p in section.placements:
            if p.start_ticks < high and p.end_ticks > low:
                found.add((i, p.layer_id, p.pattern_id, p.variation))
    return found


def relative_of(song: Song, section: Section) -> Section | None:
    """The section that a listener compares it with: the nearest of its role, else the one before."""
    index = song.index_of(section.id)
    same = [s for s in song.sections if s.role == section.role and s.id != section.id and section.role != "none"]
    if same:
        return min(same, key=lambda s: abs(song.index_of(s.id) - index))
    return song.sections[index - 1] if index else None


def sameness_lost(before: Song, after: Song, section_id: int) -> float:
    """How much less alike a section is to its relative after moves; negative when they grow alike."""
    section = before.section_by_id[section_id]
    relative = relative_of(before, section)
    if relative is None or relative.id not in after.section_by_id:
        return 0.0
    return sameness(before, section, relative) - sameness(
        after, after.section_by_id[section_id], after.section_by_id[relative.id]
    )
