"""The instruments of a General MIDI sound bank, a further source of sounds where one is installed.

A bank's sound borrows what the core asks (register, bands, family, job) from the palette's sound that stands in for
its program; where no bank is there, that sound plays in its place.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

from escalera.core.palette.parameters import Parameter
from escalera.core.palette.sound_kind import Sound

PREFIX = "bank-"
# The program names of General MIDI level 1
NAMES = (
    "Acoustic grand piano", "Bright acoustic piano", "Electric grand piano", "Honky-tonk piano", "Electric piano 1",
    "Electric piano 2", "Harpsichord", "Clavinet", "Celesta", "Glockenspiel", "Music box", "Vibraphone", "Marimba",
    "Xylophone", "Tubular bells", "Dulcimer", "Drawbar organ", "Percussive organ", "Rock organ", "Church organ",
    "Reed organ", "Accordion", "Harmonica", "Tango accordion", "Nylon guitar", "Steel guitar", "Jazz guitar",
    "Clean guitar", "Muted guitar", "Overdriven guitar", "Distortion guitar", "Guitar harmonics", "Acoustic bass",
    "Fingered bass", "Picked bass", "Fretless bass", "Slap bass 1", "Slap bass 2", "Synth bass 1", "Synth bass 2",
    "Violin", "Viola", "Cello", "Contrabass", "Tremolo strings", "Pizzicato strings", "Orchestral harp", "Timpani",
    "String ensemble 1", "String ensemble 2", "Synth strings 1", "Synth strings 2", "Choir aahs", "Voice oohs",
    "Synth voice", "Orchestra hit", "Trumpet", "Trombone", "Tuba", "Muted trumpet", "French horn", "Brass section",
    "Synth brass 1", "Synth brass 2", "Soprano sax", "Alto sax", "Tenor sax", "Baritone sax", "Oboe", "English horn",
    "Bassoon", "Clarinet", "Piccolo", "Flute", "Recorder", "Pan flute", "Blown bottle", "Shakuhachi", "Whistle",
    "Ocarina", "Square lead", "Saw lead", "Calliope lead", "Chiff lead", "Charang lead", "Voice lead", "Fifths lead",
    "Bass and lead", "New age pad", "Warm pad", "Polysynth pad", "Choir pad", "Bowed pad", "Metallic pad", "Halo pad",
    "Sweep pad", "Rain effect", "Soundtrack effect", "Crystal effect", "Atmosphere effect", "Brightness effect",
    "Goblins effect", "Echoes effect", "Science fiction effect", "Sitar", "Banjo", "Shamisen", "Koto", "Kalimba",
    "Bagpipe", "Fiddle", "Shanai", "Tinkle bell", "Agogo", "Steel drums", "Woodblock", "Taiko drum", "Melodic tom",
    "Synth drum", "Reverse cymbal", "Guitar fret noise", "Breath noise", "Seashore", "Bird tweet", "Telephone ring",
    "Helicopter", "Applause", "Gunshot",
)  # fmt: skip
RELEASE = Parameter("release_s", "Release", 0.05, 3.0, 0.8, "s", "log")


def bank_program(key: str) -> int | None:
    """The program of a bank's sound, 0..127, or None for any other key."""
    text = key.removeprefix(PREFIX)
    return (
        int(text)
        if key.startswith(PREFIX) and text.isdecimal() and int(text) < len(NAMES) and str(int(text)) == text
        else None
    )


@lru_cache(maxsize=128)
def bank_sound(program: int, stand_in: Sound) -> Sound:
    """A program of the bank as a sound that behaves like its stand-in."""
    return replace(
        stand_in,
        key=f"{PREFIX}{program}",
        label=NAMES[program],
        parameters=(RELEASE,),
        program=program,
        promise=f"from the sound bank; without it, {stand_in.label.lower()} plays",
        mono=False,
        tuned_kick=False,
        attack=0.0,
    )
