"""Edits of the people of a song: who they are, what they sent and are owed, their shares, and that they signed off."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.cleaning import clean_text
from escalera.core.document.days import day_or_none
from escalera.core.document.limits import MAX_NAME, MAX_OWED, MAX_PEOPLE, MAX_REASON
from escalera.core.document.names import clean_name, clean_words
from escalera.core.document.song import Song
from escalera.core.document.work_state import Collaborator
from escalera.core.edits.edit import edit
from escalera.core.planning.shares import even_shares, name_like, need_whole, read_shares
from escalera.errors import EditError


def person_of(song: Song, person_id: int) -> Collaborator:
    """The collaborator with this id. EditError where they are gone."""
    found = next((p for p in song.people if p.id == person_id), None)
    if found is None:
        raise EditError("That person is not on the list any more. It shows who is.")
    return found


def _with(song: Song, person: Collaborator) -> Song:
    return replace(song, people=tuple(person if p.id == person.id else p for p in song.people))


def _free_name(song: Song, name: str, own_id: int = 0) -> str:
    name = clean_name(name, "name", MAX_NAME)
    if any(p.name.casefold() == name.casefold() and p.id != own_id for p in song.people):
        raise EditError(f"{name} is on the list already. Add what is new to that line, or write the name in full.")
    return name


def _lines(text: str, what: str) -> str:
    words = clean_text(text).strip()
    if len(words) > MAX_OWED:
        raise EditError(f"What {what} has {len(words)} characters; {MAX_OWED} fit. Shorten it.")
    return words


@edit("add_person", "song")
class AddPerson:
    """Add somebody who works on the song; a name that is nearly another's is asked about unless it is `sure`."""

    name: str
    roles: str = ""
    sure: bool = False

    def apply(self, song: Song) -> Song:
        name = _free_name(song, self.name)
        like = name_like(name, song.people)
        if like is not None and not self.sure:
            raise EditError(
                f"{name} looks like {like.name}, who is on the list. Write it alike, or add it as another person."
            )
        if len(song.people) == MAX_PEOPLE:
            raise EditError(f"{MAX_PEOPLE} people are on the list, and no more fit. Take somebody out.")
        made = Collaborator(song.next_id, name, clean_words(self.roles, "roles", MAX_REASON))
        return replace(song, people=(*song.people, made), next_id=song.next_id + 1)

    def summary(self, song: Song) -> str:
        return f"{self.name} works on it{f': {self.roles}' if self.roles else ''}"[:200]


@edit("set_person", "song")
class SetPerson:
    """Write down of a person their name, roles, what they sent and what they are owed; what is None stays as it is."""

    person_id: int
    name: str | None = None
    roles: str | None = None
    sent: str | None = None
    owed: str | None = None

    def apply(self, song: Song) -> Song:
        person = person_of(song, self.person_id)
        new: dict[str, Any] = {
            "name": None if self.name is None else _free_name(song, self.name, person.id),
            "roles": None if self.roles is None else clean_words(self.roles, "roles", MAX_REASON),
            "sent": None if self.sent is None else _lines(self.sent, "was sent"),
            "owed": None if self.owed is None else _lines(self.owed, "is owed"),
        }
        return _with(song, replace(person, **{k: v for k, v in new.items() if v is not None}))

    def summary(self, song: Song) -> str:
        told = [k for k in ("name", "roles", "sent", "owed") if getattr(self, k) is not None]
        return f"{person_of(song, self.person_id).name}: {', '.join(told) or 'nothing'} written down"


@edit("remove_person", "song")
class RemovePerson:
    """Take somebody off the list, who then has no share either."""

    person_id: int

    def apply(self, song: Song) -> Song:
        person = person_of(song, self.person_id)
        return replace(song, people=tuple(p for p in song.people if p is not person))

    def summary(self, song: Song) -> str:
        return f"{person_of(song, self.person_id).name} is off the list"


@edit("set_shares", "song")
class SetShares:
    """Agree on the shares of the writing, a line each of name and percentage, which must add up to 100; no text divides them evenly.

    Whose share changes has to sign off anew.
    """

    text: str = ""

    def apply(self, song: Song) -> Song:
        if not song.people:
            raise EditError("Nobody is on the list yet. Add the people first.")
        if self.text.strip():
            shares = dict(read_shares(self.text, song.people))
        else:
            shares = dict(zip((p.id for p in song.people), even_shares(len(song.people))))
        need_whole(shares.values())
        people = tuple(
            p if p.share == shares[p.id] else replace(p, share=shares[p.id], signed="", signed_on=None)
            for p in song.people
        )
        return replace(song, people=people)

    def summary(self, song: Song) -> str:
        return f"Shares of the writing: {' '.join(self.text.split()) or 'even'}"[:200]


@edit("sign_share", "song")
class SignShare:
    """Note by which message or paper a person signed their share off, and when; no note takes it back."""

    person_id: int
    signed: str
    on: str = ""

    def apply(self, song: Song) -> Song:
        person = person_of(song, self.person_id)
        note = clean_words(self.signed, "note", MAX_REASON)
        if note and person.share <= 0:
            raise EditError(f"{person.name} has no share to sign off. Agree on the shares first.")
        return _with(song, replace(person, signed=note, signed_on=day_or_none(self.on) if note else None))

    def summary(self, song: Song) -> str:
        name = person_of(song, self.person_id).name
        return f"{name} signed off: {self.signed}"[:200] if self.signed.strip() else f"{name} has not signed off"
