"""How English words sound, from a table of 125,000: phones a letter each, vowels with their stress behind them.

Vowels: a father, A hat, x hut, o law, c how, y my, e bed, R bird, E say, i sit, I see, O go, Y boy, u put, U too; 1 and 2 are stressed,
0 is not. Consonants: C chin, D then, j jam, N sing, S ship, T thin, J yes, Z measure, and the others as they are written.
"""

from __future__ import annotations

import lzma
import re
from functools import cache, lru_cache
from importlib import resources

VOWELS = "aAxocyeREiIOYuU"
BEAT = re.compile(r"[aAxocyeREiIOYuU]\d")
STRESSES = re.compile(r"\d")


@cache
def _table() -> bytes:
    packed = resources.files(__package__).joinpath("pronunciations.xz").read_bytes()
    return b"\n" + lzma.decompress(packed) + b"\n"


@lru_cache(maxsize=8192)
def phones_of(word: str) -> str:
    """The phones of an English word in small letters; empty where the table does not have it."""
    key = b"\n" + word.encode() + b"\t"
    table = _table()
    low, high = 0, len(table) - 1
    while high - low > 400:  # lines are sorted: halved until a few are left
        middle = table.find(b"\n", (low + high) // 2)
        if middle >= high:
            break
        if table[middle : middle + len(key)] <= key:
            low = middle
        else:
            high = middle
    at = table.find(key, low, high + 400)
    return table[at + len(key) : table.index(b"\n", at + 1)].decode() if at >= 0 else ""


def stress_of(phones: str) -> str:
    """A digit a syllable: 1 and 2 are stressed, 0 is not."""
    return "".join(STRESSES.findall(phones))


def by_syllable(phones: str) -> tuple[str, ...]:
    """The phones of every syllable; consonants between two vowels go to the later one, but for the first of several."""
    beats = list(BEAT.finditer(phones))
    edges = [0]
    for before, after in zip(beats, beats[1:]):
        between = after.start() - before.end()
        edges.append(before.end() + (1 if between > 1 else 0))
    edges.append(len(phones))
    return tuple(phones[a:b] for a, b in zip(edges, edges[1:])) if beats else ()


def rhyme_of(phones: str) -> str:
    """What a word rhymes by: from its last stressed vowel to its end, stress left out; empty for no vowel."""
    beats = list(BEAT.finditer(phones))
    if not beats:
        return ""
    last = next((m for m in reversed(beats) if m.group()[1] != "0"), beats[-1])
    return STRESSES.sub("", phones[last.start() :])
