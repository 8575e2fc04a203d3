"""The demo song of voices: a new song with a guide, words in versions, takes by the simulated singer, and a stack half finished."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.song import Section, Song
from escalera.core.edits.layer_edits import AddLayer, RemoveLayer
from escalera.core.edits.stack_edits import SimulateVoice, WantVoices, written_voice
from escalera.core.edits.take_edits import CompPiece, SetTake, UseAsDouble
from escalera.core.edits.word_edits import ChooseLyric, SetLyric, TieMoment
from escalera.core.palette.voice_parts import LEAD
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.core.voices.comp import takes_of
from escalera.core.voices.melody import MelodyNote
from escalera.core.voices.word_places import lines_of
from escalera.services import library
from escalera.services.demo import put_once
from escalera.services.new_song import new_song
from escalera.services.studio import Studio
from escalera.services.takes import sung_by_program

RECIPE = "low_lanterns.json"


def seed_sung(studio: Studio) -> int:
    """Put the demo song of voices on the shelf, unless it is there; how many songs were put there."""
    return put_once(studio, library.data(RECIPE)["title"], lambda: sung_song(studio))


def sung_song(studio: Studio) -> Song:
    """The song, its takes in the library."""
    recipe = library.data(RECIPE)
    song = new_song(recipe["title"], **recipe["new"])
    for layer in [x for x in song.layers if x.family in ("voices", "leads")]:
        song = RemoveLayer(layer.id).apply(song)
    song = _with_words(_with_guide(song, recipe["guide"]), recipe["words"])
    for row in recipe["takes"]:
        section = _named(song, row["section"])
        song = sung_by_program(studio, song, section, LEAD, row["seed"], row["loose"]).apply(song)
        song = replace(song, takes=(*song.takes[:-1], replace(song.takes[-1], name=row["name"], singer="simulated")))
    song = _comped(song, recipe)
    for name, parts in recipe["wanted"].items():
        song = WantVoices(_named(song, name).id, parts).apply(song)
    for name, parts in recipe["simulate"].items():
        for part in parts:
            song = SimulateVoice(_named(song, name).id, part).apply(song)
    for name, word, what, beats in recipe["moments"]:
        section = _named(song, name)
        count = sum(len(line.words) for line in lines_of(song, section))
        song = TieMoment(section.id, word % count, what, beats).apply(song)
    return replace(song, notes=recipe["notes"])


def _named(song: Song, name: str) -> Section:
    return next(s for s in song.sections if s.name == name)


def _with_guide(song: Song, guide: dict[str, str]) -> Song:
    """A guide of notes written as beat, beats long, pitch, in every section of a name."""
    before = {x.id for x in song.layers}
    song = AddLayer("vowel-voice", "Guide voice", "voices", "hook").apply(song)
    layer = next(x for x in song.layers if x.id not in before)
    song = song.with_layer(replace(layer, voice=LEAD, level_db=-6.0, reason="what is to be sung"))
    for section in song.sections:
        text = guide.get(section.name.rstrip(" 0123456789"))
        if text:
            rows = [[float(x) for x in note.split()] for note in text.split(",")]
            notes = [MelodyNote(_ticks(at), _ticks(at + long), round(pitch)) for at, long, pitch in rows]
            song = written_voice(song, song.section_by_id[section.id], layer.id, notes, "guide")
    return song


def _ticks(beats: float) -> int:
    return round(beats * TICKS_PER_QUARTER)


def _with_words(song: Song, words: dict[str, Any]) -> Song:
    for name, versions in words.items():
        section = _named(song, name)
        for version, text in versions:
            song = SetLyric(section.id, text, version, bool(song.section_by_id[section.id].lyrics)).apply(song)
        song = ChooseLyric(section.id, 0).apply(song)
    return song


def _comped(song: Song, recipe: dict[str, Any]) -> Song:
    """Takes chosen by shares of a section, the one that sings another voice, and reasons."""
    section = _named(song, recipe["comp"]["section"])
    takes = takes_of(song, section, LEAD)
    length = timeline(song).span_of(section.id).length_ticks
    low = 0
    for number, share in recipe["comp"]["takes"]:
        high = round(share * length)
        song = CompPiece(section.id, LEAD, takes[number].id, low, high).apply(song)
        low = high
    for number, reason in recipe["reasons"].items():
        song = SetTake(takes[int(number)].id, {"reason": reason}).apply(song)
    for take, row in zip(song.takes, recipe["takes"]):
        if "as" in row:
            song = UseAsDouble(take.id, row["as"]).apply(song)
    return song
