"""A set of songs as it is kept: which songs, in which order, with what between them, who proposed them, and orders that were tried."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any

from pydantic import ConfigDict, ValidationError

from escalera.core.document.fields import adapter, choice, number, part, text
from escalera.core.document.limits import MAX_NAME, MAX_REASON
from escalera.core.document.names import clean_name, clean_words
from escalera.core.edits.edit import one_of, within
from escalera.errors import EditError, FormatError, shown
from escalera.lazy_dataclasses import dataclass

MAX_ENTRIES, MAX_ORDERS = 120, 40
MAX_GAP_S, MAX_WANTED_MIN = 600.0, 600.0
KINDS = {"album": 2.0, "single with versions": 2.0, "live set": 12.0, "class": 60.0}  # with the usual gap in seconds
PROPOSED, TRIED, CHOSEN = ENTRY_STATES = ("proposed", "tried", "chosen")


@dataclass(frozen=True, slots=True)
class SetEntry:
    """A song at its place. One that is only proposed stands beside the order. `gap_s` is what passes after it."""

    id: int
    song_id: int
    gap_s: Annotated[float, number("Gap after it", 0, MAX_GAP_S, "s")] = 2.0
    who: Annotated[str, text("Proposed by", MAX_NAME)] = ""
    state: Annotated[str, choice("State", ENTRY_STATES)] = CHOSEN
    note: Annotated[str, text("Note", MAX_REASON)] = ""

    __pydantic_config__ = ConfigDict(extra="forbid", allow_inf_nan=False)


@dataclass(frozen=True, slots=True)
class SetOrder:
    """An order that was kept by name: who wants it, why, and the entries."""

    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    entries: Annotated[tuple[int, ...], part("Order", MAX_ENTRIES)]
    who: Annotated[str, text("By", MAX_NAME)] = ""
    reason: Annotated[str, text("Reason", MAX_REASON)] = ""

    __pydantic_config__ = ConfigDict(extra="forbid", allow_inf_nan=False)


@dataclass(frozen=True, slots=True)
class SongSet:
    """Entries are in order; `wanted_min` is how long it may last, 0 where that is free."""

    name: Annotated[str, text("Name", MAX_NAME, required=True)]
    kind: Annotated[str, choice("Kind", tuple(KINDS))] = "album"
    entries: Annotated[tuple[SetEntry, ...], part("Songs", MAX_ENTRIES)] = ()
    orders: Annotated[tuple[SetOrder, ...], part("Orders", MAX_ORDERS)] = ()
    wanted_min: Annotated[float, number("May last", 0, MAX_WANTED_MIN, "min")] = 0.0
    next_id: int = 1

    __pydantic_config__ = ConfigDict(extra="forbid", allow_inf_nan=False)

    @property
    def running(self) -> tuple[SetEntry, ...]:
        """Entries that are in the order, without those that are only proposed."""
        return tuple(e for e in self.entries if e.state != PROPOSED)


def set_to_plain(found: SongSet) -> dict[str, Any]:
    """The set as plain data, ready for JSON."""
    plain: dict[str, Any] = adapter(SongSet).dump_python(found, mode="json")
    return plain


def set_from_plain(plain: object) -> SongSet:
    """A set from plain data of outside. Raises FormatError that says what is wrong with it."""
    try:
        found = adapter(SongSet).validate_python(plain)
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(p) for p in first["loc"]) or "its form"
        raise FormatError(
            f"The set cannot be used: {where}: {shown(first['msg'], 80)}. Nothing was changed."
        ) from error
    ids = [e.id for e in found.entries]
    if len(ids) != len(set(ids)) or any(not 0 < i < found.next_id for i in ids):
        raise FormatError("The set cannot be used: two of its entries have the same id, or one is not below next_id.")
    if any(i not in ids for order in found.orders for i in order.entries):
        raise FormatError("The set cannot be used: a kept order names an entry that is not there.")
    return found


# what can be done with a set: each gives the new set and a line for its history --------------------------------------

Done = tuple[SongSet, str]


def entry_of(found: SongSet, entry_id: int) -> SetEntry:
    """The entry with this id. EditError where it is gone."""
    entry = next((e for e in found.entries if e.id == entry_id), None)
    if entry is None:
        raise EditError("That song is not in the set any more. The list shows what is.")
    return entry


def with_song(found: SongSet, song_id: int, title: str, who: str = "", proposed: bool = False) -> Done:
    """Put a song at the end, or only propose it."""
    if len(found.entries) == MAX_ENTRIES:
        raise EditError(f"{MAX_ENTRIES} songs are in the set, and no more fit. Take one out.")
    state = PROPOSED if proposed else CHOSEN
    entry = SetEntry(found.next_id, song_id, KINDS[found.kind], clean_words(who, "name", MAX_NAME), state)
    made = replace(found, entries=(*found.entries, entry), next_id=found.next_id + 1)
    return made, f"{title} {'proposed' if proposed else 'added'}{f' by {who}' if who else ''}"


def without_song(found: SongSet, entry_id: int, title: str) -> Done:
    """Take an entry out, also of the orders that were kept."""
    entry = entry_of(found, entry_id)
    orders = tuple(replace(o, entries=tuple(i for i in o.entries if i != entry.id)) for o in found.orders)
    return replace(
        found, entries=tuple(e for e in found.entries if e is not entry), orders=orders
    ), f"{title} taken out"


def moved(found: SongSet, entry_id: int, place: int, title: str) -> Done:
    """Put an entry at a place, counted from 1."""
    entry = entry_of(found, entry_id)
    if not 1 <= place <= len(found.entries):
        raise EditError(f"There is no place {place}: the set has {len(found.entries)}. Choose one from 1.")
    rest = [e for e in found.entries if e is not entry]
    rest.insert(place - 1, entry)
    return replace(found, entries=tuple(rest)), f"{title} to place {place}"


def with_entry(found: SongSet, entry_id: int, title: str, **values: Any) -> Done:
    """Change an entry's gap, state, note or who proposed it."""
    entry = entry_of(found, entry_id)
    if "gap_s" in values:
        values["gap_s"] = round(within(float(values["gap_s"]), 0.0, MAX_GAP_S, "A gap of", "s"), 2)
    if "state" in values:
        one_of(values["state"], ENTRY_STATES, "state")
    for name, limit in (("who", MAX_NAME), ("note", MAX_REASON)):
        if name in values:
            values[name] = clean_words(values[name], name, limit)
    changed = replace(entry, **values)
    told = ", ".join(f"{name.removesuffix('_s')} {value}" for name, value in values.items())
    return replace(found, entries=tuple(changed if e is entry else e for e in found.entries)), f"{title}: {told}"[:200]


def with_settings(found: SongSet, name: str, kind: str, wanted_min: float) -> Done:
    """Call the set otherwise, make it another kind, or say how long it may last."""
    one_of(kind, list(KINDS), "kind of set")
    wanted = within(wanted_min, 0.0, MAX_WANTED_MIN, "A length of", "min")
    return replace(found, name=clean_name(name, "name of the set"), kind=kind, wanted_min=wanted), f"{name}, {kind}"


def in_order(found: SongSet, ids: list[int], said: str) -> Done:
    """Put the entries that are in the order into another one; those that are only proposed stay at the end."""
    by_id = {e.id: e for e in found.entries}
    if sorted(ids) != sorted(e.id for e in found.running):
        raise EditError("The order does not hold the songs that are in the set now. Look at it again.")
    aside = [e for e in found.entries if e.state == PROPOSED]
    return replace(found, entries=(*(by_id[i] for i in ids), *aside)), said


def with_kept_order(found: SongSet, name: str, who: str = "", reason: str = "") -> Done:
    """Keep the order as it is now by name, to come back to; the same name again replaces it."""
    name = clean_name(name, "name of the order")
    rest = [o for o in found.orders if o.name.casefold() != name.casefold()]
    if len(rest) == MAX_ORDERS:
        raise EditError(f"{MAX_ORDERS} orders are kept, and no more fit. Forget one.")
    order = SetOrder(
        name,
        tuple(e.id for e in found.running),
        clean_words(who, "name", MAX_NAME),
        clean_words(reason, "reason", MAX_REASON),
    )
    return replace(found, orders=(*rest, order)), f"order “{name}” kept{f', by {who}' if who else ''}"


def order_of(found: SongSet, name: str) -> SetOrder:
    """The order of this name. EditError where it is not kept."""
    order = next((o for o in found.orders if o.name.casefold() == name.strip().casefold()), None)
    if order is None:
        raise EditError(f"No order is called “{shown(name)}”. The list shows those that are kept.")
    return order


def with_order(found: SongSet, name: str) -> Done:
    """Take an order that was kept; songs that came since stand at its end, in their order."""
    order = order_of(found, name)
    running = [e.id for e in found.running]
    ids = [i for i in order.entries if i in running]
    return in_order(found, [*ids, *(i for i in running if i not in ids)], f"order “{order.name}” chosen")


def without_order(found: SongSet, name: str) -> Done:
    """Forget an order that was kept."""
    order = order_of(found, name)
    return replace(found, orders=tuple(o for o in found.orders if o is not order)), f"order “{order.name}” forgotten"
