"""A new song from as little or as much as the user wants to say."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.chord_text import parse_chordline
from escalera.core.document.forms import FORMS
from escalera.core.document.limits import MAX_TEMPO_BPM, MAX_TITLE, MIN_TEMPO_BPM
from escalera.core.document.names import clean_name
from escalera.core.document.schools import SCHOOLS
from escalera.core.document.song import Song
from escalera.core.edits.edit import one_of, sound_of, within
from escalera.core.edits.form_layout import song_with_form
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.tile_edits import Place
from escalera.core.theory.keys import parse_key
from escalera.core.time.metre import parse_metre
from escalera.errors import InputError, shown
from escalera.services import library

# What a new song starts with: (label, sounds). Every layer gets its usual pattern, in every section.
STARTS: dict[str, tuple[str, tuple[str, ...]]] = {
    "loop": ("a first loop: drums, bass, keys", ("round-kick", "room-snare", "tin-hat", "plucked-bass", "tine-keys")),
    "drums": ("drums first", ("round-kick", "loose-clap", "tin-hat", "seed-shaker")),
    "chords": ("chords first", ("tine-keys", "soft-pad", "plucked-bass")),
    "voice": ("voice first", ("vowel-voice", "tine-keys")),
    "empty": ("nothing yet", ()),
}
USUAL_CHORDS = {True: "i | VI | III | VII", False: "I | V | vi | IV"}


def new_song(
    title: str = "Untitled",
    tempo_bpm: str | float = 110,
    metre: str = "4/4",
    key: str = "C major",
    school: str = "balanced",
    form: str = "loop",
    form_text: str = "",
    start: str = "loop",
) -> Song:
    """A song of the given form with first layers. Raises InputError with a plain sentence."""
    try:
        tempo = float(tempo_bpm)
    except ValueError as error:
        raise InputError(
            f"“{shown(tempo_bpm)}” is not a tempo. Write a number of beats a minute, for example 104."
        ) from error
    tempo = within(tempo, MIN_TEMPO_BPM, MAX_TEMPO_BPM, "A tempo of", "bpm")
    one_of(school, list(SCHOOLS), "style")
    one_of(start, list(STARTS), "start")
    one_of(form, list(FORMS), "form")
    song = Song(
        title=clean_name(title, "title", MAX_TITLE),
        tempo_bpm=tempo,
        metre=parse_metre(metre),
        key=parse_key(key),
        school=school,
    )
    minor = 3 in song.key.degrees and 4 not in song.key.degrees
    song = replace(song, progression=parse_chordline(USUAL_CHORDS[minor], song.key, song.metre))
    song = song_with_form(song, form_text or FORMS[form].text)
    for sound_key in STARTS[start][1]:
        song = with_layer(song, sound_key)
        for section in song.sections:
            song = Place(
                section.id, song_layer(song, sound_key), song.layer_by_id[song_layer(song, sound_key)].pattern_id
            ).apply(song)
    return song


def song_layer(song: Song, sound_key: str) -> int:
    """Id of the newest layer that plays with a sound."""
    return max(layer.id for layer in song.layers if layer.sound_key == sound_key)


def add_layer_edit(sound_key: str, name: str = "", pattern_key: str = "") -> AddLayer:
    """The edit that adds a layer with its usual pattern, or with a chosen one of the library."""
    sound_of(sound_key)
    chosen = library.patterns().get(pattern_key) or library.default_for(sound_key)
    if chosen is None:
        return AddLayer(sound_key, name)
    return AddLayer(sound_key, name, "", "", chosen.name, chosen.pattern.length_ticks, chosen.pattern.to_list())


def with_layer(song: Song, sound_key: str) -> Song:
    return add_layer_edit(sound_key).apply(song)
