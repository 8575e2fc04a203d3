"""What was read from a recording: figures with how sure they are, the same for whoever shows, lays or judges it.

Powers are mean squares at full scale 1, averaged over channels, in the six bands of the energy model.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.lazy_dataclasses import dataclass

KINDS = ("hit", "loop", "fill", "ending", "texture", "phrase", "voice", "long piece")
ZONES = ("low", "middle", "high")  # where in the spectrum an onset rises


@dataclass(frozen=True, slots=True)
class Onset:
    """A moment at which something begins: its place in seconds, how strong it is (0..1), and its zone."""

    at_s: float
    strength: float
    zone: str


@dataclass(frozen=True, slots=True)
class SampleReading:
    """Facts about one recording. What cannot be read is None, and its confidence 0.

    `beats` is the whole length in beats of the tempo, `bars` the whole ones in it and `remainder_beats` what is left
    over or lacks; `slots_db` holds the level in the six bands over spans of `slot_s` seconds, as whole dB.
    """

    seconds: float
    rate_hz: int
    channels: int
    kind: str
    kind_confidence: float
    tempo_bpm: float | None
    tempo_confidence: float
    tempo_others: tuple[float, ...]
    beats_a_bar: int
    bars: int | None
    remainder_beats: float | None
    downbeat_s: float
    key: str | None
    key_confidence: float
    tuning_cents: float | None
    pitch_hz: float | None
    pitch_confidence: float
    integrated_lufs: float | None
    true_peak_dbtp: float | None
    bands_db: tuple[float, ...]
    width: float
    slot_s: float
    slots_db: tuple[tuple[int, ...], ...]
    onsets: tuple[Onset, ...]
    has_kick: bool = False
    has_backbeat: bool = False
    leaves_middle: bool = False
    starts_s: float = 0.0  # silence before the first sound
    said: tuple[str, ...] = ()  # what could not be read, and why
    envelope: str = ""  # how loud it is over its length: 96 steps of two digits, 00 to 99

    @property
    def beats(self) -> float | None:
        """Length in beats of its tempo, sound and silence together."""
        return None if self.tempo_bpm is None else self.seconds * self.tempo_bpm / 60.0

    @property
    def usual_use(self) -> str:
        """As what it is laid into a song when nothing is asked for: a pitched hit as notes, other hits as a drum, fills as fills."""
        if self.kind == "hit":
            return "note" if self.pitch_hz and not self.has_kick else "hit"
        return "fill" if self.kind == "fill" else "loop"

    def corrected(self, values: dict[str, Any]) -> SampleReading:
        """The reading with what a person set by hand; whoever set it is sure."""
        changes = {k: v for k, v in values.items() if k in WRITABLE}
        for name in values:
            if (sure := f"{name.removesuffix('_hz')}_confidence") in SURE_OF:
                changes[sure] = 1.0
        found = replace(self, **changes)
        if "tempo_bpm" in values and found.tempo_bpm:
            bars, rest = bars_of(found.seconds * found.tempo_bpm / 60.0, found.beats_a_bar)
            found = replace(found, bars=bars, remainder_beats=rest, tempo_confidence=1.0)
        return found


SURE_OF = ("key_confidence", "pitch_confidence", "kind_confidence")
WRITABLE = ("kind", "tempo_bpm", "key", "pitch_hz", "beats_a_bar", "downbeat_s", "bars", "remainder_beats")
NEAR_BEATS = 0.12  # so much may a length miss a whole number of bars and still be called whole


def bars_of(beats: float, beats_a_bar: int) -> tuple[int, float]:
    """Whole bars in a length, and what is left over (above 0) or lacks (below 0) in beats, nearest first."""
    bars = round(beats / beats_a_bar)
    rest = beats - bars * beats_a_bar
    if abs(rest) <= NEAR_BEATS and bars:
        return bars, 0.0
    rounded = round(rest * 4) / 4 if abs(rest * 4 - round(rest * 4)) < 0.3 else round(rest, 2)
    return (bars, rounded) if bars else (0, round(beats, 2))
