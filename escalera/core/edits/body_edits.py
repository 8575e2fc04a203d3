"""Edits of the bodies of a section: parked beside it, exchanged for the one that stands there, forgotten."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.limits import MAX_BARS, MAX_NAME, MAX_PARKED, MAX_REASON
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.shaping import tidied
from escalera.core.document.song import Ids, Parked, Section, Song
from escalera.core.edits.edit import edit, section_of
from escalera.core.edits.touched import EVERYTHING
from escalera.errors import EditError

AS_IT_WAS = "as it was"


def parked_of(section: Section, body_id: int) -> Parked:
    """Raises EditError when it is not parked there."""
    for each in section.parked:
        if each.id == body_id:
            return each
    raise EditError(f"That option of {section.name} is not there any more. The list shows what is.")


def stands_as(section: Section) -> str:
    """What the body that stands in the section is called."""
    return section.body_name or AS_IT_WAS


def free_body_name(section: Section, name: str) -> str:
    """The name, or its next number where a body of the section has it already."""
    taken, number, candidate = {stands_as(section), *(p.name for p in section.parked)}, 2, name
    while candidate in taken:
        candidate, number = f"{name[: MAX_NAME - 4]} {number}", number + 1
    return candidate


def unparked(body: Section) -> Section:
    """What a section plays, by itself: without what is parked at it."""
    return replace(body, parked=(), body_name="", body_who="")


def with_parked(song: Song, section_id: int, body: Section, name: str, who: str = "", reason: str = "") -> Song:
    """The song with a body parked at a section. Raises EditError when no more fit or a text is too long."""
    section = section_of(song, section_id)
    if len(section.parked) >= MAX_PARKED:
        raise EditError(f"{section.name} has {MAX_PARKED} parked bodies; no more fit. Delete one first.")
    name = free_body_name(section, clean_name(name, "name"))
    bare = unparked(body)
    kept = Parked(
        song.next_id, name, bare, clean_words(who, "name", MAX_NAME), clean_words(reason, "reason", MAX_REASON)
    )
    changed = replace(section, parked=(*section.parked, kept))
    return replace(song.with_section(changed), next_id=song.next_id + 1)


def with_body(song: Song, section: Section, option: Parked) -> Song:
    """The song with a parked body in its section, whose name, role, target and parked bodies stay. Raises EditError."""
    body = option.body
    bars = song.bars - section.bars + body.bars
    if bars > MAX_BARS:
        raise EditError(f"The song would have {bars} bars; at most {MAX_BARS} fit. Shorten another section first.")
    ids = Ids(song.next_id)
    placed = tuple(replace(p, id=ids()) for p in body.placements)
    fresh = replace(
        body,
        id=section.id,
        name=section.name,
        role=section.role,
        target=section.target,
        placements=placed,
        body_name=option.name,
        body_who=option.who,
        parked=section.parked,
    )
    return tidied(replace(song.with_section(fresh), next_id=ids.next_id))


@edit("park_body", "options")
class ParkBody:
    """Keep a section's body, as it is now, beside it under a name."""

    section_id: int
    name: str
    who: str = ""
    reason: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        return with_parked(song, section.id, section, self.name, self.who, self.reason)

    def summary(self, song: Song) -> str:
        return f"Option of {section_of(song, self.section_id).name} saved: {self.name.strip()}{_said(self.who, '')}"


@edit("exchange_body", EVERYTHING)
class ExchangeBody:
    """Exchange a section's body for a parked one; what stood there is parked in its place, with what is said of the choice."""

    section_id: int
    body_id: int
    who: str = ""
    reason: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        chosen = parked_of(section, self.body_id)
        said = _passed_over(chosen.name, self.who, self.reason)
        out = Parked(chosen.id, stands_as(section), unparked(section), section.body_who, said)
        rest = tuple(out if p.id == chosen.id else _told(p, said) for p in section.parked)
        return with_body(song, replace(section, parked=rest), chosen)

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        chosen = parked_of(section, self.body_id).name
        return f"{section.name}: {chosen} over {stands_as(section)}{_said(self.who, self.reason)}"[:300]


@edit("exchange_pair", EVERYTHING)
class ExchangePair:
    """Exchange the bodies of two neighbouring sections at once; 0 leaves what stands there."""

    section_id: int
    before_id: int = 0
    body_id: int = 0
    who: str = ""
    reason: str = ""

    def apply(self, song: Song) -> Song:
        index = song.index_of(section_of(song, self.section_id).id)
        if not index or not (self.before_id or self.body_id):
            raise EditError(
                "A pair is an option of a section and one of the section before it. Choose another than what stands there."
            )
        for section, body_id in ((song.sections[index - 1], self.before_id), (song.sections[index], self.body_id)):
            if body_id:
                song = ExchangeBody(section.id, body_id, self.who, self.reason).apply(song)
        return song

    def summary(self, song: Song) -> str:
        index = song.index_of(section_of(song, self.section_id).id)
        pairs = zip(song.sections[max(0, index - 1) : index + 1], (self.before_id, self.body_id))
        said = [parked_of(s, b).name if b else stands_as(s) for s, b in pairs]
        return f"{' into '.join(said)}{_said(self.who, self.reason)}"[:300]


def _said(who: str, reason: str) -> str:
    by = f", by {who.strip()}" if who.strip() else ""
    return by + (f": {reason.strip()}" if reason.strip() else "")


def _told(option: Parked, said: str) -> Parked:
    """An option with the verdict, unless something was said of it before."""
    return replace(option, reason=option.reason or said)


def _passed_over(chosen: str, who: str, reason: str) -> str:
    who, reason = clean_words(who, "name", MAX_NAME), clean_words(reason, "reason", MAX_REASON)
    return f"passed over for {chosen}{_said(who, reason)}"[:MAX_REASON]


@edit("keep_body", "options")
class KeepBody:
    """Say, after hearing the options, that a section stays as it stands, and why; the options stay parked with that."""

    section_id: int
    who: str = ""
    reason: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        if not section.parked:
            raise EditError(f"{section.name} has no options to choose between. Add one first.")
        said = _passed_over(stands_as(section), self.who, self.reason)
        parked = tuple(_told(p, said) for p in section.parked)
        return song.with_section(replace(section, parked=parked, body_name=stands_as(section)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{section.name} stays {stands_as(section)}{_said(self.who, self.reason)}"[:300]


@edit("forget_body", "options")
class ForgetBody:
    """Take a parked body of a section out."""

    section_id: int
    body_id: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        gone = parked_of(section, self.body_id)
        return song.with_section(replace(section, parked=tuple(p for p in section.parked if p.id != gone.id)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"Option of {section.name} deleted: {parked_of(section, self.body_id).name}"
