"""What recordings bring into energy: their measured levels and onsets, laid where their clips play.

A slot of a sample's reading becomes a span with a power by band; an onset of it a hit or onset. So a recorded layer enters the
same sums as notes do.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.recordings import ROUND_FROM, Clip, Sample
from escalera.core.energy.stats import BAND_CENTRES_HZ
from escalera.core.palette.recorded_sounds import AS_IT_IS
from escalera.core.reading.events import (
    CLIP_OF,
    DURATION,
    NO_CLIP,
    PITCH,
    PLACEMENT,
    REVERSED,
    SKIP,
    START,
    VELOCITY,
    Events,
)
from escalera.core.reading.timeline import Grid
from escalera.lazy_dataclasses import dataclass

LEAD_ABOVE = 9.0  # semitones by which the harmonics of a line lie above it, as when sound is measured
LOG_CENTRES = np.log2(BAND_CENTRES_HZ)
TEMPO_TICKS = 480  # within so many ticks the tempo is taken to be even
HIT_WORTH = (1.0, 0.9, 0.33)  # of onsets in the low, middle and high zone, as measured hits are
BAND_SEMITONES = 18.0  # about how far the bands lie apart
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class ClipSound:
    """A clip and what of its sample its energy depends on."""

    clip: Clip
    slot_s: float
    slots: str
    onsets: str
    width: float

    @property
    def sample(self) -> Sample:
        return Sample("", "-", self.clip.end_s, slot_s=self.slot_s, slots=self.slots, onsets=self.onsets)


@dataclass(frozen=True, eq=False)
class Spans:
    """Spans of power and moments that begin, of one layer in one section.

    table : (n, 5) tick, ticks long, pitch of the line, velocity 100, placement
    start, hold : (n,) seconds
    energy : (n, 6) mean square times seconds
    onset_table : (m, 5) as `table`, the velocity as strong as the onset
    zones : (m,) index of the zone
    """

    table: NDArray[np.int32]
    start: Floats
    hold: Floats
    energy: Floats
    onset_table: NDArray[np.int32]
    zones: NDArray[np.int64]


def spans_of(events: Events, clips: tuple[ClipSound, ...], grid: Grid, rings: bool) -> Spans:
    """All that a recorded layer's events bring; hits that ring last as long as their clip."""
    tables, times, energies, onsets, zones = [], [], [], [], []
    for row in events.table.tolist():
        number = row[CLIP_OF] % REVERSED if row[CLIP_OF] != NO_CLIP else 0
        if number >= len(clips):
            continue
        one = _Played(row, clips[number], grid, rings)
        slots = one.slots()
        if slots is not None:
            tables.append(slots[0])
            times.append(slots[1])
            energies.append(slots[2])
        found = one.onsets()
        onsets.append(found[0])
        zones.append(found[1])
    return Spans(
        np.concatenate(tables) if tables else np.zeros((0, 5), np.int32),
        np.concatenate(times)[:, 0] if times else np.zeros(0),
        np.concatenate(times)[:, 1] if times else np.zeros(0),
        np.concatenate(energies) if energies else np.zeros((0, 6)),
        np.concatenate(onsets) if onsets else np.zeros((0, 5), np.int32),
        np.concatenate(zones) if zones else np.zeros(0, np.int64),
    )


def stacked_energies(sound: ClipSound, pitch: Floats, hold_s: Floats, rings: bool) -> Floats:
    """Mean square times seconds in six bands that notes bring through a recording stacked on their sound; shapes (n,) -> (n, 6).

    It sounds for its own length at most; one that rings sounds to its end.
    """
    clip, power = sound.clip, sound.sample.power
    edges = np.clip(np.arange(len(power) + 1) * sound.slot_s, clip.start_s, clip.end_s) - clip.start_s
    out = np.zeros((len(pitch), 6))
    for i, (note, hold) in enumerate(zip(pitch.tolist(), hold_s.tolist())):
        length = np.diff(np.minimum(edges, clip.seconds if rings else hold))
        out[i] = _moved(power, note - clip.root + clip.semitones).T @ length
    found: Floats = out * 10.0 ** (clip.gain_db / 10.0)
    return found


class _Played:
    """One event: how the time of its sample lies over the time of the section."""

    def __init__(self, row: list[int], sound: ClipSound, grid: Grid, rings: bool):
        self.row, self.sound, self.sample, self.grid, clip = row, sound, sound.sample, grid, sound.clip
        self.is_clip = row[CLIP_OF] != NO_CLIP
        begin = row[START] - row[SKIP]
        self.low, self.high = (float(x) for x in grid.seconds_of(np.array([row[START], row[START] + row[DURATION]])))
        fitted = float(np.diff(grid.seconds_of(np.array([begin, begin + clip.length_ticks])))[0])
        self.begin = self.low - float(self.low - grid.seconds_of(np.array([begin]))[0])
        self.whole = fitted if self.is_clip and clip.fit != "alone" else clip.seconds
        if (rings or clip.plays == "whole") and not self.is_clip:
            self.high = self.begin + self.whole
        self.goes_round = clip.plays == "round" and not self.is_clip and not rings
        if not self.goes_round:
            self.high = min(self.high, self.begin + self.whole)
        self.backwards = clip.reversed != (self.is_clip and row[CLIP_OF] >= REVERSED)
        semitones = row[PITCH] - (AS_IT_IS if self.is_clip else clip.root) + clip.semitones
        if clip.fit == "speed" and self.is_clip:
            semitones -= 12.0 * float(np.log2(max(self.whole, 1e-3) / max(clip.seconds, 1e-3)))
        self.semitones = semitones
        self.gain = 10.0 ** (clip.gain_db / 10.0) * (row[VELOCITY] / 100.0) ** 3.0

    def place(self, source_s: Floats) -> Floats:
        """Seconds of the section at which moments of the sample sound."""
        share = (source_s - self.sound.clip.start_s) / max(self.sound.clip.seconds, 1e-6)
        return self.begin + self.whole * (1.0 - share if self.backwards else share)

    def ticks(self, seconds: Floats) -> NDArray[np.int32]:
        """Ticks of moments of the section in seconds, shape (n,)."""
        steps = np.linspace(0, self.row[DURATION], 2 + self.row[DURATION] // TEMPO_TICKS)
        known = self.row[START] + np.rint(steps).astype(np.int64)
        return np.rint(np.interp(seconds, self.grid.seconds_of(known), known)).astype(np.int32)

    def slots(self) -> tuple[NDArray[np.int32], Floats, Floats] | None:
        """Table, (start, length) in seconds and energy of the slots that are heard, shapes (n, 5), (n, 2), (n, 6)."""
        power = self.sample.power
        if not len(power) or self.high <= self.low:
            return None
        if self.goes_round and self.high > self.begin + self.whole:
            return self._round(power)
        edges = np.arange(len(power) + 1) * self.sample.slot_s
        edges = np.clip(edges, self.sound.clip.start_s, self.sound.clip.end_s)
        a, b = self.place(edges[:-1]), self.place(edges[1:])
        first, last = np.maximum(np.minimum(a, b), self.low), np.minimum(np.maximum(a, b), self.high)
        return self._table(power, first, last)

    def _round(self, power: Floats) -> tuple[NDArray[np.int32], Floats, Floats] | None:
        """A held note that goes round: once from its beginning, then its later part as it is on average."""
        clip, slot_s = self.sound.clip, self.sample.slot_s
        inside = np.flatnonzero((np.arange(len(power)) + 1) * slot_s > clip.start_s)
        inside = inside[inside * slot_s < clip.end_s]
        if not len(inside):
            return None
        later = power[inside[round(len(inside) * ROUND_FROM) :]].mean(axis=0)
        edges = np.append(np.clip(np.arange(len(inside)) * slot_s, 0, clip.seconds), self.whole) + self.begin
        rest = np.append(np.arange(edges[-1], self.high, slot_s), self.high)
        edges = np.append(edges, rest[1:])
        rows = np.concatenate((power[inside], np.tile(later, (len(edges) - 1 - len(inside), 1))))
        return self._table(rows, edges[:-1], edges[1:])

    def _table(self, power: Floats, first: Floats, last: Floats) -> tuple[NDArray[np.int32], Floats, Floats] | None:
        heard = last - first > 1e-6
        if not heard.any():
            return None
        power = _moved(power[heard], self.semitones) * self.gain
        first, length = first[heard], (last - first)[heard]
        ticks = self.ticks(first)
        middle = power[:, 1:5]
        centre = middle @ LOG_CENTRES[1:5] / np.maximum(middle.sum(axis=1), 1e-14)
        pitch = np.where(middle.sum(axis=1) > 1e-12, 69.0 + 12.0 * (centre - np.log2(440.0)) - LEAD_ABOVE, 60.0)
        table = np.stack(
            (ticks, np.maximum(1, self.ticks(first + length) - ticks), np.rint(pitch), np.full(len(ticks), 100), np.full(len(ticks), self.row[PLACEMENT])),
            axis=1,
        ).astype(np.int32)  # fmt: skip
        return table, np.stack((first, length), axis=1), power * length[:, None]

    def onsets(self) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
        """Onsets that are heard, as rows of a table (m, 5), and their zones, shape (m,)."""
        rows = self.sample.onset_rows
        inside = (rows[:, 0] >= self.sound.clip.start_s - 0.01) & (rows[:, 0] < self.sound.clip.end_s - 0.01)
        at = self.place(rows[inside, 0])
        heard = (at >= self.low - 0.01) & (at < self.high - 0.01)
        strength = np.maximum(1, np.rint(100.0 * rows[inside, 1][heard] * self.row[VELOCITY] / 100.0))
        ticks = self.ticks(np.maximum(at[heard], self.low))
        count = len(ticks)
        columns = (
            ticks,
            np.ones(count),
            np.full(count, self.row[PITCH]),
            strength,
            np.full(count, self.row[PLACEMENT]),
        )
        return np.stack(columns, axis=1).astype(np.int32), rows[inside, 2][heard].astype(np.int64)


def _moved(power: Floats, semitones: float) -> Floats:
    """Power by band of what is transposed: a share of every band goes over into its neighbour."""
    share = float(np.clip(semitones / BAND_SEMITONES, -1.0, 1.0))
    if abs(share) < 0.02:
        return power
    out = power * (1.0 - abs(share))
    if share > 0:
        out[:, 1:] += share * power[:, :-1]
        out[:, -1] += share * power[:, -1]
    else:
        out[:, :-1] += -share * power[:, 1:]
        out[:, 0] += -share * power[:, 0]
    return out
