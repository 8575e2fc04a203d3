"""A song as sheets of notes: bars of notes with their written values, chords, words and sections; for whoever writes them down."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import field, replace

from escalera.core.document.song import Layer, Song
from escalera.core.joins import played
from escalera.core.reading.events import DURATION, PITCH, START, layer_events
from escalera.core.reading.section_harmony import section_harmony, section_key
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.core.time.metre import Metre
from escalera.core.voices.melody import melody_of
from escalera.core.voices.word_places import words_laid
from escalera.lazy_dataclasses import dataclass

STRAIGHT, TRIPLET = 240, 320  # ticks of a sixteenth, and of an eighth in a triplet
# ticks: written type and dots, the longest first
VALUES = {3840: ("whole", 0), 2880: ("half", 1), 1920: ("half", 0), 1440: ("quarter", 1), 960: ("quarter", 0), 720: ("eighth", 1), 480: ("eighth", 0),
          360: ("16th", 1), 240: ("16th", 0)}  # fmt: skip
IN_TRIPLETS = {640: ("quarter", 0), 320: ("eighth", 0)}
WHOLE_BEATS = (3840, 2880, 1920, 1440, 960)
MOST_VOICES = 8  # notes of one chord that are written


@dataclass(frozen=True, slots=True)
class SheetNote:
    """A written note, chord or rest (no pitches): ticks in its bar, its value; tied to the one before and after; a syllable under it."""

    start: int
    length: int
    pitches: tuple[int, ...]
    value: str
    dots: int
    triplet: bool = False
    tied_from: bool = False
    tied_on: bool = False
    syllable: str = ""
    syllabic: str = ""  # single, begin, middle, end


@dataclass(frozen=True, slots=True)
class SheetBar:
    """A bar: its number in the song, metre, key, tempo; what begins in it; chords by their tick; whether a repeat begins or ends with it."""

    number: int
    metre: Metre
    key: Key
    tempo_bpm: float
    section: str = ""
    chords: tuple[tuple[int, Chord], ...] = ()
    notes: tuple[SheetNote, ...] = ()
    repeat_from: bool = False
    repeat_to: bool = False


@dataclass(frozen=True, slots=True)
class SheetPart:
    """One staff: a name, whether it is read in the bass clef, bars."""

    name: str
    low: bool
    bars: tuple[SheetBar, ...]


@dataclass(frozen=True, slots=True)
class Sheet:
    """A title and its staves; bars of all staves are alike."""

    title: str
    parts: tuple[SheetPart, ...]


@dataclass
class _Unwritten:
    """A note before it is written: ticks in the song, pitches, its syllable."""

    start: int
    end: int
    pitches: tuple[int, ...]
    syllable: str = ""
    syllabic: str = ""
    pieces: list[tuple[int, int]] = field(default_factory=list)


def lead_sheet(song: Song) -> Sheet:
    """Melody with words, chords and sections; sections that come again at once exactly as they were are written once, between repeats."""
    there = played(song)
    notes = [n for span, at in _places(there) for n in _sung(there, span, at)]
    return Sheet(song.title, (_part(there, "Lead", notes, chords=True),))


def part_sheets(song: Song) -> Sheet:
    """A staff for every layer that plays notes, as it sounds, under the lead."""
    there = played(song)
    lead = lead_sheet(song).parts[0]
    rows = [lead] if any(n.pitches for b in lead.bars for n in b.notes) else []
    plain = not any(b.repeat_from for b in lead.bars)
    for layer in there.layers:
        if layer.muted or layer.sound.is_drum or layer.clips:
            continue
        notes = [n for span, at in _places(there) for n in _layered(there, span, at, layer)]
        if notes:
            rows.append(_part(there, layer.name, notes, chords=False, repeats=False))
    if rows and rows[0] is lead and not plain:
        rows[0] = _part(
            there, "Lead", [n for s, at in _places(there) for n in _sung(there, s, at)], chords=True, repeats=False
        )
    return Sheet(song.title, tuple(rows))


def _places(song: Song) -> Iterator[tuple[Span, int]]:
    at = 0
    for span in timeline(song).spans:
        yield span, at
        at += span.length_ticks


def _sung(song: Song, span: Span, at: int) -> list[_Unwritten]:
    words = words_laid(song, span).places
    by_start = {}
    for i, place in enumerate(words):
        first = i == 0 or words[i - 1].word != place.word
        kind = ("single" if place.last else "begin") if first else "end" if place.last else "middle"
        by_start[place.start] = (place.text, kind)
    return [
        _Unwritten(at + n.start, at + n.end, (n.pitch,), *by_start.get(n.start, ("", "")))
        for n in melody_of(song, span)
    ]


def _layered(song: Song, span: Span, at: int, layer: Layer) -> list[_Unwritten]:
    """Notes that begin together are one chord, as long as the longest of them."""
    found: dict[int, list[tuple[int, int]]] = {}
    for row in layer_events(song, span, layer).table.tolist():
        start = round(row[START] / 120) * 120
        found.setdefault(start, []).append((row[PITCH], row[DURATION]))
    return [
        _Unwritten(at + start, at + start + max(d for _, d in rows), tuple(sorted({p for p, _ in rows}))[:MOST_VOICES])
        for start, rows in sorted(found.items())
    ]


def _part(song: Song, name: str, notes: list[_Unwritten], chords: bool, repeats: bool = True) -> SheetPart:
    written = _on_grid(notes, [t for span, at in _places(song) for t in _beats(span, at)])
    bars = [bar for span, at in _places(song) for bar in _bars(song, span, at, written, chords)]
    middle = sorted(p for n in notes for p in n.pitches)
    low = bool(middle) and middle[len(middle) // 2] < 58
    return SheetPart(name, low, tuple(_folded(song, bars) if repeats else bars))


def _beats(span: Span, at: int) -> list[int]:
    return [
        at + t
        for a, b, m in zip(span.bar_ticks, span.bar_ticks[1:], span.bar_metres)
        for t in range(a, b, 960 if m.denominator <= 4 else m.beat_ticks)
    ]


def _on_grid(notes: list[_Unwritten], beats: list[int]) -> list[_Unwritten]:
    """Beginnings and ends on sixteenths, or on triplets in beats where those lie nearer; one note at a time."""
    triplets = _triplet_beats(notes, beats)
    found: list[_Unwritten] = []
    for note in sorted(notes, key=lambda n: n.start):
        start, end = (_snapped(t, beats, triplets) for t in (note.start, note.end))
        if found and start < found[-1].end:
            found[-1].end = start
            if found[-1].end <= found[-1].start:
                found.pop()
        end = max(end, _snapped(start + STRAIGHT, beats, triplets, up=True))
        if end > start >= 0:
            found.append(_Unwritten(start, end, note.pitches, note.syllable, note.syllabic))
    return found


def _beat_of(tick: int, beats: list[int]) -> int:
    from bisect import bisect_right

    return max(0, bisect_right(beats, tick) - 1)


def _triplet_beats(notes: list[_Unwritten], beats: list[int]) -> set[int]:
    """Beats in which beginnings lie nearer to thirds than to quarters."""
    off: dict[int, list[int]] = {}
    for note in notes:
        beat = _beat_of(note.start, beats)
        inside = note.start - beats[beat]
        off.setdefault(beat, [0, 0])
        off[beat][0] += abs(inside - round(inside / STRAIGHT) * STRAIGHT)
        off[beat][1] += abs(inside - round(inside / TRIPLET) * TRIPLET)
    return {beat for beat, (straight, triplet) in off.items() if triplet + 20 < straight}


def _snapped(tick: int, beats: list[int], triplets: set[int], up: bool = False) -> int:
    beat = _beat_of(tick, beats)
    grid = TRIPLET if beat in triplets else STRAIGHT
    inside = tick - beats[beat]
    return beats[beat] + (-(-inside // grid) if up else round(inside / grid)) * grid


def _bars(song: Song, span: Span, at: int, notes: list[_Unwritten], chords: bool) -> Iterator[SheetBar]:
    harmony, key = section_harmony(song, span), section_key(song, span.section)
    changes = list(zip(harmony.ticks, harmony.chords))
    for i, (low, high, metre) in enumerate(zip(span.bar_ticks, span.bar_ticks[1:], span.bar_metres)):
        tempo = [p for p in span.tempo_points if p[0] <= low][-1][1]
        here = [(max(0, t - low), c) for t, c in changes if low <= t < high or (i == 0 and t < low)]
        rows = tuple(_written(notes, at + low, at + high, metre))
        yield SheetBar(
            span.first_bar + i, metre, key, float(tempo), span.section.name if i == 0 else "",
            tuple(dict(here).items()) if chords else (), rows,
        )  # fmt: skip


def _written(notes: list[_Unwritten], low: int, high: int, metre: Metre) -> Iterator[SheetNote]:
    """The notes and rests of one bar, each cut into values that are written."""
    at = low
    for note in notes:
        start, end = max(low, note.start), min(high, note.end)
        if start >= end:
            continue
        if at < start:
            yield from _cut(at - low, start - low, (), metre)
        pieces = list(_cut(start - low, end - low, note.pitches, metre))
        for k, piece in enumerate(pieces):
            first, last = k == 0, k == len(pieces) - 1
            yield replace(
                piece, tied_from=not first or note.start < low, tied_on=not last or note.end > high,
                syllable=note.syllable if first and note.start >= low else "", syllabic=note.syllabic if first and note.start >= low else "",
            )  # fmt: skip
        at = end
    if at < high:
        yield from _cut(at - low, high - low, (), metre)


def _cut(start: int, end: int, pitches: tuple[int, ...], metre: Metre) -> Iterator[SheetNote]:
    """Ticks of a bar cut into written values: from a beat on as long as may be, within a beat up to its end."""
    beat = 960 if metre.denominator <= 4 else metre.beat_ticks
    while start < end:
        left, inside = end - start, start % beat
        to_beat = beat - inside
        if inside == 0 and left >= beat:
            length = next(
                (v for v in WHOLE_BEATS if v <= left and (v % beat == 0 or v == 1440)), beat if beat in VALUES else 480
            )
            triplet = False
        else:
            most = min(left, to_beat)
            triplet = most % STRAIGHT != 0 and most % 120 != 0 or inside % 120 != 0
            table = IN_TRIPLETS if triplet else VALUES
            length = next((v for v in table if v <= most), most)
        value, dots = (IN_TRIPLETS if triplet else VALUES).get(length, ("16th", 0))
        yield SheetNote(start, length, pitches, value, dots, triplet)
        start += length


def _folded(song: Song, bars: list[SheetBar]) -> list[SheetBar]:
    """Sections that come again at once exactly as they were, written once between repeats."""
    groups: list[list[SheetBar]] = []
    for bar in bars:
        if bar.section or not groups:
            groups.append([])
        groups[-1].append(bar)
    found: list[SheetBar] = []
    i = 0
    while i < len(groups):
        group = groups[i]
        if i + 1 < len(groups) and _alike(group, groups[i + 1]):
            last = replace(group[-1], repeat_to=True)
            found += (
                [replace(group[0], repeat_from=True), *group[1:-1], last]
                if len(group) > 1
                else [replace(last, repeat_from=True)]
            )
            i += 2
        else:
            found += group
            i += 1
    return found


def _alike(one: list[SheetBar], other: list[SheetBar]) -> bool:
    plain = [[replace(b, number=0, section="") for b in group] for group in (one, other)]
    return plain[0] == plain[1]
