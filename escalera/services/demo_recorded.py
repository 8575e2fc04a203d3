"""The demo song of recordings: a new song whose kit and air are played by the program's own samples, with the same edits that a user makes."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

from escalera.core.document.song import Placement, Section, Song
from escalera.core.edits.judgement_edits import SetReason
from escalera.core.edits.layer_edits import RemoveLayer
from escalera.core.edits.recording_edits import LaySample, MendClip, SliceClip
from escalera.core.edits.slice_edits import ChangeSlice
from escalera.core.reading.placements import ordered
from escalera.core.reading.timeline import section_bar_ticks
from escalera.services import library
from escalera.services.demo import put_once
from escalera.services.new_song import new_song
from escalera.services.own_samples import own_samples
from escalera.services.samples import Samples
from escalera.services.studio import Studio

RECIPE = "tin_quay.json"


def seed_recorded(studio: Studio) -> int:
    """Put the demo song of recordings on the shelf, unless it is there; how many songs were put there."""
    return put_once(studio, library.data(RECIPE)["title"], lambda: recorded_song(studio.samples))


def recorded_song(samples: Samples) -> Song:
    """The song, and its samples in the library: they are made where they are not there yet."""
    recipe = library.data(RECIPE)
    song = new_song(recipe["title"], **recipe["new"])
    for layer in [x for x in song.layers if x.family in recipe["without"]]:
        song = RemoveLayer(layer.id).apply(song)
    ids = _ids(samples, [row["name"] for row in recipe["samples"]])
    for row in recipe["samples"]:
        song = _laid(song, row, asdict(samples.sample(ids[row["name"]])))
    return replace(song, notes=recipe["notes"])


def _ids(samples: Samples, names: list[str]) -> dict[str, int]:
    samples.add_own(only=frozenset(names))
    found = {c.name: c.id for c in samples.cards()}
    assert set(names) <= {s.name for s in own_samples()}
    return {name: found[name] for name in names}


def _laid(song: Song, row: dict[str, Any], sample: dict[str, Any]) -> Song:
    places = [s for s in song.sections if s.name.rstrip(" 0123456789") in row["sections"]]
    song = LaySample(sample, places[0].id, row.get("use", "loop"), row["family"]).apply(song)
    layer = max((x for x in song.layers if x.clips), key=lambda x: x.id)
    if "mend" in row:
        song = MendClip(layer.id, 0, row["mend"]).apply(song)
    if "slice" in row:
        song = SliceClip(layer.id, 0, row["slice"]).apply(song)
        index, change = row["change"]
        song = ChangeSlice(layer.id, layer.pattern_id, index, change).apply(song)
    for section in places[1:]:
        song = _also_in(song, song.section_by_id[section.id], layer.id, layer.pattern_id)
    level = song.layer_by_id[layer.id].level_db + row.get("level_db", 0.0)
    song = song.with_layer(replace(song.layer_by_id[layer.id], level_db=round(level, 1)))
    return SetReason(layer.id, row["reason"]).apply(song)


def _also_in(song: Song, section: Section, layer_id: int, pattern_id: int) -> Song:
    end = section_bar_ticks(section, song.metre)[-1]
    placement = Placement(song.next_id, layer_id, pattern_id, 0, end)
    section = replace(section, placements=ordered([*section.placements, placement]))
    return replace(song.with_section(section), next_id=song.next_id + 1)
