"""The chords of a section as they sound: loop and passes written out, shifted, pushed, with what comes early from the next."""

from __future__ import annotations

from bisect import bisect_right
from functools import lru_cache

from escalera.core.document.chord_text import unrolled
from escalera.core.document.song import Progression, Section, Song
from escalera.core.reading.timeline import Span
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key, transpose_key
from escalera.lazy_dataclasses import dataclass

Row = tuple[int, Chord]


@dataclass(frozen=True, slots=True)
class Harmony:
    """The key and the chord changes of one section as they sound; the first may stand before tick 0.

    `moved_fifths` is how far the section is shifted from the song's own key, on the line of fifths.
    """

    key: Key
    ticks: tuple[int, ...]
    chords: tuple[Chord, ...]
    moved_fifths: int = 0

    @property
    def home(self) -> tuple[Chord, ...]:
        """The chords in the song's own key."""
        return tuple(chord.moved(-self.moved_fifths) for chord in self.chords) if self.moved_fifths else self.chords

    def index_at(self, tick: int) -> int:
        return max(0, bisect_right(self.ticks, tick) - 1)

    def at(self, tick: int) -> Chord:
        return self.chords[self.index_at(tick)]


def progression_of(song: Song, section: Section) -> Progression | None:
    """The section's own chords, else the song's, None where neither has any."""
    return section.progression or song.progression


def section_key(song: Song, section: Section) -> Key:
    """The key in which a section sounds."""
    return transpose_key(song.key, section.shift_semitones)


def tonic_chord(key: Key) -> Chord:
    """The triad of the key’s first degree."""
    return Chord(key.tonic_fifths, "m" if key.is_minor else "")


@lru_cache(maxsize=512)
def harmony_of(
    progression: Progression | None,
    key: Key,
    shift: int,
    bar_ticks: tuple[int, ...],
    push_ticks: int = 0,
    follow: Row | None = None,
) -> Harmony:
    """A looping progression over a section; without one the tonic chord stands throughout.

    `bar_ticks` are the section's bar lines and its end. Chords on a bar line come `push_ticks` earlier. `follow` is the
    next section's first chord where it comes early, with its tick in this section.
    """
    sounding = transpose_key(key, shift)
    rows = [(0, tonic_chord(key))]
    if progression is not None and progression.changes:
        rows = unrolled(progression, bar_ticks[-1])
        lines = frozenset(bar_ticks) if push_ticks else frozenset()
        rows = [(t - push_ticks if t in lines else t, chord) for t, chord in rows]
    moved = sounding.tonic_fifths - key.tonic_fifths
    rows = _in_order([(t, chord.moved(moved)) for t, chord in rows] + ([follow] if follow else []))
    return Harmony(sounding, tuple(t for t, _ in rows), tuple(chord for _, chord in rows), moved)


def _in_order(rows: list[Row]) -> list[Row]:
    """A chord that comes early takes the place of what would have come after it."""
    kept: list[Row] = []
    for row in rows:
        while kept and kept[-1][0] >= row[0]:
            kept.pop()
        kept.append(row)
    return kept


def section_harmony(song: Song, span: Span) -> Harmony:
    """What sounds in a section, computed once per state."""
    key = ("harmony", span.section.id)
    if key not in song.memo:
        section = span.section
        song.memo[key] = harmony_of(
            progression_of(song, section),
            song.key,
            section.shift_semitones,
            span.bar_ticks,
            song.push_ticks,
            _following(song, span),
        )
    return song.memo[key]


def _following(song: Song, span: Span) -> Row | None:
    """The next section's first chord, where it comes before the barline."""
    index = song.index_of(span.section.id) + 1
    if index == len(song.sections):
        return None
    after = song.sections[index]
    progression = progression_of(song, after)
    if progression is None:
        return None
    tick, chord = progression.changes[0]
    early = -tick if tick < 0 else song.push_ticks
    moved = section_key(song, after).tonic_fifths - song.key.tonic_fifths
    return (span.length_ticks - early, chord.moved(moved)) if early else None
