"""The energy wanted over a section: a line from its start to its end that may turn on the way."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Annotated

from escalera.core.document.fields import choice, number, part
from escalera.lazy_dataclasses import dataclass

TARGET_SHAPES = ("line", "late", "early", "hold")
MAX_TURNS = 32
SAMPLES = 8  # straight pieces a curved target is made of
ON_THE_LINE = 0.02  # a turn nearer than this to the line between its neighbours is none


@dataclass(frozen=True, slots=True)
class Turn:
    """A point of a target inside its section; two at one place are a step."""

    share: Annotated[float, number("Share of the section", 0, 1, required=True)]
    energy: Annotated[float, number("Target there", 0, 10, required=True)]


@dataclass(frozen=True, slots=True)
class Target:
    """Wanted energy over a section, 0..10, from `start` to `end`: along `shape`, or from turn to turn where there are any."""

    start: Annotated[float, number("Target at the start", 0, 10)] = 5.0
    end: Annotated[float, number("Target at the end", 0, 10)] = 5.0
    shape: Annotated[str, choice("Shape of the target", TARGET_SHAPES)] = "line"
    turns: Annotated[tuple[Turn, ...], part("Turns of the target", MAX_TURNS, help="notches, steps, late rises")] = ()

    def bend(self, share: float) -> float:
        """How far from start to end it is at a share 0..1 of the section, without turns."""
        return {"line": share, "late": share * share, "early": 1 - (1 - share) ** 2, "hold": float(share >= 1.0)}[
            self.shape
        ]

    @property
    def knots(self) -> tuple[tuple[float, float], ...]:
        """Shares of the section in rising order and the energy wanted there; straight between, two at one share are a step."""
        if self.turns:
            inner = sorted(((t.share, t.energy) for t in self.turns), key=lambda knot: knot[0])
            return ((0.0, self.start), *inner, (1.0, self.end))
        if self.shape == "hold" and self.start != self.end:
            return ((0.0, self.start), (1.0, self.start), (1.0, self.end))
        count = 1 if self.shape in ("line", "hold") or self.start == self.end else SAMPLES
        return tuple((i / count, self.start + (self.end - self.start) * self.bend(i / count)) for i in range(count + 1))

    def at(self, share: float, before: bool = False) -> float:
        """Wanted energy at a share 0..1 of the section; on a step what comes after it, or what was `before` it."""
        if not self.turns:
            return self.start + (self.end - self.start) * self.bend(min(share, 1.0 - 1e-9) if before else share)
        pieces = [piece for piece in pairwise(self.knots) if piece[0][0] < piece[1][0]]
        for (a, low), (b, high) in pieces:
            if share < b or (before and share <= b):
                return low + (high - low) * max(0.0, share - a) / (b - a)
        return self.end

    def mean_of(self, low: float, high: float) -> float:
        """Its mean between two shares, low < high."""
        cuts = [low, *sorted(share for share, _ in self.knots if low < share < high), high]
        areas = ((self.at(a) + self.at(b, before=True)) * (b - a) / 2 for a, b in pairwise(cuts))
        return sum(areas) / (high - low)

    @property
    def mean(self) -> float:
        if self.turns:
            return self.mean_of(0.0, 1.0)
        weight = {"line": 1 / 2, "late": 1 / 3, "early": 2 / 3, "hold": 0.0}[self.shape]
        return self.start + (self.end - self.start) * weight

    def cut(self, low: float, high: float) -> Target:
        """What it is between two shares, as a target of its own."""
        first, last = self.at(low), self.at(high, before=True)
        inner = [((s - low) / (high - low), e) for s, e in self.knots if low < s < high]
        return through([(0.0, first), *inner, (1.0, last)])


def through(knots: Sequence[tuple[float, float]]) -> Target:
    """The target through knots from share 0 to share 1, without those that lie on the line between their neighbours."""
    kept = [knots[0]]
    for i, (share, energy) in enumerate(knots[1:-1], 1):
        (a, low), (b, high) = kept[-1], knots[i + 1]
        between = low + (high - low) * (share - a) / (b - a) if b > a else energy + 1.0
        if (share, energy) != kept[-1] and (abs(between - energy) > ON_THE_LINE):
            kept.append((share, energy))
    turns = tuple(Turn(round(share, 5), round(energy, 2)) for share, energy in kept[1:][:MAX_TURNS])
    return Target(round(knots[0][1], 2), round(knots[-1][1], 2), turns=turns)


def in_row(left: Target, share: float, right: Target) -> Target:
    """Two targets one after the other, the left one over `share` of both."""
    before = [(s * share, e) for s, e in left.knots]
    after = [(share + s * (1.0 - share), e) for s, e in right.knots]
    return through([*before, *after])
