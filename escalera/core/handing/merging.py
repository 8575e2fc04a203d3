"""A project that came back, merged part by part: what was changed there, what here, and what in both, against the state it began from.

Ids below the common state's `next_id` name the same thing on both sides; what was made since has an id of its own on either.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from escalera.core.document.devices import Curve
from escalera.core.document.fields import specs
from escalera.core.document.limits import MAX_SECTIONS
from escalera.core.document.shaping import tidied
from escalera.core.document.song import Ids, Layer, Placement, Section, Song
from escalera.core.edits.body_edits import unparked, with_parked
from escalera.core.edits.layer_edits import RemoveLayer
from escalera.core.edits.recording_edits import with_sample
from escalera.core.edits.section_edits import RemoveSection
from escalera.core.ideas.placement import with_copied_layer
from escalera.core.moves.differences import section_changes
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

THEIRS, OPTION, MINE = "theirs", "option", "mine"
# fields that are no choice of anybody: what holds the parts, what is counted or kept for the program
PARTS_OF_SONG = ("layers", "sections", "patterns", "samples", "next_id", "grooves", "takes", "accepted", "scale", "tune", "chords_read")  # fmt: skip
PARTS_OF_LAYER = ("id", "pattern_id", "prints", "seed")
KINSHIP = (
    0.5  # share of sections and layers that must be the same ones, by id and name, for two projects to be of one song
)


@dataclass(frozen=True, slots=True)
class Difference:
    """A part that came back otherwise than it was sent: `key` names it, `state` says whether it was changed here too ("both")."""

    key: str  # section:12, layer:7, song:tempo_bpm
    name: str
    state: str  # changed (only there), both (conflict), new, gone
    what: tuple[str, ...] = ()
    ways: tuple[str, ...] = (MINE, THEIRS)

    @property
    def usual(self) -> str:
        """What is chosen where nobody chooses: theirs where only they changed it, else one's own stays."""
        return THEIRS if self.state in ("changed", "new") else OPTION if self.ways[-1] == OPTION else MINE


def kinship(one: Song, other: Song) -> float:
    """Share of sections and layers that both have under the same id and name, 0 to 1."""
    rows = [{("section", s.id, s.name) for s in x.sections} | {("layer", y.id, y.name) for y in x.layers} for x in (one, other)]  # fmt: skip
    return len(rows[0] & rows[1]) / max(1, min(len(rows[0]), len(rows[1])))


def distance(one: Song, other: Song) -> int:
    """How many parts of two states of one song differ."""
    rows = [_signatures(x) for x in (one, other)]
    return sum(rows[0].get(k) != rows[1].get(k) for k in rows[0].keys() | rows[1].keys())


def nearest(states: Iterable[tuple[int, Song]], theirs: Song) -> tuple[int, Song] | None:
    """The state that what came back began from: the one from which it differs least. Of equals the oldest (states come newest first): where a
    part was changed on both sides, later states are as far from theirs, and would hide that."""
    rows = [(distance(song, theirs), song, name) for name, song in states]
    best = min(range(len(rows)), key=lambda i: (rows[i][0], -i), default=None)
    return None if best is None else (rows[best][2], rows[best][1])


def differences(base: Song, mine: Song, theirs: Song) -> list[Difference]:
    """What came back otherwise than the common state has it: sections in their order, layers, the song as a whole."""
    a, m, t = (_signatures(x) for x in (base, mine, theirs))
    found = []
    for key in (*t, *(k for k in a if k not in t)):
        if a.get(key) == t.get(key) or m.get(key) == t.get(key) or (key not in t and key not in m):
            continue
        if key.startswith("layer:") and (key not in a or key not in m):
            continue  # a layer that is new, or gone here, comes with the sections that play it
        state = "gone" if key not in t else "new" if key not in a else "changed" if m.get(key) == a[key] else "both"
        ways = (MINE, THEIRS, OPTION) if state == "both" and key.startswith("section:") and key in m else (MINE, THEIRS)
        found.append(Difference(key, _name(key, theirs, base), state, tuple(_what(key, base, theirs)), ways))
    return found


def _signatures(song: Song) -> dict[str, Any]:
    """Every part under its key, as something that can be compared without pattern ids."""
    found: dict[str, Any] = {f"section:{s.id}": _body(song, s) for s in song.sections}
    found |= {f"layer:{x.id}": tuple(getattr(x, f) for f in specs(Layer) if f not in PARTS_OF_LAYER) for x in song.layers}  # fmt: skip
    found |= {f"song:{f}": getattr(song, f) for f in specs(Song) if f not in PARTS_OF_SONG}
    return found


def _body(song: Song, section: Section) -> tuple[object, ...]:
    notes = song.pattern_by_id
    placed = sorted(
        (p.layer_id, p.start_ticks, p.end_ticks, p.offset_ticks, notes[p.pattern_id].pattern.content_hash, repr(p.variation))
        for p in section.placements
    )  # fmt: skip
    return replace(unparked(section), placements=(), guessed=False), tuple(placed)


def _name(key: str, theirs: Song, base: Song) -> str:
    kind, _, rest = key.partition(":")
    if kind == "song":
        return specs(Song)[rest].label.lower()
    rows = [song.section_by_id if kind == "section" else song.layer_by_id for song in (theirs, base)]
    return next(row[int(rest)].name for row in rows if int(rest) in row)


def _what(key: str, base: Song, theirs: Song) -> Iterator[str]:
    kind, _, rest = key.partition(":")
    if kind == "section":
        name = _name(key, theirs, base)
        for change in _changes(base, theirs):
            if change.name == name:
                yield from change.what or ("plays otherwise",)
    elif kind == "layer" and int(rest) in base.layer_by_id and int(rest) in theirs.layer_by_id:
        was, has = base.layer_by_id[int(rest)], theirs.layer_by_id[int(rest)]
        yield from (spec.label.lower() for f, spec in specs(Layer).items() if f not in PARTS_OF_LAYER and getattr(was, f) != getattr(has, f))  # fmt: skip
    elif kind == "song":
        was, has = getattr(base, rest), getattr(theirs, rest)
        if isinstance(was, str | int | float) and max(len(str(was)), len(str(has))) < 40:
            yield f"{was} → {has}"


def _changes(base: Song, theirs: Song) -> list[Any]:
    kept = base.memo.get(("changes", id(theirs)))
    if kept is None:
        kept = base.memo[("changes", id(theirs))] = section_changes(base, theirs)
    return kept


@dataclass(frozen=True)
class TakeMerged:
    """Take parts of a project that came back, as chosen by key: mine, theirs, or (a section) theirs as an option beside one's own."""

    base: Song
    theirs: Song
    chosen: Mapping[str, str]
    who: str = ""

    def apply(self, song: Song) -> Song:
        rows = [d for d in differences(self.base, song, self.theirs) if self.chosen.get(d.key, MINE) != MINE]
        if not rows:
            raise EditError("Nothing of it was chosen, so nothing was changed. Choose theirs where you want it.")
        taken = _Taken(song, self.base, self.theirs, self.who)
        for row in sorted(rows, key=lambda d: (d.state == "gone", d.key.startswith("section:"))):
            taken.take(row, self.chosen[row.key])
        result = validate(tidied(taken.song))
        if len(result.sections) > MAX_SECTIONS:
            raise EditError(
                f"The song would have {len(result.sections)} sections; at most {MAX_SECTIONS} fit. Take fewer of them."
            )
        return result

    def summary(self, song: Song) -> str:
        names = [d.name for d in differences(self.base, song, self.theirs) if self.chosen.get(d.key, MINE) != MINE]
        return f"Taken of what came back: {', '.join(names)}"[:300]


class _Taken:
    """A song into which parts of another state are taken, one after another."""

    def __init__(self, song: Song, base: Song, theirs: Song, who: str):
        self.song, self.base, self.theirs, self.who = song, base, theirs, who
        self.layers: dict[int, int] = {}

    def take(self, row: Difference, way: str) -> None:
        kind, _, rest = row.key.partition(":")
        if kind == "song":
            taken = self._under_free_ids(getattr(self.theirs, rest))
            self.song = replace(self.song, **{rest: taken})
        elif row.state == "gone":
            edit = RemoveSection(int(rest)) if kind == "section" else RemoveLayer(int(rest))
            self.song = edit.apply(self.song)
        elif kind == "layer":
            self._layer(int(rest))
        else:
            self._section(self.theirs.section_by_id[int(rest)], way)

    def _under_free_ids(self, value: Any) -> Any:
        """Parts of theirs (remarks, people, effects) with those that are new there under ids that are free here."""
        if isinstance(value, tuple):
            return tuple(self._under_free_ids(part) for part in value)
        if getattr(value, "devices", ()):
            value = replace(value, devices=self._under_free_ids(value.devices))
        if getattr(value, "id", 0) >= self.base.next_id:
            value = replace(value, id=self.song.next_id)
            self.song = replace(self.song, next_id=self.song.next_id + 1)
        return value

    def _layer(self, layer_id: int) -> None:
        was, has, mine = (x.layer_by_id.get(layer_id) for x in (self.base, self.theirs, self.song))
        if was is None or has is None or mine is None:
            raise EditError("That layer is not in the song any more. Take a section that plays it: the layer comes along.")  # fmt: skip
        changed = {f: getattr(has, f) for f in specs(Layer) if f not in PARTS_OF_LAYER and getattr(was, f) != getattr(has, f)}  # fmt: skip
        self._samples_of(has)
        self.song = self.song.with_layer(replace(mine, **changed))

    def _samples_of(self, layer: Layer) -> None:
        coming = frozenset(c.sample for c in layer.recordings)
        for sample in self.theirs.samples:
            if sample.content in coming and sample.content not in self.song.sample_by_content:
                self.song = with_sample(self.song, sample, coming)

    def _own(self, layer_id: int) -> int:
        """The song's id of a layer of theirs; what is new, or gone here, is copied in."""
        if layer_id not in self.layers:
            layer = self.theirs.layer_by_id[layer_id]
            if layer_id < self.base.next_id and layer_id in self.song.layer_by_id:
                self.layers[layer_id] = layer_id
            else:
                self._samples_of(layer)
                self.song, self.layers[layer_id] = with_copied_layer(self.song, layer)
        return self.layers[layer_id]

    def _section(self, section: Section, way: str) -> None:
        there = self.song.section_by_id.get(section.id) if section.id < self.base.next_id else None
        body = self._in_own_ids(section, there.id if there else 0)
        if there is None:
            before = [s.id for s in self.theirs.sections[: self.theirs.index_of(section.id)]]
            known = {s.id for s in self.song.sections}
            at = next((self.song.index_of(i) + 1 for i in reversed(before) if i in known), 0)
            self.song = replace(self.song, sections=(*self.song.sections[:at], body, *self.song.sections[at:]))
        elif way == OPTION:
            self.song = with_parked(self.song, there.id, body, "came back", self.who, "changed here and there")
        else:
            self.song = self.song.with_section(replace(body, parked=there.parked))

    def _in_own_ids(self, section: Section, own_id: int) -> Section:
        placed = []
        for p in section.placements:
            layer_id, entry = self._own(p.layer_id), self.theirs.pattern_by_id[p.pattern_id]
            mine = self.song.pattern_by_id.get(entry.id)
            if mine is not None and mine.pattern == entry.pattern:
                pattern_id = mine.id
            else:
                self.song, pattern_id = add_pattern(self.song, entry.name, entry.family, entry.pattern)
            placed.append(replace(p, layer_id=layer_id, pattern_id=pattern_id))
        ids = Ids(self.song.next_id)
        body = self._renamed(section, own_id or ids(), [replace(p, id=ids()) for p in placed], ids)
        self.song = replace(self.song, next_id=ids.next_id)
        return body

    def _renamed(self, section: Section, own_id: int, placed: list[Placement], ids: Ids) -> Section:
        def own(layer_id: int) -> int:
            there = layer_id < self.base.next_id and layer_id in self.song.layer_by_id
            return self.layers.get(layer_id, layer_id if there else 0)

        return replace(
            unparked(section),
            id=own_id,
            placements=ordered(placed),
            curves=tuple(self._curve(c) for c in section.curves),
            throws=tuple(replace(t, layer_id=own(t.layer_id)) for t in section.throws),
            treatments=tuple(replace(t, layer_id=own(t.layer_id)) for t in section.treatments),
            swings=tuple(replace(s, layer_id=own(s.layer_id)) for s in section.swings if own(s.layer_id) or not s.layer_id),
            devices=tuple(replace(d, id=ids(), layer_id=own(d.layer_id)) for d in section.devices),
            build=section.build and replace(
                section.build, roll_layer_id=own(section.build.roll_layer_id),
                keeps=tuple(filter(None, map(own, section.build.keeps))), shows=tuple(filter(None, map(own, section.build.shows))),
            ),
        )  # fmt: skip

    def _curve(self, curve: Curve) -> Curve:
        kind, _, rest = curve.lane.partition(".")
        number, _, parameter = rest.partition(".")
        if kind != "layer" or int(number) not in self.layers:
            return curve
        return replace(curve, lane=f"layer.{self.layers[int(number)]}.{parameter}")


__all__ = ["MINE", "OPTION", "THEIRS", "Difference", "TakeMerged", "differences", "kinship", "nearest"]
