"""Readings of tracks as tests need them: bars that are full or bare, sections, a loop of chords."""

from dataclasses import replace

from escalera.core.study.heard_track import BarHeard, ChordHeard, SectionRead, StudyReading
from escalera.core.study.roles import with_names

FULL = BarHeard(
    7.0, (0.8, 0.4, 0.7, 0.7, 0.6, 0.5, 0.4, 0.0, 0.9), -10.0, (-20.0, -22.0, -24.0, -28.0, -38.0, -45.0), 0.25, (4.0, 5.0, 2.0), 2.0, 5.0, 1200.0, -24.0, -22.0,
    (0.0, 0.0, 0.0, 0.3, 0.0, 0.0),
)  # fmt: skip
BARE = replace(
    FULL, energy=3.0, terms=(0.1, 0.2, 0.1, 0.3, 0.4, 0.4, 0.1, 0.0, 0.4), loudness_lufs=-22.0, bands_db=(-75.0, -70.0, -34.0, -40.0, -58.0, -70.0),
    width=0.02, onsets=(0.1, 0.9, 0.2), kicks=0.0, hits=0.2, centre_hz=700.0, held_db=-40.0, struck_db=-45.0,
)  # fmt: skip
LOOP = ("Am", "F", "C", "G")


def reading(parts=((4, BARE, -1), (8, FULL, -1), (8, BARE, 0), (8, FULL, 1)), bpm=120.0, beats_a_bar=4, before=1):
    """A track of parts: (bars, what each sounds like, which it is like)."""
    count = sum(p[0] for p in parts)
    beats = tuple(round(0.3 + i * 60.0 / bpm, 4) for i in range(before + count * beats_a_bar + 1))
    bars = tuple(bar for n, bar, _ in parts for _ in range(n))
    sections, first = [], 0
    for n, _, like in parts:
        sections.append(SectionRead(first, n, "", "", 0.8, like, 0.8 if like >= 0 else 0.0))
        first += n
    chords = tuple(
        ChordHeard(before + b * beats_a_bar, before + (b + 1) * beats_a_bar, LOOP[b % 4], 0.9) for b in range(count)
    )
    made = StudyReading(
        beats[-1] + 0.5, -11.0, -0.5, bpm, 0.9, (bpm / 2,), beats_a_bar, 0.9, 0.8, beats, before, "A minor", 0.9, 3.0, (), chords,
        tuple(sections), bars, tuple([50] * 600),
    )  # fmt: skip
    return with_names(made)
