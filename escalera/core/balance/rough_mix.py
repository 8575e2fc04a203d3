"""A rough mix: levels, places and high-passes from what every layer is there for, as a list of single changes.

Rules, in this order: a layer's job says its level, its side and where it leaves the lows to others (`bench/mix_places.PLACES`, arrangers'
practice), in the section where it plays with most others; then levels move by half decibels, most firmly held for what leads and gives
the pulse, until the six bands come as near as they can to the style's spectrum (`bench/mix_balance`). What somebody sent, or
was printed, is left alone; changes too small to be heard are not listed.
"""

from __future__ import annotations

from dataclasses import replace

from escalera.core.balance.remedies import highpass_power, panned
from escalera.core.balance.section_heard import HeardSection
from escalera.core.balance.thirds import Levels
from escalera.core.bench.mix_balance import balancing
from escalera.core.bench.mix_places import PLACES, in_its_place
from escalera.core.bench.seats import Seat, seats
from escalera.core.document.lanes import is_frozen
from escalera.core.document.limits import MIN_LEVEL_DB
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.edit import Edit
from escalera.core.edits.layer_edits import SetControl
from escalera.core.energy.model import arranged
from escalera.core.reading.timeline import timeline
from escalera.lazy_dataclasses import dataclass

LEAST = {"level_db": 1.0, "pan": 0.08, "highpass_hz": 15.0}
SAID = {"level_db": "{:+.1f} dB", "pan": "{:+.2f}", "highpass_hz": "{:.0f} Hz"}
WHY = {
    "level_db": "as loud as its job asks, beside the others",
    "pan": "its side, opposite to what is like it",
    "highpass_hz": "what lies below belongs to others",
}
HIGHEST_DB, MOST_DB = 6.0, 6.0  # a rough mix corrects; where a layer stands further off, somebody meant it
SUPPORT_DB = 4.0  # that what supports lies under the first of its part
RIDE_LEAST, RIDE_MOST_DB = 1.0, 4.0


@dataclass(frozen=True, eq=False)
class RoughStep:
    """One change: a layer's parameter from one value to another, in all of the song or in a section; why; and what of the layer is heard by
    it in the section it was worked out for, in percent points (None where it does not play there)."""

    layer: Layer
    what: str
    before: float
    after: float
    why: str
    edit: Edit
    points: float | None = None

    @property
    def key(self) -> str:
        return f"{self.what}:{self.layer.id}" + (f":{self.edit.section_id}" if isinstance(self.edit, Treat) else "")

    def said(self, value: float) -> str:
        text = SAID[self.what].format(value).replace("-", "−")
        if self.what == "pan":
            return "middle" if abs(value) < 0.005 else f"{abs(100 * value):.0f} {'right' if value > 0 else 'left'}"
        return text.removeprefix("+")


def rough_mix(song: Song, heard: HeardSection | None = None) -> list[RoughStep]:
    """What a rough mix would change, layer by layer; where `heard` is given, with what it brings there."""
    if not song.sections:
        return []
    placed, rows = song, []
    for seat in seats(song):
        section = fullest(song, seat.layer)
        if section is None or seat.layer.sent_by or seat.part not in PLACES:
            continue
        put = in_its_place(placed, section, seat.layer.id)
        level = put.level_db - SUPPORT_DB * min(seat.rank, 2)
        kept = replace(
            seat.layer,
            level_db=round(min(seat.layer.level_db + MOST_DB, max(seat.layer.level_db - MOST_DB, level)), 1),
            pan=put.pan,
            highpass_hz=max(put.highpass_hz, seat.layer.highpass_hz),
        )
        placed.with_layer(kept)
        rows.append((seat, section))
    placed = _toward_the_style(placed, [seat for seat, _ in rows])
    return [step for seat, section in rows for step in _steps(song, seat, placed.layer_by_id[seat.layer.id], heard)]


def fullest(song: Song, layer: Layer) -> Section | None:
    """The section in which a layer plays together with most others."""
    mine = [s for s in song.sections if any(p.layer_id == layer.id for p in s.placements)]
    return max(mine, key=lambda s: len({p.layer_id for p in s.placements}), default=None)


def _toward_the_style(song: Song, row: list[Seat]) -> Song:
    """Levels moved a little, in the highest section, to where the bands lie as the style has them."""
    sections = arranged(song).sections
    highest = max(sections, key=lambda s: s.value).span.section
    span = timeline(song).span_of(highest.id)
    playing = {p.layer_id for p in highest.placements}
    there = [replace(s, layer=song.layer_by_id[s.layer.id]) for s in row if s.layer.id in playing]
    if not there:
        return song
    for layer_id, db in balancing(song, span, there).items():
        layer = song.layer_by_id[layer_id]
        song = song.with_layer(
            replace(layer, level_db=min(HIGHEST_DB, max(MIN_LEVEL_DB, round(layer.level_db + db, 1))))
        )
    return song


def _steps(song: Song, seat: Seat, put: Layer, heard: HeardSection | None) -> list[RoughStep]:
    found = []
    for what, least in LEAST.items():
        before, after = float(getattr(seat.layer, what)), float(getattr(put, what))
        if abs(after - before) < least or seat.layer.prints and is_frozen(what):
            continue
        why = (
            f"{seat.part}: "
            + {
                "level_db": "as loud as its job asks, beside the others",
                "pan": "its side, opposite to what is like it",
                "highpass_hz": "what lies below belongs to others",
            }[what]
        )
        points = _points(heard, seat.layer, what, before, after)
        found.append(RoughStep(seat.layer, what, before, after, why, SetControl(seat.layer.id, what, after), points))
    return found


def _points(heard: HeardSection | None, layer: Layer, what: str, before: float, after: float) -> float | None:
    mine = heard.layer(layer.id) if heard else None
    if heard is None or mine is None or mine.silent:
        return None
    share = heard.with_layer(layer.id, _changed(mine.levels, what, before, after)).share(layer.id)
    return 100.0 * (share - heard.hearing.shares[layer.id])


def _changed(levels: Levels, what: str, before: float, after: float) -> Levels:
    if what == "level_db":
        gain = 10.0 ** ((after - before) / 20.0)
        return levels.times(gain, gain)
    return panned(levels, before, after) if what == "pan" else levels.through(highpass_power(after))


def lead_rides(song: Song, sections: list[HeardSection], layer_id: int) -> list[RoughStep]:
    """A layer's level section by section, so that as much of it is heard everywhere as in the middle one: what leads is ridden through a song
    that grows about it. At most 4 dB either way."""
    there = [s for s in sections if (x := s.layer(layer_id)) is not None and not x.silent]
    layer = song.layer_by_id[layer_id]
    if len(there) < 2 or layer.sent_by:
        return []
    shares = sorted(s.hearing.shares[layer_id] for s in there)
    wanted = shares[len(shares) // 2]
    return [step for heard in there if (step := _ridden(song, heard, layer, wanted)) is not None]


def _ridden(song: Song, heard: HeardSection, layer: Layer, wanted: float) -> RoughStep | None:
    mine = heard.layer(layer.id)
    db = _ride(heard, mine.levels, layer.id, wanted) if mine else 0.0
    if mine is None or abs(db) < RIDE_LEAST:
        return None
    level = layer_in(song, song.section_by_id[heard.section_id], layer).level_db
    after, now = round(min(HIGHEST_DB, level + db), 1), heard.hearing.shares[layer.id]
    then = heard.with_layer(layer.id, _changed(mine.levels, "level_db", level, after)).share(layer.id)
    why = f"heard for {100 * now:.0f} % in {heard.name}, {100 * wanted:.0f} % in the middle section"
    return RoughStep(
        layer, "level_db", level, after, why, Treat(heard.section_id, layer.id, "level_db", after), 100 * (then - now)
    )


def _ride(heard: HeardSection, levels: Levels, layer_id: int, wanted: float) -> float:
    """The change of level in dB that brings what is heard of a layer to a share, in halves, at most 4."""
    tries = [0.5 * n for n in range(round(-2 * RIDE_MOST_DB), round(2 * RIDE_MOST_DB) + 1)]

    def off(db: float) -> tuple[float, float]:
        gain = 10.0 ** (db / 20.0)
        return abs(heard.with_layer(layer_id, levels.times(gain, gain)).share(layer_id) - wanted), abs(db)

    return min(tries, key=off)
