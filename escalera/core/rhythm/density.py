"""How busy one drum is: hits come and go in the order in which a player would add and leave them.

Every drum has a part: the foot carries the strong beats, the backbeat answers it, cymbals keep time, skins lead to the end of
the bar. The order of places follows from the part; what is added at one place of the bar is added in every bar, since players repeat.
"""

from __future__ import annotations

from collections.abc import Callable

from escalera.core.rhythm.beat import BACKBEAT, FEET, Beat, Hit
from escalera.core.rhythm.measures import SIXTEENTH, strength
from escalera.core.rhythm.performance import playable

SKINS = ("low tom", "mid tom", "high tom", "low hand drum", "high hand drum")
STEADY = ("closed hat", "ride", "shaker", "cowbell", "click")
Cost = Callable[[int, Beat], float]


def _beat_number(place: int, played: Beat) -> int:
    return place // played.metre.beat_ticks


def _on_backbeat(place: int, played: Beat) -> bool:
    return strength(place, played) == 3 and _beat_number(place, played) % 2 == 1


def _foot(place: int, played: Beat) -> float:
    """The one, the middle, the halves before strong beats, the other beats, then what leads into them."""
    level = strength(place, played)
    if level >= 3:
        return 0 if level == 4 else 1 if not _on_backbeat(place, played) else 4
    before_strong = not _on_backbeat((place + played.metre.beat_ticks // 2) % played.metre.bar_ticks, played)
    return {2: 2 if before_strong else 3, 1: 5}.get(level, 9)


def _hand(place: int, played: Beat) -> float:
    """The backbeat, ghosts beside it, the halves, then the strong beats, which belong to the foot."""
    step, bar = SIXTEENTH, played.metre.bar_ticks
    if _on_backbeat(place, played):
        return 0
    if any(_on_backbeat((place + d) % bar, played) for d in (-step, step)):
        return 1
    level = strength(place, played)
    return {1: 2, 2: 3, 3: 5, 4: 6}.get(level, 9)


def _time(place: int, played: Beat) -> float:
    """Beats, halves, quarters."""
    return {4: 0, 3: 0, 2: 1, 1: 2}.get(strength(place, played), 9)


def _opening(place: int, played: Beat) -> float:
    """The half before the bar line, the other halves, then the quarters."""
    last = place == played.metre.bar_ticks - played.metre.beat_ticks // 2
    return 0 if last else {2: 1, 1: 3, 3: 4, 4: 5}.get(strength(place, played), 9)


def _marking(place: int, played: Beat) -> float:
    """The one, then the other beats."""
    return {4: 0, 3: 1, 2: 3}.get(strength(place, played), 9)


def _skin(place: int, played: Beat) -> float:
    """From the end of the bar back: what leads to the next one, its halves before its quarters."""
    away = (played.metre.bar_ticks - place) / played.metre.beat_ticks
    return away + (1.0 if strength(place, played) <= 1 else 0.0)


def _cost(drum: str) -> Cost:
    if drum in FEET:
        return _foot
    if drum in BACKBEAT:
        return _hand
    if drum in STEADY:
        return _time
    return {"open hat": _opening, "crash": _marking}.get(drum, _skin)


def places_in_order(played: Beat, drum: str) -> list[int]:
    """Places of a bar, in ticks, in the order in which a player would take them for a drum; sixteenths, or triplets where those are played."""
    beat_ticks = played.metre.beat_ticks
    thirds = sum(h.tick % beat_ticks in (beat_ticks // 3, 2 * beat_ticks // 3) for h in played.hits)
    quarters = sum(h.tick % SIXTEENTH == 0 and h.tick % beat_ticks != 0 for h in played.hits)
    step = beat_ticks // 3 if thirds > quarters else SIXTEENTH
    cost = _cost(drum)
    return sorted(range(0, played.metre.bar_ticks, step), key=lambda p: (cost(p, played), p))


def _velocity(drum: str, place: int, played: Beat) -> int:
    if drum in BACKBEAT:
        return 104 if _on_backbeat(place, played) else 44
    level = strength(place, played)
    return 98 if level == 4 else 88 if level == 3 else 72 if level == 2 else 58


def denser(played: Beat, drum: str, steps: int) -> Beat:
    """The beat with a drum busier by so many steps, or sparser where they are below 0; as it is where no more come or go.

    A step is one place of the bar, in all bars of the beat. What a player would leave last stays last.
    """
    after = played
    for _ in range(abs(steps)):
        after = _added(after, drum) if steps > 0 else _left_out(after, drum)
    return after


def _added(played: Beat, drum: str) -> Beat:
    bar = played.metre.bar_ticks
    for place in places_in_order(played, drum):
        fresh = [
            Hit(start + place, drum, _velocity(drum, place, played))
            for start in range(0, played.length_ticks, bar)
            if start + place < played.length_ticks and (drum, start + place) not in played.at
        ]
        after = playable(played.with_hits((*played.hits, *fresh)))
        if len(after.of(drum)) > len(played.of(drum)):
            return after
    return played


def _left_out(played: Beat, drum: str) -> Beat:
    """Without the place of the bar that a player would leave first; played notes count for the place they are nearest to."""
    mine = played.of(drum)
    if not mine:
        return played
    order, bar = places_in_order(played, drum), played.metre.bar_ticks

    def rank(hit: Hit) -> int:
        return min(range(len(order)), key=lambda i: (_apart(hit.tick % bar, order[i], bar), i))

    last = max(rank(h) for h in mine)
    return played.with_hits(h for h in played.hits if h.drum != drum or rank(h) != last)


def _apart(a: int, b: int, bar: int) -> int:
    return min((a - b) % bar, (b - a) % bar)
