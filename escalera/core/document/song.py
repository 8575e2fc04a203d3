"""The song document: frozen values that share structure from one revision to the next.

All times inside a section are ticks from its start. Ids are positive integers, handed out by `next_id` and
never used twice in a song; they never enter audio keys or noise seeds.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from escalera.core.document.devices import Bus, Curve, Device, Print, StackPart, Throw, Treatment
from escalera.core.palette.parameters import Settings
from escalera.core.palette.sounds import BY_KEY, Sound
from escalera.core.rhythm.pattern import Pattern
from escalera.core.theory.chords import Chord
from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import STANDARD_HZ
from escalera.core.theory.voicings import Voicing
from escalera.core.time.metre import Metre
from escalera.core.time.tempo import TempoPoint

ROLES = (
    "intro", "verse", "pre-chorus", "chorus", "post-chorus", "break", "breakdown", "build", "pre-drop", "drop",
    "bridge", "solo", "jam", "interlude", "turnaround", "re-intro", "tag", "outro", "none",
)  # fmt: skip
EVERY_BEAT = -1
TARGET_SHAPES = ("line", "late", "early", "hold")


@dataclass(frozen=True, slots=True)
class Target:
    """Wanted energy over a section, 0..10, from `start` to `end` along `shape`."""

    start: float = 5.0
    end: float = 5.0
    shape: str = "line"

    def at(self, share: float) -> float:
        """Wanted energy at a share 0..1 of the section."""
        bend = {"line": share, "late": share * share, "early": 1 - (1 - share) ** 2, "hold": float(share >= 1.0)}
        return self.start + (self.end - self.start) * bend[self.shape]

    @property
    def mean(self) -> float:
        weight = {"line": 1 / 2, "late": 1 / 3, "early": 2 / 3, "hold": 0.0}[self.shape]
        return self.start + (self.end - self.start) * weight


Changes = tuple[tuple[int, Chord], ...]


@dataclass(frozen=True, slots=True)
class Progression:
    """Chord changes at ticks over a length that repeats. The first change stands at or before tick 0.

    `passes` holds what is played instead on the nth pass (from 2), or on a section's last one (0).
    """

    changes: Changes
    length_ticks: int
    passes: tuple[tuple[int, Changes], ...] = ()


@dataclass(frozen=True, slots=True)
class Variation:
    """What one placement changes of its pattern. The default changes nothing."""

    transpose_semitones: int = 0
    keep: float = 1.0
    double: bool = False
    reverse: bool = False
    level_start_db: float = 0.0
    level_end_db: float = 0.0
    lowpass_start_hz: float | None = None
    lowpass_end_hz: float | None = None

    @property
    def slope(self) -> int:
        """1 when it opens (louder or brighter toward its end), -1 when it closes, else 0."""
        change = self.level_end_db - self.level_start_db
        if self.lowpass_start_hz is not None and self.lowpass_end_hz is not None:
            change += (
                10.0 * (self.lowpass_end_hz - self.lowpass_start_hz) / max(self.lowpass_end_hz, self.lowpass_start_hz)
            )
        return (change > 1.0) - (change < -1.0)


@dataclass(frozen=True, slots=True)
class Placement:
    """A pattern sounding in one layer from start to end; its cycles count from the section's start plus offset."""

    id: int
    layer_id: int
    pattern_id: int
    start_ticks: int
    end_ticks: int
    offset_ticks: int = 0
    variation: Variation = Variation()


@dataclass(frozen=True, slots=True)
class Swing:
    """The second of two subdivisions comes at `ratio` of their pair (0.5 straight to 0.75), for one layer or (0) all."""

    layer_id: int
    subdivision_ticks: int
    ratio: float


@dataclass(frozen=True, slots=True)
class Groove:
    """Patterns of drums under one name, edited and placed as one. `variant_of` is the groove it was varied from, or 0."""

    id: int
    name: str
    feel: str = ""
    variant_of: int = 0
    parts: tuple[tuple[str, int], ...] = ()  # drum, pattern id; from low to high


@dataclass(frozen=True, slots=True)
class Section:
    id: int
    name: str
    role: str = "none"
    bars: int = 8
    phrases: tuple[int, ...] = (4, 4)
    target: Target = Target()
    metre_changes: tuple[tuple[int, Metre], ...] = ()  # (bar of the section from 0, metre)
    tempo_changes: tuple[TempoPoint, ...] = ()
    shift_semitones: int = 0
    progression: Progression | None = None
    placements: tuple[Placement, ...] = ()
    curves: tuple[Curve, ...] = ()
    treatments: tuple[Treatment, ...] = ()
    throws: tuple[Throw, ...] = ()
    swings: tuple[Swing, ...] = ()
    stretched: int = 0  # bars by which it was made longer (or cut short) on purpose
    length_reason: str = ""
    body_name: str = ""  # what the body that stands here is called among the parked ones
    body_who: str = ""  # who proposed it
    parked: tuple[Parked, ...] = ()


@dataclass(frozen=True, slots=True)
class Parked:
    """Another body of a section, to be exchanged for the one that stands there: all it plays, but not its name, role or target.

    `who` proposed it; `reason` says what speaks for or against it. `body` has no parked bodies of its own.
    """

    id: int
    name: str
    body: Section
    who: str = ""
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Layer:
    id: int
    name: str
    sound_key: str
    family: str
    job: str
    seed: int = 1
    level_db: float = -10.0
    pan: float = 0.0
    lowpass_hz: float = 20_000.0
    highpass_hz: float = 20.0
    reverb_send_db: float = -60.0
    echo_send_db: float = -60.0
    near_send_db: float = -60.0
    chamber_send_db: float = -60.0
    shimmer_send_db: float = -60.0
    duck_db: float = 0.0
    duck_release_beats: float = 0.75
    duck_by: int = 0  # id of the layer that ducks it; 0 is every kick, EVERY_BEAT the beat itself
    octave: int = 0
    tune_cents: float = 0.0  # how far a pitched sound is tuned off the song's pitch
    muted: bool = False
    pattern_id: int = 0  # what a bare tile takes when the layer plays nowhere near; 0 is nothing
    source: str = ""  # the track of a file that it came from
    settings: Settings = ()
    devices: tuple[Device, ...] = ()
    stack: tuple[StackPart, ...] = ()
    prints: tuple[Print, ...] = ()
    recipe: str = ""  # how the sound was made, in the user's words
    reason: str = ""  # what it is there for
    aside: str = ""  # why it was tried and set aside; such a layer is muted
    sent_by: str = ""  # who sent it; its notes and sound then stay as they are
    voicing: Voicing = Voicing()  # how its following chords lie

    @property
    def sound(self) -> Sound:
        return BY_KEY[self.sound_key]

    @property
    def register_low(self) -> int:
        return self.sound.register[0] + 12 * self.octave

    @property
    def register_centre(self) -> int:
        return self.sound.centre + 12 * self.octave


@dataclass(frozen=True, slots=True)
class NamedPattern:
    id: int
    name: str
    family: str
    pattern: Pattern


@dataclass(frozen=True, slots=True)
class EnergyScale:
    """Maps raw energy to the song's 0..10: value = gain * raw + offset. None of `gain` means the school's own range."""

    gain: float | None = None
    offset: float = 0.0


@dataclass(frozen=True)
class Song:
    title: str = "Untitled"
    tempo_bpm: float = 120.0
    metre: Metre = Metre()
    key: Key = Key()
    school: str = "balanced"
    switches: tuple[tuple[str, str], ...] = ()
    lead_bars: int = 0
    master_gain_db: float = 0.0
    buses: tuple[Bus, ...] = ()
    master: tuple[Device, ...] = ()
    returns: tuple[tuple[str, Settings], ...] = ()
    scale: EnergyScale = EnergyScale()
    progression: Progression | None = None
    push_ticks: int = 0  # how much earlier every chord on a bar line comes
    tuning_hz: float = STANDARD_HZ
    tuned_down: int = 0  # semitones by which the player's instrument is tuned down
    capo_fret: int = 0
    layers: tuple[Layer, ...] = ()
    sections: tuple[Section, ...] = ()
    patterns: tuple[NamedPattern, ...] = ()
    grooves: tuple[Groove, ...] = ()
    accepted: tuple[
        tuple[str, str, str], ...
    ] = ()  # findings that are meant: key, the figures they rest on, the reason
    brief: tuple[tuple[str, str], ...] = ()  # what is wanted: a wish and its text
    drop_means: str = ""  # what the word drop says in this song: the peak, or that everything drops out
    tune: tuple[int, int, int] = (
        0,
        0,
        0,
    )  # section, layer and phrase of the line that is the tune; zeros let it be found
    words: tuple[tuple[str, str], ...] = ()  # the user's own words for drums
    next_id: int = 1
    notes: str = ""

    @cached_property
    def memo(self) -> dict[object, Any]:
        """Results computed from this very state (its timeline, events, energy); dropped with it."""
        return {}

    @cached_property
    def pattern_by_id(self) -> dict[int, NamedPattern]:
        return {entry.id: entry for entry in self.patterns}

    @cached_property
    def layer_by_id(self) -> dict[int, Layer]:
        return {layer.id: layer for layer in self.layers}

    @cached_property
    def groove_by_id(self) -> dict[int, Groove]:
        return {groove.id: groove for groove in self.grooves}

    @cached_property
    def section_by_id(self) -> dict[int, Section]:
        return {section.id: section for section in self.sections}

    @property
    def bars(self) -> int:
        return sum(section.bars for section in self.sections)

    @property
    def bodies(self) -> tuple[Section, ...]:
        """Every section, and every body that is parked at one."""
        return (*self.sections, *(p.body for s in self.sections for p in s.parked))

    @property
    def note_count(self) -> int:
        return sum(len(entry.pattern) for entry in self.patterns)

    def index_of(self, section_id: int) -> int:
        return next(i for i, section in enumerate(self.sections) if section.id == section_id)

    def with_section(self, section: Section) -> Song:
        """The song with the section of the same id replaced."""
        return replace(self, sections=tuple(section if s.id == section.id else s for s in self.sections))

    def with_layer(self, layer: Layer) -> Song:
        return replace(self, layers=tuple(layer if old.id == layer.id else old for old in self.layers))


@dataclass
class Ids:
    """Hands out ids during one edit; `song` takes the counter back."""

    next_id: int
    given: list[int] = field(default_factory=list)

    def __call__(self) -> int:
        self.given.append(self.next_id)
        self.next_id += 1
        return self.given[-1]


def default_phrases(bars: int) -> tuple[int, ...]:
    """Phrases of four bars with the rest at the end; up to five bars are one phrase (10 = 4+4+2, 6 = 4+2)."""
    if bars <= 5:
        return (bars,)
    return (4,) * (bars // 4) + ((bars % 4,) if bars % 4 else ())


def uses_pattern(song: Song, pattern_id: int) -> int:
    """How many placements use a pattern, those of parked bodies among them."""
    return sum(p.pattern_id == pattern_id for section in song.bodies for p in section.placements)


def each_body(song: Song, change: Callable[[Section], Section]) -> Song:
    """The song with every section and every parked body passed through a function that leaves what is parked alone."""

    def both(section: Section) -> Section:
        parked = tuple(replace(p, body=change(p.body)) for p in section.parked)
        return replace(change(section), parked=parked) if parked else change(section)

    return replace(song, sections=tuple(both(section) for section in song.sections))
