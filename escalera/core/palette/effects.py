"""The effects, one row each: parameters, where they may stand, what is heard. sound.effects plays them by key.

Times are in beats, so that they keep their place when the tempo changes; `marks` name the usual note values.
"""

from __future__ import annotations

from functools import cached_property

from escalera.core.palette.parameters import Parameter, choice
from escalera.core.time.note_values import VALUES
from escalera.lazy_dataclasses import dataclass

LAYER, BUS, MASTER, RETURN = "layer", "bus", "master", "return"
ANYWHERE = (LAYER, BUS, MASTER)
# What times may be set to, in quarter beats
NOTE_VALUES: dict[str, float] = dict(sorted(
    {name: quarters for name, quarters in VALUES.items() if 0.125 <= quarters <= 3.0}.items(), key=lambda row: row[1]
)) | {"one bar of 4/4": 4.0, "two bars of 4/4": 8.0, "four bars of 4/4": 16.0}  # fmt: skip
WAVES = ("sine", "rising", "falling", "square")
STRINGS, STRING_NOTES = ("note_1", "note_2", "note_3", "note_4"), (24, 96)  # of the resonators
ROOMS = ("near room", "chamber", "hall", "shimmer")


@dataclass(frozen=True)
class EffectKind:
    """`dynamic` effects answer to level; on a bus or the master they run after the others, over the whole song."""

    key: str
    label: str
    group: str
    promise: str
    parameters: tuple[Parameter, ...]
    where: tuple[str, ...] = ANYWHERE
    dynamic: bool = False

    @cached_property
    def parameter_by_key(self) -> dict[str, Parameter]:
        return {p.key: p for p in self.parameters}


def hz(key: str, label: str, default: float) -> Parameter:
    """A parameter in Hz over 20 Hz to 20 kHz, moved by ratio."""
    return Parameter(key, label, 20, 20_000, default, "Hz", "log")


def beats(key: str, label: str, default: float, low: float = 0.0625, high: float = 16.0) -> Parameter:
    """A parameter in beats, moved by ratio."""
    return Parameter(key, label, low, high, default, "beats", "log")


def gain_db(key: str, label: str) -> Parameter:
    """A gain of up to 18 dB either way."""
    return Parameter(key, label, -18, 18, 0, "dB")


RESONANCE = Parameter("resonance", "Resonance", 0, 1, 0.1)
MIX = Parameter("mix", "Mix", 0, 1, 1.0)

EFFECTS: tuple[EffectKind, ...] = (
    EffectKind("low-pass", "Low-pass", "filter", "takes the highs away", (hz("cutoff_hz", "Cutoff", 2000), RESONANCE)),
    EffectKind("high-pass", "High-pass", "filter", "takes the lows away", (hz("cutoff_hz", "Cutoff", 200), RESONANCE)),
    EffectKind("band-pass", "Band-pass", "filter", "leaves one band, like a small radio",
               (hz("cutoff_hz", "Centre", 1000), Parameter("resonance", "Resonance", 0, 1, 0.3))),
    EffectKind("moving-filter", "Moving filter", "filter", "a low-pass that moves in time with the song",
               (hz("low_hz", "From", 300), hz("high_hz", "To", 5000), beats("rate_beats", "Cycle", 1.0),
                Parameter("resonance", "Resonance", 0, 1, 0.3), choice("wave", "Wave", WAVES))),
    EffectKind("equaliser", "Equaliser", "filter", "two shelves and two bells, up or down",
               (hz("low_hz", "Low shelf", 100), gain_db("low_db", "Low shelf by"), hz("low_bell_hz", "Low bell", 400), gain_db("low_bell_db", "Low bell by"),
                hz("high_bell_hz", "High bell", 3000), gain_db("high_bell_db", "High bell by"), hz("high_hz", "High shelf", 9000), gain_db("high_db", "High shelf by"),
                Parameter("narrowness", "Bells narrow", 0.3, 8, 1.0, "", "log"))),
    EffectKind("gate", "Rhythmic gate", "rhythm", "chops a held sound into steps",
               (Parameter("steps", "Steps", 1, 65535, 0b0110110101101101, "", "whole"), beats("step_beats", "Step", 0.25, 0.0625, 2),
                Parameter("depth", "Depth", 0, 1, 1.0), Parameter("edge_ms", "Softness", 1, 60, 5, "ms", "log"))),
    EffectKind("drive", "Drive", "grit", "saturates: thicker, then rough",
               (Parameter("amount", "Amount", 0, 1, 0.3), hz("tone_hz", "Tone", 12_000), MIX)),
    EffectKind("band-drive", "Band drive", "grit", "drives lows, middle and highs apart",
               (Parameter("low", "Lows", 0, 1, 0.1), Parameter("mid", "Middle", 0, 1, 0.4), Parameter("high", "Highs", 0, 1, 0.2),
                hz("low_split_hz", "Lows below", 180), hz("high_split_hz", "Highs above", 3000))),
    EffectKind("compressor", "Compressor", "level", "evens out what is loud and what is soft",
               (Parameter("threshold_db", "Above", -48, 0, -18, "dB"), Parameter("ratio", "Ratio", 1, 20, 3, ": 1", "log"),
                Parameter("attack_ms", "Attack", 1, 100, 10, "ms", "log"), Parameter("release_ms", "Release", 20, 300, 120, "ms", "log"),
                Parameter("makeup_db", "Make up", 0, 24, 0, "dB"), MIX,
                choice("match", "As loud as before", ("off", "on")), choice("listens", "Listens to", ("the average", "peaks"))), dynamic=True),
    EffectKind("de-esser", "De-esser", "level", "turns sharp sibilants down, and nothing else",
               (hz("above_hz", "Above", 5500), Parameter("threshold_db", "From", -60, 0, -34, "dB"), Parameter("most_db", "At most", 0, 24, 9, "dB")), (LAYER,)),
    EffectKind("transient", "Attack and sustain", "level", "harder or softer in front, longer or shorter behind",
               (Parameter("attack", "Attack", -1, 1, 0.4), Parameter("sustain", "Sustain", -1, 1, 0.0)), (LAYER,)),
    EffectKind("echo", "Echo", "space", "repeats in time, darker each time",
               (beats("time_beats", "Time", 0.75, 0.0625, 4), Parameter("feedback", "Feedback", 0, 0.85, 0.42),
                hz("low_hz", "Lows below removed", 150), hz("high_hz", "Highs above removed", 4500),
                choice("sides", "Sides", ("ping-pong", "middle")), Parameter("duck", "Ducked by its source", 0, 1, 0.0),
                Parameter("mix", "Amount", 0, 1, 0.35)), (LAYER, BUS, RETURN)),
    EffectKind("room", "Room", "space", "puts the sound into a room",
               (choice("kind", "Room", ROOMS, 2), Parameter("decay_s", "Decay", 0.2, 6, 1.9, "s", "log"),
                Parameter("pre_delay_beats", "Pre-delay", 0, 0.5, 0.0, "beats"), Parameter("damping", "Damping", 0.05, 0.95, 0.42),
                Parameter("mix", "Amount", 0, 1, 0.3)), (LAYER, BUS, RETURN)),
    EffectKind("widen", "Width", "place", "narrower or wider than it is, lows kept in the middle",
               (Parameter("amount", "Width", 0, 2, 1.4), hz("mono_below_hz", "Middle below", 150), Parameter("middle_db", "Middle by", -12, 0, 0, "dB"))),
    EffectKind("double", "Double", "place", "two takes, left and right, a little late and a little off",
               (Parameter("apart_ms", "Apart", 4, 40, 16, "ms"), Parameter("detune_cents", "Detune", 0, 25, 7, "cents"), MIX), (LAYER, BUS)),
    EffectKind("chorus", "Chorus", "place", "three takes that drift about the note, side to side",
               (Parameter("rate_hz", "Drift", 0.05, 6, 0.6, "Hz", "log"), Parameter("depth_ms", "Depth", 0.2, 8, 2.4, "ms", "log"), Parameter("mix", "Mix", 0, 1, 0.5)),
               (LAYER, BUS)),
    EffectKind("resonators", "Resonators", "place", "four strings that ring along, tuned to a chord",
               (*(Parameter(key, f"String {n}", *STRING_NOTES, note, "MIDI") for n, (key, note) in enumerate(zip(STRINGS, (48, 55, 60, 64)), 1)),
                Parameter("ring_s", "Ring", 0.1, 8, 1.4, "s", "log"), Parameter("damping", "Damping", 0, 1, 0.3), Parameter("mix", "Mix", 0, 1, 0.5)),
               (LAYER, BUS)),
    EffectKind("worn-tape", "Worn tape", "grit", "drifts and flutters, rounds off the top, thickens the rest",
               (Parameter("drift", "Drift", 0, 1, 0.35), Parameter("flutter", "Flutter", 0, 1, 0.3), Parameter("wear", "Wear", 0, 1, 0.4),
                Parameter("push", "Push", 0, 1, 0.25)), (LAYER, BUS)),
    EffectKind("scatter", "Random pan", "place", "every hit somewhere else", (Parameter("amount", "Amount", 0, 1, 0.5),), (LAYER,)),
    EffectKind("auto-pan", "Auto-pan", "place", "wanders from side to side in time",
               (beats("rate_beats", "Cycle", 2.0), Parameter("depth", "Depth", 0, 1, 0.6), choice("wave", "Wave", WAVES))),
    EffectKind("reverse", "Reverse", "time", "plays every stretch backwards", (beats("span_beats", "Stretch", 4.0, 0.25, 16),), (LAYER,)),
    EffectKind("half-speed", "Half speed", "time", "plays the first half of every stretch at half speed, an octave down",
               (beats("span_beats", "Stretch", 4.0, 0.5, 16), MIX), (LAYER,)),
    EffectKind("pitch", "Pitch shift", "time", "moves the pitch and keeps the time",
               (Parameter("semitones", "Semitones", -24, 24, 12, "", "whole"), MIX), (LAYER,)),
)  # fmt: skip
EFFECT_BY_KEY = {kind.key: kind for kind in EFFECTS}


@dataclass(frozen=True)
class ReturnKind:
    """A space that layers share by sending to it: an effect with settings of its own, always fully wet."""

    key: str
    label: str
    effect: str
    settings: tuple[tuple[str, float], ...] = ()

    @property
    def send(self) -> str:
        """The path of a layer's send into it."""
        return f"send.{self.key}"

    @property
    def kind(self) -> EffectKind:
        return EFFECT_BY_KEY[self.effect]

    @cached_property
    def parameters(self) -> tuple[Parameter, ...]:
        """The effect's own, with this space's defaults; how much is sent is said by the layers."""
        own = dict(self.settings)
        found = (p for p in self.kind.parameters if p.key not in ("mix", "kind"))
        return tuple(
            Parameter(p.key, p.label, p.low, p.high, own.get(p.key, p.default), p.unit, p.scale, p.choices)
            for p in found
        )

    @cached_property
    def parameter_by_key(self) -> dict[str, Parameter]:
        return {p.key: p for p in self.parameters}


RETURNS: tuple[ReturnKind, ...] = (
    ReturnKind("echo", "Echo", "echo"),
    ReturnKind("near", "Near room", "room", (("kind", 0), ("decay_s", 0.45), ("damping", 0.35))),
    ReturnKind("chamber", "Chamber", "room", (("kind", 1), ("decay_s", 1.1), ("damping", 0.25))),
    ReturnKind("hall", "Hall", "room", (("kind", 2),)),
    ReturnKind("shimmer", "Shimmer", "room", (("kind", 3), ("decay_s", 2.6), ("damping", 0.3))),
)  # fmt: skip
RETURN_BY_KEY = {row.key: row for row in RETURNS}
