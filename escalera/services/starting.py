"""Ways into a song, and what could come next on the bench: a layer at a time, each with its notes made."""

from __future__ import annotations

from collections.abc import Callable

from escalera.core.document.song import Section, Song
from escalera.core.edits import Edit
from escalera.core.edits.groove_edits import AddGroove
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.line_edits import MakeLine
from escalera.core.edits.tile_edits import Place
from escalera.core.reading.events import sounding_layers
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass
from escalera.services import library
from escalera.services.new_song import new_song

BACKBEAT = "straight-backbeat"
LOOP_BARS = 4
Steps = Callable[[Song, Section], list[Edit]]


@dataclass(frozen=True, slots=True)
class Next:
    """A layer that could come next: its words, its family (`drums` is several layers), and the edits that make it."""

    key: str
    label: str
    said: str
    family: str
    steps: Steps


def _made(sound: str, maker: str, name: str = "", **options: str) -> Steps:
    """A new layer with a line by a maker in every phrase of the section."""

    def steps(song: Song, section: Section) -> list[Edit]:
        layer_id = song.next_id  # a layer without notes takes the next id
        lines: list[Edit] = [
            MakeLine(section.id, layer_id, i, maker, dict(options)) for i in range(len(section.phrases))
        ]
        return [AddLayer(sound, name, in_place=True), *lines]

    return steps


def _beat(key: str) -> Steps:
    def steps(song: Song, section: Section) -> list[Edit]:
        entry = library.grooves()[key]
        hits = [[h.tick, h.drum, h.velocity] for h in entry.beat.hits]
        return [AddGroove(entry.name, entry.beat.length_ticks, hits, entry.feel, 0, section.id)]

    return steps


def _held(sound: str) -> Steps:
    """A place held throughout the section."""

    def steps(song: Song, section: Section) -> list[Edit]:
        entry = library.default_for(sound)
        assert entry is not None
        add = AddLayer(
            sound, "", "", "", entry.name, entry.pattern.length_ticks, entry.pattern.to_list(), in_place=True
        )
        made = add.apply(song)
        layer = next(x for x in made.layers if x.id not in song.layer_by_id)
        return [add, Place(section.id, layer.id, layer.pattern_id)]

    return steps


NEXTS = (
    Next("keys", "Keys on the chords", "tine keys, held and led", "chords", _made("tine-keys", "pad")),
    Next("beat", "A backbeat", "kick, snare and hats", "drums", _beat(BACKBEAT)),
    Next("bass", "A bass", "picked, with the kick where there is one", "low end", lambda song, section: _bass(song, section)),
    Next("figure", "A figure over it", "wood mallet on thirds and sevenths", "leads", _made("wood-mallet", "third-seventh", value="1/8")),
    Next("voice", "A guide voice", "a call and its answer, to sing over", "voices", _made("vowel-voice", "call-answer", "Guide voice")),
    Next("pad", "A pad behind", "soft, wide chords", "second chords", _made("soft-pad", "pad")),
    Next("place", "A place round it", "rain, a long way off", "atmosphere", _held("rain")),
)  # fmt: skip
NEXT_BY_KEY = {n.key: n for n in NEXTS}
OFFERED = 4


def _bass(song: Song, section: Section) -> list[Edit]:
    kicks = any(x.sound.is_kick for x in sounding_layers(song, section))
    return _made("picked-bass", "bass-kick" if kicks else "bass-held")(song, section)


def nexts(song: Song, section: Section) -> list[Next]:
    """What a section lacks, in the order in which it is usually missed; nothing once it has grown."""
    sounding = list(sounding_layers(song, section))
    families = {x.family for x in sounding}
    if "chords" in families and sum(x.family == "chords" for x in sounding) > 1:
        families.add("second chords")
    if len(sounding) >= 8:
        return []
    return [n for n in NEXTS if n.family not in families and (n.family != "second chords" or "chords" in families)][
        :OFFERED
    ]


def take_next(song: Song, section: Section, key: str) -> tuple[list[Edit], str]:
    """The edits of a next layer and the line for the history. Raises EditError."""
    found = NEXT_BY_KEY.get(key)
    if found is None:
        raise EditError(f"“{shown(key)}” is not among what could come next. Choose one of: {', '.join(NEXT_BY_KEY)}.")
    return found.steps(song, section), f"{section.name}: {found.label.lower()}"


# three ways in ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Way:
    """A way into a song: what it starts with, and the key that takes it on the shelf."""

    key: str
    label: str
    said: str
    digit: str
    first: tuple[str, ...]
    form: str = ""  # of a whole song, laid out from its style's loop


WAYS = (
    Way("chords", "Chords first", "keys hold four chords; change them, then build on them", "1", ("keys",)),
    Way("drums", "Drums first", "a backbeat loops; say, tap or draw another", "2", ("beat",)),
    Way("voice", "A voice first", "a guide voice sings a call and its answer; sing your own over it", "3", ("voice",)),
    Way("found", "A found sound first", "a place to start from: rain on a roof, to be changed for another", "4", ("place",)),
    Way("whole", "A whole song", "a starting loop laid out from intro to outro; exchange what you like", "5", (), "verse-chorus"),
)  # fmt: skip
WAY_BY_KEY = {w.key: w for w in WAYS}


def song_by_way(key: str) -> Song:
    """A song of one short loop with its first layer. Raises EditError."""
    way = WAY_BY_KEY.get(key)
    if way is None:
        raise EditError(f"“{shown(key)}” is not a way in. Choose one of: {', '.join(WAY_BY_KEY)}.")
    if way.form:
        return new_song(form=way.form)
    song = new_song(form_text=f"Idea {LOOP_BARS}", start="empty")
    for first in way.first:
        for step in NEXT_BY_KEY[first].steps(song, song.sections[0]):
            song = step.apply(song)
    return song
