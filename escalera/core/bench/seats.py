"""The seat of every layer: what part it plays in an arrangement, read from its sound, family and job."""

from __future__ import annotations

from escalera.core.document.song import Layer, Song
from escalera.lazy_dataclasses import dataclass

# seat of a drum by its role; what is missing here is percussion
DRUM_SEATS = {
    "kick": "kick", "snare": "snare", "clap": "snare", "snap": "percussion", "closed hat": "hat", "open hat": "open hat",
    "ride": "ride", "crash": "effect", "low tom": "toms", "mid tom": "toms", "high tom": "toms",
}  # fmt: skip
# seats that are held back first, the first in the list the most; a voice's doubles and whatever is wide belong to the end
HELD_BACK = ("harmony", "ride", "wide", "counter", "open hat", "figure", "percussion", "place")
MELODIC = ("lead voice", "hook", "figure", "counter")


@dataclass(frozen=True, slots=True)
class Seat:
    """A layer and its part. `rank` counts those of the same part: 0 is the first, the rest support it."""

    layer: Layer
    part: str
    rank: int


def seats(song: Song) -> tuple[Seat, ...]:
    """The seats of all layers that may sound, in the song's order."""
    found: list[Seat] = []
    taken: dict[str, int] = {}
    for layer in song.layers:
        if layer.muted:
            continue
        part = _part(layer, taken)
        found.append(Seat(layer, part, taken.get(part, 0)))
        taken[part] = taken.get(part, 0) + 1
    return tuple(found)


def _part(layer: Layer, taken: dict[str, int]) -> str:
    sound = layer.sound
    if layer.family == "effects" or sound.rise:
        return "effect"
    if sound.is_drum:
        return DRUM_SEATS.get(sound.drum, "percussion")
    return FAMILY_PARTS[layer.family](layer, taken)


def _low(layer: Layer, taken: dict[str, int]) -> str:
    return "sub" if layer.job == "weight" else "bass"


def _chords(layer: Layer, taken: dict[str, int]) -> str:
    """The first chord layer carries the harmony; later ones are its width."""
    return "wide" if "chords" in taken else "chords"


def _lead(layer: Layer, taken: dict[str, int]) -> str:
    if layer.job in ("movement", "texture", "top"):
        return "figure"
    return "counter" if layer.job == "answer" or "hook" in taken else "hook"


def _voice(layer: Layer, taken: dict[str, int]) -> str:
    if layer.job == "answer":
        return "counter"
    return "harmony" if layer.job == "width" or "lead voice" in taken else "lead voice"


def _place(layer: Layer, taken: dict[str, int]) -> str:
    return "place"


FAMILY_PARTS = {
    "low end": _low,
    "chords": _chords,
    "leads": _lead,
    "voices": _voice,
    "atmosphere": _place,
    "drums": _place,
}
