"""What a stem is, by the words of its file's name, else by its sound: the family it is laid in."""

from __future__ import annotations

import re

from escalera.core.samples.reading import SampleReading

# the first row with a word in the name wins: a "bass drum" is a drum, a "drum bus" as well, a "vocal chop synth" a voice
STEM_WORDS: tuple[tuple[str, str], ...] = (
    ("drums", "kick bd snare sn clap hat hats hh hihat cymbal cymbals ride crash tom toms perc percussion shaker tambourine conga bongo drum drums beat break overhead oh"),
    ("voices", "vox vocal vocals voc voice voices ooh oohs aah aahs lead-vocal choir bv bvs backing adlib adlibs harmony harmonies singer rap acapella"),
    ("low end", "bass sub contrabass bassline"),
    ("effects", "fx sfx riser impact sweep downlifter uplifter noise transition reverse whoosh hit hits"),
    ("atmosphere", "amb ambience atmo atmosphere atmospheres texture field rain wind drone"),
    ("leads", "lead leads melody solo arp pluck hook riff flute sax trumpet violin mallet bell bells whistle"),
    ("chords", "piano keys organ pad pads chord chords strings string guitar guitars gtr gtrs ac acoustic electric synth synths brass horns clav harp accordion"),
)  # fmt: skip
LOW, TOP, STRUCK, FEW_ONSETS, MANY_ONSETS = 6.0, 3.0, 0.3, 0.6, 1.6


def words_of(name: str) -> list[str]:
    """The words of a file's name, small, camels apart, without numbers."""
    plain = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name.rsplit(".", 1)[0])
    return [w for w in re.split(r"[^a-z-]+", plain.lower()) if w]


def family_of_stem(name: str, reading: SampleReading) -> tuple[str, str]:
    """The family of a stem and what tells it: a word of its name, or its sound."""
    said = words_of(name)
    for family, words in STEM_WORDS:
        for word in said:
            if word in words.split():
                return family, f"its name says {word}"
    return _by_sound(reading), "its sound"


def _by_sound(reading: SampleReading) -> str:
    low, body, top = max(reading.bands_db[:2]), max(reading.bands_db[2:4]), max(reading.bands_db[4:])
    a_second = len(reading.onsets) / max(1.0, reading.seconds)
    struck = sum(o.zone == "high" for o in reading.onsets) / max(1, len(reading.onsets))
    if low > body + LOW and top < body:
        return "low end"
    if a_second > MANY_ONSETS and (struck > STRUCK or top > body + TOP):
        return "drums"
    if a_second < FEW_ONSETS:
        return "atmosphere" if reading.width > 0.3 else "chords"
    return "leads" if a_second > MANY_ONSETS else "chords"
