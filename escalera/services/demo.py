"""Songs from recipes: demo songs are data, made with the same edits that a user makes.

A recipe names layers with their sound and settings, and for every section what each layer plays, phrase by
phrase. A cell is '.', or a pattern's key from the library with marks after slashes:
  name/open:400-8000   low-pass from … to … hertz      name/fade:-20..0   level from … to … dB
  name/keep:0.5        thinned to a share               name/up:12         transposed by semitones
'x' is the layer's first pattern; a '*' at the end repeats the cell before it to the section's end.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.song.document import Song
from escalera.core.song.edits.layers import AddLayer, SetControl
from escalera.core.song.edits.sections import AddSection, SetPhrases, SetTarget, ShiftSection
from escalera.core.song.edits.tiles import PlaceNew, Vary
from escalera.core.song.edits.whole import SetChords, SetMaster, SetSchool
from escalera.core.theory.keys import parse_key
from escalera.core.time.metre import parse_metre
from escalera.services import library
from escalera.services.studio import Studio

DEMO_FILES = ("harbour_stairs.json", "paper_engines.json")


def song_from_recipe(recipe: dict[str, Any]) -> Song:
    """Build a song. Raises EditError or KeyError where the recipe is wrong."""
    song = Song(title=recipe["title"], tempo_bpm=recipe["tempo_bpm"], metre=parse_metre(recipe.get("metre", "4/4")),
                key=parse_key(recipe["key"]), notes=recipe.get("notes", ""))  # fmt: skip
    song = SetSchool(recipe["school"]).apply(song)
    song = SetChords(recipe["chords"]).apply(song)
    song = SetMaster(recipe.get("master_gain_db", 0.0)).apply(song)
    layers: dict[str, tuple[int, str]] = {}
    for row in recipe["layers"]:
        song = _add_layer(song, row)
        layers[row["name"]] = (next(x.id for x in song.layers if x.name == row["name"]), row["pattern"])
    for row in recipe["sections"]:
        song = _add_section(song, row)
        for name, cells in row["plays"].items():
            song = _place(song, song.sections[-1].id, *layers[name], cells)
    return song


def _add_layer(song: Song, row: dict[str, Any]) -> Song:
    pattern = library.patterns()[row["pattern"]]
    song = AddLayer(row["sound"], row["name"], row.get("family", ""), row.get("job", ""), pattern.name,
                    pattern.pattern.length_ticks, pattern.pattern.to_list()).apply(song)  # fmt: skip
    layer_id = next(x.id for x in song.layers if x.name == row["name"])
    for control, value in row.get("set", {}).items():
        song = SetControl(layer_id, control, value).apply(song)
    return song


def _add_section(song: Song, row: dict[str, Any]) -> Song:
    song = AddSection(row["name"], row.get("role", ""), row["bars"]).apply(song)
    section_id = song.sections[-1].id
    song = SetTarget(section_id, *row["target"]).apply(song)
    if "phrases" in row:
        song = SetPhrases(section_id, row["phrases"]).apply(song)
    if "chords" in row:
        song = SetChords(row["chords"], section_id).apply(song)
    if "shift" in row:
        song = ShiftSection(section_id, row["shift"]).apply(song)
    return song


def _place(song: Song, section_id: int, layer_id: int, first: str, cells: str) -> Song:
    count, names = len(song.section_by_id[section_id].phrases), cells.split()
    if names[-1] == "*":
        names = names[:-1] + [names[-2]] * (count - len(names) + 1)
    for phrase, cell in enumerate(names[:count]):
        if cell == ".":
            continue
        key, *marks = cell.split("/")
        while marks and ":" not in marks[0]:  # drum keys contain a slash of their own
            key += "/" + marks.pop(0)
        pattern = library.patterns()[first if key == "x" else key]
        song = PlaceNew(
            section_id, layer_id, pattern.name, pattern.pattern.length_ticks, pattern.pattern.to_list(), phrase
        ).apply(song)
        if marks:
            song = replace(Vary(section_id, layer_id, phrase), **_marks(marks)).apply(song)
    return song


def _marks(marks: list[str]) -> dict[str, Any]:
    fields: dict[str, Any] = {}
    for mark in marks:
        name, _, value = mark.partition(":")
        if name == "open":
            fields["lowpass_start_hz"], fields["lowpass_end_hz"] = (float(v) for v in value.split("-"))
        elif name == "fade":
            fields["level_start_db"], fields["level_end_db"] = (float(v) for v in value.split(".."))
        elif name == "keep":
            fields["keep"] = float(value)
        elif name == "up":
            fields["transpose_semitones"] = int(value)
        else:
            raise KeyError(mark)
    return fields


def demo_songs() -> list[Song]:
    return [song_from_recipe(library.data(name)) for name in DEMO_FILES]


def seed_demo(studio: Studio) -> list[int]:
    """Put the demo songs on an empty shelf; a shelf with songs (or a filled bin) is left as it is."""
    if studio.shelf() or studio.bin_count():
        return []
    return [studio.add_song(song, "Demo song") for song in reversed(demo_songs())]
