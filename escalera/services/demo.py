"""Songs from recipes: demo songs are data, made with the same edits that a user makes.

A recipe names layers with their sound and settings, and for every section what each layer plays, phrase by
phrase. A cell is '.', or a pattern's key from the library with marks after slashes:
  name/open:400-8000   low-pass from … to … hertz      name/fade:-20..0   level from … to … dB
  name/keep:0.5        thinned to a share               name/up:12         transposed by semitones
A layer may say `settings` of its sound, `effects` in order as [effect, {parameter: value}], a `stack` as
[sound, {level_db, offset_ms, …}], `duck_by` a layer's name, a `reason`, a `recipe` note and why it is `aside`; the song `buses` and `master`
chains and `returns`, whether its scale is to `fit` it, `meant` findings (check:section) with reasons, said `options` of sections, and `parked` ideas for
the list of ideas; a section `curves` as [owner, parameter, points in beats] and `throws` as
[layer, first beat, beats, space, level]. 'x' is the layer's first pattern; a '*' at the end repeats the cell before it to the section's end.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from escalera.core.checks import facts_text, run_checks
from escalera.core.commands.form_reading import read_command
from escalera.core.document.lanes import devices_of, read_owner
from escalera.core.document.song import EVERY_BEAT, Song
from escalera.core.edits.curve_edits import AddThrow, SetCurve, Treat
from escalera.core.edits.harmony_edits import SetChords, SetVoicing
from escalera.core.edits.judgement_edits import AcceptFinding, SetAside, SetReason
from escalera.core.edits.layer_edits import AddLayer, SetControl
from escalera.core.edits.section_edits import AddSection, SetPhrases, ShiftSection
from escalera.core.edits.song_edits import SetMaster, SetScale, SetSchool
from escalera.core.edits.sound_edits import AddEffect, AddStack, SetDuckBy, SetRecipe, SetStack, SetValue
from escalera.core.edits.target_edits import SetTarget
from escalera.core.edits.tile_edits import PlaceNew, Vary
from escalera.core.energy.explain import fitted_scale
from escalera.core.energy.model import arranged
from escalera.core.ideas import EXAMPLE, cut_pattern, cut_section
from escalera.core.moves.option_text import AddOptions
from escalera.core.theory.keys import parse_key
from escalera.core.time.metre import parse_metre
from escalera.services import library
from escalera.services.studio import Studio

Layers = dict[str, tuple[int, str]]  # by name: id and first pattern
DEMO_FILES = ("harbour_stairs.json", "paper_engines.json")


def song_from_recipe(recipe: dict[str, Any]) -> Song:
    """Build a song. Raises EditError or KeyError where the recipe is wrong."""
    song = Song(
        title=recipe["title"],
        tempo_bpm=recipe["tempo_bpm"],
        metre=parse_metre(recipe.get("metre", "4/4")),
        key=parse_key(recipe["key"]),
        notes=recipe.get("notes", ""),
    )
    song = SetSchool(recipe["school"]).apply(song)
    song = SetChords(recipe["chords"]).apply(song)
    song = SetMaster(recipe.get("master_gain_db", 0.0)).apply(song)
    layers: Layers = {}
    for row in recipe["layers"]:
        song = _add_layer(song, row)
        layers[row["name"]] = (next(x.id for x in song.layers if x.name == row["name"]), row["pattern"])
    song = _add_mix(song, recipe)
    for row in recipe["layers"]:
        if "duck_by" in row:
            by = EVERY_BEAT if row["duck_by"] == "beat" else layers[row["duck_by"]][0]
            song = SetDuckBy(layers[row["name"]][0], by).apply(song)
    for row in recipe["sections"]:
        song = _played(_add_section(song, row), row, layers)
    song, ids = _carried(song, recipe["sections"], layers), {s.name: s.id for s in song.sections}
    if recipe.get("fit"):
        song = SetScale(*fitted_scale(arranged(song))).apply(song)
    song = _meant(song, recipe.get("meant", {}))
    for name, text, who in recipe.get("options", ()):
        song = AddOptions(ids[name], text, who).apply(song)
    return song


def _played(song: Song, row: dict[str, Any], layers: Layers) -> Song:
    """The song with what its last section plays, and how it is shaped."""
    section_id = song.sections[-1].id
    for name, cells in row["plays"].items():
        song = _place(song, section_id, *layers[name], cells)
    for owner, parameter, points in row.get("curves", ()):
        lane = f"{_owner(owner, layers)}.{_parameter(song, _owner(owner, layers), parameter)}"
        song = SetCurve(section_id, lane, [[960 * beat, value, shape] for beat, value, shape in points]).apply(song)
    for name, beat, beats, to, level_db in row.get("throws", ()):
        start = round(960 * beat)
        song = AddThrow(section_id, layers[name][0], start, start + round(960 * beats), to, level_db).apply(song)
    for name, lane, value in row.get("treats", ()):
        song = Treat(section_id, layers[name][0], lane, value).apply(song)
    return song


def _carried(song: Song, rows: list[dict[str, Any]], layers: Layers) -> Song:
    """What carries the joins into sections: devices with their places in words, and builds."""
    for section, row in zip(song.sections, rows):
        for kind, more in row.get("into", ()):
            fields = {"kind": "add_device", "section_id": str(section.id), "device": kind}
            fields |= {key: str(value) for key, value in more.items() if key in ("start", "length")}
            fields |= {"layer_id": str(layers[more["layer"]][0])} if "layer" in more else {}
            fields |= {f"settings.{key}": str(value) for key, value in more.get("settings", {}).items()}
            song = read_command(fields, song).apply(song)
        if "build" in row:
            build = {key: str(value) for key, value in row["build"].items()}
            for key in ("keeps", "shows"):
                build[key] = json.dumps([layers[name][0] for name in row["build"].get(key, ())])
            song = read_command({"kind": "set_build", "section_id": str(section.id), **build}, song).apply(song)
    return song


def _meant(song: Song, reasons: dict[str, str]) -> Song:
    """Findings accepted with their reasons. Raises KeyError for one that is not there."""
    names = {s.id: s.name for s in song.sections}
    found = {":".join((f.check, *(names[i] for i in f.place))): f for f in run_checks(song)}
    for key, reason in reasons.items():
        song = AcceptFinding(found[key].key, reason, facts_text(found[key])).apply(song)
    return song


def _owner(owner: str, layers: Layers) -> str:
    return f"layer.{layers[owner][0]}" if owner in layers else owner


def _parameter(song: Song, owner: str, parameter: str) -> str:
    """'low-pass:cutoff_hz' is the cutoff of the owner's first low-pass; anything else is itself."""
    effect, _, key = parameter.partition(":")
    if not key:
        return parameter
    device = next(d for d in devices_of(song, read_owner(owner, song)) if d.key == effect)
    return f"fx.{device.id}.{key}"


def _add_chain(song: Song, owner: str, chain: list[Any]) -> Song:
    for effect, values in chain:
        device_id = song.next_id
        song = AddEffect(owner, effect).apply(song)
        for key, value in values.items():
            song = SetValue(f"{owner}.fx.{device_id}.{key}", value).apply(song)
    return song


def _add_mix(song: Song, recipe: dict[str, Any]) -> Song:
    for family, chain in recipe.get("buses", {}).items():
        song = _add_chain(song, f"bus.{family.replace(' ', '-')}", chain)
    song = _add_chain(song, "master", recipe.get("master", []))
    for key, values in recipe.get("returns", {}).items():
        for parameter, value in values.items():
            song = SetValue(f"return.{key}.{parameter}", value).apply(song)
    return song


def _add_layer(song: Song, row: dict[str, Any]) -> Song:
    pattern = library.patterns()[row["pattern"]]
    song = AddLayer(
        row["sound"],
        row["name"],
        row.get("family", ""),
        row.get("job", ""),
        pattern.name,
        pattern.pattern.length_ticks,
        pattern.pattern.to_list(),
    ).apply(song)
    layer_id = next(x.id for x in song.layers if x.name == row["name"])
    for part, value in row.get("voicing", {}).items():
        song = SetVoicing(layer_id, part, value).apply(song)
    for control, value in row.get("set", {}).items():
        song = SetControl(layer_id, control, value).apply(song)
    for key, value in row.get("settings", {}).items():
        song = SetValue(f"layer.{layer_id}.sound.{key}", value).apply(song)
    song = _add_chain(song, f"layer.{layer_id}", row.get("effects", []))
    for sound, values in row.get("stack", ()):
        song = AddStack(layer_id, sound).apply(song)
        song = SetStack(layer_id, song.next_id - 1, **values).apply(song)
    song = SetReason(layer_id, row.get("reason", "")).apply(song)
    if "aside" in row:
        song = SetAside(layer_id, row["aside"]).apply(song)
    return SetRecipe(layer_id, row["recipe"]).apply(song) if "recipe" in row else song


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
    if studio.cards() or studio.bin_count():
        return []
    made = [studio.add_song(song, "Demo song") for song in reversed(demo_songs())]
    _park_ideas(studio, studio.head(made[-1]).song, library.data(DEMO_FILES[0])["parked"])
    return made


def is_there(studio: Studio, title: str) -> bool:
    """Whether a song has this title, on the shelf or in the bin."""
    return any(card.title == title for deleted in (False, True) for card in studio.cards(deleted))


def put_once(studio: Studio, title: str, make: Callable[[], Song]) -> int:
    """Put a demo song on the shelf unless it is there; how many songs were put there."""
    song = None if is_there(studio, title) else make()
    if song is None or is_there(studio, title):  # another process may have been at it meanwhile
        return 0
    studio.add_song(song, "Demo song")
    return 1


def _park_ideas(studio: Studio, song: Song, rows: list[Any]) -> None:
    """Words, sections by name, or a section, layer and phrase."""
    sections, layers = {s.name: s.id for s in song.sections}, {x.name: x.id for x in song.layers}
    source = f"{EXAMPLE}{song.title}"
    for row in rows:
        if isinstance(row, str):
            studio.ideas.keep_text(row, source)
        elif len(row) == 1:
            studio.ideas.keep_song("section", cut_section(song, sections[row[0]]), f"{source}, {row[0]}")
        else:
            small = cut_pattern(song, sections[row[0]], layers[row[1]], row[2])
            studio.ideas.keep_song("pattern", small, f"{source}, {row[0]}")
