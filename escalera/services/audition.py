"""A sound heard by itself, in the key, tempo and chords of a song, before it is chosen."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import sound_of
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.tile_edits import Place
from escalera.core.palette.bank import NAMES, PREFIX
from escalera.core.palette.sounds import BY_KEY, Sound
from escalera.core.time.metre import Metre
from escalera.services import library
from escalera.sound.bank_player import bank

BARS = 2
RISE = "one-bar-rise"


def audition_song(song: Song, sound_key: str) -> Song:
    """Two bars with one layer: the sound's own job, in the song's key, tempo and chords. Raises EditError."""
    sound = sound_of(sound_key)
    chosen = library.patterns()[RISE] if sound.rise else library.default_for(sound_key)
    assert chosen is not None
    bare = Song(
        tempo_bpm=song.tempo_bpm,
        metre=Metre(),
        key=song.key,
        progression=song.progression,
        sections=(Section(1, "Audition", bars=BARS, phrases=(BARS,)),),
        next_id=2,
    )
    made = AddLayer(sound.key, "", "", "", chosen.name, chosen.pattern.length_ticks, chosen.pattern.to_list()).apply(
        bare
    )
    layer = made.layers[0]
    made = made.with_layer(replace(layer, sends=() if sound.is_drum else (("hall", -20.0),)))
    return Place(1, layer.id, layer.pattern_id).apply(made)


def bank_sounds() -> list[Sound]:
    """The instruments of the sound bank, where one is installed."""
    return [BY_KEY[f"{PREFIX}{program}"] for program in range(len(NAMES))] if bank() is not None else []
