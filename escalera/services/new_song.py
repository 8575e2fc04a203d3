"""A new song from as little or as much as the user wants to say."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.chord_text import parse_chordline
from escalera.core.document.form_text import parse_form
from escalera.core.document.forms import FORMS
from escalera.core.document.limits import MAX_TITLE
from escalera.core.document.names import clean_name
from escalera.core.document.schools import SCHOOLS
from escalera.core.document.song import Song
from escalera.core.document.target import Target
from escalera.core.edits.edit import one_of, sound_of
from escalera.core.edits.form_layout import song_with_form
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.song_edits import tempo_of
from escalera.core.edits.tile_edits import Place
from escalera.core.energy.model import arranged
from escalera.core.layout import lay_out_song
from escalera.core.layout.plans import PEAKS, STANCES
from escalera.core.theory.keys import parse_key
from escalera.core.time.metre import parse_metre
from escalera.errors import InputError, shown
from escalera.services import library
from escalera.services.starting_loops import in_key, song_of, starting_loops, usual_chords, usual_loop, with_peaks

# What a new song starts with beside the starting loops: (label, sounds). Every layer gets its usual pattern.
STARTS: dict[str, tuple[str, tuple[str, ...]]] = {
    "style": ("the style's own loop", ()),
    "loop": ("a plain loop: drums, bass, keys", ("round-kick", "room-snare", "tin-hat", "plucked-bass", "tine-keys")),
    "drums": ("drums first", ("round-kick", "loose-clap", "tin-hat", "seed-shaker")),
    "chords": ("chords first", ("tine-keys", "soft-pad", "plucked-bass")),
    "voice": ("voice first", ("vowel-voice", "tine-keys")),
    "empty": ("nothing yet", ()),
}
USUAL_TEMPO_BPM = 110.0


def new_song(
    title: str = "Untitled",
    tempo_bpm: str | float = "",
    metre: str = "",
    key: str = "",
    school: str = "balanced",
    form: str = "loop",
    form_text: str = "",
    start: str = "style",
    stance: str = "voice",
) -> Song:
    """A song of the given form, laid out from what it starts with: a starting loop, or a few layers.

    What is not said is as the start has it. Raises InputError with a plain sentence.
    """
    one_of(school, list(SCHOOLS), "style")
    one_of(start, [*STARTS, *starting_loops()], "start")
    one_of(form, list(FORMS), "form")
    one_of(stance, list(STANCES), "way of laying out")
    title = clean_name(title, "title", MAX_TITLE)
    if start == "style":
        start = usual_loop(school, metre)
    loop, peaks = (
        _looped(start, school, tempo_bpm, metre, key)
        if start in starting_loops()
        else _plain(start, school, tempo_bpm, metre, key)
    )
    loop = replace(loop, title=title, school=school)
    text = form_text or ("" if form == "loop" else FORMS[form].text)
    return _in_form(loop, text, peaks, stance) if text else _renamed(loop)


def _tempo(tempo_bpm: str | float, usual: float) -> float:
    return tempo_of(str(tempo_bpm or usual))


def _looped(start: str, school: str, tempo_bpm: str | float, metre: str, key: str) -> tuple[Song, dict[int, int]]:
    """A starting loop in another key or tempo where they are said, and what plays instead at its peaks."""
    song, peaks = song_of(start)
    if metre and parse_metre(metre) != song.metre:
        raise InputError(
            f"{starting_loops()[start].name} is in {song.metre}, not in {shown(metre)}. Choose another start, or leave the time signature out."
        )
    song = replace(song, tempo_bpm=_tempo(tempo_bpm, song.tempo_bpm))
    return (in_key(song, parse_key(key)) if key else song), peaks


def _plain(start: str, school: str, tempo_bpm: str | float, metre: str, key: str) -> tuple[Song, dict[int, int]]:
    """A loop of a few layers with their usual patterns."""
    song = Song(
        tempo_bpm=_tempo(tempo_bpm, USUAL_TEMPO_BPM),
        metre=parse_metre(metre or "4/4"),
        key=parse_key(key or "C major"),
        school=school,
    )
    song = replace(song, progression=parse_chordline(usual_chords(song.key), song.key, song.metre))
    song = song_with_form(song, FORMS["loop"].text)
    for sound_key in STARTS[start][1]:
        song = with_layer(song, sound_key)
        layer_id = song_layer(song, sound_key)
        song = Place(song.sections[0].id, layer_id, song.layer_by_id[layer_id].pattern_id).apply(song)
    return song, {}


def _renamed(loop: Song) -> Song:
    """A song of the loop alone, under the name that the form has for it."""
    (name, _), *_ = parse_form(FORMS["loop"].text)
    energy = round(min(10.0, arranged(loop).sections[0].value), 1) if loop.layers else Target().start
    return replace(
        loop, sections=(replace(loop.sections[0], name=name, target=Target(energy, energy)), *loop.sections[1:])
    )


def _in_form(loop: Song, text: str, peaks: dict[int, int], stance: str) -> Song:
    """The loop laid out by a form; its sections are empty where nothing plays yet."""
    source = loop.sections[0]
    song = song_with_form(loop, text)
    song = replace(song, sections=tuple(replace(s, swings=source.swings) for s in song.sections))
    if any(s.role == "drop" for s in song.sections):
        song = replace(song, drop_means="peak")
    song = with_peaks(song, peaks, PEAKS)
    if not source.placements:
        return song
    return lay_out_song(song, stance, fit_scale=True, loop=source).song


def song_layer(song: Song, sound_key: str) -> int:
    """Id of the newest layer that plays with a sound."""
    return max(layer.id for layer in song.layers if layer.sound_key == sound_key)


def add_layer_edit(sound_key: str, name: str = "", pattern_key: str = "") -> AddLayer:
    """The edit that adds a layer with its usual pattern, or with a chosen one of the library."""
    sound_of(sound_key)
    chosen = library.patterns().get(pattern_key) or library.default_for(sound_key)
    if chosen is None:
        return AddLayer(sound_key, name, in_place=True)
    return AddLayer(
        sound_key, name, "", "", chosen.name, chosen.pattern.length_ticks, chosen.pattern.to_list(), in_place=True
    )


def with_layer(song: Song, sound_key: str) -> Song:
    return add_layer_edit(sound_key).apply(song)
