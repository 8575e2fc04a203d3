"""Schools: presets over independent switches, weights and strictness. Stances that people disagree on, as data."""

from __future__ import annotations

from escalera.lazy_dataclasses import dataclass

TERMS = ("drive", "motion", "weight", "fullness", "brightness", "height", "width", "voice", "loudness")


@dataclass(frozen=True, slots=True)
class Switch:
    key: str
    label: str
    options: dict[str, str]
    default: str


@dataclass(frozen=True, slots=True)
class School:
    """`weights` are points of the 0..10 scale that a full term is worth; `floor` and `ceiling` the usual raw range."""

    key: str
    label: str
    help: str
    weights: dict[str, float]
    floor: float
    ceiling: float
    strictness: str
    switches: dict[str, str]


SWITCHES: dict[str, Switch] = {row.key: row for row in (
    Switch("repeats", "Repeats", {"change": "every repeat gains or changes something", "same": "a repeat may come back the same"}, "change"),
    Switch("builds", "Builds", {"varied": "never the same device twice", "standard": "the standard roll and filter serve"}, "varied"),
    Switch("layers", "Layering", {"few": "few parts, thickly layered", "massed": "many thin parts"}, "few"),
    Switch("start", "Starting from", {"chords": "chords first", "drums": "drums first", "voice": "voice first"}, "chords"),
    Switch("timing", "Timing", {"quantised": "quantised", "played": "as played"}, "quantised"),
    Switch("opening", "Opening", {"grow": "grow slowly", "chorus": "open on the chorus"}, "grow"),
    Switch("verses", "Verses", {"strip": "strip the verse", "groove": "never lose the groove"}, "strip"),
    Switch("lengths", "Lengths", {"regular": "multiples of four", "stretched": "stretched on purpose", "feel": "by feel"}, "regular"),
    Switch("genre", "Genre", {"one": "one genre", "mixed": "mixed on purpose"}, "one"),
    Switch("care", "Way of working", {"fast": "fast and unjudging", "placed": "every part placed with care"}, "fast"),
    Switch("voices", "Voices", {"single": "a single lead", "many": "many harmonies"}, "single"),
)}  # fmt: skip


def _weights(*values: float) -> dict[str, float]:
    return dict(zip(TERMS, values))


SCHOOLS: dict[str, School] = {school.key: school for school in (
    School("balanced", "Balanced", "No stance: every term counts in its usual measure.",
           _weights(1.7, 0.8, 1.5, 1.5, 1.0, 0.5, 0.6, 0.8, 1.6), 1.0, 7.0, "normal", {}),
    School("dance", "Dance floor", "Drums and low end carry it; builds and drops, regular lengths, repeats on purpose.",
           _weights(2.1, 0.7, 2.0, 1.4, 1.0, 0.4, 0.5, 0.3, 1.6), 1.0, 7.2, "strict",
           {"repeats": "same", "builds": "standard", "start": "drums", "verses": "groove"}),
    School("song", "Song and voice", "The voice leads; verses are stripped, every chorus grows.",
           _weights(1.4, 0.8, 1.2, 1.5, 1.0, 0.6, 0.7, 1.2, 1.6), 1.0, 6.8, "normal",
           {"start": "voice", "voices": "many", "care": "placed"}),
    School("band", "Band in a room", "Played, not quantised; few parts, the groove never stops.",
           _weights(1.7, 1.0, 1.3, 1.6, 1.0, 0.5, 0.4, 0.8, 1.7), 1.0, 6.8, "normal",
           {"timing": "played", "verses": "groove", "lengths": "feel", "repeats": "same"}),
    School("weather", "Slow weather", "Textures and width move the song; lengths are stretched on purpose.",
           _weights(0.9, 0.9, 1.5, 1.9, 1.3, 0.6, 1.0, 0.4, 1.5), 0.8, 6.2, "lenient",
           {"layers": "massed", "lengths": "stretched", "genre": "mixed", "builds": "varied"}),
)}  # fmt: skip


def switch_value(school: str, overrides: tuple[tuple[str, str], ...], key: str) -> str:
    """Position of a switch: the song's own, else the school's, else the default."""
    return dict(overrides).get(key) or SCHOOLS[school].switches.get(key) or SWITCHES[key].default
