"""A beat: what a drummer plays over a whole number of bars, as hits on drums."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cached_property

from escalera.core.rhythm.pattern import FIXED, Pattern
from escalera.core.time.metre import Metre
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

# Lanes from low to high, and what plays each: a foot or a hand.
LANES = ("kick", "low tom", "low hand drum", "mid tom", "snare", "rim", "clap", "snap", "high tom", "high hand drum", "cowbell",
         "click", "shaker", "closed hat", "open hat", "ride", "crash")  # fmt: skip
RANK = {drum: i for i, drum in enumerate(LANES)}
FEET = ("kick",)
OTHER_HANDS = ("low hand drum", "high hand drum", "clap", "snap", "cowbell", "click", "shaker")  # not the drummer's
CYMBALS = ("closed hat", "open hat", "ride", "shaker")  # what keeps time
BACKBEAT = ("snare", "clap", "rim", "snap")
HIT_TICKS = 120
MAX_BARS, MAX_HITS = 16, 4000


@dataclass(frozen=True, slots=True)
class Hit:
    """One hit: tick from the beat's start (below 0 leads in), drum, velocity 1..127."""

    tick: int
    drum: str
    velocity: int = 100


@dataclass(frozen=True)
class Beat:
    """Hits in order of tick and lane over `length_ticks`; at most one hit of a drum at a tick."""

    length_ticks: int
    metre: Metre
    hits: tuple[Hit, ...]

    @property
    def bars(self) -> int:
        return max(1, -(-self.length_ticks // self.metre.bar_ticks))

    @cached_property
    def drums(self) -> tuple[str, ...]:
        """The drums that are hit, from low to high."""
        return tuple(sorted({h.drum for h in self.hits}, key=RANK.__getitem__))

    @cached_property
    def at(self) -> dict[tuple[str, int], Hit]:
        return {(h.drum, h.tick): h for h in self.hits}

    def of(self, *drums: str) -> tuple[Hit, ...]:
        return tuple(h for h in self.hits if h.drum in drums)

    def with_hits(self, hits: Iterable[Hit]) -> Beat:
        return beat(self.length_ticks, self.metre, hits)


def beat(length_ticks: int, metre: Metre, hits: Iterable[Hit]) -> Beat:
    """A beat of hits in any order; of two hits of a drum at one tick the louder stays. Raises EditError."""
    found: dict[tuple[int, str], Hit] = {}
    for h in hits:
        if h.drum not in RANK:
            raise EditError(f"“{h.drum}” is not a drum. Choose one of: {', '.join(LANES)}.")
        if not 1 <= h.velocity <= 127:
            raise EditError(f"A velocity of {h.velocity} lies outside 1 to 127. Choose a value between them.")
        if not -length_ticks < h.tick < length_ticks:
            raise EditError(
                f"A hit at tick {h.tick} lies outside the beat, which has {length_ticks} ticks. Make "
                f"the beat longer first."
            )
        old = found.get((h.tick, h.drum))
        if old is None or old.velocity < h.velocity:
            found[(h.tick, h.drum)] = h
    if len(found) > MAX_HITS:
        raise EditError(f"The beat has {len(found):,} hits; at most {MAX_HITS:,} fit. Use fewer bars.")
    if not 0 < length_ticks <= MAX_BARS * metre.bar_ticks:
        raise EditError(
            f"A beat of {length_ticks / metre.bar_ticks:g} bars is too long; at most {MAX_BARS} "
            f"fit. Split it over phrases."
        )
    return Beat(length_ticks, metre, tuple(sorted(found.values(), key=lambda h: (h.tick, RANK[h.drum]))))


def patterns_of(played: Beat, notes: Mapping[str, int]) -> dict[str, Pattern]:
    """A pattern a drum; `notes` gives the MIDI note of each."""
    found = {}
    for drum in played.drums:
        rows = [(h.tick, HIT_TICKS, FIXED, notes[drum], 0, h.velocity) for h in played.of(drum)]
        found[drum] = Pattern(played.length_ticks, rows)
    return found


def beat_of_patterns(parts: Mapping[str, Pattern], metre: Metre) -> Beat:
    """The beat that patterns make together, as long as the longest; shorter ones go round."""
    length = max((p.length_ticks for p in parts.values()), default=metre.bar_ticks)
    hits = []
    for drum, pattern in parts.items():
        for cycle in range(0, length, pattern.length_ticks):
            hits += [Hit(int(r[0]) + cycle, drum, int(r[5])) for r in pattern.rows if cycle == 0 or r[0] >= 0]
    return beat(length, metre, (h for h in hits if h.tick < length))


def tiled(played: Beat, length_ticks: int) -> Beat:
    """The beat repeated, or cut, to a length."""
    hits = [
        Hit(h.tick + cycle, h.drum, h.velocity)
        for cycle in range(0, length_ticks, played.length_ticks)
        for h in played.hits
        if h.tick + cycle < length_ticks and (h.tick >= 0 or cycle == 0)
    ]
    return beat(length_ticks, played.metre, hits)


def shortest(played: Beat) -> Beat:
    """The beat without repeats of itself: a bar said four times is one bar."""
    bar = played.metre.bar_ticks
    for bars in range(1, played.bars):
        if played.bars % bars == 0 and played.length_ticks % bar == 0:
            part = beat(bars * bar, played.metre, (h for h in played.hits if h.tick < bars * bar))
            if tiled(part, played.length_ticks) == played:
                return part
    return played


@dataclass(frozen=True, slots=True)
class HitChange:
    """One hit by which two beats differ: `kind` is more, less, louder or softer, told from the first to the second."""

    kind: str
    drum: str
    tick: int
    velocity: int


LOUDER = 12  # velocities that differ by less are the same to the ear


def changes(first: Beat, second: Beat) -> list[HitChange]:
    """What would have to be done to the first beat to make it the second, hit by hit, in order of time."""
    length = max(first.length_ticks, second.length_ticks)
    a, b = tiled(first, length).at, tiled(second, length).at
    found = [HitChange("more", d, t, h.velocity) for (d, t), h in b.items() if (d, t) not in a]
    found += [HitChange("less", d, t, h.velocity) for (d, t), h in a.items() if (d, t) not in b]
    for key in a.keys() & b.keys():
        step = b[key].velocity - a[key].velocity
        if abs(step) > LOUDER:
            found.append(HitChange("louder" if step > 0 else "softer", key[0], key[1], b[key].velocity))
    return sorted(found, key=lambda c: (c.tick, RANK[c.drum]))
