"""Bringing an idea back: a pattern on a layer that suits it, a section beside one that stands there or after it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from escalera.core.document.devices import Curve
from escalera.core.document.limits import MAX_BARS, MAX_LAYERS, MAX_NOTES, MAX_SECTIONS
from escalera.core.document.names import next_name
from escalera.core.document.shaping import tidied
from escalera.core.document.song import Ids, Layer, Section, Song
from escalera.core.edits.body_edits import with_parked
from escalera.core.edits.edit import one_of, section_of
from escalera.core.edits.harmony_edits import SetKey
from escalera.core.edits.layer_edits import free_layer_name, seed_of
from escalera.core.edits.tile_edits import PlaceNew
from escalera.core.reading.placements import add_pattern
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

PLACES = {
    "layer": "on a layer",
    "option": "as an option",
    "section": "as a section after",
}  # and what is said of a section


@dataclass(frozen=True)
class PlaceIdea:
    """Bring a small song back into a song: `place` is one of PLACES. Raises EditError where there is no room."""

    section_id: int
    idea: Song
    place: str

    def apply(self, song: Song) -> Song:
        one_of(self.place, list(PLACES), "place")
        section = section_of(song, self.section_id)
        idea = _in_key(self.idea, song)
        if self.place == "layer":
            return _pattern(song, section, idea)
        song, body = _brought(song, idea)
        if self.place == "option":
            return tidied(with_parked(song, section.id, body, idea.title))
        return _after(
            song, section, replace(body, name=next_name(song, body.name) if _taken(song, body.name) else body.name)
        )

    def summary(self, song: Song) -> str:
        where = section_of(song, self.section_id).name
        return f"Idea {self.idea.title} {PLACES[self.place]}: {where}"[:300]


def _taken(song: Song, name: str) -> bool:
    return any(s.name == name for s in song.sections)


def _in_key(idea: Song, song: Song) -> Song:
    """The idea moved to the song's key; major and minor keep their own chords."""
    return SetKey(key_text(song.key)).apply(idea) if idea.key.mode == song.key.mode else idea


def room_for(song: Song, section: Section, idea: Song) -> tuple[Layer | None, list[int]]:
    """The layer of the song that would play an idea of one pattern, or None for a new one; and the phrases that are bare."""
    wanted = idea.layers[0]
    phrases = timeline(song).span_of(section.id).phrase_ticks()
    suits = [x for x in _free(song) if x.family == wanted.family and x.sound.is_drum == wanted.sound.is_drum]
    if wanted.sound.is_drum:
        suits = [x for x in suits if x.sound.drum == wanted.sound.drum]
    for layer in sorted(suits, key=lambda x: (x.sound_key != wanted.sound_key, x.name != wanted.name)):
        bare = [
            i
            for i, (low, high) in enumerate(phrases)
            if not any(
                p.layer_id == layer.id and p.start_ticks < high and p.end_ticks > low for p in section.placements
            )
        ]
        if bare:
            return layer, bare
    return None, list(range(len(phrases)))


def _free(song: Song) -> list[Layer]:
    """Layers that may play something new: neither muted nor held as they were sent."""
    return [x for x in song.layers if not x.muted and not x.sent_by]


def _pattern(song: Song, section: Section, idea: Song) -> Song:
    if len(idea.layers) != 1:
        raise EditError(
            f"{idea.title} is a whole section, so it does not go on one layer. Take it as an option, or as a section."
        )
    layer, bare = room_for(song, section, idea)
    if layer is None:
        song, made = with_copied_layer(song, idea.layers[0])
        layer = song.layer_by_id[made]
    entry, variation = idea.patterns[0], idea.sections[0].placements[0].variation
    for phrase in bare:
        song = PlaceNew(
            section.id, layer.id, entry.name, entry.pattern.length_ticks, entry.pattern.to_list(), phrase
        ).apply(song)
    here = song.section_by_id[section.id]
    placed = tuple(
        replace(p, variation=variation) if _fresh(p.id, section) and p.layer_id == layer.id else p
        for p in here.placements
    )
    return song.with_section(replace(here, placements=placed))


def _fresh(placement_id: int, before: Section) -> bool:
    return placement_id not in {p.id for p in before.placements}


def with_copied_layer(song: Song, layer: Layer) -> tuple[Song, int]:
    """The song with a copy of a layer from elsewhere, and the copy's id."""
    if len(song.layers) >= MAX_LAYERS:
        raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
    ids, name = Ids(song.next_id), free_layer_name(song, layer.name)
    made = replace(
        layer,
        id=ids(),
        name=name,
        seed=seed_of(name, {x.seed for x in song.layers}),
        pattern_id=0,
        duck_by=min(layer.duck_by, 0),
        prints=(),
        devices=tuple(replace(d, id=ids()) for d in layer.devices),
        stack=tuple(replace(p, id=ids()) for p in layer.stack),
    )
    return replace(song, layers=(*song.layers, made), next_id=ids.next_id), made.id


def _brought(song: Song, idea: Song) -> tuple[Song, Section]:
    """The song with layers and patterns that a section needs, and the section in the song's own ids."""
    section, layers, patterns = idea.sections[0], dict[int, int](), dict[int, int]()
    for layer in idea.layers:
        same = next(
            (x for x in _free(song) if x.sound_key == layer.sound_key and x.id not in layers.values()),
            None,
        )
        if same is None:
            song, layers[layer.id] = with_copied_layer(song, layer)
        else:
            layers[layer.id] = same.id
    if song.note_count + idea.note_count > MAX_NOTES:
        raise EditError(f"The song would have more than {MAX_NOTES:,} notes. Remove patterns that play nowhere.")
    for entry in idea.patterns:
        song, patterns[entry.id] = add_pattern(song, entry.name, entry.family, entry.pattern)
    return _in_own_ids(song, idea, section, layers, patterns)


def _in_own_ids(
    song: Song, idea: Song, section: Section, layers: dict[int, int], patterns: dict[int, int]
) -> tuple[Song, Section]:
    ids = Ids(song.next_id)
    placed = tuple(
        replace(p, id=ids(), layer_id=layers[p.layer_id], pattern_id=patterns[p.pattern_id]) for p in section.placements
    )
    metres = (
        section.metre_changes
        if idea.metre == song.metre or section.metre_changes[:1] == ((0, idea.metre),)
        else ((0, idea.metre), *section.metre_changes)
    )
    body = replace(
        section,
        id=ids(),
        placements=tuple(sorted(placed, key=lambda p: (p.layer_id, p.start_ticks))),
        metre_changes=metres,
        tempo_changes=(),
        curves=tuple(_curves(section, layers)),
        throws=tuple(replace(t, layer_id=layers[t.layer_id]) for t in section.throws),
        devices=tuple(replace(d, id=ids(), layer_id=layers.get(d.layer_id, 0)) for d in section.devices),
        build=None,
        treatments=tuple(replace(t, layer_id=layers[t.layer_id]) for t in section.treatments if "fx." not in t.lane),
        swings=tuple(
            replace(s, layer_id=layers.get(s.layer_id, 0))
            for s in section.swings
            if s.layer_id in layers or not s.layer_id
        ),
    )
    return replace(song, next_id=ids.next_id), body


def _curves(section: Section, layers: dict[int, int]) -> Iterator[Curve]:
    """Curves of layers and of the mix; effects have ids of their own, so what moves in them stays behind."""
    for curve in section.curves:
        owner, _, rest = curve.lane.partition(".")
        number, _, parameter = rest.partition(".")
        if ".fx." in curve.lane:
            continue
        if owner != "layer":
            yield curve
        elif int(number) in layers:
            yield replace(curve, lane=f"layer.{layers[int(number)]}.{parameter}")


def _after(song: Song, section: Section, body: Section) -> Song:
    if len(song.sections) >= MAX_SECTIONS or song.bars + body.bars > MAX_BARS:
        raise EditError(
            f"There is no room: a song has at most {MAX_SECTIONS} sections and {MAX_BARS} bars. Shorten it first."
        )
    at = song.index_of(section.id) + 1
    return tidied(replace(song, sections=(*song.sections[:at], body, *song.sections[at:])))
