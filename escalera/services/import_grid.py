"""A file that was played without a click: its beats are found in the notes, and everything is laid on the bars that follow from them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.performance.free_time import FreeBeats, free_beats, keeps_grid
from escalera.core.performance.played import EARLY_TICKS
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.formats.midi_read import MidiFacts
from escalera.services.import_parts import is_drums

HALF = TICKS_PER_QUARTER // 2
LONGEST_S = 1500.0  # of music in which beats are looked for
LOW_PITCH, KICKS = 48, (35, 36)
Floats = NDArray[np.float64]


def on_found_bars(facts: MidiFacts, report: list[str]) -> MidiFacts:
    """The facts on bars that are found in the notes, where these keep no grid of the file's; else as they are. Says what was done."""
    starts = np.array(sorted(s for part in facts.parts for s, *_ in part.notes), np.int64)
    if keeps_grid(starts):
        return facts
    clock = _Clock(facts.tempos)
    beats = _beats(facts, clock) if clock.seconds(starts[-1:])[0] <= LONGEST_S else None
    if beats is None:
        report.append(
            "The notes keep to no grid and no beat was found in them; bars are those of the file. Set tempo and bars by hand, or tap them."
        )
        return facts
    report.append(
        f"Played without a click: beats were found in the notes (about {beats.bpm:.0f} bpm, {beats.beats_a_bar} beats a bar), and bars and tempo follow them."
    )
    return _moved(facts, clock, beats)


class _Clock:
    """Seconds of ticks under tempo changes."""

    def __init__(self, tempos: list[tuple[int, float]]):
        rows = tempos if tempos and tempos[0][0] <= 0 else [(0, 120.0), *tempos]
        self.ticks = np.array([max(0, t) for t, _ in rows], float)
        self.pace = np.array([60.0 / bpm / TICKS_PER_QUARTER for _, bpm in rows])
        self.at = np.concatenate(([0.0], np.cumsum(np.diff(self.ticks) * self.pace[:-1])))

    def seconds(self, ticks: NDArray[np.int64] | Floats) -> Floats:
        i = np.clip(np.searchsorted(self.ticks, ticks, side="right") - 1, 0, len(self.ticks) - 1)
        return np.asarray(self.at[i] + (ticks - self.ticks[i]) * self.pace[i])


def _beats(facts: MidiFacts, clock: _Clock) -> FreeBeats | None:
    rows = []
    for part in facts.parts:
        drums = is_drums(part)
        rows += [
            (start, velocity / 100.0, -1 if drums else pitch, pitch in KICKS if drums else pitch < LOW_PITCH)
            for start, _, pitch, velocity in part.notes
        ]
    table = np.array(rows, float)
    return free_beats(clock.seconds(table[:, 0]), table[:, 1], table[:, 2].astype(np.int64), table[:, 3] > 0)


class _Bars:
    """New ticks of seconds, from half beats; before the first and after the last one at the tempo there."""

    def __init__(self, beats: FreeBeats, first_s: float):
        self.seconds, self.places = beats.seconds, beats.places * float(HALF)
        self.bar = beats.beats_a_bar * TICKS_PER_QUARTER
        self.shift = 0.0
        # the bar with the first note is the first; a note just before a bar line belongs to the bar after it
        self.shift = float(-np.floor((self.ticks(np.array([first_s]))[0] + EARLY_TICKS) / self.bar) * self.bar)

    def ticks(self, seconds: Floats) -> Floats:
        s, p = self.seconds, self.places
        pace = ((p[8] - p[0]) / (s[8] - s[0]), (p[-1] - p[-9]) / (s[-1] - s[-9]))
        out = np.interp(seconds, s, p)
        out = np.where(seconds < s[0], p[0] + (seconds - s[0]) * pace[0], out)
        return np.asarray(np.where(seconds > s[-1], p[-1] + (seconds - s[-1]) * pace[1], out) + self.shift)

    def tempos(self, last_tick: float) -> list[tuple[int, float]]:
        """A tempo for every bar."""
        lines = np.arange(0.0, last_tick + 2 * self.bar, self.bar)
        low, high = self.places[0] + self.shift, self.places[-1] + self.shift
        at = np.interp(lines, self.places + self.shift, self.seconds)
        paces = np.diff(at) / self.bar
        inside = (lines[:-1] >= low) & (lines[1:] <= high)
        usual = float(np.median(paces[inside])) if inside.any() else 60.0 / 120.0 / TICKS_PER_QUARTER
        return [
            (int(line), 60.0 / TICKS_PER_QUARTER / (pace if ok else usual))
            for line, pace, ok in zip(lines, paces, inside)
        ]


def _moved(facts: MidiFacts, clock: _Clock, beats: FreeBeats) -> MidiFacts:
    first = min(s for part in facts.parts for s, *_ in part.notes)
    bars = _Bars(beats, float(clock.seconds(np.array([first]))[0]))

    def ticks(old: list[int]) -> list[int]:
        return [int(t) for t in np.rint(bars.ticks(clock.seconds(np.array(old, np.int64))))] if old else []

    for part in facts.parts:
        starts, ends = ticks([n[0] for n in part.notes]), ticks([n[0] + n[1] for n in part.notes])
        part.notes = [(max(0, a), max(1, b - a), p, v) for a, b, (_, _, p, v) in zip(starts, ends, part.notes)]
    end = max(ticks([facts.end_tick])[0], max(s + d for part in facts.parts for s, d, *_ in part.notes))
    return replace(
        facts,
        tempos=bars.tempos(float(end)),
        metres=[(0, beats.beats_a_bar, 4)],
        keys=[(max(0, t), key) for t, (_, key) in zip(ticks([t for t, _ in facts.keys]), facts.keys)],
        markers=[(max(0, t), name) for t, (_, name) in zip(ticks([t for t, _ in facts.markers]), facts.markers)],
        end_tick=end,
    )
