"""The stack of a section: which voices are wanted, sung, simulated or missing; the singer's range; gaps that another voice can fill."""

from __future__ import annotations

from escalera.core.document.song import Section, Song
from escalera.core.palette.voice_parts import LEAD, VOICE_PARTS, VoicePart
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.keys import Key
from escalera.core.voices.comp import comp_of, takes_of
from escalera.core.voices.melody import MelodyNote, guide_of, melody_of
from escalera.lazy_dataclasses import dataclass

SUNG, SIMULATED, MISSING, NOT_WANTED = "sung", "simulated", "missing", "not wanted"
GAP_BEATS = 1.0
BREATH_S, BREATH_EVERY_S = 0.25, 8.0  # a singer needs so long a rest at least so often


@dataclass(frozen=True, slots=True)
class StackPlace:
    """A voice of a section's stack: what there is of it, and how many takes."""

    part: VoicePart
    state: str
    takes: int
    pieces: int


def stack_of(song: Song, section: Section) -> tuple[StackPlace, ...]:
    """Every voice that is wanted or there in a section, the lead first."""
    found = []
    for key, part in VOICE_PARTS.items():
        takes, pieces = takes_of(song, section, key), comp_of(song, section, key)
        wanted = key == LEAD or key in section.wanted
        state = SUNG if pieces else SIMULATED if simulated(song, section, key) else MISSING if wanted else NOT_WANTED
        if wanted or state != NOT_WANTED or takes:
            found.append(StackPlace(part, state, len(takes), len(pieces)))
    return tuple(found)


def simulated(song: Song, section: Section, part: str) -> bool:
    """Whether written notes sing a voice in a section."""
    layer = guide_of(song, section, part)
    return layer is not None and any(p.layer_id == layer.id for p in section.placements)


def missing_of(song: Song, section: Section) -> list[str]:
    """Voices that are wanted in a section and neither sung nor simulated."""
    if not section.wanted:
        return []
    return [s.part.key for s in stack_of(song, section) if s.state == MISSING and s.part.key in section.wanted]


@dataclass(frozen=True, slots=True)
class Range:
    """Lowest and highest MIDI pitch, and where that is known from."""

    low: int
    high: int
    source: str

    def said(self, key: Key) -> str:
        """In note names."""
        return f"{key.pitch_name(self.low)} to {key.pitch_name(self.high)}"


def singer_range(song: Song) -> Range | None:
    """What the singer reaches: as it was set, else as takes of the lead and of harmonies show; None for neither."""
    if song.singer_low and song.singer_high > song.singer_low:
        return Range(song.singer_low, song.singer_high, "set by hand")
    sung = sorted(
        round(n.pitch)
        for t in song.takes
        if not t.sent_by and VOICE_PARTS[t.voice].sung
        for n in t.sung
        if n.end_s - n.start_s > 0.1
    )
    if len(sung) < 8:
        return None
    edge = len(sung) // 50  # a slip or two are no range
    return Range(sung[edge], sung[-1 - edge], "read from takes")


def pitch_range(notes: tuple[MelodyNote, ...]) -> tuple[int, int] | None:
    """Lowest and highest note of a melody."""
    return (min(n.pitch for n in notes), max(n.pitch for n in notes)) if notes else None


def outside_range(song: Song, notes: tuple[MelodyNote, ...]) -> int:
    """How many notes of a melody the singer does not reach; 0 where no range is known."""
    found = singer_range(song)
    return sum(not found.low <= n.pitch <= found.high for n in notes) if found else 0


def chorus_over_verse(song: Song) -> tuple[float, Section, Section] | None:
    """How many semitones the highest note of the first chorus lies over that of the first verse, with both; None without both."""
    tops = {}
    for role in ("verse", "chorus"):
        for span in timeline(song).spans:
            found = pitch_range(melody_of(song, span)) if span.section.role == role else None
            if found and role not in tops:
                tops[role] = (found[1], span.section)
    if len(tops) < 2:
        return None
    return float(tops["chorus"][0] - tops["verse"][0]), tops["verse"][1], tops["chorus"][1]


def gaps_of(song: Song, span: Span) -> list[tuple[int, int]]:
    """Rests of the lead in a section that are long enough for an answer, in ticks."""
    notes = melody_of(song, span)
    if not notes:
        return []
    beat = span.bar_metres[0].beat_ticks
    edges = [(a.end, b.start) for a, b in zip(notes, notes[1:])] + [(notes[-1].end, span.length_ticks)]
    return [(a, b) for a, b in edges if b - a >= GAP_BEATS * beat]


def breathless_s(song: Song, span: Span) -> float:
    """The longest time in a section over which the lead has no rest in which to breathe, in seconds."""
    notes = melody_of(song, span)
    longest, begun = 0.0, None
    for before, after in zip((None, *notes), notes):
        rest = span.seconds_at(after.start) - span.seconds_at(before.end) if before else BREATH_S
        if rest >= BREATH_S or begun is None:
            begun = span.seconds_at(after.start)
        longest = max(longest, span.seconds_at(after.end) - begun)
    return longest
