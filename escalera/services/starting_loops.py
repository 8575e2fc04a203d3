"""Starting loops: what belongs together in a style, to begin with and to be replaced bit by bit. Data in demo/starts.json."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cache
from typing import Any

from escalera.core.bench.mix_balance import balancing
from escalera.core.bench.mix_places import NEAR, in_its_place
from escalera.core.bench.seats import seats
from escalera.core.document.chord_text import parse_chordline
from escalera.core.document.names import clean_words
from escalera.core.document.song import Placement, Section, Song, Swing
from escalera.core.edits.edit import one_of
from escalera.core.edits.form_layout import song_with_form
from escalera.core.edits.groove_edits import AddGroove
from escalera.core.edits.harmony_edits import SetKey
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.line_edits import MakeLine
from escalera.core.edits.sound_edits import AddEffect
from escalera.core.edits.tile_edits import Place
from escalera.core.layout.reasons import PLAYS
from escalera.core.palette.sounds import DRUM_SOUND
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.core.rhythm.beat import RANK
from escalera.core.theory.keys import Key, key_text, parse_key
from escalera.core.time.metre import parse_metre
from escalera.lazy_dataclasses import dataclass
from escalera.services import library

LOOP_BARS = 8
LIFE = {"dance": 0.2, "band": 0.7, "song": 0.5}
LOOP_NAME = "Loop"
PEAKY = ("snare", "clap")  # what would otherwise stand far above everything for a moment
HEADROOM_DB = -1.5  # with all that plays the limiter has little to do
USUAL_CHORDS = {True: "i | VI | III | VII", False: "I | V | vi | IV"}
VELOCITY_OF_MORE = 100


@dataclass(frozen=True)
class StartingLoop:
    """A loop to start from: its words, its style, and what it is made of (see the file)."""

    key: str
    name: str
    said: str
    words: str
    school: str
    tempo_bpm: float
    metre: str
    music_key: str
    row: Mapping[str, Any]

    @property
    def feel(self) -> str:
        return library.grooves()[library.slug(self.row["groove"])].feel

    @property
    def home(self) -> Key:
        return parse_key(self.music_key)


@cache
def starting_loops() -> dict[str, StartingLoop]:
    """Every starting loop by key."""
    found = {}
    for row in library.data("starts.json")["starts"]:
        key = library.slug(row["name"])
        found[key] = StartingLoop(
            key, row["name"], row["said"], row["words"], row["school"], row["tempo_bpm"], row["metre"], row["key"], row
        )
    return found


def loops_for(words: str = "", school: str = "") -> list[StartingLoop]:
    """Starting loops, those that more of the words are said of first; the style's own before others of equal fit."""
    asked = clean_words(words, "search", 200).lower().split()

    def fit(loop: StartingLoop) -> tuple[int, bool]:
        said = f"{loop.name} {loop.said} {loop.words} {loop.feel} {loop.school} {loop.music_key}".lower()
        return (-sum(w in said for w in asked), bool(school) and loop.school != school)

    ranked = sorted(starting_loops().values(), key=fit)
    return [x for x in ranked if not asked or fit(x)[0] < 0]


def usual_loop(school: str, metre: str = "") -> str:
    """The key of the loop a style begins with; in a time signature, the style's own or else another's. "loop" where none is."""
    wanted = str(parse_metre(metre or "4/4"))
    fitting = [x for x in starting_loops().values() if x.metre == wanted]
    if not fitting:
        return "loop"
    return next((x.key for x in fitting if x.school == school), fitting[0].key)


def usual_chords(key: Key) -> str:
    """Four chords of a key."""
    return USUAL_CHORDS[_is_minor(key)]


def _is_minor(key: Key) -> bool:
    return 3 in key.degrees and 4 not in key.degrees


def in_key(song: Song, key: Key) -> Song:
    """A loop in another key: its chords go along, and are the usual ones where the other key has another third."""
    if _is_minor(key) != _is_minor(song.key):
        return replace(song, key=key, progression=parse_chordline(usual_chords(key), key, song.metre))
    return SetKey(key_text(key)).apply(song)


def song_of(key: str) -> tuple[Song, dict[int, int]]:
    """A song of one loop as it is meant to sound, and what layers play instead where the song peaks: pattern by layer. EditError."""
    loop = starting_loops()[one_of(key, list(starting_loops()), "starting loop")]
    music_key, metre = loop.home, parse_metre(loop.metre)
    song = Song(
        tempo_bpm=float(loop.tempo_bpm),
        metre=metre,
        key=music_key,
        school=loop.school,
        master_gain_db=HEADROOM_DB,
        life=LIFE.get(loop.school, 0.4),
    )
    song = replace(song, progression=parse_chordline(loop.row["chords"], music_key, metre))
    song = song_with_form(song, f"{LOOP_NAME} {LOOP_BARS}")
    song = _with_drums(song, loop)
    peaks: dict[int, int] = {}
    for line in loop.row["lines"]:
        song, layer_id = _with_line(song, line, line["make"])
        if "peak" in line:
            song, peaks[layer_id] = _other_pattern(song, layer_id, line["peak"])
    song = _with_swing(song, loop)
    for seat in seats(song):
        song = song.with_layer(replace(song.layer_by_id[seat.layer.id], reason=PLAYS[seat.part], stand_in=True))
    for layer in song.layers:
        song = song.with_layer(in_its_place(song, song.sections[0], layer.id, loop.row.get("duck_db", 0.0), 0.0))
    return _in_spaces(_balanced(song), loop), peaks


def _balanced(song: Song) -> Song:
    """Levels moved a little towards the style's spectrum."""
    changes = balancing(song, timeline(song).spans[0], list(seats(song)))
    layers = tuple(replace(x, level_db=round(x.level_db + changes.get(x.id, 0.0), 1)) for x in song.layers)
    return replace(song, layers=layers)


def _with_drums(song: Song, loop: StartingLoop) -> Song:
    metre = song.metre
    groove = library.grooves()[library.slug(loop.row["groove"])]
    drums = dict(loop.row["drums"])
    hits = [[h.tick, h.drum, h.velocity] for h in groove.beat.hits]
    for drum, lane in loop.row.get("also", {}).items():
        drums.setdefault(drum, DRUM_SOUND[drum])
        hits += [
            [metre.bar_ticks * i // len(lane), drum, library.LANE_VELOCITY[sign]]
            for i, sign in enumerate(lane)
            if sign != "."
        ]
    for drum in sorted({str(h[1]) for h in hits}, key=lambda d: RANK[d]):
        song = AddLayer(drums.get(drum, DRUM_SOUND[drum])).apply(song)
    for layer in song.layers:
        if layer.sound.drum in PEAKY:
            song = AddEffect(f"layer.{layer.id}", "compressor").apply(song)
    return AddGroove(groove.name, metre.bar_ticks, hits, groove.feel, 0, song.sections[0].id).apply(song)


def _with_line(song: Song, line: Mapping[str, Any], make: Any) -> tuple[Song, int]:
    """The song with a line's layer, playing throughout its section."""
    section = song.sections[0]
    song = AddLayer(line["sound"], job=line.get("job", "")).apply(song)
    layer = max(song.layers, key=lambda x: x.id)
    if line.get("octave"):
        song = song.with_layer(replace(layer, octave=line["octave"]))
    if isinstance(make, str):
        song, pattern_id = add_pattern(song, make, layer.family, library.patterns()[library.slug(make)].pattern)
        song = song.with_layer(replace(song.layer_by_id[layer.id], pattern_id=pattern_id))
        return Place(section.id, layer.id, pattern_id).apply(song), layer.id
    options = {k: v for k, v in make.items() if k != "maker"}
    for phrase in range(len(section.phrases)):
        song = MakeLine(section.id, layer.id, phrase, make["maker"], options | _ending(make, phrase)).apply(song)
    return song, layer.id


def _ending(make: Mapping[str, Any], phrase: int) -> dict[str, str]:
    """The first phrase of a call asks for more, whatever the second says."""
    return {"ending": "more"} if "ending" in make and not phrase else {}


def _other_pattern(song: Song, layer_id: int, make: Any) -> tuple[Song, int]:
    """The song with one pattern more for a layer, and its id; what the layer plays stays."""
    layer = song.layer_by_id[layer_id]
    if isinstance(make, str):
        return add_pattern(song, make, layer.family, library.patterns()[library.slug(make)].pattern)
    options = {k: v for k, v in make.items() if k != "maker"}
    after = MakeLine(song.sections[0].id, layer_id, 0, make["maker"], options).apply(song)
    placed = next(p for p in after.sections[0].placements if p.layer_id == layer_id)
    return replace(song, patterns=after.patterns, next_id=after.next_id), placed.pattern_id


def _with_swing(song: Song, loop: StartingLoop) -> Song:
    if "swing" not in loop.row:
        return song
    ticks, ratio = loop.row["swing"]
    section = replace(song.sections[0], swings=(Swing(0, ticks, ratio),))
    return song.with_section(section)


def _in_spaces(song: Song, loop: StartingLoop) -> Song:
    """Layers sent into the loop's own spaces instead of the style's."""
    near, far = loop.row["spaces"][0], loop.row["spaces"][-1]
    layers = []
    for layer in song.layers:
        sends = {(near if key in NEAR else far): level for key, level in layer.sends}
        layers.append(replace(layer, sends=tuple(sorted(sends.items()))))
    return replace(song, layers=tuple(layers))


def with_peaks(song: Song, peaks: Mapping[int, int], roles: tuple[str, ...]) -> Song:
    """The song with what layers play at its peaks laid into the sections of these roles, throughout."""
    for section in song.sections:
        if section.role in roles and peaks:
            song = _placed(song, section, peaks)
    return song


def _placed(song: Song, section: Section, peaks: Mapping[int, int]) -> Song:
    end = section_bar_ticks(section, song.metre)[-1]
    number = song.next_id
    placed = [Placement(number + i, layer, pattern, 0, end) for i, (layer, pattern) in enumerate(peaks.items())]
    rest = [p for p in section.placements if p.layer_id not in peaks]
    song = song.with_section(replace(section, placements=ordered([*rest, *placed])))
    return replace(song, next_id=number + len(placed))
