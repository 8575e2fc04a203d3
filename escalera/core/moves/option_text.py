"""Options for a section said in words, one by one: “no drums”, “only bass and keys”, “as in Verse 1”, “half time and no crash”.

Every option is tried on a copy; what it makes of the section is parked beside the body that stands there.
"""

from __future__ import annotations

import re
from dataclasses import replace

from escalera.core.document.limits import MAX_NAME, MAX_PARKED
from escalera.core.document.song import Section, Song
from escalera.core.edits.body_edits import with_parked
from escalera.core.edits.edit import edit, section_of
from escalera.core.edits.touched import EVERYTHING as ALL_PARTS
from escalera.core.moves.option_grammar import SAMPLES, changed
from escalera.core.reading.events import Events, section_events
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

COUNTING = (
    ("one", "two", "three", "four", "five", "six", "seven", "eight", "nine"),
    ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth"),
    ("1", "2", "3", "4", "5", "6", "7", "8", "9"),
)  # how a dictated list counts


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
    for number, item in enumerate(listed(text)):
        if number >= MAX_PARKED:
            found.append(
                Option(
                    item[:MAX_NAME], None, f"At most {MAX_PARKED} options fit beside a section; this one is left here."
                )
            )
            continue
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
        after = changed(song, section.id, text.strip().lower())
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
