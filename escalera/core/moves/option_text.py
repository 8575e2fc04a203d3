"""Options for a section said in words, one by one: “no drums”, “only bass and keys”, “as in Verse 1”, “half time and no crash”.

Every option is tried on a copy; what it makes of the section is parked beside the body that stands there.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from rapidfuzz import fuzz, process

from escalera.core.document.limits import MAX_NAME, MAX_PARKED
from escalera.core.document.names import singular
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.body_edits import with_parked
from escalera.core.edits.edit import edit, section_of
from escalera.core.edits.section_edits import ResizeSection
from escalera.core.edits.tile_edits import CopyTiles, Lift, SetTiles
from escalera.core.edits.touched import EVERYTHING as ALL_PARTS
from escalera.core.moves.move import KINDS, Move, apply_move, moves_for, playing
from escalera.core.palette.sounds import FAMILIES
from escalera.core.reading.events import Events, section_events
from escalera.core.reading.placements import ordered
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, shown

COUNTING = (
    ("one", "two", "three", "four", "five", "six", "seven", "eight", "nine"),
    ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth"),
    ("1", "2", "3", "4", "5", "6", "7", "8", "9"),
)  # how a dictated list counts
FILLER = frozenset({
    "a", "an", "the", "in", "on", "it", "its", "of", "to", "with", "and", "this", "that", "section", "here", "please", "maybe", "try", "let",
    "take", "put", "make", "us", "be", "is", "all",
})  # fmt: skip
OTHER_WORDS = {"bass": "low end", "vocal": "voices", "vocals": "voices", "synths": "leads", "beat": "drums"}
EVERYTHING = ("everything", "everyone", "all", "all of it", "the lot")
SLIP = 82  # of 100: words at least so alike are taken for one another
SAMPLES = "“no drums”, “only bass and keys”, “as in Verse 1”, “half time”, “8 bars”"


@dataclass(frozen=True)
class Option:
    """A said option: the song with it in place, or (None) why it cannot be had like this."""

    name: str
    after: Song | None
    trouble: str = ""


@edit("add_options", ALL_PARTS)
class AddOptions:
    """Park said options beside a section's body, as one step. Raises EditError when none of them can be had."""

    section_id: int
    text: str
    who: str = ""

    def apply(self, song: Song) -> Song:
        read = read_options(song, self.section_id, self.text)
        good = [option for option in read if option.after is not None]
        if not good:
            raise EditError(read[0].trouble if read else f"Nothing is written. Say what to try, for example {SAMPLES}.")
        song = replace(song, next_id=max(o.after.next_id for o in good if o.after))  # ids that options gave are taken
        for option in good:
            song = _with_option(song, self.section_id, option, self.who)
        return song

    def summary(self, song: Song) -> str:
        names = [o.name for o in read_options(song, self.section_id, self.text) if o.after is not None]
        by = f", by {self.who.strip()}" if self.who.strip() else ""
        return f"Options of {section_of(song, self.section_id).name}{by}: {'; '.join(names)}"[:300]


def _with_option(song: Song, section_id: int, option: Option, who: str) -> Song:
    """What an option made beside the section (layers, patterns, grooves) is taken over; such layers play nowhere else."""
    made = option.after
    assert made is not None
    known = {p.id for p in song.patterns}, {x.id for x in song.layers}, {g.id for g in song.grooves}
    song = replace(
        song,
        patterns=(*song.patterns, *(p for p in made.patterns if p.id not in known[0])),
        layers=(*song.layers, *(x for x in made.layers if x.id not in known[1])),
        grooves=(*song.grooves, *(g for g in made.grooves if g.id not in known[2])),
    )
    return with_parked(song, section_id, made.section_by_id[section_id], option.name, who)


def read_options(song: Song, section_id: int, text: str) -> list[Option]:
    """Every option of a list, each read by itself. New ids of one never meet those of another."""
    last, found = song.memo.get("said options", (None, []))  # what was just looked at is not read again to be kept
    if last != (section_id, text):
        found = _read_options(song, section_id, text)
        song.memo["said options"] = (section_id, text), found
    return found


def _read_options(song: Song, section_id: int, text: str) -> list[Option]:
    section, found, base = section_of(song, section_id), [], song
    for item in listed(text)[:MAX_PARKED]:
        option = read_option(base, section, item)
        found.append(option)
        if option.after is not None:
            base = replace(base, next_id=option.after.next_id)
    return found


def listed(text: str) -> list[str]:
    """The items of a typed or dictated list: by lines, semicolons, ‘or’, or counted from one."""
    items = []
    for line in re.split(r"[\n;]|\bor\b", text):
        items += _counted(line) or [line]
    return [item.strip(" .,:-–") for item in items if item.strip(" .,:-–")]


def _counted(line: str) -> list[str]:
    """‘one no drums two half time’ as two items; nothing when the line does not count."""
    words = re.sub(r"\boption\b|\bnumber\b", " ", line.lower()).split()
    for names in COUNTING:
        if not words or words[0].strip(".,:)") != names[0]:
            continue
        items: list[list[str]] = []
        for word in words:
            if len(items) < len(names) and word.strip(".,:)") == names[len(items)]:
                items.append([])
            else:
                items[-1].append(word)
        return [" ".join(item) for item in items]
    return []


def read_option(song: Song, section: Section, text: str) -> Option:
    """One option; a trouble says what could not be had, and what would be understood."""
    name = " ".join(text.split())[:MAX_NAME]
    try:
        after = _changed(song, section.id, text.strip().lower())
        _only_here(song, after, section)
    except EditError as error:
        return Option(name, None, str(error))
    if after.section_by_id[section.id] == section:
        return Option(name, None, f"“{shown(text)}” changes nothing in {section.name}: it is like that already.")
    return Option(name, after)


def _only_here(song: Song, after: Song, section: Section) -> None:
    """An option lives in one section: whatever reaches further is a move of its own."""
    rest = [[_heard(x, s) for s in x.sections if s.id != section.id] for x in (song, after)]
    kept = [x for x in after.layers if x.id in song.layer_by_id]
    if rest[0] != rest[1] or tuple(kept) != song.layers or after.section_by_id.get(section.id) is None:
        raise EditError(
            f"That reaches beyond {section.name}. Make it as a move (M), and keep the song as a version (H) before."
        )


def _heard(song: Song, section: Section) -> tuple[Section, dict[int, Events]]:
    """A section apart from the names of its patterns: what every layer plays in it."""
    events = section_events(song, timeline(song).span_of(section.id))
    return replace(section, placements=()), {layer: e for layer, e in events.items() if len(e)}


# one option: parts that are read one after the other -----------------------------------------------------------------------


def _changed(song: Song, section_id: int, text: str) -> Song:
    """The song with all parts of an option made. Tries the longest part first: ‘only bass and drums’ is one."""
    cuts = [m.span() for m in re.finditer(r"\s*(?:,\s*(?:and|then|but)?|\band\b|\bthen\b|\bbut\b|\+)\s*", text)]
    trouble: EditError | None = None
    for low, high in [(len(text), len(text)), *reversed(cuts)]:
        try:
            there = _part(song, section_id, text[:low])
        except EditError as error:
            trouble = trouble or error
            continue
        return _changed(there, section_id, text[high:]) if text[high:] else there
    raise trouble or EditError(f"Nothing is written. Say what to try, for example {SAMPLES}.")


def _part(song: Song, section_id: int, text: str) -> Song:
    section, trouble = section_of(song, section_id), None
    for pattern, act in PARTS:
        match = pattern.fullmatch(text.strip())
        if match:
            try:
                return act(song, section, *match.groups())
            except _Unknown as error:
                trouble = trouble or error
    move = _move_called(song, section, text)
    if move is None:
        raise trouble or EditError(
            f"“{shown(text)}” is not understood for {section.name}. Say for example {SAMPLES}, or the name of a move."
        )
    return apply_move(song, move)


class _Unknown(EditError):
    """These words name no layer: another reading may."""


def called(song: Song, words: str) -> list[Layer]:
    """The layers that are meant by names, families or kinds of sound. Raises EditError."""
    found: dict[int, Layer] = {}
    for each in re.split(r"\s*(?:,|&|/|\band\b|\+)\s*", words.strip()):
        for layer in _meant(song, re.sub(r"^(?:the|its|all)\s+", "", each)):
            found[layer.id] = layer
    return list(found.values())


def _meant(song: Song, words: str) -> list[Layer]:
    heard = [x for x in song.layers if not x.aside]
    if words in EVERYTHING:
        return heard
    family = OTHER_WORDS.get(words, words)
    ways: tuple[Callable[[Layer], bool], ...] = (
        lambda x: x.name.lower() == words,
        lambda x: x.family in FAMILIES and x.family == family,
        lambda x: bool(_tokens(words)) and _tokens(words) <= _tokens(f"{x.name} {x.sound.label} {x.sound_key}"),
    )
    for way in ways:
        found = [x for x in heard if way(x)]
        if found:
            return found
    raise _Unknown(f"“{shown(words)}” is no layer, family or sound of this song. Name one as the wall does.")


def _tokens(text: str) -> set[str]:
    """Words in their simplest form: no plural, no filler."""
    words = re.findall(r"[\w♭♯#]+", text.lower().replace("-", " "))
    return {singular(w) for w in words if w not in FILLER}


def _without(song: Song, section: Section, words: str) -> Song:
    here = {x.id for x in playing(song, section)}
    for layer in called(song, words):
        if layer.id in here:
            song = Lift(section.id, layer.id).apply(song)
    return song


def _only(song: Song, section: Section, words: str) -> Song:
    kept = {x.id for x in called(song, words)}
    if not kept & {x.id for x in playing(song, section)}:
        song = _with(song, section, words)
    for layer in playing(song, section_of(song, section.id)):
        if layer.id not in kept:
            song = Lift(section.id, layer.id).apply(song)
    return song


def _with(song: Song, section: Section, words: str) -> Song:
    phrases = range(len(section.phrases))
    return SetTiles([[section.id, x.id, phrase] for x in called(song, words) for phrase in phrases]).apply(song)


def _like(song: Song, section: Section, words: str | None, other: str) -> Song:
    """All layers, or some, as they play in another section."""
    source = next((s for s in song.sections if s.name.lower() == other.strip()), None)
    if source is None:
        names = ", ".join(s.name for s in song.sections[:8])
        raise EditError(f"There is no section called “{shown(other)}”. The song has: {names}.")
    if words is None:
        return CopyTiles(source.id, section.id).apply(song)
    chosen = {x.id for x in called(song, words)}
    if not any(p.layer_id in chosen for p in source.placements):  # silent there, so silent here
        return _without(song, section, words)
    part = replace(source, placements=tuple(p for p in source.placements if p.layer_id in chosen))
    copied = CopyTiles(source.id, section.id).apply(song.with_section(part))
    fresh = copied.section_by_id[section.id]
    kept = [p for p in section.placements if p.layer_id not in chosen]
    placed = ordered((*kept, *fresh.placements))
    return replace(song.with_section(replace(section, placements=placed)), next_id=copied.next_id)


def _bars(song: Song, section: Section, bars: str) -> Song:
    return ResizeSection(section.id, int(bars)).apply(song)


def _same(song: Song, section: Section) -> Song:
    return song


Act = Callable[..., Song]
PARTS: tuple[tuple[re.Pattern[str], Act], ...] = tuple(
    (re.compile(pattern), act)
    for pattern, act in (
        (r"(?:as|like) it (?:is|was)|(?:the )?same|leave it(?: alone)?|no change", _same),
        (r"(?:no|without|lose|mute|drop|take out|leave out|cut|minus|not) (?:the )?(.+?)(?: out)?", _without),
        (r"(.+) (?:out|off|away|silent)", _without),
        (r"(?:only|just|nothing but|alone) (?:the )?(.+)", _only),
        (r"(.+) (?:only|alone)", _only),
        (r"(?:as|like|same as)(?: in)? ()(.+)", lambda song, section, _, other: _like(song, section, None, other)),
        (r"(.+?) (?:as|like)(?: in)? (.+)", _like),
        (r"(?:with|add|bring in|plus|bring|keep|leave) (?:the )?(.+)", _with),
        (r"(.+) in", _with),
        (r"(\d{1,3}) bars?(?: long)?", _bars),
    )
)


def _move_called(song: Song, section: Section, text: str) -> Move | None:
    """The move whose name holds all the words, with the fewest others; a slip of the pen is forgiven."""
    wanted = _tokens(text)
    best: tuple[int, Move] | None = None
    for move, words in _named(song, section):
        if wanted and all(
            word in words or process.extractOne(word, words, scorer=fuzz.ratio, score_cutoff=SLIP) for word in wanted
        ):
            extra = len(words) - len(wanted)
            if best is None or extra < best[0]:
                best = (extra, move)
    return best[1] if best else None


def _named(song: Song, section: Section) -> Iterator[tuple[Move, set[str]]]:
    """Moves by the words of their label, and of their kind's."""
    for move in moves_for(song, section):
        kind = KINDS[move.key.partition(":")[0]]
        yield move, _tokens(move.label)
        yield move, _tokens(f"{kind.label} {kind.key}")
