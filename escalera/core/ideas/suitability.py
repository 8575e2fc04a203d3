"""Where an idea without a place might fit: by tempo, metre and key, by what is bare, and by what the checks found open."""

from __future__ import annotations

import re
from collections.abc import Callable

from escalera.core.checks import CHECKS, Finding, judged
from escalera.core.document.names import singular
from escalera.core.document.song import Song
from escalera.core.energy.model import arranged
from escalera.core.ideas.placement import room_for
from escalera.core.reading.timeline import Span, section_metres, timeline
from escalera.core.rhythm.pattern import FIXED
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

TEMPO_NEAR = 0.25  # of the other tempo, up or down: farther off it is another idea
SAMPLE_NEAR = 0.04  # of its length: stretched by less than this, a recording keeps its character
IN_KEY = 0.85  # of the notes that do not follow the harmony
MENTIONED = 0.45  # below it a word met a layer's name by chance
ELSEWHERE = 0.45  # of its weight keeps a thought that was written down about another song
EXAMPLE = "demo song "  # before the source of an idea that came with the program: it is of use in its own song only
LACKS = 0.3  # points below the wanted energy from which a layer more would help
ORDINALS = {"first": 0, "1st": 0, "second": 1, "2nd": 1, "third": 2, "3rd": 2, "fourth": 3, "last": -1, "final": -1}
TOO_FULL = 1.0  # points above it from which nothing more belongs there
# findings that something new would answer
WANTS_NEW = ("repeats", "second half", "nothing new", "alike", "level", "late chorus", "used once", "no sub")
SMALL_WORDS = frozenset({
    "a", "an", "and", "as", "at", "be", "but", "by", "for", "from", "in", "is", "it", "more", "not", "of", "on", "or", "so", "than", "that",
    "the", "then", "there", "this", "to", "what", "when", "with", "would", "could", "maybe", "like", "idea", "try", "add", "make", "some",
    "song", "part", "section",
})  # fmt: skip


@dataclass(frozen=True)
class Idea:
    """`song` is the small song of a pattern or section; `seconds` the length of a sample; `source` says where it was kept."""

    id: int
    kind: str
    name: str
    text: str = ""
    song: Song | None = None
    seconds: float = 0.0
    source: str = ""


@dataclass(frozen=True, slots=True)
class Fit:
    """A section where an idea might go, why, and how it would be placed ('' for what a person does by hand)."""

    idea: Idea
    section_id: int
    why: str
    weight: float
    place: str = ""


Find = Callable[[Song, Idea, Span, list[Finding]], Fit | None]


def fits_of(song: Song, idea: Idea, section_id: int = 0) -> list[Fit]:
    """Where one idea might fit in a song, or in one of its sections; the likeliest first."""
    if idea.source.startswith(EXAMPLE) and not _of_this_song(idea, song):
        return []
    found, find = judged(song).open, KINDS[idea.kind].find
    spans = [s for s in timeline(song).spans if section_id in (0, s.section.id)]
    rows = (find(song, idea, span, [f for f in found if span.section.id in f.place]) for span in spans)
    return sorted((fit for fit in rows if fit), key=lambda f: -f.weight)


def fits(song: Song, ideas: list[Idea], section_id: int = 0) -> list[Fit]:
    """The likeliest place of every idea that has one in the song, or in one of its sections; the likeliest first."""
    best = [fit for idea in ideas for fit in fits_of(song, idea, section_id)[:1]]
    return sorted(best, key=lambda f: -f.weight)


def answers(song: Song, ideas: list[Idea], finding: Finding) -> list[Fit]:
    """Ideas that might answer a finding: none where something new would not help."""
    return fits(song, ideas, finding.place[0]) if finding.place and finding.check in WANTS_NEW else []


def tempo_words(idea_bpm: float, song_bpm: float) -> tuple[float, str] | None:
    """How near two tempos are (1 is equal), in words; None when they are too far apart."""
    away = abs(song_bpm / idea_bpm - 1.0)
    if away > TEMPO_NEAR:
        return None
    return 1.0 - away / TEMPO_NEAR, "at its own tempo" if away < 0.005 else f"from {idea_bpm:g} to {song_bpm:g} bpm"


def _text(song: Song, idea: Idea, span: Span, found: list[Finding]) -> Fit | None:
    """Words that name the section or its role, or else a layer in it; what is open there and shares words weighs more."""
    spoken, section = f"{idea.name} {idea.text}", span.section
    said = words(spoken)
    if _named(song, spoken):
        here = sorted(said & words(f"{section.name} {section.role}")) if section.id in _named(song, spoken) else []
    else:
        playing = {p.layer_id for p in section.placements}
        here = sorted(said & words(" ".join(x.name for x in song.layers if x.id in playing)))
    if not here:
        return None
    shared = [f for f in found if len(said & words(f"{CHECKS[f.check].title} {f.said}")) >= 2]
    lacks = section.target.mean - arranged(song).of(section.id).value
    weight = (
        (0.6 if _named(song, spoken) else 0.3) * len(here) + sum(f.weight for f in shared[:2]) + 0.1 * max(0.0, lacks)
    )
    if idea.source and not _of_this_song(idea, song):
        weight *= ELSEWHERE
    fit = Fit(idea, section.id, _why(f"it speaks of {', '.join(here)}", lacks, shared), weight)
    return fit if weight >= MENTIONED else None


def _of_this_song(idea: Idea, song: Song) -> bool:
    return song.title.casefold() in idea.source.casefold()


def _named(song: Song, spoken: str) -> set[int]:
    """Sections that words name: by name, by role, or as ‘the second chorus’ and ‘the last drop’."""
    said, text = words(spoken), spoken.lower()
    whole = {s.id for s in song.sections if s.name.lower() in text}
    of_role: dict[str, list[int]] = {}
    for section in song.sections:
        if words(section.role) <= said and section.role != "none":
            of_role.setdefault(section.role, []).append(section.id)
    counted = {
        ids[at]
        for role, ids in of_role.items()
        for word, at in ORDINALS.items()
        if re.search(rf"\b{word}\s+{role}", text) and -len(ids) <= at < len(ids)
    }
    return whole or counted or {i for ids in of_role.values() for i in ids}


def _pattern(song: Song, idea: Idea, span: Span, found: list[Finding]) -> Fit | None:
    """A layer of its family is bare here, or a new one would help; tempo, metre and key agree."""
    small, section = idea.song, span.section
    if small is None or small.metre != section_metres(section, song.metre)[0] or not in_key(small, song.key):
        return None
    near = tempo_words(small.tempo_bpm, song.tempo_bpm)
    layer, bare = room_for(song, section, small)
    lacks = section.target.mean - arranged(song).of(section.id).value
    wanted = [f for f in found if f.check in WANTS_NEW]
    plays_there = any(song.pattern_by_id[p.pattern_id].pattern == small.patterns[0].pattern for p in section.placements)
    if layer is None and plays_there:
        return None
    if near is None or lacks < -TOO_FULL or (lacks < LACKS and not wanted) or not section.placements:
        return None
    where = (
        "all through"
        if len(bare) == len(span.phrase_ticks())
        else f"in {len(bare)} of {len(span.phrase_ticks())} phrases"
    )
    who = f"{layer.name} is silent here {where}" if layer else "on a layer of its own"
    return Fit(
        idea,
        section.id,
        _why(f"{who}; {near[1]}", lacks, wanted),
        near[0] + max(0.0, lacks) + sum(f.weight for f in wanted[:2]) + 0.3 * bool(layer),
        "layer",
    )


def _section(song: Song, idea: Idea, span: Span, found: list[Finding]) -> Fit | None:
    """Another way to do a section of its role that is found wanting, or the role that the song lacks after what goes on for too long."""
    small, section = idea.song, span.section
    if small is None or small.metre != song.metre:
        return None
    near, role = tempo_words(small.tempo_bpm, song.tempo_bpm), small.sections[0].role
    if near is None:
        return None
    wanted = [f for f in found if f.check in WANTS_NEW]
    lacks = section.target.mean - arranged(song).of(section.id).value
    if section.role == role and (wanted or abs(lacks) > 1.0):
        return Fit(
            idea,
            section.id,
            _why(f"another way to do {section.name}; {near[1]}", lacks, wanted),
            near[0] + sum(f.weight for f in wanted[:2]),
            "option",
        )
    missing = role != "none" and all(s.role != role for s in song.sections)
    tired = [f for f in wanted if f.check in ("nothing new", "level", "repeats")]
    if missing and tired:
        return Fit(
            idea,
            section.id,
            _why(f"the song has no {role}; after {section.name} it would be new; {near[1]}", 0.0, tired),
            near[0] + tired[0].weight,
            "section",
        )
    return None


def _sample(song: Song, idea: Idea, span: Span, found: list[Finding]) -> Fit | None:
    """Its length is near a whole number of bars here, and something new is wanted, or the section starts or ends the song."""
    bars, off = bars_of(idea.seconds, span)
    edge = song.sections[0].id == span.section.id or song.sections[-1].id == span.section.id
    wanted = [f for f in found if f.check in WANTS_NEW]
    if not bars or bars > span.section.bars or not (wanted or edge):
        return None
    length = f"it is {bars} bar{'s' if bars != 1 else ''} here" + (
        "" if abs(off) < 0.005 else f", {abs(100 * off):.0f} % {'slower' if off > 0 else 'faster'}"
    )
    return Fit(idea, span.section.id, _why(length, 0.0, wanted), 0.5 + sum(f.weight for f in wanted[:1]) + 0.2 * edge)


@dataclass(frozen=True, slots=True)
class IdeaKind:
    """A kind of idea: what it is called, how it is found a place, and the ways (of PLACES) to bring it back."""

    label: str
    find: Find
    places: tuple[str, ...] = ()


KINDS: dict[str, IdeaKind] = {
    "text": IdeaKind("words", _text),
    "pattern": IdeaKind("pattern", _pattern, ("layer",)),
    "section": IdeaKind("section", _section, ("option", "section")),
    "sample": IdeaKind("recording", _sample),
}


def bars_of(seconds: float, span: Span) -> tuple[int, float]:
    """The whole number of bars that a recording is near to, and by which share it must be stretched; (0, 0) when near none."""
    bar = span.length_seconds / span.section.bars
    bars = round(seconds / bar)
    if not bars:
        return 0, 0.0
    off = bars * bar / seconds - 1.0
    return (bars, off) if abs(off) <= SAMPLE_NEAR else (0, 0.0)


def in_key(small: Song, key: Key) -> bool:
    """Whether the notes that do not follow the harmony lie in a key. Drums do."""
    notes = [
        row
        for entry in small.patterns
        for row in entry.pattern.rows.tolist()
        if row[2] == FIXED and not small.layers[0].sound.is_drum
    ]
    inside = sum(row[3] % 12 in key.classes for row in notes)
    return not notes or inside >= IN_KEY * len(notes)


def words(text: str) -> set[str]:
    """Words that say something, without plural."""
    found = re.findall(r"[a-zà-ÿ0-9♭♯]+", text.lower())
    return {singular(w) for w in found if w not in SMALL_WORDS}


def _why(first: str, lacks: float, wanted: list[Finding]) -> str:
    told = [first]
    if lacks >= LACKS:
        told.append(f"{lacks:.1f} points are missing")
    told += [f.said.rstrip(".") for f in wanted[:1]]
    return "; ".join(told)


__all__ = [
    "EXAMPLE",
    "KINDS",
    "Fit",
    "Idea",
    "IdeaKind",
    "answers",
    "bars_of",
    "fits",
    "fits_of",
    "in_key",
    "tempo_words",
    "words",
]
