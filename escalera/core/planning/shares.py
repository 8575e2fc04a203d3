"""Shares of the writing: a table that must add up to 100 %, signed off by everybody who has one. No advice in law."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from rapidfuzz.distance import JaroWinkler

from escalera.core.document.song import Song
from escalera.core.document.work_state import Collaborator
from escalera.errors import EditError, shown

WHOLE = 100.0
NEAR = 0.005  # of a percent: less is rounding
ALIKE = 0.9  # of two names' likeness, 0..1


def shares_trouble(people: Sequence[Collaborator]) -> str:
    """Why the table of shares is not settled, in a sentence; empty where it is, or where nobody is named."""
    with_share = [p for p in people if p.share > 0]
    if not people:
        return ""
    if not with_share:
        return "nobody has a share yet"
    total = sum(p.share for p in with_share)
    if abs(total - WHOLE) > NEAR:
        off = WHOLE - total
        return f"the shares add up to {total:g} %; {abs(off):g} % {'are missing' if off > 0 else 'are too many'}"
    unsigned = [p.name for p in with_share if not p.signed]
    if unsigned:
        return f"{', '.join(unsigned[:3])} {'has' if len(unsigned) == 1 else 'have'} not signed off"
    return ""


def read_shares(text: str, people: Sequence[Collaborator]) -> list[tuple[int, float]]:
    """A table of shares, a line each: a name and a percentage. Every collaborator's id with the share; those not named have none.

    Raises EditError where a name is not on the list, or the shares do not add up to 100.
    """
    by_name = {p.name.casefold(): p for p in people}
    found: dict[int, float] = {}
    for line in filter(None, (" ".join(raw.split()) for raw in text.splitlines())):
        match = re.fullmatch(r"(.+?)[\s:;,=]+(\d{1,3}(?:[.,]\d{1,4})?)\s*%?", line)
        if not match:
            raise EditError(f"“{shown(line)}” is no share. Write a name and a percentage, for example “Ana 50”.")
        person = by_name.get(match[1].strip().casefold())
        if person is None:
            raise EditError(f"“{shown(match[1])}” is not among the people of the song. Add them first.")
        if person.id in found:
            raise EditError(f"{person.name} stands there twice. Leave one line out.")
        found[person.id] = float(match[2].replace(",", "."))
    need_whole(found.values())
    return [(p.id, found.get(p.id, 0.0)) for p in people]


def need_whole(shares: Iterable[float]) -> None:
    """Raise EditError unless the shares add up to 100 %."""
    total = sum(shares)
    if abs(total - WHOLE) > NEAR:
        off = round(WHOLE - total, 4)
        remedy = f"Give {off:g} % more." if off > 0 else f"Take {-off:g} % away."
        raise EditError(f"The shares add up to {round(total, 4):g} %, and must make 100 %. {remedy}")


def even_shares(count: int) -> list[float]:
    """100 % in equal parts of hundredths; the first ones take what is left over."""
    part, left = divmod(10_000, count)
    return [(part + (i < left)) / 100.0 for i in range(count)]


def name_like(name: str, people: Sequence[Collaborator]) -> Collaborator | None:
    """Somebody whose name is nearly the same as another: perhaps the same person, spelled otherwise."""
    own = name.casefold()
    for p in people:
        other = p.name.casefold()
        if own != other and JaroWinkler.similarity(own, other) >= ALIKE:
            return p
    return None


def sent_by_whom(song: Song) -> dict[str, list[str]]:
    """By name without case, what the song itself says that somebody sent: layers, options and remarks."""
    found: dict[str, list[str]] = {}
    rows = [(x.sent_by, f"layer {x.name}") for x in song.layers]
    rows += [(p.who, f"option {p.name} for {s.name}") for s in song.sections for p in s.parked]
    rows += [(r.who, "feedback") for r in song.feedback]
    for who, what in rows:
        if who and what not in found.setdefault(who.casefold(), []):
            found[who.casefold()].append(what)
    return found
