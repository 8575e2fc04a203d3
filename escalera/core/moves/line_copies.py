"""Ways to duplicate a layer's line, with what each would add to the section."""

from __future__ import annotations

from escalera.core.document.song import Layer, Song
from escalera.core.edits.line_edits import DoubleLine
from escalera.core.energy.model import section_energy
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Copy:
    """What a copy of a line on another sound, octave or side would add to the section: energy, and by which terms."""

    label: str
    sound: str
    octave: int
    pan: float
    energy: float
    terms: tuple[tuple[str, float], ...]


OTHER_SOUNDS = {"low end": "growl-bass", "chords": "wide-saws", "leads": "glass-bell", "voices": "ooh-voices"}


def copies(song: Song, span: Span, layer: Layer) -> list[Copy]:
    """Ways to duplicate a layer's line, each with its exact effect on the section, the largest first."""
    before = section_energy(song, span)
    away = -0.6 if layer.pan >= 0 else 0.6
    other = OTHER_SOUNDS.get(layer.family, "glass-bell")
    other = other if other != layer.sound_key else {"leads": "music-box"}.get(layer.family, "bowed-strings")
    ways = [
        ("an octave up", layer.sound_key, 1, layer.pan),
        ("an octave down", layer.sound_key, -1, layer.pan),
        ("on the other side", layer.sound_key, 0, away),
        (f"on {other.replace('-', ' ')}", other, 0, 0.0),
    ]
    found = []
    for label, sound, octave, pan in ways:
        try:
            after = DoubleLine(layer.id, sound, octave, pan).apply(song)
        except EditError:
            continue
        now = section_energy(after, timeline(after).span_of(span.section.id))
        was, has = before.contributions(), now.contributions()
        terms = sorted(((t, has.get(t, 0.0) - was.get(t, 0.0)) for t in {*was, *has}), key=lambda r: -abs(r[1]))
        found.append(
            Copy(label, sound, octave, pan, now.value - before.value, tuple(r for r in terms[:2] if abs(r[1]) >= 0.02))
        )
    return sorted(found, key=lambda c: -c.energy)
