"""Recordings of singers that come unsorted: where each lies on the lead's melody, and which voice of the stack it sings."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from escalera.core.document.singing import SungAt
from escalera.core.document.song import Song
from escalera.core.palette.voice_parts import LEAD, VOICE_PARTS
from escalera.core.reading.timeline import Span
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import MelodyNote, melody_of
from escalera.core.voices.take_judgement import paired
from escalera.lazy_dataclasses import dataclass

BIN_S = 0.04
NEAR_SEMITONES = 0.7
LEAST_SHARE = 0.5  # of a voice's notes that must be met
LONG_S = 1.0  # a note of held vowels
MOST_OFFSETS = 3
INTERVALS = ("third above left", "fourth below left", "sixth below left")


@dataclass(frozen=True, slots=True)
class SortedTake:
    """Which voice a recording sings, where in it the section begins, and the share of notes that say so."""

    part: str
    zero_s: float
    share: float


def offsets_of(sung: Sequence[SungAt], wanted: Sequence[tuple[float, float]]) -> list[float]:
    """Seconds in a recording at which a melody (seconds, pitch) may begin, the likeliest first: most notes agree on them."""
    votes: Counter[int] = Counter()
    for note in sung:
        for at, pitch in wanted:
            if abs((note.pitch - pitch + 6.0) % 12.0 - 6.0) < NEAR_SEMITONES:
                place = round((note.start_s - at) / BIN_S)
                for bin in (place - 1, place, place + 1):
                    votes[bin] += 2 if bin == place else 1
    found = []
    for spot, _ in votes.most_common(MOST_OFFSETS):
        near = [
            n.start_s - at for n in sung for at, p in wanted if abs((n.pitch - p + 6.0) % 12.0 - 6.0) < NEAR_SEMITONES
        ]
        close = [x for x in near if abs(x - spot * BIN_S) < 1.5 * BIN_S]
        found.append(float(np.median(close)) if close else spot * BIN_S)
    return found


def _fit(sung: Sequence[SungAt], wanted: Sequence[tuple[float, float]]) -> tuple[float, float, float]:
    """The share of a melody's notes that a recording meets, where the melody begins in it, and by how many semitones octaves lie apart."""
    best = (0.0, 0.0, 0.0)
    for offset in offsets_of(sung, wanted):
        pairs = [
            (i, j)
            for i, j in paired(wanted, [(n.start_s - offset, n.pitch) for n in sung])
            if abs((sung[j].pitch - wanted[i][1] + 6.0) % 12.0 - 6.0) < NEAR_SEMITONES
        ]
        share = len(pairs) / max(len(wanted), len(sung), 1)
        if pairs and share > best[0]:
            best = (share, offset, float(np.median([sung[j].pitch - wanted[i][1] for i, j in pairs])))
    return best


def sort_take(song: Song, span: Span, sung: Sequence[SungAt]) -> SortedTake:
    """The voice of a stack that a recording sings in a section, by its notes against those that every voice would sing."""
    best = SortedTake("ad libs", 0.0, 0.0)
    for part in (LEAD, *INTERVALS):
        wanted = _wanted(song, span, part)
        if not wanted or not sung:
            continue
        share, zero_s, apart = _fit(sung, wanted)
        if part == LEAD and abs(apart) > 6.0:
            part = "octave above" if apart > 0 else "octave below"
        elif part != LEAD and abs(apart) > 6.0:
            continue
        if share > best.share:
            best = SortedTake(part, round(zero_s, 4), round(share, 2))
    if best.share >= LEAST_SHARE:
        return best
    held = [n.end_s - n.start_s for n in sung]
    if held and float(np.median(held)) >= LONG_S:
        return SortedTake("oohs left", 0.0, best.share)
    return SortedTake("ad libs", best.zero_s if best.share > 0.25 else 0.0, best.share)


def _wanted(song: Song, span: Span, part: str) -> list[tuple[float, float]]:
    notes: Sequence[MelodyNote] = melody_of(song, span) if part == LEAD else voice_line(song, span, part).notes
    return [(span.seconds_at(n.start), float(n.pitch)) for n in notes]


def side_for(song: Song, section_id: int, part: str) -> str:
    """The voice that a recording becomes beside those that are there: a second lead doubles the first, pairs go left and right in turn."""
    there = Counter(t.voice for t in song.takes if t.section_id == section_id)
    if part == LEAD and there[LEAD]:
        part = "double left"
    pair = VOICE_PARTS[part].pair
    sides = [f"{pair} left", f"{pair} right"]
    if sides[0] not in VOICE_PARTS:
        return part
    return min(sides, key=lambda p: there[p])
