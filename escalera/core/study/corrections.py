"""What a person corrects in a study: from the reading as it is and a wish to the corrections that it is read anew with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from escalera.cleaning import clean_line
from escalera.core.document.chord_text import parse_chordline, unrolled
from escalera.core.document.limits import MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.song import ROLES
from escalera.core.study.heard_track import MOST_CHORDS, MOST_SECTIONS, Given, GivenChord, GivenSection, StudyReading
from escalera.core.study.words import key_at
from escalera.core.theory.chords import parse_chord
from escalera.core.theory.keys import Key, key_text, parse_key
from escalera.core.time.metre import Metre
from escalera.core.time.tapping import read_taps
from escalera.errors import InputError

METRES = range(2, 13)
NAME_CHARS = 60
NEAR_S = 0.5


def tempo_times(reading: StudyReading, given: Given, factor: float) -> Given:
    """Half or double the tempo, or two thirds of it; the first bar stays where it is."""
    now = given.tempo_bpm or reading.tempo_bpm
    if not now:
        raise InputError("There is no tempo to halve or double. Tap along first.")
    return replace(_at_tempo(given, now * factor), downbeat_s=reading.bar_s(0) if reading.has_bars else None)


def tempo_set(given: Given, tempo_bpm: float) -> Given:
    """The tempo as a person knows it."""
    return _at_tempo(given, tempo_bpm)


def _at_tempo(given: Given, tempo_bpm: float) -> Given:
    if not MIN_TEMPO_BPM <= tempo_bpm <= MAX_TEMPO_BPM:
        raise InputError(f"The tempo would be {tempo_bpm:.1f} bpm; {MIN_TEMPO_BPM:g} to {MAX_TEMPO_BPM:g} are taken.")
    return replace(given, tempo_bpm=round(tempo_bpm, 3))


def tapped(given: Given, times_s: Sequence[float]) -> Given:
    """The tempo and the place of beats from taps along with the track; the first of the last run is a one."""
    found = read_taps(times_s)
    return replace(_at_tempo(given, found.bpm), downbeat_s=round(times_s[-found.taps], 4))


def beat_shifted(reading: StudyReading, given: Given, by: int) -> Given:
    """The first beat of the bar lies `by` beats later."""
    if not reading.has_bars:
        raise InputError("There are no beats to shift. Tap along first.")
    at = reading.before + by
    at = at if at >= 0 else at % reading.beats_a_bar
    return replace(given, downbeat_s=reading.beats_s[min(at, len(reading.beats_s) - 1)])


def one_at(given: Given, seconds: float) -> Given:
    """A bar begins at a moment."""
    if seconds < 0:
        raise InputError(f"{seconds:.2f} s lies before the track.")
    return replace(given, downbeat_s=round(seconds, 4))


def metre_set(reading: StudyReading, given: Given, beats_a_bar: int) -> Given:
    """So many beats in a bar, from the same one on. Raises InputError."""
    if beats_a_bar not in METRES:
        raise InputError(f"A bar of {beats_a_bar} beats is not read; {METRES[0]} to {METRES[-1]} are.")
    return replace(
        given, beats_a_bar=beats_a_bar, downbeat_s=reading.bar_s(0) if reading.has_bars else given.downbeat_s
    )


def key_set(given: Given, text: str) -> Given:
    """The key as a person hears it, empty for the one that is read."""
    return replace(given, key=key_text(parse_key(text)) if text.strip() else "")


def chords_written(reading: StudyReading, given: Given, first_bar: int, bars: int, text: str) -> Given:
    """A line of chords over some bars, gone round where it is shorter; empty gives back what was read there."""
    if not reading.has_bars:
        raise InputError("Chords are counted on beats, and there are none yet. Tap along first.")
    if not 0 <= first_bar < reading.bar_count or bars < 1:
        raise InputError(
            f"Bars {first_bar + 1} to {first_bar + bars} are not in the track; it has {reading.bar_count}."
        )
    bars = min(bars, reading.bar_count - first_bar)
    low, high = reading.bar_s(first_bar), reading.bar_s(first_bar + bars)
    metre = Metre(reading.beats_a_bar, 4)
    found = parse_chordline(text, key_at(reading, first_bar) or Key(), metre, bars)
    rows: list[GivenChord] = []
    if found is not None:
        written = unrolled(found, bars * metre.bar_ticks)
        ticks = [max(0, t) for t, _ in written] + [bars * metre.bar_ticks]
        for (_, chord), a, b in zip(written, ticks, ticks[1:]):
            if b > a:
                rows.append(GivenChord(_at(reading, first_bar, a), _at(reading, first_bar, b), chord.name()))
    return _with_chords(given, rows, low, high)


def chord_set(reading: StudyReading, given: Given, beat: int, text: str) -> Given:
    """Another chord in place of the one that sounds at a beat."""
    there = next((c for c in reading.chords if c.beat <= beat < c.end_beat), None)
    if there is None:
        raise InputError(f"No chord sounds at beat {beat + 1}. Write the line of its bars instead.")
    low, high = reading.beats_s[there.beat], reading.beats_s[there.end_beat]
    bar = (there.beat - reading.before) // reading.beats_a_bar
    rows = [GivenChord(low, high, parse_chord(clean_line(text), key_at(reading, bar)).name())] if text.strip() else []
    return _with_chords(given, rows, low, high)


def _at(reading: StudyReading, bar: int, ticks: int) -> float:
    beat = reading.beat_of_bar(bar) + ticks / 960
    whole = min(int(beat), len(reading.beats_s) - 2)
    a, b = reading.beats_s[whole], reading.beats_s[whole + 1]
    return round(a + (beat - whole) * (b - a), 4)


def _with_chords(given: Given, rows: list[GivenChord], low_s: float, high_s: float) -> Given:
    """New rows in place of all between two moments; what reaches over them is cut."""
    kept: list[GivenChord] = []
    for c in given.chords:
        if c.start_s < low_s - 0.05:
            kept.append(replace(c, end_s=min(c.end_s, low_s)))
        if c.end_s > high_s + 0.05:
            kept.append(replace(c, start_s=max(c.start_s, high_s)))
    found = tuple(sorted((*kept, *rows), key=lambda c: c.start_s))
    if len(found) > MOST_CHORDS:
        raise InputError(f"{MOST_CHORDS} chords written by hand are kept, and no more fit.")
    return replace(given, chords=found)


# sections --------------------------------------------------------------------------------------------------------


def _as_given(reading: StudyReading, given: Given) -> list[GivenSection]:
    """The sections as they are now, as if a person had set them; names that were only guessed stay open."""
    rows = []
    for s in reading.sections:
        start = round(reading.bar_s(s.first_bar), 4)
        known = next((g for g in given.sections if abs(g.start_s - start) < NEAR_S), GivenSection(start))
        rows.append(replace(known, start_s=start))
    return rows


def _sections(given: Given, rows: list[GivenSection]) -> Given:
    if len(rows) > MOST_SECTIONS:
        raise InputError(f"{MOST_SECTIONS} sections are kept, and no more fit.")
    return replace(given, sections=tuple(sorted(rows, key=lambda g: g.start_s)))


def section_split(reading: StudyReading, given: Given, bar: int) -> Given:
    """A section begins at a bar, counted from 0, within another one."""
    if not 0 < bar < reading.bar_count or any(s.first_bar == bar for s in reading.sections):
        raise InputError(f"Bar {bar + 1} begins a section already, or is not in the track.")
    return _sections(given, [*_as_given(reading, given), GivenSection(round(reading.bar_s(bar), 4))])


def section_joined(reading: StudyReading, given: Given, index: int) -> Given:
    """A section goes on from the one before it."""
    if not 0 < index < len(reading.sections):
        raise InputError("The first section has none before it to be joined to.")
    rows = _as_given(reading, given)
    del rows[index]
    return _sections(given, rows)


def section_moved(reading: StudyReading, given: Given, index: int, bar: int) -> Given:
    """A section begins at another bar, between its neighbours' beginnings."""
    if not 0 < index < len(reading.sections):
        raise InputError("The first section begins with the track.")
    after = reading.sections[index + 1].first_bar if index + 1 < len(reading.sections) else reading.bar_count
    if not reading.sections[index - 1].first_bar < bar < after:
        raise InputError(
            f"{reading.sections[index].name} can begin at bars {reading.sections[index - 1].first_bar + 2} to {after}."
        )
    rows = _as_given(reading, given)
    rows[index] = replace(rows[index], start_s=round(reading.bar_s(bar), 4))
    return _sections(given, rows)


def section_named(reading: StudyReading, given: Given, index: int, name: str, role: str) -> Given:
    """A name and a role for a section."""
    if not 0 <= index < len(reading.sections):
        raise InputError("There is no such section.")
    if role and role not in ROLES:
        raise InputError(f"{clean_line(role)[:40]} is no role. Choose one of {', '.join(ROLES)}.")
    rows = _as_given(reading, given)
    rows[index] = replace(rows[index], name=clean_line(name)[:NAME_CHARS], role=role)
    return _sections(given, rows)
