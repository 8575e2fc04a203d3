"""Words laid on a melody: which syllable is sung on which note, what is left over, which stresses fall beside the beat."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import zip_longest

from escalera.core.document.carriers import JoinDevice
from escalera.core.document.singing import CHORD, Lyric, WordMoment
from escalera.core.document.song import Section, Song
from escalera.core.reading.timeline import Span
from escalera.core.theory.chords import Chord
from escalera.core.voices.melody import MelodyNote, melody_of, sung_lines
from escalera.core.words.lyric_lines import WORD, LyricLine, read_lyric
from escalera.lazy_dataclasses import dataclass

HELD = re.compile(r"_+")
FAR = 10**6
MOST_BREATHS, LONGEST_LINE = (
    400,
    12,
)  # of a section whose words are laid breath by breath; breaths that one line may take
BEFORE = 2  # what a note costs that stays without words before the first line; after the last one it costs 1
MOMENT_IDS = 900  # of the ids below zero that a section's join hands out


@dataclass(frozen=True, slots=True)
class SyllablePlace:
    """A syllable on a note: `word` counts words of the section from 0, `line` its lines; `last` ends its word."""

    word: int
    line: int
    text: str
    stress: str
    start: int
    end: int
    pitch: int
    last: bool
    phones: str = ""


@dataclass(frozen=True, slots=True)
class LinePlace:
    """A line on the melody: its first and last tick, how many notes it has, and how many syllables go onto them."""

    line: LyricLine
    start: int
    end: int
    notes: int

    @property
    def over(self) -> int:
        """Syllables without a note (above 0), or notes without a syllable (below)."""
        return self.line.syllables - self.notes


@dataclass(frozen=True, slots=True)
class WordsLaid:
    """A section's words on its melody. `unplaced` are lines for which there is no melody left."""

    places: tuple[SyllablePlace, ...] = ()
    lines: tuple[LinePlace, ...] = ()
    unplaced: tuple[LyricLine, ...] = ()

    def word_ticks(self, word: int) -> tuple[int, int] | None:
        """First tick of a word and the one after its last; None where it is on no note."""
        mine = [p for p in self.places if p.word == word]
        return (mine[0].start, mine[-1].end) if mine else None


def lyric_of(section: Section) -> Lyric | None:
    """The version of a section's words that is sung."""
    return section.lyrics[min(section.lyric, len(section.lyrics) - 1)] if section.lyrics else None


def lines_of(song: Song, section: Section) -> tuple[LyricLine, ...]:
    """The lines that are sung in a section."""
    lyric = lyric_of(section)
    return read_lyric(lyric.lines, song.language, song.divided) if lyric else ()


def words_laid(song: Song, span: Span) -> WordsLaid:
    """A section's words on its melody, worked out once per state."""
    key = ("words", span.section)
    if key not in song.memo:
        song.memo[key] = _laid(song, span)
    found: WordsLaid = song.memo[key]
    return found


def _laid(song: Song, span: Span) -> WordsLaid:
    lines, notes = lines_of(song, span.section), melody_of(song, span)
    if not lines or not notes:
        return WordsLaid(unplaced=lines)
    groups = sung_lines(notes)
    fits = len(lines) <= len(groups) <= MOST_BREATHS
    ranges = _by_breath(lines, groups) if fits else _in_a_row(lines, len(notes))
    places: list[SyllablePlace] = []
    told: list[LinePlace] = []
    word = 0
    for index, (line, (first, last)) in enumerate(zip(lines, ranges)):
        mine = notes[first:last]
        if mine:
            places += _syllables(line, mine, word, index)
            told.append(LinePlace(line, mine[0].start, mine[-1].end, len(mine)))
        word += len(line.words)
    return WordsLaid(tuple(places), tuple(told), tuple(line for line, (a, b) in zip(lines, ranges) if a >= b))


def _by_breath(lines: Sequence[LyricLine], groups: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """A stretch of breaths for every line, so that syllables and notes differ as little as they can together."""
    count, total = len(lines), len(groups)
    best = [[FAR] * (total + 1) for _ in range(count + 1)]
    back = [[0] * (total + 1) for _ in range(count + 1)]
    best[0] = [BEFORE * groups[i - 1][1] if i else 0 for i in range(total + 1)]  # words rather begin with the melody
    back[0] = list(range(total + 1))
    for i, line in enumerate(lines, 1):
        for end in range(i, total + 1):
            for start in range(max(i - 1, end - LONGEST_LINE), end):
                notes = groups[end - 1][1] - groups[start][0]
                price = best[i - 1][start] + 2 * abs(line.syllables - notes) + (end - start - 1)
                if price < best[i][end]:
                    best[i][end], back[i][end] = price, start
    end = min(range(count, total + 1), key=lambda e: best[count][e] + _left(groups, e))
    found = []
    for i in range(count, 0, -1):
        start = back[i][end]
        found.append((groups[start][0], groups[end - 1][1]))
        end = start
    return found[::-1]


def _left(groups: Sequence[tuple[int, int]], end: int) -> int:
    """What it costs that breaths after the last line stay without words."""
    return sum(b - a for a, b in groups[end:])


def _in_a_row(lines: Sequence[LyricLine], notes: int) -> list[tuple[int, int]]:
    """Lines one after the other, each on as many notes as it has syllables, the last one on what is left."""
    found, at = [], 0
    for i, line in enumerate(lines):
        end = notes if i == len(lines) - 1 else min(notes, at + line.syllables)
        found.append((at, end))
        at = end
    return found


def _syllables(line: LyricLine, notes: Sequence[MelodyNote], first_word: int, index: int) -> list[SyllablePlace]:
    """The syllables of a line on its notes; held words take more notes, what is left over shares the last note."""
    holds = _holds(line)
    rows = [
        (
            first_word + w,
            text,
            stress,
            i == len(word.syllables) - 1,
            holds[w] if i == len(word.syllables) - 1 else 0,
            phones,
        )
        for w, word in enumerate(line.words)
        for i, (text, stress, phones) in enumerate(zip_longest(word.syllables, word.stress, word.phones, fillvalue=""))
    ]
    found, at = [], 0
    for n, (word, text, stress, last, held, phones) in enumerate(rows):
        note = notes[min(at, len(notes) - 1)]
        end = notes[min(at + held, len(notes) - 1)].end if n < len(rows) - 1 else notes[-1].end
        until = max(end, note.start + 1)
        found.append(SyllablePlace(word, index, text, stress, note.start, until, note.pitch, last, phones))
        at += 1 + held
    return found


def _holds(line: LyricLine) -> list[int]:
    """How many more notes every word is held over: underscores after it."""
    ends = [m.end() for m in WORD.finditer(line.text)]
    found = []
    for end, following in zip(ends, [*ends[1:], len(line.text) + 1]):
        mark = HELD.search(line.text, end, following)
        found.append(len(mark.group()) if mark and not line.text[end : mark.start()].strip(" ,.!?") else 0)
    return found


@dataclass(frozen=True, slots=True)
class StressBeside:
    """A strong beat that falls on an unstressed syllable of a word, while a stressed one stands beside the beat."""

    place: SyllablePlace
    word: str


def stresses_beside(song: Song, span: Span) -> list[StressBeside]:
    """Words of several syllables whose unstressed one falls on a strong beat and whose stressed one does not."""
    laid, lines = words_laid(song, span), lines_of(song, span.section)
    words = [w for line in lines for w in line.words]
    by_word: dict[int, list[SyllablePlace]] = {}
    for place in laid.places:
        by_word.setdefault(place.word, []).append(place)
    found = []
    for number, mine in by_word.items():
        if len(mine) < 2 or len({p.start for p in mine}) < len(mine):
            continue
        strong = [weight_at(span, p.start) for p in mine]
        stressed = max((s for s, p in zip(strong, mine) if p.stress == "1"), default=None)
        weak = [p for s, p in zip(strong, mine) if p.stress == "0" and stressed is not None and s > stressed and s >= 2]
        if weak:
            found.append(StressBeside(weak[0], words[number].text))
    return found


def weight_at(span: Span, tick: int) -> int:
    """How strong a place in the bar is: 3 on the one, 2 on the middle of an even bar, 1 on a beat, 0 between."""
    bar = span.bar_of(tick)
    metre, inside = span.bar_metres[bar], tick - span.bar_ticks[bar]
    near = 60 if inside % metre.beat_ticks else 0
    beat = round(inside / metre.beat_ticks)
    if abs(inside - beat * metre.beat_ticks) > near:
        return 0
    beats = metre.bar_ticks // metre.beat_ticks
    if beat % beats == 0:
        return 3
    return 2 if beats % 2 == 0 and beat * 2 == beats else 1


def moments_played(song: Song, span: Span) -> tuple[JoinDevice, ...]:
    """What is tied to a section's words, as devices at the ticks where the words are sung; a word on no note plays nothing."""
    return tuple(
        JoinDevice(-MOMENT_IDS - i, moment.kind, tick, length, moment.layer_id, moment.settings)
        for i, moment, tick, length in _sung_moments(song, span)
        if moment.kind != CHORD
    )


def chords_on_words(song: Song, span: Span) -> tuple[tuple[int, int, Chord], ...]:
    """(first tick, tick after the last, chord in the song's own key) of chords that are tied to a section's words."""
    return tuple(
        (tick, min(tick + length, span.length_ticks), moment.chord)
        for _, moment, tick, length in _sung_moments(song, span)
        if moment.chord is not None
    )


def _sung_moments(song: Song, span: Span) -> Iterator[tuple[int, WordMoment, int, int]]:
    """Number, moment, first tick and length in ticks of what is tied to words that are sung."""
    laid = words_laid(song, span) if span.section.moments else None
    for i, moment in enumerate(span.section.moments):
        ticks = laid.word_ticks(moment.word) if laid else None
        if ticks is not None:
            beat_ticks = span.bar_metres[span.bar_of(ticks[0])].beat_ticks
            yield i, moment, ticks[0], max(1, round(moment.beats * beat_ticks))


def moment_word(song: Song, section: Section, moment: WordMoment) -> str:
    """The word that a moment is tied to; empty where the words have become fewer."""
    words = [w.text for line in lines_of(song, section) for w in line.words]
    return words[moment.word] if moment.word < len(words) else ""
