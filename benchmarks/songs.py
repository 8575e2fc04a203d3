"""Fixed songs for the benchmarks: arrangements generated from a seed, with the library's own patterns."""

from __future__ import annotations

import random
from dataclasses import replace

from escalera.core.document.chord_text import parse_chordline
from escalera.core.document.forms import FORMS
from escalera.core.document.song import Song
from escalera.core.edits.form_layout import song_with_form
from escalera.core.edits.layer_edits import SetControl
from escalera.core.edits.tile_edits import PlaceNew, Vary
from escalera.core.theory.keys import parse_key
from escalera.services import library
from escalera.services.new_song import song_layer, with_layer
from escalera.settings import Settings

CACHE_MB = Settings().cache_mb  # what is timed is the program as it comes


SOUNDS = ("round-kick", "room-snare", "loose-clap", "tin-hat", "open-tin-hat", "seed-shaker", "wide-crash", "sub-sine", "plucked-bass",
          "tine-keys", "soft-pad", "wide-saws", "glass-bell", "plucked-lead", "vowel-voice", "noise-riser")  # fmt: skip
# How likely a layer of each family plays in a phrase of a section with each role
LIKELY = {"intro": 0.3, "verse": 0.5, "pre-chorus": 0.6, "chorus": 0.9, "break": 0.25, "build": 0.6, "drop": 0.95, "bridge": 0.5,
          "outro": 0.3, "interlude": 0.4, "tag": 0.7, "jam": 0.7, "breakdown": 0.3}  # fmt: skip


def generated(
    seed: int, form: str = "verse-chorus", sounds: tuple[str, ...] = SOUNDS, likely: dict[str, float] = LIKELY
) -> Song:
    """An arrangement: which layers play where is drawn from the section's role; the same seed gives the same song."""
    dice = random.Random(seed)
    tempo = dice.choice((84.0, 96.0, 112.0, 124.0, 140.0))
    key = parse_key(dice.choice(("C major", "A minor", "Eb major", "F# minor")))
    song = Song(title=f"Generated {seed}", tempo_bpm=tempo, key=key)
    chords = dice.choice(("I | V | vi | IV", "vi | IV | I | V", "I | iii | IV | V"))
    song = replace(song, progression=parse_chordline(chords, key, song.metre))
    song = song_with_form(song, FORMS[form].text)
    for sound in sounds:
        song = with_layer(song, sound)
        layer = song_layer(song, sound)
        song = SetControl(layer, "send.hall", dice.choice((-60, -14, -10))).apply(song)
        choices = library.for_sound(sound)
        for section in song.sections:
            chosen = dice.choice(choices)
            for phrase in range(len(section.phrases)):
                if dice.random() < likely.get(section.role, 0.5):
                    notes = (chosen.name, chosen.pattern.length_ticks, chosen.pattern.to_list())
                    song = PlaceNew(section.id, layer, *notes, phrase).apply(song)
                    if section.role in ("build", "pre-chorus") and dice.random() < 0.3:
                        song = Vary(section.id, layer, phrase, lowpass_start_hz=300, lowpass_end_hz=8000).apply(song)
    return song


def large() -> Song:
    """Four minutes, 20 layers, 12 sections, most tiles sounding, two reverbs, one echo, six ducked layers."""
    form = "Intro 8, Verse 8, Pre-chorus 8, Chorus 8, Verse 8, Pre-chorus 8, Chorus 16, Break 8, Build 8, Chorus 16, Tag 8, Outro 8"
    song = Song(title="Benchmark", tempo_bpm=112.0, key=parse_key("Eb major"))
    song = replace(song, progression=parse_chordline("I | V | vi | IV", song.key, song.metre))
    song = song_with_form(song, form)
    dice = random.Random(7)
    for number, sound in enumerate((*SOUNDS, "tine-keys", "soft-pad", "vowel-voice", "plucked-lead")):
        song = with_layer(song, sound)
        layer = song_layer(song, sound)
        for control, value in (
            ("send.hall", -14 if number % 3 else -60),
            ("send.chamber", -12 if number in (1, 9, 10, 15) else -60),
            ("duck_db", 6 if 7 <= number <= 12 else 0),
            ("send.echo", -12 if number in (12, 13) else -60),
            ("lowpass_hz", 9000 if number > 8 else 20000),
        ):
            song = SetControl(layer, control, value).apply(song)
        chosen = library.default_for(sound)
        assert chosen is not None
        for section in song.sections:
            for phrase in range(len(section.phrases)):
                if dice.random() < 0.68:
                    song = PlaceNew(
                        section.id, layer, chosen.name, chosen.pattern.length_ticks, chosen.pattern.to_list(), phrase
                    ).apply(song)
    return song
