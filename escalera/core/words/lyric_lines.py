"""Lyrics read line by line: words, syllables, the scheme of rhymes, lines that are compared, and the words a song turns on."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from typing import Any

from escalera.core.words.spoken_words import ENGLISH, WEAK, SpokenWord, plain, read_word
from escalera.lazy_dataclasses import dataclass

WORD = re.compile(r"[^\W\d_](?:[^\W_]|[\u0300-\u036f\u0590-\u05c7\u064b-\u0652]|['’‘](?=[^\W_]))*['’]?")
MOST_LINES = 400
NONSENSE = frozenset(
    [
     "la", "na", "da", "ba", "doo", "dum", "ooh", "oh", "ah", "hey", "mm", "hm", "yeah", "sha", "bop", "dee", "du", "li", "ta", "ra",
    ]
)  # fmt: skip
SCHEME = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
NEARBY = 4  # lines after which a rhyme is not heard as one any more
COMMONEST = 6


@dataclass(frozen=True, slots=True)
class LyricLine:
    """A line: its text, its words, the letter of what it rhymes with (empty where it rhymes with no line near it)."""

    text: str
    words: tuple[SpokenWord, ...]
    rhyme: str = ""

    @property
    def syllables(self) -> int:
        return sum(len(w.syllables) for w in self.words)

    @property
    def stress(self) -> str:
        """A digit a syllable."""
        return "".join(w.stress for w in self.words)

    @property
    def nonsense(self) -> int:
        """How many of its words stand in for words that are still to be found."""
        return sum(plain(w.text) in NONSENSE for w in self.words)


def read_lyric(text: str, language: str = ENGLISH, own: Iterable[tuple[str, str]] = ()) -> tuple[LyricLine, ...]:
    """The lines of a lyric that hold words, in order; `own` are words as a person divided them."""
    return _read(text, language, tuple(own))


@lru_cache(maxsize=256)
def _read(text: str, language: str, own: tuple[tuple[str, str], ...]) -> tuple[LyricLine, ...]:
    known: Mapping[str, str] = dict(own)
    rows: list[LyricLine] = []
    for line in text.splitlines():
        words = tuple(read_word(m, language, known) for m in WORD.findall(line))
        if words and len(rows) < MOST_LINES:
            rows.append(LyricLine(line.strip(), words))
    letters = rhyme_scheme([row.words[-1] for row in rows])
    return tuple(LyricLine(row.text, row.words, letter) for row, letter in zip(rows, letters))


def rhyme_scheme(ends: Sequence[SpokenWord]) -> list[str]:
    """A letter for every line whose last word rhymes with that of a line near it; the same word again is no rhyme."""
    found = [""] * len(ends)
    given = 0
    for i, end in enumerate(ends):
        for j in range(max(0, i - NEARBY), i):
            if rhymes(ends[j], end):
                if not found[j]:
                    found[j] = SCHEME[given % len(SCHEME)]
                    given += 1
                found[i] = found[j]
    return found


def rhymes(a: SpokenWord, b: SpokenWord) -> bool:
    """Whether two words rhyme by sound: alike from the last stressed vowel on, and not one word twice."""
    return bool(a.rhyme) and a.rhyme == b.rhyme and plain(a.text) != plain(b.text)


@dataclass(frozen=True, slots=True)
class LineCompared:
    """The same line of two verses: syllables of both; where they differ, one of them will not fit the melody of the other."""

    line: int
    ours: int
    theirs: int


def compared_lines(ours: Sequence[LyricLine], theirs: Sequence[LyricLine]) -> list[LineCompared]:
    """Lines of two sections with one melody, by number from 0, that have different numbers of syllables."""
    return [
        LineCompared(i, a.syllables, b.syllables)
        for i, (a, b) in enumerate(zip(ours, theirs))
        if a.syllables != b.syllables
    ]


def counted_words(lines: Iterable[LyricLine]) -> list[tuple[str, int]]:
    """Words that carry meaning and return, the most frequent first, with how often they are sung."""
    every = Counter(plain(w.text) for line in lines for w in line.words)
    kept = [(w, n) for w, n in every.most_common() if n > 1 and w not in WEAK and w not in NONSENSE and len(w) > 2]
    return kept[:COMMONEST]


def times_sung(words: str, lines: Iterable[LyricLine]) -> int:
    """How often a title or hook is sung: its words in a row within a line."""
    wanted = [plain(m) for m in WORD.findall(words)]
    if not wanted:
        return 0
    rows = ([plain(w.text) for w in line.words] for line in lines)
    return sum(row[i : i + len(wanted)] == wanted for row in rows for i in range(len(row) - len(wanted) + 1))


def words_json(lines: Iterable[LyricLine]) -> list[dict[str, Any]]:
    """Lines of a lyric as plain values: text, syllables, words with their syllables and stress, and the letter of the rhyme."""
    return [
        {
            "text": line.text,
            "syllables": line.syllables,
            "words": [{"word": w.text, "syllables": list(w.syllables), "stress": w.stress} for w in line.words],
            "rhyme": line.rhyme or None,
        }
        for line in lines
    ]
