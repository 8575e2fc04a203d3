"""What was read of a finished track, and what a person corrected by hand."""

from __future__ import annotations

from bisect import bisect_right

from escalera.lazy_dataclasses import dataclass

MOST_CHORDS, MOST_SECTIONS = 2000, 80
SURE = 0.75  # from that confidence on a reading is stated without a question mark


@dataclass(frozen=True, slots=True)
class BarHeard:
    """One bar of a track, brought to a common loudness.

    energy : 0 to about 10, as a song's; terms : what it is made of, each 0 to 1
    loudness_lufs : as in the file, None for silence; bands_db : mean levels in the six bands
    width : share of what is not the same on both sides, 0 to 1; onsets : how strongly and often something begins, by zone
    kicks : a second; centre_hz : middle of the spectrum; held_db, struck_db : held and struck sounds
    balance : where each band sits, −1 left to 1 right
    """

    energy: float
    terms: tuple[float, ...]
    loudness_lufs: float | None
    bands_db: tuple[float, ...]
    width: float
    onsets: tuple[float, ...]
    kicks: float
    hits: float
    centre_hz: float
    held_db: float
    struck_db: float
    balance: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class ChordHeard:
    """A chord from one beat to another, counted from 0 through the track."""

    beat: int
    end_beat: int
    chord: str
    confidence: float
    by_hand: bool = False


@dataclass(frozen=True, slots=True)
class SectionRead:
    """A section of a track: its first bar counted from 0, what it is like among the earlier ones (-1 for none), how it moves, the key it
    is in above the track's own, and how it is entered, as (device, beats before the one at which it begins, confidence)."""

    first_bar: int
    bars: int
    name: str
    role: str
    confidence: float
    like: int = -1
    like_confidence: float = 0.0
    off_beat: float | None = None
    late_sixteenth: float | None = None
    half_time: bool | None = None
    semitones: int = 0
    joins: tuple[tuple[str, float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class StudyReading:
    """A track as it was read. What could not be read is None or empty, and said in `said`.

    beats_s : seconds of all beats and where the last ends; `before` of them lie before the first whole bar
    key_parts : (bar from 0, semitones above the key) wherever the key changes
    envelope : how loud it is over its length, 0 to 99
    spans : without beats, energy and levels over stretches of `span_s` seconds instead of bars
    """

    seconds: float
    loudness_lufs: float | None
    true_peak_dbtp: float | None
    tempo_bpm: float | None
    tempo_confidence: float
    tempo_others: tuple[float, ...]
    beats_a_bar: int
    metre_confidence: float
    downbeat_confidence: float
    beats_s: tuple[float, ...]
    before: int
    key: str | None
    key_confidence: float
    tuning_cents: float | None
    key_parts: tuple[tuple[int, int], ...]
    chords: tuple[ChordHeard, ...]
    sections: tuple[SectionRead, ...]
    bars: tuple[BarHeard, ...]
    envelope: tuple[int, ...]
    span_s: float = 0.0
    said: tuple[str, ...] = ()

    @property
    def has_bars(self) -> bool:
        return bool(self.beats_s)

    @property
    def bar_count(self) -> int:
        return len(self.bars)

    def bar_s(self, bar: int) -> float:
        """Seconds at which a bar begins, counted from 0; the number of bars gives the end."""
        if not self.has_bars:
            return min(self.seconds, bar * self.span_s)
        return self.beats_s[min(len(self.beats_s) - 1, self.before + bar * self.beats_a_bar)]

    def bar_at(self, seconds: float) -> int:
        """The bar that sounds at a moment, within those there are."""
        starts = [self.bar_s(i) for i in range(self.bar_count)]
        return max(0, min(self.bar_count - 1, bisect_right(starts, seconds + 1e-6) - 1))

    def beat_of_bar(self, bar: int) -> int:
        return self.before + bar * self.beats_a_bar

    def chords_of(self, bar: int) -> list[ChordHeard]:
        """The chords that sound in a bar."""
        low = self.beat_of_bar(bar)
        return [c for c in self.chords if c.beat < low + self.beats_a_bar and c.end_beat > low]

    def bars_of(self, index: int) -> tuple[BarHeard, ...]:
        """The bars of a section."""
        section = self.sections[index]
        return self.bars[section.first_bar : section.first_bar + section.bars]

    def energy_of(self, index: int) -> float:
        """The mean energy of a section's bars."""
        bars = self.bars_of(index)
        return sum(b.energy for b in bars) / max(1, len(bars))

    def tempo_range(self) -> tuple[float, float]:
        """The slowest and fastest section, in beats a minute."""
        found = []
        for s in self.sections:
            a, b = self.bar_s(s.first_bar), self.bar_s(s.first_bar + s.bars)
            found.append(60.0 * s.bars * self.beats_a_bar / max(b - a, 1e-3))
        return (min(found), max(found)) if found else (self.tempo_bpm or 0.0, self.tempo_bpm or 0.0)


@dataclass(frozen=True, slots=True)
class GivenSection:
    """A section as a person set it: where it begins, its name and role; empty for those that the reading gives."""

    start_s: float
    name: str = ""
    role: str = ""


@dataclass(frozen=True, slots=True)
class GivenChord:
    """A chord as a person wrote it, from one moment to another."""

    start_s: float
    end_s: float
    chord: str


@dataclass(frozen=True, slots=True)
class Given:
    """All that a person corrected; it is kept, and used by what follows. Seconds, so that it stays where it was when bars are read anew."""

    tempo_bpm: float = 0.0
    beats_a_bar: int = 0
    downbeat_s: float | None = None
    key: str = ""
    sections: tuple[GivenSection, ...] = ()
    chords: tuple[GivenChord, ...] = ()


@dataclass(frozen=True, slots=True)
class StudyNote:
    """Something a person wrote down: of a kind, about the bar at a moment (None for the whole)."""

    id: int
    kind: str
    text: str
    at_s: float | None = None


@dataclass(frozen=True, slots=True)
class Instrument:
    """A line of the checklist: what is heard, whether it was built already, or is missing in one's own song; where it sits, −1 left to 1 right."""

    id: int
    name: str
    state: str = "heard"
    place: float | None = None


NOTE_KINDS = {"note": "Note", "trick": "Trick", "place": "Where it sits", "motif": "Motif", "question": "Doubt"}
INSTRUMENT_STATES = {"heard": "heard", "built": "built", "missing": "missing"}
