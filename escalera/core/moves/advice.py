"""What may be advised: nothing that takes a tune away for good, works against a section's role, or undoes what stands beside it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from escalera.core.document.song import Section, Song
from escalera.core.moves.move import KINDS, Move
from escalera.lazy_dataclasses import dataclass

TUNES = ("voices", "leads")
STILL = 0.05  # points that count as no change
PARKED = 0.15  # points by which what lies parked is preferred to what would be new
# kinds of moves that work against what a role is for
AGAINST_ROLE: dict[str, tuple[str, ...]] = {
    role: kinds
    for roles, kinds in (
        (("chorus", "drop", "post-chorus"), ("strip", "no kick", "half time", "one chord", "dull all", "bass and drums", "leave one by one", "hold the sub")),
        (("verse",), ("strip", "one chord")),
        (("break", "breakdown", "intro"), ("full kit", "sixteenths")),
        (("outro",), ("enter one by one", "full kit", "second half")),
        (("build", "pre-drop", "pre-chorus"), ("leave one by one", "half time")),
    )
    for role in roles
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Advice:
    """A move tried on a section: the states before and after, its effect in points, and the one that is wanted."""

    move: Move
    before: Song
    after: Song
    section_id: int
    points: float
    wanted: float

    @cached_property
    def _bodies(self) -> tuple[Section, Section]:
        return self.before.section_by_id[self.section_id], self.after.section_by_id[self.section_id]

    @cached_property
    def entered(self) -> frozenset[tuple[int, int]]:
        """(layer, start) of what is placed by it."""
        before, after = self._bodies
        there = {(p.layer_id, p.start_ticks, p.end_ticks) for p in before.placements}
        return frozenset(
            (p.layer_id, p.start_ticks)
            for p in after.placements
            if (p.layer_id, p.start_ticks, p.end_ticks) not in there
        )

    @cached_property
    def left(self) -> frozenset[int]:
        """Layers that play before and no more after it."""
        before, after = self._bodies
        return frozenset({p.layer_id for p in before.placements} - {p.layer_id for p in after.placements})

    @cached_property
    def outcome(self) -> tuple[object, ...]:
        """What it comes to: equal for two moves that do the same."""
        _, after = self._bodies
        names = {p.id: p.pattern.content_hash for p in self.after.patterns}
        played = tuple(
            sorted(
                (p.layer_id, names[p.pattern_id], p.start_ticks, p.end_ticks, repr(p.variation))
                for p in after.placements
            )
        )
        return played, after.curves, after.treatments, after.shift_semitones

    @property
    def is_fit(self) -> bool:
        """Whether it may be advised for this section."""
        section = self._bodies[0]
        if self.move.key.partition(":")[0] in AGAINST_ROLE.get(section.role, ()):
            return False
        return not self._takes_the_tune()

    @property
    def is_parked(self) -> bool:
        """Whether it takes what lies parked at the section: one of its options, or layers that play in one."""
        if self.move.key.startswith("take option:"):
            return True
        there = {p.layer_id for option in self._bodies[0].parked for p in option.body.placements}
        return bool(self.entered) and {layer for layer, _ in self.entered} <= there

    def _takes_the_tune(self) -> bool:
        """Whether the last voice or lead of a section falls silent in it."""
        before, after = self._bodies
        had, has = (
            {self.before.layer_by_id[p.layer_id].family for p in b.placements if p.layer_id in self.before.layer_by_id}
            for b in (before, after)
        )
        leading = {self.before.layer_by_id[i].family for i in self.left if i in self.before.layer_by_id} & set(TUNES)
        return bool(leading) and bool(had & set(TUNES)) and not (has & set(TUNES))

    @property
    def leads_there(self) -> bool:
        """Whether its own effect goes the way that is wanted, or nowhere."""
        return self.points * self.wanted > 0 or abs(self.points) < STILL


def may_join(a: Advice, b: Advice) -> bool:
    """Whether two moves may be advised together: both lead the same way, and neither undoes what the other does."""
    ways = [KINDS[m.move.key.partition(":")[0]].way for m in (a, b)]
    if ways[0] * ways[1] < 0 or not (a.leads_there and b.leads_there):
        return False
    lost = a.left | b.left
    return not any(layer in lost for layer, _ in a.entered | b.entered)


def said_why(moves: Sequence[Move]) -> str:
    """Why these moves, in a sentence: what the first of them is for."""
    kind = KINDS[moves[0].key.partition(":")[0]]
    return kind.said.rstrip(".") + "."
