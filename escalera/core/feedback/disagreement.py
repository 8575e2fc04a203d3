"""Where listeners contradict each other: about the same thing at the same place, in opposite directions."""

from __future__ import annotations

import re
from itertools import combinations

from escalera.core.document.remarks import NOT_TAKEN, Remark
from escalera.core.document.song import Song
from escalera.core.moves.option_words import FAMILY_WORDS, PART_WORDS, SOUND_WORDS, called
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass

# what is said about something: words for more of it, words for less
AXES: dict[str, tuple[str, str]] = {
    "level": (
        r"louder|turn(?:ed)? up|too (?:quiet|soft|low)|can(?:no|')?t hear|barely hear|buried|lost|bring (?:it )?up|push"
        r"|more (?!energy|bright|time|space|room|reverb|echo|layers)\w+",
        r"quieter|softer|turn(?:ed)? down|too loud|too much(?! going)|overpower\w*|pull (?:it )?back|dominat\w*"
        r"|less (?!energy|bright|busy|reverb|echo|space|room)\w+",
    ),
    "length": (
        r"longer|too short|more time|extend|let it breathe",
        r"shorter|too long|cut it short|drags on|trim",
    ),
    "tempo": (r"faster|too slow|drags(?! on)|sluggish", r"slower|too fast|rushed|hectic"),
    "brightness": (
        r"brighter|more bright\w*|too (?:dull|dark|muffled)|dull|muddy",
        r"darker|too bright|harsh|shrill|piercing",
    ),
    "density": (
        r"fuller|too (?:empty|thin|sparse|bare)|needs more layers",
        r"emptier|too (?:busy|full|crowded|dense)|too much going on|less busy|cluttered",
    ),
    "energy": (
        r"more energy|bigger|too (?:weak|flat|tame)|lift it|needs a lift|falls flat",
        r"less energy|calmer|too (?:big|intense|aggressive)|exhausting",
    ),
    "room": (
        r"wetter|more (?:reverb|space|room|echo)|too dry",
        r"drier|less (?:reverb|space|room|echo)|too wet|washed out|drowns",
    ),
    "liking": (
        r"love|great|keep|best|perfect|beautiful|do(?:n't| not) (?:touch|change)",
        r"hate|cut (?:it|this|the)|remove|lose (?:it|this|the)|drop (?:it|this)|boring|annoying",
    ),
}
PLACE_WORDS = 3  # words that a thing may have


@dataclass(frozen=True, slots=True)
class Disagreement:
    """Two remarks that cannot both be followed: `one` wants more of `about`, `other` less; `thing` is what both speak of."""

    one: Remark
    other: Remark
    about: str
    thing: str


def disagreements(song: Song) -> list[Disagreement]:
    """All pairs by different listeners, in the order in which they were said; what was refused is out of it."""
    known, parts = _vocabulary(song)
    spoken = [(r, _directions(r.said)) for r in song.feedback if r.state != NOT_TAKEN]
    rows = [(r, there, _things(song, r.said, known, parts)) for r, there in spoken if there]
    found = []
    for (a, there, things), (b, here, others) in combinations(rows, 2):
        both = things & others
        if a.who == b.who or not _same_place(song, a, b) or (bool(things) or bool(others)) and not both:
            continue
        for axis in AXES:
            if there.get(axis, 0) * here.get(axis, 0) < 0:
                one, other = (a, b) if there[axis] > 0 else (b, a)
                names = sorted(song.layer_by_id[i].name for i in both)
                found.append(Disagreement(one, other, axis, " and ".join(names[:2]) or "all of it"))
    return found


def _directions(said: str) -> dict[str, int]:
    """For every axis that is spoken of, whether more (1) or less (-1) of it is wanted; both at once is neither."""
    words, found = said.casefold().replace("’", "'"), {}
    for axis, (more, less) in AXES.items():
        total = bool(re.search(rf"\b(?:{more})\b", words)) - bool(re.search(rf"\b(?:{less})\b", words))
        if total:
            found[axis] = total
    return found


def _vocabulary(song: Song) -> tuple[set[str], set[str]]:
    """Words that name layers: whole names, families and kinds; and words that stand in names."""
    known = {
        *FAMILY_WORDS,
        *PART_WORDS,
        *SOUND_WORDS,
        *(x.name.casefold() for x in song.layers),
        *(x.family for x in song.layers),
    }
    return known, {w for x in song.layers for w in x.name.casefold().split() if len(w) > 3}


def _things(song: Song, said: str, known: set[str], parts: set[str]) -> frozenset[int]:
    """Layers that are spoken of, by their ids; none where it is about all of it."""
    words = re.findall(r"[\w']+", said.casefold())
    found: set[int] = set()
    at = 0
    while at < len(words):
        for count in range(min(PLACE_WORDS, len(words) - at), 0, -1):
            head = " ".join(words[at : at + count])
            if head in known or (count == 1 and (head in parts or f"{head}s" in parts or head.rstrip("s") in parts)):
                found |= _layers(song, head)
                at += count - 1
                break
        at += 1
    return frozenset(found)


def _layers(song: Song, words: str) -> set[int]:
    try:
        return {x.id for x in called(song, words)}
    except EscaleraError:
        return set()


def _same_place(song: Song, a: Remark, b: Remark) -> bool:
    there = song.section_by_id
    one, other = (r.section_id if r.section_id in there else 0 for r in (a, b))
    return one == other or not one or not other
