"""The song document: frozen values that share structure from one revision to the next.

All times inside a section are ticks from its start. Ids are positive integers, handed out by `next_id` and
never used twice in a song; they never enter audio keys or noise seeds.
"""

from __future__ import annotations

from dataclasses import field, replace
from functools import cache, cached_property
from typing import Annotated, Any

from escalera.core.document.carriers import MAX_JOIN_DEVICES, Build, JoinDevice
from escalera.core.document.devices import Bus, Curve, Device, Print, StackPart, Throw, Treatment
from escalera.core.document.fields import AsMapping, AsText, FieldSpec, choice, number, part, text
from escalera.core.document.limits import (
    MAX_ACCEPTED,
    MAX_BARS,
    MAX_CAPO,
    MAX_CHAIN,
    MAX_CLIPS,
    MAX_DUCK_DB,
    MAX_EARLY_TICKS,
    MAX_FILTER_HZ,
    MAX_GROOVES,
    MAX_LAYERS,
    MAX_LEVEL_DB,
    MAX_LYRICS,
    MAX_MOMENTS,
    MAX_NAME,
    MAX_OWN_WORDS,
    MAX_PARKED,
    MAX_PASSES,
    MAX_PEOPLE,
    MAX_PROMPT_RULES,
    MAX_REASON,
    MAX_RECIPE,
    MAX_REMARKS,
    MAX_SAMPLES,
    MAX_SECTIONS,
    MAX_SHIFT_SEMITONES,
    MAX_STACK,
    MAX_TAKES,
    MAX_TEMPO_BPM,
    MAX_THROWS,
    MAX_TITLE,
    MAX_TUNED_DOWN,
    MAX_WORDS,
    MIN_FILTER_HZ,
    MIN_LEVEL_DB,
    MIN_TEMPO_BPM,
    SWING_RATIOS,
    TUNING_HZ,
)
from escalera.core.document.pattern_text import PatternText
from escalera.core.document.recordings import Clip, Sample
from escalera.core.document.remarks import Remark
from escalera.core.document.schools import SCHOOLS
from escalera.core.document.singing import Lyric, Take, WordMoment
from escalera.core.document.target import Target
from escalera.core.document.task import Task
from escalera.core.document.work_state import Collaborator, WorkState
from escalera.core.hashing import HashedOnce
from escalera.core.palette.parameters import Settings
from escalera.core.palette.sounds import BY_KEY, FAMILIES, JOBS, Sound
from escalera.core.palette.voice_parts import VOICE_PARTS
from escalera.core.rhythm.pattern import Pattern
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key, key_text, parse_key
from escalera.core.theory.pitch import STANDARD_HZ
from escalera.core.theory.voicings import Voicing
from escalera.core.time.metre import Metre, parse_metre
from escalera.core.time.tempo import TempoPoint
from escalera.core.words.spoken_words import ENGLISH, LANGUAGES, MAX_WORD
from escalera.lazy_dataclasses import dataclass

ROLES = (
    "intro", "verse", "pre-chorus", "chorus", "post-chorus", "break", "breakdown", "build", "pre-drop", "drop",
    "bridge", "solo", "jam", "interlude", "turnaround", "re-intro", "tag", "outro", "none",
)  # fmt: skip
EVERY_BEAT = -1
OFF_DB = -60.0  # a send at this level is none


SettingsText = Annotated[Settings, AsMapping()]


def _filter(label: str, **more: Any) -> FieldSpec:
    return number(
        label,
        MIN_FILTER_HZ,
        MAX_FILTER_HZ,
        "Hz",
        scale="log",
        panel="level",
        moved=True,
        pinned=True,
        frozen=True,
        **more,
    )


VoiceName = Annotated[str, choice("Voice", tuple(VOICE_PARTS))]
ChordName = Annotated[Chord, AsText(cache(parse_chord), lambda chord: chord.name(ascii_only=True))]
MetreText = Annotated[Metre, AsText(parse_metre, str)]
Changes = tuple[tuple[int, ChordName], ...]


@dataclass(frozen=True, slots=True)
class Progression:
    """Chord changes at ticks over a length that repeats. The first change stands at or before tick 0.

    `passes` holds what is played instead on the nth pass (from 2), or on a section's last one (0).
    """

    changes: Annotated[Changes, part("Chords", 2000, required=True, help="tick and chord")]
    length_ticks: Annotated[int, number("Length", 1, unit="ticks")]
    passes: Annotated[tuple[tuple[int, Changes], ...], part("Passes", MAX_PASSES, help="pass and its chords")] = ()


@dataclass(frozen=True, slots=True)
class Variation(HashedOnce):
    """What one placement changes of its pattern. The default changes nothing."""

    __hash__ = HashedOnce.__hash__
    transpose_semitones: Annotated[int, number("Transposed by", -24, 24, "semitones")] = 0
    keep: Annotated[float, number("Share of notes kept", 1e-6, 1)] = 1.0
    double: bool = False
    reverse: bool = False
    level_start_db: Annotated[float, number("Level at the start", MIN_LEVEL_DB, MAX_LEVEL_DB, "dB")] = 0.0
    level_end_db: Annotated[float, number("Level at the end", MIN_LEVEL_DB, MAX_LEVEL_DB, "dB")] = 0.0
    lowpass_start_hz: Annotated[float | None, number("Low-pass at the start", MIN_FILTER_HZ, MAX_FILTER_HZ, "Hz")] = (
        None
    )
    lowpass_end_hz: Annotated[float | None, number("Low-pass at the end", MIN_FILTER_HZ, MAX_FILTER_HZ, "Hz")] = None
    cut: Annotated[bool, part("Notes end where it ends")] = False

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
class Placement(HashedOnce):
    """A pattern sounding in one layer from start to end; its cycles count from the section's start plus offset."""

    __hash__ = HashedOnce.__hash__
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
    ratio: Annotated[float, number("Swing", *SWING_RATIOS)]


@dataclass(frozen=True, slots=True)
class Groove:
    """Patterns of drums under one name, edited and placed as one.

    `variant_of` is the groove it was varied from, or 0; `made` says in words what was done to it.
    """

    id: int
    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    feel: Annotated[str, text("Feel", MAX_NAME)] = ""
    variant_of: int = 0
    made: Annotated[str, text("How it was made", 200)] = ""
    parts: Annotated[
        tuple[tuple[str, int], ...],
        AsMapping(True, 20),
        part("Drums", help="drum and the id of its pattern, low to high"),
    ] = ()


@dataclass(frozen=True, slots=True)
class Section(HashedOnce):
    __hash__ = HashedOnce.__hash__
    id: int
    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    role: Annotated[str, choice("Role", ROLES)] = "none"
    bars: Annotated[int, number("Length", 1, MAX_BARS, "bars")] = 8
    phrases: Annotated[tuple[int, ...], part("Phrases", MAX_BARS, required=True)] = (4, 4)
    target: Annotated[Target, part("Target energy")] = Target()
    metre_changes: Annotated[
        tuple[tuple[int, MetreText], ...], part("Time signatures", MAX_BARS, help="bar from 0 and what it changes to")
    ] = ()
    tempo_changes: Annotated[
        tuple[TempoPoint, ...], part("Tempo", 2000, help="tick, quarters a minute, and whether it glides to the next")
    ] = ()
    shift_semitones: Annotated[int, number("Key shift", -MAX_SHIFT_SEMITONES, MAX_SHIFT_SEMITONES, "semitones")] = 0
    progression: Annotated[Progression | None, part("Chords")] = None
    placements: Annotated[tuple[Placement, ...], part("Placements", 20_000, compared=False)] = ()
    curves: Annotated[tuple[Curve, ...], part("Curves", 400)] = ()
    treatments: Annotated[tuple[Treatment, ...], part("Treatments", 2000)] = ()
    throws: Annotated[tuple[Throw, ...], part("Throws", MAX_THROWS)] = ()
    swings: Annotated[tuple[Swing, ...], part("Swing", 100)] = ()
    stretched: Annotated[int, number("Stretched on purpose by", -MAX_BARS, MAX_BARS, "bars")] = 0
    length_reason: Annotated[str, text("Reason for the length", MAX_REASON)] = ""
    guessed: Annotated[
        bool, part("Role is guessed", compared=False, help="from the notes of a file; no finding rests on it")
    ] = False
    body_name: Annotated[
        str, text("Option", MAX_NAME, help="what the body that stands here is called", compared=False)
    ] = ""
    body_who: Annotated[str, text("Proposed by", MAX_NAME, compared=False)] = ""
    devices: Annotated[
        tuple[JoinDevice, ...], part("Devices at its join", MAX_JOIN_DEVICES, help="what carries the join into it")
    ] = ()
    build: Annotated[Build | None, part("Build into it")] = None
    lyrics: Annotated[tuple[Lyric, ...], part("Words", MAX_LYRICS, help="versions; one of them is sung")] = ()
    lyric: Annotated[int, number("Version of the words", 0, MAX_LYRICS, help="that is sung, from 0", scale="whole")] = 0
    moments: Annotated[tuple[WordMoment, ...], part("Moments tied to words", MAX_MOMENTS)] = ()
    wanted: Annotated[
        tuple[VoiceName, ...], part("Wanted voices", len(VOICE_PARTS), help="of the stack, beside the lead")
    ] = ()
    parked: Annotated[tuple[Parked, ...], part("Options", MAX_PARKED)] = ()


@dataclass(frozen=True, slots=True)
class Parked:
    """Another body of a section, to be exchanged for the one that stands there: all it plays, but not its name, role or target.

    `who` proposed it; `reason` says what speaks for or against it. `body` has no parked bodies of its own.
    """

    id: int
    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    body: Section
    who: Annotated[str, text("Proposed by", MAX_NAME)] = ""
    reason: Annotated[str, text("Reason", MAX_REASON)] = ""


@dataclass(frozen=True, slots=True)
class Layer(HashedOnce):
    __hash__ = HashedOnce.__hash__
    id: int
    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    sound_key: Annotated[str, text("Sound", MAX_NAME, required=True, pinned=True, frozen=True)]
    family: Annotated[str, choice("Family", FAMILIES)]
    job: Annotated[str, choice("Job", JOBS)]
    seed: Annotated[int, number("Seed", 0, 2**31 - 1, help="of its small variations", pinned=True, frozen=True)] = 1
    level_db: Annotated[float, number("Level", MIN_LEVEL_DB, MAX_LEVEL_DB, "dB", panel="level", moved=True)] = -10.0
    pan: Annotated[float, number("Pan", -1, 1, panel="level", moved=True)] = 0.0
    lowpass_hz: Annotated[float, _filter("Low-pass")] = MAX_FILTER_HZ
    highpass_hz: Annotated[float, _filter("High-pass", copied=True)] = MIN_FILTER_HZ
    octave: Annotated[
        int, number("Octave", -3, 3, scale="whole", panel="level", pinned=True, frozen=True, copied=True)
    ] = 0
    tune_cents: Annotated[
        float, number("Fine tune", -100, 100, "cents", panel="level", pinned=True, frozen=True, copied=True)
    ] = 0.0
    delay_ms: Annotated[
        float,
        number(
            "Delay",
            -50,
            50,
            "ms",
            help="ahead of the beat below zero",
            panel="level",
            pinned=True,
            frozen=True,
            copied=True,
        ),
    ] = 0.0
    sends: Annotated[
        Settings, AsMapping(), part("Sends", copied=True, help="level in dB into a shared space, where there is one")
    ] = ()
    duck_db: Annotated[float, number("Duck depth", 0, MAX_DUCK_DB, "dB", panel="ducking", copied=True)] = 0.0
    duck_release_beats: Annotated[
        float, number("Duck release", 0.05, 4, "beats", scale="log", panel="ducking", copied=True)
    ] = 0.75
    duck_by: Annotated[
        int, number("Ducked by", scale="id", help="a layer's id; 0 is every kick, -1 every beat", copied=True)
    ] = 0
    muted: Annotated[bool, part("Muted")] = False
    pattern_id: Annotated[
        int,
        number("Pattern", scale="id", help="what an empty tile takes when the layer plays nowhere near; 0 is nothing"),
    ] = 0
    source: Annotated[str, text("Source", 200, help="the track of a file that it came from")] = ""
    settings: Annotated[Settings, AsMapping(), part("Sound parameters", pinned=True, frozen=True, copied=True)] = ()
    devices: Annotated[tuple[Device, ...], part("Effects", MAX_CHAIN, pinned=True, frozen=True)] = ()
    stack: Annotated[tuple[StackPart, ...], part("Stacked sounds", MAX_STACK, pinned=True, frozen=True)] = ()
    clips: Annotated[
        tuple[Clip, ...],
        part("Clips", MAX_CLIPS, pinned=True, frozen=True, copied=True, help="what a recorded layer plays"),
    ] = ()
    prints: Annotated[tuple[Print, ...], part("Prints", 1000)] = ()
    recipe: Annotated[str, text("Recipe", MAX_RECIPE, lines=True, help="how the sound was made")] = ""
    reason: Annotated[str, text("Reason", MAX_REASON, help="what it is there for")] = ""
    aside: Annotated[str, text("Set aside because", MAX_REASON, help="such a layer is muted")] = ""
    group: Annotated[str, text("Group", MAX_NAME, help="layers of one name are one part")] = ""
    stand_in: Annotated[bool, part("Stand-in", help="brought by the program, to be exchanged for one's own")] = False
    sent_by: Annotated[str, text("Sent by", MAX_NAME, help="its notes and sound then stay as they are")] = ""
    voice: Annotated[str, choice("Voice in the stack", ("", *VOICE_PARTS), help="empty for what is no voice")] = ""
    voicing: Annotated[Voicing, part("Voicing", pinned=True, frozen=True, copied=True)] = Voicing()

    @property
    def sound(self) -> Sound:
        return BY_KEY[self.sound_key]

    def send_db(self, space: str) -> float:
        """The level at which it is sent into a shared space; `OFF_DB` is not at all."""
        return next((level for key, level in self.sends if key == space), OFF_DB)

    @property
    def recordings(self) -> tuple[Clip, ...]:
        """Every clip it plays, those stacked on it included."""
        return (*self.clips, *(p.clip for p in self.stack if p.clip is not None))

    @property
    def register_low(self) -> int:
        return self.sound.register[0] + 12 * self.octave

    @property
    def register_centre(self) -> int:
        return self.sound.centre + 12 * self.octave


@dataclass(frozen=True, slots=True)
class NamedPattern:
    id: int
    name: Annotated[str, text("Name", 200)]
    family: Annotated[str, choice("Family", FAMILIES)]
    pattern: Annotated[Pattern, PatternText()]


@dataclass(frozen=True, slots=True)
class EnergyScale:
    """Maps raw energy to the song's 0..10: value = gain * raw + offset. None of `gain` means the school's own range."""

    gain: Annotated[float | None, number("Gain", 0.1, 100)] = None
    offset: Annotated[float, number("Offset", -100, 0)] = 0.0
    model: Annotated[int, number("Energy model", 1, 1000, help="the one that gain and offset were fitted to")] = 1
    refitted: Annotated[bool, part("Fitted anew", help="because the energy model changed since")] = False


@dataclass(frozen=True)
class Song:
    title: Annotated[str, text("Title", MAX_TITLE, required=True)] = "Untitled"
    tempo_bpm: Annotated[float, number("Tempo", MIN_TEMPO_BPM, MAX_TEMPO_BPM, "bpm")] = 120.0
    metre: Annotated[MetreText, part("Time signature")] = Metre()
    key: Annotated[Key, AsText(parse_key, key_text), part("Key")] = Key()
    school: Annotated[str, choice("Style", tuple(SCHOOLS))] = "balanced"
    switches: Annotated[tuple[tuple[str, str], ...], AsMapping(True), part("Switches of the style")] = ()
    lead_bars: Annotated[int, number("Bars before bar 1", 0, MAX_BARS)] = 0
    master_gain_db: Annotated[float, number("Mix level", -60, 24, "dB")] = 0.0
    life: Annotated[
        float, number("Played by hand", 0, 1, help="how much hits and notes vary; 0 repeats them exactly")
    ] = 0.0
    buses: Annotated[tuple[Bus, ...], part("Buses", len(FAMILIES))] = ()
    master: Annotated[tuple[Device, ...], part("Effects of the mix", MAX_CHAIN)] = ()
    returns: Annotated[tuple[tuple[str, SettingsText], ...], AsMapping(True), part("Shared spaces")] = ()
    scale: Annotated[EnergyScale, part("Energy scale")] = EnergyScale()
    progression: Annotated[Progression | None, part("Chords")] = None
    chords_read: Annotated[
        bool, part("Chords are read", compared=False, help="from the notes of a file, not yet confirmed")
    ] = False
    push_ticks: Annotated[int, number("Push", 0, MAX_EARLY_TICKS, "ticks", help="how much earlier chords come")] = 0
    tuning_hz: Annotated[float, number("Tuning", *TUNING_HZ, "Hz")] = STANDARD_HZ
    tuned_down: Annotated[int, number("Tuned down", 0, MAX_TUNED_DOWN, "semitones")] = 0
    capo_fret: Annotated[int, number("Capo", 0, MAX_CAPO)] = 0
    layers: Annotated[tuple[Layer, ...], part("Layers", MAX_LAYERS, compared=False)] = ()
    sections: Annotated[tuple[Section, ...], part("Sections", MAX_SECTIONS, compared=False)] = ()
    patterns: Annotated[tuple[NamedPattern, ...], part("Patterns", 20_000, compared=False)] = ()
    grooves: Annotated[tuple[Groove, ...], part("Grooves", MAX_GROOVES)] = ()
    samples: Annotated[
        tuple[Sample, ...], part("Samples", MAX_SAMPLES, compared=False, help="what its recorded layers play")
    ] = ()
    accepted: Annotated[
        tuple[tuple[str, str, str], ...],
        part("Accepted findings", MAX_ACCEPTED, help="key, the figures it rests on, reason"),
    ] = ()
    brief: Annotated[tuple[tuple[str, str], ...], AsMapping(True, 40), part("Brief")] = ()
    drop_means: Annotated[
        str, choice("What drop means", ("", "peak", "out"), help="the peak, or that all drops out")
    ] = ""
    tune: Annotated[
        tuple[int, int, int],
        part("Tune", help="section, layer and phrase of the line that is the tune; zeros let it be found"),
    ] = (0, 0, 0)
    words: Annotated[tuple[tuple[str, str], ...], AsMapping(True, MAX_WORDS), part("Own words for drums")] = ()
    takes: Annotated[tuple[Take, ...], part("Takes", MAX_TAKES, help="what was sung and played, in order")] = ()
    feedback: Annotated[tuple[Remark, ...], part("Feedback", MAX_REMARKS, help="what listeners said, in order")] = ()
    work: Annotated[WorkState, part("Where the work stands")] = WorkState()
    people: Annotated[tuple[Collaborator, ...], part("People", MAX_PEOPLE, help="who works on it, in order")] = ()
    prompt: Annotated[
        tuple[tuple[str, str], ...],
        AsMapping(True, MAX_PROMPT_RULES),
        part("Rules of its prompt", help="a rule and its value"),
    ] = ()
    task: Annotated[Task | None, part("Task", compared=False, help="that is worked on, beside the stair")] = None
    hints: Annotated[
        tuple[int, ...], part("Hints taken", 200, compared=False, help="criteria, from 0, that one asked about")
    ] = ()
    language: Annotated[str, choice("Language of the words", tuple(LANGUAGES))] = ENGLISH
    divided: Annotated[
        tuple[tuple[Annotated[str, text("Word", MAX_WORD)], Annotated[str, text("Divided", 2 * MAX_WORD)]], ...],
        AsMapping(True, MAX_OWN_WORDS),
        part("Words as they are sung", help="a word and its syllables, stressed ones in capitals"),
    ] = ()
    singer_low: Annotated[int, number("Lowest note of the singer", 0, 127, help="0 is read from takes")] = 0
    singer_high: Annotated[int, number("Highest note of the singer", 0, 127, help="0 is read from takes")] = 0
    next_id: Annotated[int, number("Next id", 1, compared=False)] = 1
    notes: Annotated[str, text("Notes", 10_000, lines=True)] = ""

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
    def sample_by_content(self) -> dict[str, Sample]:
        return {sample.content: sample for sample in self.samples}

    @cached_property
    def take_by_id(self) -> dict[int, Take]:
        return {take.id: take for take in self.takes}

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
