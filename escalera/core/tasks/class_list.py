"""Many submissions beside each other: what two of them share that the rest does not."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from itertools import combinations

from escalera.core.document.song import Song
from escalera.lazy_dataclasses import dataclass

LEAST_ROWS = 3  # notes that a line must have to be told from others
SHARED_FROM, LEAST_SHARED = 0.5, 3  # share of the smaller one's lines, and how many, from which it is said
COMMON = 0.34  # of all submissions: what more of them have was given out


@dataclass(frozen=True, slots=True)
class Shared:
    """Two submissions that have lines in common: how many, of how many that the one with fewer has."""

    one: str
    other: str
    count: int
    of: int

    @property
    def said(self) -> str:
        """In words that accuse nobody."""
        return (
            f"{self.one} and {self.other} have {self.count} of {self.of} lines in common, note for note. There may be a good reason: a "
            f"loop that both began with, or work done together. Ask before you conclude."
        )


def lines_of_work(song: Song, given: frozenset[str] = frozenset()) -> frozenset[str]:
    """Hashes of the lines that a song plays and that are long enough to be told apart; `given` ones came with the task."""
    placed = {p.pattern_id for s in song.sections for p in s.placements}
    patterns = (n.pattern for n in song.patterns if n.id in placed)
    return frozenset(p.content_hash for p in patterns if len(p.to_list()) >= LEAST_ROWS) - given


def shared_lines(works: Mapping[str, frozenset[str]]) -> list[Shared]:
    """Pairs that share more than chance would have them, the most first. What a third of all have counts as given out."""
    counts = Counter(line for lines in works.values() for line in lines)
    most = max(2.0, COMMON * len(works))
    own = {name: frozenset(x for x in lines if counts[x] <= most) for name, lines in works.items()}
    found = []
    for (a, one), (b, other) in combinations(own.items(), 2):
        both, of = len(one & other), min(len(one), len(other))
        if both >= LEAST_SHARED and both >= SHARED_FROM * of:
            found.append(Shared(a, b, both, of))
    return sorted(found, key=lambda s: (-s.count / s.of, s.one, s.other))
