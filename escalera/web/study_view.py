"""What the pages of studies show: a track as a staircase in grey stone, its sections with what they bring, its bars in close-up."""

from __future__ import annotations

import json
from functools import cached_property
from typing import Any

import numpy as np

from escalera.core.document.chord_text import write_chordline
from escalera.core.energy.stats import BAND_EDGES_HZ, BANDS
from escalera.core.study import changes, words
from escalera.core.study.building import chords_of
from escalera.core.study.heard_track import ChordHeard, SectionRead, StudyNote, StudyReading
from escalera.core.study.sounding import SIGNS, sounding
from escalera.core.study.under_voice import VoiceOffer
from escalera.core.theory.chords import parse_chord
from escalera.core.time.metre import Metre
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass
from escalera.services.studies import Study
from escalera.web.drawing import LINE_WIDTH, y_of

JOIN_WORDS = {
    "gap": "a gap", "low end out": "the low end out", "roll": "a roll", "riser": "a riser", "impact": "an impact on the one",
}  # fmt: skip


@dataclass(frozen=True)
class StoneStep:
    """One section as it is drawn: left and right in per mille of the track, its top, and marks of doubt."""

    index: int
    section: SectionRead
    left: float
    right: float
    y: float
    energy: float
    loop: str


@dataclass(frozen=True)
class CloseBar:
    """One bar in close-up: its number, place in per cent of the strip, waveform, chords with the beat each begins at."""

    number: int
    at_s: float
    left: float
    width: float
    wave: str
    chords: tuple[tuple[ChordHeard, float], ...]
    energy: float
    notes: tuple[StudyNote, ...]


class StudyView:
    """All that the templates of a study ask for; `chosen` is a section, `bar` one of its bars, both from 0."""

    def __init__(self, study: Study, chosen: int = 0, bar: int = -1):
        self.study = study
        self.reading = study.reading
        count = len(self.reading.sections) if self.reading else 0
        self.chosen = max(0, min(chosen, count - 1))
        self.bar = (
            bar if self.section and self.section.first_bar <= bar < self.section.first_bar + self.section.bars else -1
        )

    @property
    def section(self) -> SectionRead | None:
        return self.reading.sections[self.chosen] if self.reading and self.reading.sections else None

    # the whole -----------------------------------------------------------------------------------------------------

    @cached_property
    def facts(self) -> list[tuple[str, str, float]]:
        """Label, value, confidence of what is known of the whole."""
        r = self.reading
        if r is None:
            return []
        found: list[tuple[str, str, float]] = []
        if r.tempo_bpm is not None:
            low, high = r.tempo_range()
            drift = f", {low:.1f} to {high:.1f}" if high - low > 0.6 else ""
            sure = 1.0 if self.study.given.tempo_bpm else r.tempo_confidence
            found.append(("Tempo", f"{r.tempo_bpm:.1f} bpm{drift}", sure))
            found.append(("Metre", f"{r.beats_a_bar}/4", 1.0 if self.study.given.beats_a_bar else r.metre_confidence))
            found.append(
                (
                    "Bar 1",
                    f"at {r.bar_s(0):.2f} s",
                    1.0 if self.study.given.downbeat_s is not None else r.downbeat_confidence,
                )
            )
        if r.key is not None:
            found.append(("Key", r.key, 1.0 if self.study.given.key else r.key_confidence))
            for bar, by in r.key_parts[1:]:
                found.append((f"From bar {bar + 1}", words.key_change_said(by) if by else "home again", 0.8))
        if r.tuning_cents is not None:
            found.append(("Tuning", words.tuning_said(r.tuning_cents), 0.9))
        if r.loudness_lufs is not None:
            peak = f", peak {r.true_peak_dbtp:.1f} dBTP" if r.true_peak_dbtp is not None else ""
            found.append(("Loudness", f"{r.loudness_lufs:.1f} LUFS{peak}".replace("-", "−"), 1.0))
        return found

    @cached_property
    def steps(self) -> list[StoneStep]:
        r = self.reading
        if r is None:
            return []
        found = []
        for i, s in enumerate(r.sections):
            left, right = (LINE_WIDTH * min(1.0, r.bar_s(b) / r.seconds) for b in (s.first_bar, s.first_bar + s.bars))
            energy = r.energy_of(i)
            loop = words.numerals(r, i)
            text = " ".join(loop[:6]) + (" …" if len(loop) > 6 else "")
            found.append(StoneStep(i, s, round(left, 1), round(right, 1), y_of(min(10.0, energy)), energy, text))
        return found

    def line(self) -> str:
        """Energy bar by bar as points over the track."""
        r = self.reading
        if r is None or not r.bars:
            return ""
        points = []
        for i, b in enumerate(r.bars):
            x = LINE_WIDTH * (r.bar_s(i) + r.bar_s(i + 1)) / 2 / r.seconds
            points.append(f"{x:.1f},{y_of(min(10.0, b.energy)):.1f}")
        return " ".join(points)

    def wave(self) -> str:
        """The waveform over the whole as one path, 0 to 40 high."""
        return _wave(self.reading.envelope, 40) if self.reading else ""

    def left_of(self, seconds: float) -> float:
        return round(100 * seconds / self.reading.seconds, 2) if self.reading else 0.0

    # the chosen section --------------------------------------------------------------------------------------------

    @property
    def before(self) -> changes.Changes | None:
        """The chosen section against the one before it."""
        return changes.against(self.reading, self.chosen, self.chosen - 1) if self.reading and self.chosen else None

    @property
    def again(self) -> tuple[SectionRead, changes.Changes] | None:
        """The section that it comes back from, and what is different."""
        found = changes.compared(self.reading, self.chosen) if self.reading else None
        return (self.reading.sections[found[0]], found[1]) if found and self.reading else None

    @property
    def grows(self) -> str:
        """Whether it has more or less energy than the section it comes back from."""
        return changes.grows(self.again[1]) if self.again else ""

    @property
    def feel(self) -> list[str]:
        """How it moves, where the kick enters, what key it is in."""
        if self.reading is None or self.section is None:
            return []
        s = self.section
        key = f"{words.key_change_said(s.semitones)} from the key" if s.semitones else ""
        return [x for x in (words.feel_said(s), words.kick_said(self.reading, self.chosen), key) if x]

    @property
    def joins(self) -> list[str]:
        if self.section is None:
            return []
        found = []
        for device, before, sure in self.section.joins:
            when = f", {before:g} beats before it" if before else ""
            found.append(f"{JOIN_WORDS[device]}{when}{words.doubt(sure)}")
        return found

    @property
    def there(self) -> list[str]:
        """What sounds in it."""
        if self.reading is None or self.section is None:
            return []
        return [SIGNS[k].label for k, v in sounding(self.reading, self.chosen).items() if v >= 1.0]

    @property
    def numerals(self) -> str:
        return " ".join(words.numerals(self.reading, self.chosen)) if self.reading and self.section else ""

    @property
    def places(self) -> str:
        """Which bands sit to one side."""
        return words.places_said(self.reading, self.chosen) if self.reading and self.section else ""

    @property
    def inner_parts(self) -> list[str]:
        """Parts within it: where what sounds turns."""
        if self.reading is None or self.section is None:
            return []
        return words.inner_parts(self.reading, self.chosen)

    def chord_text(self) -> str:
        """The chords of the section as the line that is typed."""
        if self.reading is None or self.section is None or not self.reading.has_bars:
            return ""
        return write_chordline(chords_of(self.reading, self.chosen, at_home=False), Metre(self.reading.beats_a_bar, 4))

    @cached_property
    def close(self) -> list[CloseBar]:
        r, s = self.reading, self.section
        if r is None or s is None:
            return []
        low_s, high_s = r.bar_s(s.first_bar), r.bar_s(s.first_bar + s.bars)
        found = []
        for bar in range(s.first_bar, s.first_bar + s.bars):
            a, b = r.bar_s(bar), r.bar_s(bar + 1)
            first = r.beat_of_bar(bar)
            chords = tuple(
                (c, 100.0 * max(0, c.beat - first) / r.beats_a_bar)
                for c in r.chords_of(bar)
                if c.beat >= first or bar == s.first_bar
            )
            steps = len(r.envelope)
            part = r.envelope[
                int(steps * a / r.seconds) : max(int(steps * a / r.seconds) + 2, int(np.ceil(steps * b / r.seconds)))
            ]
            notes = tuple(n for n in self.study.notebook.notes if n.at_s is not None and a - 0.01 <= n.at_s < b - 0.01)
            left, width = (100.0 * (x - low_s) / (high_s - low_s) for x in (a, b))
            found.append(
                CloseBar(
                    bar, a, round(left, 3), round(width - left, 3), _wave(part, 40), chords, r.bars[bar].energy, notes
                )
            )
        return found

    def under(self, offer: VoiceOffer) -> list[list[Any]]:
        """An offer's chords for the player: beat, end, pitches."""
        r, s = self.reading, self.section
        if r is None or s is None:
            return []
        first = r.beat_of_bar(s.first_bar)
        return [
            [first + i * r.beats_a_bar, first + (i + 1) * r.beats_a_bar, _pitches(c.name())]
            for i, c in enumerate(offer.chords)
        ]

    # the form ------------------------------------------------------------------------------------------------------

    @property
    def remarks(self) -> list[str]:
        """What is once only, comes in threes, is teased or held back."""
        r = self.reading
        if r is None or len(r.sections) < 2:
            return []

        def named(i: int) -> str:
            return f"{r.sections[i].name} (bar {r.sections[i].first_bar + 1})" if r else ""

        found = []
        if once := changes.once_only(r):
            found.append(f"Once only: {', '.join(named(i) for i in once)}.")
        found += [f"In threes: {', '.join(named(i) for i in group)}." for group in changes.in_threes(r)]
        found += [f"Held back: {label}, until {named(i)}." for label, i in changes.held_back(r)]
        found += [f"Teased: {label} in {named(a)}, for good in {named(b)}." for label, a, b in changes.teased(r)]
        return found

    @property
    def band_names(self) -> tuple[str, ...]:
        return BANDS

    def manifest(self) -> str:
        """What the page's player has to know."""
        r = self.reading
        if r is None:
            return "{}"
        return json.dumps({
            "study": self.study.id, "seconds": r.seconds, "before": r.before, "beats_a_bar": r.beats_a_bar, "beats": r.beats_s,
            "bars": [r.bar_s(i) for i in range(r.bar_count + 1)],
            "sections": [{"bar": s.first_bar, "bars": s.bars, "name": s.name} for s in r.sections],
            "lufs": [b.loudness_lufs for b in r.bars], "edges": BAND_EDGES_HZ, "chosen": self.chosen,
            "chords": [[c.beat, c.end_beat, _pitches(c.chord)] for c in r.chords], "tuning": r.tuning_cents or 0.0,
        })  # fmt: skip


def _pitches(text: str) -> list[int]:
    """A chord as MIDI pitches to be played along: its tones from the C below middle C up, its bass beneath."""
    try:
        chord = parse_chord(text)
    except EscaleraError:
        return []
    return [36 + chord.bass_class, *sorted(55 + (c - 55) % 12 for c in chord.classes)]


def stone(reading: StudyReading) -> list[tuple[float, float, float]]:
    """A small staircase: left and right in per cent, height 0 to 1."""
    found = []
    for i, s in enumerate(reading.sections):
        energy = reading.energy_of(i)
        found.append(
            (
                100 * reading.bar_s(s.first_bar) / reading.seconds,
                100 * reading.bar_s(s.first_bar + s.bars) / reading.seconds,
                min(1.0, energy / 10),
            )
        )
    return found


def _wave(steps: tuple[int, ...], height: int) -> str:
    """A closed outline of loudness steps about a middle line, 0 to 100 wide."""
    if not steps:
        return ""
    middle, count = height / 2, len(steps)
    xs = [100.0 * i / max(1, count - 1) for i in range(count)]
    top = [f"{x:.1f} {middle - middle * v / 99:.1f}" for x, v in zip(xs, steps)]
    under = [f"{x:.1f} {middle + middle * v / 99:.1f}" for x, v in reversed(list(zip(xs, steps)))]
    return "M" + "L".join([*top, *under]) + "Z"
