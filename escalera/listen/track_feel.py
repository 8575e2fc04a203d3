"""How a track moves within its bars: straight or swung, in half time or not, and what begins where in every bar."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.samples.reading import Onset
from escalera.core.study.words import STRAIGHT, SWUNG
from escalera.lazy_dataclasses import dataclass
from escalera.listen.bar_track import TrackBars

ZONES = ("low", "middle", "high")
OFF_BEAT, LATE = (0.40, 0.76), (0.70, 0.93)  # where off-beats and last sixteenths may lie
FEWEST = 12  # of them, to say anything
FIRM = 0.06  # of a beat: so far off-beats may scatter
BACK = 1.5  # by which the third beat must be struck harder than the second and fourth
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class TrackFeel:
    """How a stretch moves: where its off-beats lie within a beat (0.5 straight, 0.67 in triplets) and its last sixteenths; None where
    too few are heard. `half_time` is None where there is no backbeat."""

    off_beat: float | None
    late_sixteenth: float | None
    half_time: bool | None

    @property
    def is_swung(self) -> bool | None:
        if self.off_beat is None:
            return None
        return self.off_beat >= SWUNG if not STRAIGHT < self.off_beat < SWUNG else None


def onsets_by_bar(onsets: tuple[Onset, ...], bars: TrackBars) -> Floats:
    """How strongly and often something begins in every bar, by zone: sums of strengths, shape (bars, 3)."""
    starts = bars.bars_s
    found = np.zeros((max(0, len(starts) - 1), 3))
    for onset in onsets:
        bar = int(np.searchsorted(starts, onset.at_s + 0.02, side="right")) - 1
        if 0 <= bar < len(found):
            found[bar, ZONES.index(onset.zone)] += onset.strength
    return found


def feel_of(onsets: tuple[Onset, ...], bars: TrackBars, low_bar: int, high_bar: int) -> TrackFeel:
    """How the bars from `low_bar` to before `high_bar` move."""
    starts = bars.bars_s
    inside = [o for o in onsets if starts[low_bar] - 0.02 <= o.at_s < starts[high_bar] - 0.02]
    if not inside:
        return TrackFeel(None, None, None)
    at = np.interp([o.at_s for o in inside], bars.beats_s, np.arange(len(bars.beats_s)))
    weight = np.array([o.strength for o in inside])
    phase = at % 1.0
    return TrackFeel(
        _middle(phase, weight, *OFF_BEAT), _middle(phase, weight, *LATE),
        _half_time(at - bars.before, inside, weight, bars.beats_a_bar),
    )  # fmt: skip


def _middle(phase: Floats, weight: Floats, low: float, high: float) -> float | None:
    """The middle of onsets within a part of the beat, by weight; None where they are few or all over it."""
    near = (phase >= low) & (phase < high)
    if near.sum() < FEWEST:
        return None
    order = np.argsort(phase[near])
    places, total = phase[near][order], np.cumsum(weight[near][order])
    middle = float(places[int(np.searchsorted(total, total[-1] / 2))])
    spread = float(np.average(np.abs(places - middle), weights=weight[near][order]))
    return round(middle, 3) if spread < FIRM else None


def _half_time(at: Floats, onsets: list[Onset], weight: Floats, beats_a_bar: int) -> bool | None:
    """Whether the backbeat lies on three; None where there is none, or no four beats."""
    if beats_a_bar != 4:
        return None
    near = np.abs(at - np.rint(at)) < 0.12
    middle = np.array([o.zone != "low" for o in onsets])
    struck = [float(weight[near & middle & (np.rint(at).astype(int) % 4 == beat)].sum()) for beat in range(4)]
    two_four, three = (struck[1] + struck[3]) / 2, struck[2]
    if max(two_four, three) < 1.2 * (struck[0] + 1e-9) or max(two_four, three) < 2.0:
        return None
    return three > BACK * two_four
