"""Built-in grooves and patterns, read from the demo folder once."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files

from escalera.core.palette.sounds import BY_KEY, DRUM_SOUND
from escalera.core.rhythm.beat import Beat, Hit, beat
from escalera.core.rhythm.notation import parse_hits, parse_notes
from escalera.core.rhythm.pattern import KINDS, Pattern
from escalera.core.time.metre import parse_metre
from escalera.core.time.ticks import quarters
from escalera.lazy_dataclasses import dataclass

BAR_QUARTERS = 4
DEFAULT = {
    "low end": "Eighth roots", "chords": "Held chords", "leads": "Bell figure", "voices": "Verse line",
    "atmosphere": "Held place", "effects": "On the one", "rise": "Four-bar rise",
}  # fmt: skip
DEFAULT_GROOVE = "Backbeat"


@dataclass(frozen=True, slots=True)
class LibraryPattern:
    """A pattern to choose: for one drum role of a groove, or for a family."""

    key: str
    name: str
    family: str
    drum: str
    pattern: Pattern


def data(name: str) -> dict:  # type: ignore[type-arg]
    return json.loads(files("escalera.demo").joinpath(name).read_text("utf-8"))


def file(name: str) -> bytes:
    """A file of the demo folder as it is."""
    return files("escalera.demo").joinpath(name).read_bytes()


@cache
def patterns() -> dict[str, LibraryPattern]:
    """Every built-in pattern by key ('backbeat/kick', 'held-roots')."""
    found = {}
    plain = data("patterns.json")
    for groove in plain["grooves"]:
        for drum, tokens in groove["parts"].items():
            key = f"{slug(groove['name'])}/{drum.replace(' ', '-')}"
            length = quarters(groove["bars"] * BAR_QUARTERS)
            found[key] = LibraryPattern(
                key,
                f"{groove['name']}: {drum}",
                "drums",
                drum,
                Pattern(length, parse_hits(tokens, BY_KEY[DRUM_SOUND[drum]].drum_note)),
            )
    for row in plain["patterns"]:
        kind = KINDS.index(row["kind"])
        notes = parse_notes(row["notes"], kind)
        key = slug(row["name"])
        found[key] = LibraryPattern(
            key, row["name"], row["family"], "", Pattern(quarters(row["bars"] * BAR_QUARTERS), notes)
        )
    return found


@dataclass(frozen=True, slots=True)
class LibraryGroove:
    """A built-in groove or fill: its feel, energy 1..5, and whether it carries, leaves space or ends."""

    key: str
    name: str
    feel: str
    energy: int
    role: str
    beat: Beat

    @property
    def drums(self) -> str:
        return ", ".join(self.beat.drums)


LANE_VELOCITY = {"X": 118, "x": 100, "o": 72, ",": 42}


@cache
def grooves() -> dict[str, LibraryGroove]:
    """Every built-in groove and fill by key."""
    plain = data("grooves.json")
    return {slug(row["name"]): _groove(row) for row in (*plain["grooves"], *plain["fills"])}


def _groove(row: dict) -> LibraryGroove:  # type: ignore[type-arg]
    metre = parse_metre(row["metre"])
    hits = [
        Hit(metre.bar_ticks * i // len(lane), drum, LANE_VELOCITY[sign])
        for drum, lane in row["lanes"].items()
        for i, sign in enumerate(lane)
        if sign != "."
    ]
    return LibraryGroove(
        slug(row["name"]), row["name"], row["feel"], row["energy"], row["role"], beat(metre.bar_ticks, metre, hits)
    )


def slug(name: str) -> str:
    return name.lower().replace(",", "").replace(" ", "-")


def for_sound(sound_key: str, family: str = "") -> list[LibraryPattern]:
    """Patterns that suit a sound: its drum role's, else its family's (atmosphere takes chords, too)."""
    sound = BY_KEY[sound_key]
    if sound.is_drum:
        return [p for p in patterns().values() if p.drum == sound.drum]
    wanted = family or sound.family
    if sound.rise:
        wanted = "effects"
    near = {"atmosphere": ("atmosphere", "chords"), "leads": ("leads", "voices"), "voices": ("voices", "leads")}
    families = near.get(wanted, (wanted,))
    return [p for f in families for p in patterns().values() if p.family == f]


def default_for(sound_key: str, family: str = "") -> LibraryPattern | None:
    """The pattern that a new layer with this sound starts from."""
    choices = for_sound(sound_key, family)
    sound = BY_KEY[sound_key]
    wanted = (
        f"{DEFAULT_GROOVE}: {sound.drum}"
        if sound.is_drum
        else DEFAULT.get("rise" if sound.rise else family or sound.family)
    )
    return next((p for p in choices if p.name == wanted), choices[0] if choices else None)
