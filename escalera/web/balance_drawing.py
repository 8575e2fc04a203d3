"""Geometry of the page of balance: the house in section, the picture of places, the low end's owners, the course of loudness."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from escalera.core.balance.section_heard import HeardSection, correlation, mono_loss_db
from escalera.core.balance.thirds import FLOOR_OF, FLOOR_SAID, FLOORS, Floats, by_floor
from escalera.core.document.song import Song
from escalera.core.energy.terms import decibels
from escalera.lazy_dataclasses import dataclass

WIDE, FLOOR_HEIGHT, TOP = 640.0, 78.0, 62.0
QUIET_DB, FULL_DB = -60.0, -16.0  # of a floor: nothing, and filled from wall to wall
LEAST_WIDTH, NAMED_WIDTH = 9.0, 58.0
LETTER = 7.4  # pixels that a letter of a name takes


def family_slug(family: str) -> str:
    """A family as its classes and patterns are named."""
    return family.replace(" ", "-")


@dataclass(frozen=True, slots=True)
class Room:
    """What a layer fills of a floor; `hidden` is how much of its width is hidden by others, `layer_id` 0 for spaces and the rest."""

    layer_id: int
    name: str
    label: str
    family: str
    x: float
    width: float
    hidden: float
    percent: float


@dataclass(frozen=True, slots=True)
class Floor:
    name: str
    range: str
    db: float
    y: float
    rooms: tuple[Room, ...]
    outline: float | None  # where what it is compared with ends
    outline_db: float | None


@dataclass(frozen=True, slots=True)
class Spot:
    """A layer in the picture of places: across from left to right, up from near to far, in per cent; its halves are as wide as it is."""

    layer_id: int
    name: str
    family: str
    x: float
    y: float
    half: float
    loss_db: float


def floor_width(db: float) -> float:
    """Pixels that a level takes of a floor."""
    return WIDE * float(np.clip((db - QUIET_DB) / (FULL_DB - QUIET_DB), 0.0, 1.0))


def house(heard: HeardSection, outline: Floats | None = None) -> list[Floor]:
    """Floors from the roof down. Every floor is as full as the whole sounds there; rooms share it by what layers bring. `outline` is mean power by
    third-octave of what it is compared with, (28,)."""
    powers, levels = heard.floors(), heard.floor_db()
    other = decibels(by_floor(outline)) if outline is not None else None
    found = []
    for i in reversed(range(len(FLOORS))):
        rooms = _rooms(heard, powers[:, i], i, floor_width(float(levels[i])))
        y = TOP + FLOOR_HEIGHT * (len(FLOORS) - 1 - i)
        edge = floor_width(float(other[i])) if other is not None else None
        found.append(
            Floor(
                FLOORS[i],
                FLOOR_SAID[i],
                float(levels[i]),
                y,
                rooms,
                edge,
                float(other[i]) if other is not None else None,
            )
        )
    return found


def _rooms(heard: HeardSection, power: Floats, floor: int, width: float) -> tuple[Room, ...]:
    total = float(power.sum())
    if total <= 0.0 or width < LEAST_WIDTH:
        return ()
    shares = power / total
    rows = sorted(
        [(float(s), x.id, x.name, x.family) for s, x in zip(shares, heard.sounding)]
        + [(float(shares[-1]), 0, "rooms and echoes", "")],
        key=lambda r: -r[0],
    )
    small = sum(r[0] for r in rows if r[0] * width < LEAST_WIDTH)
    found, x = [], 0.0
    for share, layer_id, name, family in rows:
        if share * width >= LEAST_WIDTH:
            found.append(_room(heard, floor, layer_id, name, family, x, share * width, share))
            x += share * width
    if small * width > 2.0:
        found.append(Room(0, "all others", "", "", x, small * width, 0.0, 100 * small))
    return tuple(found)


def _room(
    heard: HeardSection, floor: int, layer_id: int, name: str, family: str, x: float, width: float, share: float
) -> Room:
    hidden = 0.0
    if layer_id:
        mine = heard.hearing.share_by_band(layer_id)[floor == FLOOR_OF]
        counted = heard.layer(layer_id).mean[floor == FLOOR_OF]  # type: ignore[union-attr]
        hidden = 1.0 - float((mine * counted).sum() / max(float(counted.sum()), 1e-14))
    letters = int((width - 14) / LETTER)
    label = name if len(name) <= letters else f"{name[: letters - 1]}…" if width >= NAMED_WIDTH else ""
    return Room(
        layer_id, name, label, family_slug(family) if family else "", x, width, width * min(0.9, hidden), 100 * share
    )


def street(heard: HeardSection) -> list[tuple[str, str, float, float]]:
    """What is lost in mono: (name, family, dB lost, height in the drawing), the most first; at most four."""
    rows = [(x.name, family_slug(x.family), -x.mono_loss_db) for x in heard.sounding if x.mono_loss_db < -0.9]
    ranked = sorted(rows, key=lambda r: -r[2])[:4]
    return [(name, family, db, TOP + 40.0 + 74.0 * i) for i, (name, family, db) in enumerate(ranked)]


def places(heard: HeardSection) -> list[Spot]:
    """Every layer in the picture of places."""
    found = []
    for x in heard.sounding:
        across = float(np.clip(-x.side_db / 12.0, -1.0, 1.0))
        far = float(np.clip(((x.wet_db if x.wet_db is not None else -30.0) + 30.0) / 30.0, 0.0, 1.0))
        half = 1.5 + 16.0 * float(np.clip((1.0 - x.correlation) / 2.0, 0.0, 1.0)) ** 0.5
        found.append(
            Spot(x.id, x.name, family_slug(x.family), 50.0 + 42.0 * across, 93.0 - 74.0 * far, half, x.mono_loss_db)
        )
    return _apart(found)


def _apart(spots: list[Spot]) -> list[Spot]:
    """Names that would lie on each other are moved back a little, the near ones first."""
    kept: list[Spot] = []
    for spot in sorted(spots, key=lambda s: -s.y):
        while any(abs(spot.y - o.y) < 6.5 and abs(spot.x - o.x) < 18.0 for o in kept) and spot.y > 10.0:
            spot = replace(spot, y=spot.y - 1.5)
        kept.append(spot)
    return kept


@dataclass(frozen=True, slots=True)
class OwnerBar:
    x: float
    width: float
    height: float
    family: str
    title: str
    bar: bool


def owners(song: Song, heard: HeardSection, bar_ticks: tuple[int, ...], length: int) -> list[OwnerBar]:
    """The low end sixteenth by sixteenth: as high as it is loud, coloured by its owner; x and width in per cent."""
    levels = np.array(heard.low.levels_db)
    if not len(levels):
        return []
    low, high = float(levels.max()) - 30.0, float(levels.max())
    names = {x.id: x for x in heard.layers}
    found, lines = [], set(bar_ticks)
    ticks = [*heard.low.ticks, length]
    for tick, after, owner, db in zip(ticks, ticks[1:], heard.low.owners, levels):
        layer = names.get(owner)
        height = 4.0 + 34.0 * float(np.clip((db - low) / max(high - low, 1e-6), 0.0, 1.0)) if owner else 2.0
        who = f"{layer.name} {db:.0f} dB" if layer else "nobody"
        found.append(
            OwnerBar(
                100.0 * tick / length,
                100.0 * (after - tick) / length,
                height,
                family_slug(layer.family) if layer else "",
                who,
                tick in lines,
            )
        )
    return found


def width_rows(heard: HeardSection) -> list[tuple[str, float, float, float]]:
    """(name, correlation, dB lost in mono, left over right in dB) of every layer, the widest first, then of the whole."""
    rows = [(x.name, x.correlation, x.mono_loss_db, x.side_db) for x in heard.sounding]
    whole = heard.total
    side = float(decibels(whole.left.sum()) - decibels(whole.right.sum()))
    return [*sorted(rows, key=lambda r: r[1]), ("the whole", correlation(whole), mono_loss_db(whole), side)]


def course(values: list[Floats], low: float = -40.0, high: float = -6.0) -> tuple[list[str], list[float]]:
    """Short-term loudness of sections one after the other as paths over 1000 by 120, and where every section begins."""
    total = max(1, sum(len(v) + 1 for v in values))
    at, paths, edges = 0, [], []
    for row in values:
        edges.append(1000.0 * at / total)
        step = max(1, len(row) // 160)
        shares = np.clip((np.nan_to_num(row[::step], neginf=low) - low) / (high - low), 0.0, 1.0)
        points = [
            f"{1000.0 * (at + i * step) / total:.1f} {120.0 - 120.0 * share:.1f}" for i, share in enumerate(shares)
        ]
        paths.append("M" + " L".join(points) if points else "")
        at += len(row) + 1
    return paths, edges
