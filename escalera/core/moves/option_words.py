"""Words for layers, numbers and amounts, as people say them in a room."""

from __future__ import annotations

import re
from collections.abc import Callable

from rapidfuzz import fuzz, process

from escalera.core.bench.seats import seats
from escalera.core.document.names import singular
from escalera.core.document.song import Layer, Song
from escalera.core.palette.sounds import FAMILIES
from escalera.errors import EditError, shown

FILLER = frozenset({
    "a", "an", "the", "in", "on", "it", "its", "of", "to", "with", "and", "this", "that", "section", "here", "please", "maybe", "try", "let",
    "take", "put", "make", "us", "be", "is", "all",
})  # fmt: skip
EVERYTHING = (
    "everything", "everyone", "everybody", "all", "all of it", "all of them", "the lot", "the band", "band", "full band", "the full band", "the whole band",
    "whole band", "tutti", "all layers",
)  # fmt: skip
FAMILY_WORDS = {
    "bass": "low end", "vocal": "voices", "vocals": "voices", "singing": "voices", "singer": "voices", "singers": "voices", "synths": "leads",
    "beat": "drums", "kit": "drums", "full kit": "drums", "drum kit": "drums", "the kit": "drums", "harmony": "chords", "chords": "chords",
    "lows": "low end", "bottom": "low end", "tunes": "leads", "noises": "effects",
}  # fmt: skip
# words for parts of an arrangement: the seats that are meant
PART_WORDS: dict[str, tuple[str, ...]] = {
    "rhythm section": ("kick", "snare", "hat", "open hat", "percussion", "ride", "toms", "sub", "bass"), "cymbals": ("hat", "open hat", "ride"),
    "hats": ("hat", "open hat"), "percussion": ("percussion", "toms"), "backing vocals": ("harmony",), "backing voices": ("harmony",), "backings": ("harmony",),
    "harmonies": ("harmony",), "lead": ("lead voice", "hook"), "lead vocal": ("lead voice",), "melody": ("lead voice", "hook"), "tune": ("lead voice", "hook"),
    "hook": ("hook",), "riff": ("hook", "figure"), "pads": ("wide",), "sub": ("sub",), "top": ("hat", "open hat", "ride", "percussion"),
    "atmosphere": ("place",), "background": ("place", "wide"),
}  # fmt: skip
# words for instruments: what must stand in the name or key of the sound
SOUND_WORDS: dict[str, tuple[str, ...]] = {
    "keys": ("keys", "piano", "organ"), "horns": ("brass",), "brass": ("brass",), "guitar": ("guitar",), "guitars": ("guitar",), "strings": ("strings", "pizzicato"),
    "bells": ("bell", "music-box"), "pad": ("pad",), "pads": ("pad",), "piano": ("piano",), "claps": ("clap", "snap"), "toms": ("tom",), "shakers": ("shaker",),
}  # fmt: skip
NUMBERS = {
    "one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "twelve": 12, "sixteen": 16, "a": 1, "an": 1,
    "half a": 0.5, "a couple of": 2,
}  # fmt: skip
NUMBER = r"(\d{1,3}|half a|a couple of|" + "|".join(w for w in NUMBERS if " " not in w) + ")"
SLIP = 82  # of 100: words at least so alike are taken for one another


class UnknownWords(EditError):
    """These words name no layer: another reading may."""


def number_of(word: str) -> float:
    """A number as digits or as a word."""
    return float(word) if word.isdecimal() else float(NUMBERS[word])


def called(song: Song, words: str) -> list[Layer]:
    """The layers that are meant by names, families, parts or kinds of sound. Raises EditError."""
    found: dict[int, Layer] = {}
    for each in re.split(r"\s*(?:,|&|/|\band\b|\+)\s*", words.strip()):
        for layer in _meant(song, re.sub(r"^(?:the|its|all|all the)\s+", "", each)):
            found[layer.id] = layer
    return list(found.values())


def _meant(song: Song, words: str) -> list[Layer]:
    heard = [x for x in song.layers if not x.aside]
    if words in EVERYTHING:
        return heard
    family = FAMILY_WORDS.get(words, words)
    parts = {s.layer.id: s.part for s in seats(song)}
    ways: tuple[Callable[[Layer], bool], ...] = (
        lambda x: x.name.lower() == words,
        lambda x: bool(x.group) and x.group.lower() == words,
        lambda x: x.family in FAMILIES and x.family == family,
        lambda x: bool(tokens(words)) and tokens(words) <= tokens(f"{x.name} {x.sound.label} {x.sound_key}"),
        lambda x: any(part in x.sound_key for part in SOUND_WORDS.get(words, ())),
        lambda x: parts.get(x.id) in PART_WORDS.get(words, ()),
    )
    for way in ways:
        found = [x for x in heard if way(x)]
        if found:
            return found
    raise UnknownWords(f"“{shown(words)}” is no layer, family or sound of this song. {_nearest(song, words)}")


def _nearest(song: Song, words: str) -> str:
    """What might have been meant."""
    known = [x.name.lower() for x in song.layers] + [*FAMILY_WORDS, *PART_WORDS, *FAMILIES]
    near = process.extractOne(words, known, scorer=fuzz.ratio, score_cutoff=75)
    return f"Did you mean {near[0]}?" if near else "Name one as the wall does."


def tokens(text: str) -> set[str]:
    """Words in their simplest form: no plural, no filler."""
    words = re.findall(r"[\w♭♯#]+", text.lower().replace("-", " "))
    return {singular(w) for w in words if w not in FILLER}
