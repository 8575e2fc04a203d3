"""What is listened to: a song with some layers alone, silent or an octave up, for the ear only."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.song import Layer, Song
from escalera.core.palette.parameters import setting, with_setting
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Listening:
    """Ids of layers heard alone (none: all), left out, and heard an octave up."""

    alone: frozenset[int] = frozenset()
    off: frozenset[int] = frozenset()
    up: frozenset[int] = frozenset()

    @property
    def plain(self) -> bool:
        return not (self.alone or self.off or self.up)


def read_listening(alone: str = "", off: str = "", up: str = "") -> Listening:
    """From lists of ids such as '3,5'; what is no id is left out."""
    return Listening(
        *(
            frozenset(int(p) for p in text.split(",")[:200] if p.isdecimal() and len(p) <= 10)
            for text in (alone, off, up)
        )
    )


def heard(song: Song, listening: Listening) -> Song:
    """The song as it is listened to. What plays stays as it is written."""
    if listening.plain:
        return song
    layers = tuple(_heard(x, listening) for x in song.layers)
    return song if layers == song.layers else replace(song, layers=layers)


def _heard(layer: Layer, listening: Listening) -> Layer:
    alone = bool(listening.alone) and layer.id not in listening.alone
    if alone or layer.id in listening.off:
        return replace(layer, muted=True)
    if layer.id in listening.up:
        return octave_up(replace(layer, muted=False))
    return replace(layer, muted=False) if layer.id in listening.alone else layer


def octave_up(layer: Layer) -> Layer:
    """A layer an octave higher: its notes, or the pitch a drum is tuned to. A print stays what it is."""
    if not layer.sound.is_drum:
        return replace(layer, tune_cents=layer.tune_cents + 1200.0)
    parameter = layer.sound.parameter_by_key.get("hz")
    if parameter is None:
        return layer
    hz = min(parameter.high, 2.0 * setting(layer.settings, parameter))
    return replace(layer, settings=with_setting(layer.settings, parameter, hz))
