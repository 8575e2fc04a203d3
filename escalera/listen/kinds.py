"""What a recording is: a hit, a loop, a fill, an ending, a texture, a phrase, a voice or a long piece; a row each, the best fit wins."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from escalera.core.samples.reading import NEAR_BEATS, Onset, bars_of
from escalera.lazy_dataclasses import dataclass
from escalera.listen.frames import Frames
from escalera.listen.tempo_found import Tempo
from escalera.listen.tones import Pitch, Tones

LONG_S = 75.0
HIT_MOST_S = 6.0


@dataclass(frozen=True, slots=True)
class Traits:
    """What kinds are told apart by; shares are 0..1."""

    seconds: float
    onsets: int
    onsets_a_second: float
    first_share: float  # of the energy, in the first quarter
    last_level_db: float  # of the last tenth, below the loudest tenth
    whole_bars: bool
    tempo: float  # its confidence
    pitch: float
    key: float
    middle: float  # energy from 250 Hz to 3 kHz
    falls: bool  # it dies away from its loudest moment on
    repeats: float  # how alike its halves are, −1 to 1


def traits(frames: Frames, onsets: tuple[Onset, ...], tempo: Tempo, pitch: Pitch, tones: Tones) -> Traits:
    level = frames.power.sum(axis=1)
    tenths = (
        np.array([part.mean() for part in np.array_split(level, 10)])
        if len(level) >= 10
        else np.repeat(level.mean(), 10)
    )
    strong = [o for o in onsets if o.strength > 0.3]
    bars = False
    if tempo.bpm:
        count, rest = bars_of(frames.seconds * tempo.bpm / 60.0, tempo.beats_a_bar)
        bars = count >= 1 and abs(rest) <= NEAR_BEATS
    top = int(np.argmax(tenths))
    falls = top <= 2 and all(b <= a * 1.25 for a, b in zip(tenths[top:], tenths[top + 1 :]))
    return Traits(
        frames.seconds, len(strong), len(strong) / max(frames.seconds, 0.1), float(tenths[:3].sum() / max(tenths.sum(), 1e-12)),
        float(10 * np.log10((tenths[-1] + 1e-12) / (tenths.max() + 1e-12))), bars, tempo.confidence, pitch.confidence,
        tones.confidence, float(frames.power[:, 2:4].sum() / max(frames.power.sum(), 1e-12)), bool(falls), _repeats(frames),
    )  # fmt: skip


def _repeats(frames: Frames) -> float:
    """Correlation of the levels by zone of the first and the second half, in steps of 50 ms."""
    half = len(frames.zones) // 2
    if half < 20:
        return 0.0
    levels = 10.0 * np.log10(frames.zones[: 2 * half] + 1e-6)
    steps = half // 5
    first, second = (
        part[: steps * 5].reshape(steps, 5, 3).mean(axis=1).ravel() for part in (levels[:half], levels[half:])
    )
    spread = float(first.std() * second.std())
    return float(((first - first.mean()) * (second - second.mean())).mean() / spread) if spread > 1e-9 else 0.0


def _hit(t: Traits) -> float:
    return 1.3 * (t.seconds <= HIT_MOST_S) * (t.onsets <= 2) * t.falls + 0.4 * (t.seconds < 0.4)


def _loop(t: Traits) -> float:
    return 0.95 * t.whole_bars * (t.onsets >= 3) * (t.last_level_db > -30.0) * (
        0.4 + 0.6 * min(1.0, 2 * t.tempo)
    ) + 0.25 * t.tempo * (t.seconds >= 0.9)


def _fill(t: Traits) -> float:
    return 1.3 * (t.seconds <= 3.2) * (t.onsets >= 3) * (t.repeats < 0.6) * (t.key < 0.5) * (t.seconds > 0.9)


def _ending(t: Traits) -> float:
    return (
        1.1
        * (t.seconds > 2.2)
        * (t.first_share > 0.6)
        * (t.last_level_db < -14.0)
        * (t.onsets <= 8)
        * (t.pitch < 0.95)
        * (t.onsets >= 2)
    )


def _texture(t: Traits) -> float:
    return 0.8 * (t.seconds > 1.5) * (t.onsets_a_second < 0.7 or t.tempo < 0.2) * (t.last_level_db > -40)


def _phrase(t: Traits) -> float:
    return 0.6 * (t.onsets >= 3) * (not t.whole_bars) * (t.key > 0.2)


def _voice(t: Traits) -> float:
    return 0.7 * (t.pitch > 0.93) * (t.middle > 0.6) * (2 <= t.onsets <= 24) * (not t.whole_bars) * (t.seconds > 0.8)


def _long(t: Traits) -> float:
    return 2.0 * (t.seconds > LONG_S)


KIND_RULES: dict[str, Callable[[Traits], float]] = {
    "hit": _hit, "loop": _loop, "fill": _fill, "ending": _ending, "texture": _texture, "phrase": _phrase, "voice": _voice,
    "long piece": _long,
}  # fmt: skip


def kind_of(frames: Frames, onsets: tuple[Onset, ...], tempo: Tempo, pitch: Pitch, tones: Tones) -> tuple[str, float]:
    """The kind that fits best, and how clearly (0..1)."""
    found = traits(frames, onsets, tempo, pitch, tones)
    scores = sorted(((rule(found), kind) for kind, rule in KIND_RULES.items()), reverse=True)
    (top, kind), (second, _) = scores[0], scores[1]
    if top <= 0:
        return "phrase", 0.1
    return kind, round(float(np.clip(0.3 + (top - second) / max(top, 1e-6) * 0.6, 0.1, 0.98)), 2)
