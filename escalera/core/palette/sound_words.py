"""The sound of the palette that comes nearest to some words: what plays until a recording is found."""

from __future__ import annotations

import re

from escalera.core.palette.sounds import SOUNDS, Sound

# words for what is looked for -> words that the palette uses
SAYS = {
    "beat": "kick", "break": "snare", "loop": "kick", "bass": "low end", "vocal": "voice", "vox": "voice", "choir": "voice",
    "singer": "voice", "piano": "keys", "strings": "string", "guitar": "guitar", "hihat": "closed", "cymbal": "crash",
    "texture": "atmosphere", "ambience": "atmosphere", "drone": "pad", "stab": "stab", "brass": "brass", "riser": "rise",
    "foley": "box", "perc": "shaker", "percussion": "shaker",
}  # fmt: skip
USUAL = "soft-pad"


def sound_for(words: str) -> Sound:
    """The sound whose name, drum, family or promise has most of the words; a soft pad where none has any."""
    asked = [SAYS.get(w, w) for w in re.findall(r"[a-z]{3,}", words.lower())]
    best = max(SOUNDS, key=lambda s: sum(_worth(s, w) for w in asked))
    if not any(_worth(best, w) for w in asked):
        return next(s for s in SOUNDS if s.key == USUAL)
    return best


def _worth(sound: Sound, word: str) -> float:
    """4 for the drum or the family, 3 for a word of the name, 1 for one of what is said of it."""
    stem = word.removesuffix("s") if len(word) > 4 else word
    name, promise = (re.findall(r"[a-z]+", text.lower()) for text in (sound.label, sound.promise))
    named = 4.0 * (stem in sound.drum.split() or word == sound.family or stem == sound.family.removesuffix("s"))
    return named + 3.0 * any(w.startswith(stem) for w in name) + 1.0 * (stem in promise)
