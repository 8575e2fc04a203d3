"""Another order for a set: the one whose joins jar least and whose energy rises to a late peak, found by exchanging songs."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from itertools import combinations

import numpy as np

from escalera.core.planning.song_facts import SongFacts
from escalera.core.sets.set_reading import SAME_TEMPO, Placed, join
from escalera.core.sets.song_set import SetEntry
from escalera.lazy_dataclasses import dataclass

PEAK_AT = 0.78  # of the set: where the strongest song is wanted
TRIES, MOST_LOOKS = 4, 6000  # beginnings, orders that are looked at from each
ALIKE_POINTS = 0.8
# what a step of each kind costs
TEMPO_COST, KEY_COST, ALIKE_COST, CURVE_COST = 2.0, 0.25, 1.5, 0.6


@dataclass(frozen=True, slots=True)
class SetShape:
    """The curve that a set follows: shares of its time and energies, as shares between its calmest and strongest song."""

    key: str
    said: str
    points: tuple[tuple[float, float], ...]


SET_SHAPES: dict[str, SetShape] = {s.key: s for s in (
    SetShape("late peak", "begins strong enough, has a valley, and peaks late", ((0.0, 0.55), (0.3, 0.3), (PEAK_AT, 1.0), (1.0, 0.35))),
    SetShape("rising", "rises from the calmest to the strongest", ((0.0, 0.0), (1.0, 1.0))),
    SetShape("falling asleep", "begins with the strongest and lets go", ((0.0, 1.0), (1.0, 0.0))),
    SetShape("two hills", "peaks twice, with a valley between", ((0.0, 0.3), (0.28, 0.9), (0.55, 0.1), (0.85, 1.0), (1.0, 0.5))),
)}  # fmt: skip


class _Costs:
    """What orders of these songs cost for a shape: steps between any two are worked out once."""

    def __init__(self, songs: Sequence[Placed], shape: SetShape):
        self._steps = np.array([[_step(a, b) if a is not b else 0.0 for b in songs] for a in songs])
        self._means = np.array([s.facts.mean for s in songs])
        self._seconds = np.array([s.facts.seconds for s in songs])
        low, reach = float(self._means.min()), max(1.0, float(np.ptp(self._means)))
        shares, values = zip(*shape.points)
        self._shares, self._wanted = np.array(shares), low + reach * np.array(values)

    def of(self, order: Sequence[int]) -> float:
        """How much an order jars: leaps of tempo and key, neighbours that are alike, and distance from the shape."""
        places = np.asarray(order)
        lengths = self._seconds[places]
        middles = (np.cumsum(lengths) - lengths / 2) / max(1e-9, float(lengths.sum()))
        off = np.abs(self._means[places] - np.interp(middles, self._shares, self._wanted))
        return float(CURVE_COST * off.sum() + self._steps[places[:-1], places[1:]].sum())


def _step(before: Placed, after: Placed) -> float:
    each = join(before, after)
    leap = abs(float(np.log2(max(each.tempo_ratio, 1e-3))))
    alike = abs(each.tempo_ratio - 1) <= SAME_TEMPO and abs(before.facts.mean - after.facts.mean) < ALIKE_POINTS
    return TEMPO_COST * leap + KEY_COST * max(0, each.fifths - 1) + ALIKE_COST * (alike and each.same_key)


def best_order(
    entries: Sequence[SetEntry], facts: Mapping[int, SongFacts], shape: str, fixed: Sequence[int] = ()
) -> list[int]:
    """Ids of entries in the order that costs least for a shape, found by exchanging pairs.

    `fixed` are ids of entries that keep their places (an opener, a closer). The same set gives the same order. Entries whose songs
    are not known keep their places too.
    """
    known = [e for e in entries if e.song_id in facts]
    if len(known) < 3:
        return [e.id for e in entries]
    costs = _Costs([Placed(e, facts[e.song_id], 0.0) for e in known], SET_SHAPES[shape])
    free = [i for i, e in enumerate(known) if e.id not in fixed]
    chance, best = random.Random(len(known)), list(range(len(known)))
    for attempt in range(TRIES):
        order = list(range(len(known)))
        if attempt:
            for place, source in zip(free, chance.sample(free, len(free))):
                order[place] = source
        best = min(best, _improved(order, free, costs), key=costs.of)
    ids = iter(known[i].id for i in best)
    return [next(ids) if e.song_id in facts else e.id for e in entries]


def _improved(order: list[int], free: list[int], costs: _Costs) -> list[int]:
    """The order after every exchange of two free places that makes it cheaper, until none does or it has looked long enough."""
    cost, looks, better = costs.of(order), 0, True
    while better and looks < MOST_LOOKS:
        better = False
        for a, b in combinations(free, 2):
            order[a], order[b] = order[b], order[a]
            tried, looks = costs.of(order), looks + 1
            if tried < cost - 1e-9:
                cost, better = tried, True
            else:
                order[a], order[b] = order[b], order[a]
    return order
