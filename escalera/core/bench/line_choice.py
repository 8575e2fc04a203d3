"""What suits a layer's line: the makers it is offered, and the kind of line it is judged as."""

from __future__ import annotations

from escalera.core.document.song import Layer
from escalera.core.lines.line_reading import LineReading, hook_in_words, kind_of_line
from escalera.core.lines.makers import MAKERS, Maker

LOW_REGISTER = 48  # MIDI: sounds that reach below it may play lines of the low end
FAMILIES_NEAR = {
    "low end": ("low end",),
    "chords": ("chords", "leads", "voices"),
    "leads": ("leads", "voices", "chords"),
    "voices": ("voices", "leads", "chords"),
}


def makers_for(layer: Layer) -> list[Maker]:
    """All makers that suit the layer's register, its own family's first; lines of the low end only where it lies low."""
    near = FAMILIES_NEAR.get(layer.family, FAMILIES_NEAR["leads"])
    fitting = [m for m in MAKERS.values() if layer.register_low < LOW_REGISTER or m.family != "low end"]
    return sorted(fitting, key=lambda m: near.index(m.family) if m.family in near else len(near))


def hook_of(layer: Layer, found: LineReading) -> list[tuple[bool, str]]:
    """What makes a layer's line stay in the ear, by the kind of line it is."""
    return hook_in_words(found, kind_of_line(layer.family, layer.job, layer.sound.hold == "struck"))
