"""Commands that need more than the song: a pattern or beat of the library, or rendered audio. They become edits of the core here."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import asdict
from typing import TYPE_CHECKING

from escalera.cleaning import clean_line
from escalera.core.commands import read_command
from escalera.core.document.song import Song
from escalera.core.edits import Edit
from escalera.core.edits.beat_edits import as_rows
from escalera.core.edits.edit import layer_of, one_of, section_of, sound_of, whole_number
from escalera.core.edits.family_edits import LayFamily
from escalera.core.edits.groove_edits import groove_of
from escalera.core.edits.recording_edits import clip_of
from escalera.core.edits.stand_in_edits import AddStandIn
from escalera.core.edits.take_edits import take_of
from escalera.core.ideas import PlaceIdea
from escalera.core.palette.sound_words import sound_for
from escalera.core.palette.voice_parts import VOICE_PARTS
from escalera.core.reading.groove_reading import groove_beat
from escalera.core.rhythm.beat import Beat
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass
from escalera.services import library
from escalera.services.balance import MEND, RIDE, ROUGH, UNMASK, edits_of
from escalera.services.sample_hearing import clip_pitch, slice_pitches
from escalera.services.sample_making import beat_of
from escalera.services.starting import take_next
from escalera.services.takes import polish_edit, polish_from, sung_by_program

if TYPE_CHECKING:
    from escalera.services.studio import Studio

Fields = Mapping[str, str]
Read = tuple[list[Edit], str]  # edits and, where it is not the edits' own, the line for the history


@dataclass(frozen=True, slots=True)
class Prepared:
    """How a command is read with what the studio knows, and what is noted once it was applied."""

    read: Callable[[Fields, Song, Studio], Read]
    done: Callable[[Fields, int, Song, Studio], None] | None = None  # the fields, the song's id, the song as it is now


def read_edits(fields: Fields, song: Song, studio: Studio) -> Read:
    """The edits that fields ask for. Raises EditError."""
    row = PREPARED.get(fields.get("kind", ""))
    return row.read(fields, song, studio) if row else ([read_command(fields, song)], "")


def note_done(fields: Fields, song_id: int, after: Song, studio: Studio) -> None:
    """What else is kept of a command that was applied."""
    row = PREPARED.get(fields.get("kind", ""))
    if row and row.done:
        row.done(fields, song_id, after, studio)


def _as(kind: str, fields: Fields, song: Song, **more: object) -> Read:
    """The fields as another command, with what was looked up."""
    looked_up = {name: value if isinstance(value, str) else json.dumps(value) for name, value in more.items()}
    return [read_command({**fields, "kind": kind, **looked_up}, song)], ""


def _add_layer(fields: Fields, song: Song, studio: Studio) -> Read:
    """A new layer comes with the pattern that was chosen for it, or its sound's usual one, and stands at its job's level and place in
    the present mix."""
    sound, fields = fields.get("sound", ""), {"in_place": "true", **fields}
    sound_of(sound)
    chosen = library.patterns().get(fields.get("pattern_key", "")) or library.default_for(sound)
    if chosen is None or "rows" in fields:
        return [read_command(fields, song)], ""
    return _as(
        "add_layer",
        fields,
        song,
        pattern_name=chosen.name,
        length_ticks=chosen.pattern.length_ticks,
        rows=chosen.pattern.to_list(),
    )


def _place_library(fields: Fields, song: Song, studio: Studio) -> Read:
    chosen = library.patterns().get(fields.get("pattern_key", ""))
    if chosen is None:
        raise EditError("That pattern is not in the library. Choose one from the list.")
    return _as(
        "place_new",
        fields,
        song,
        name=chosen.name,
        length_ticks=chosen.pattern.length_ticks,
        rows=chosen.pattern.to_list(),
    )


def beat_called(song: Song, key: str) -> tuple[str, Beat, str]:
    """Name, beat and feel of a groove of the library, or of the song (`own:<id>`). Raises EditError."""
    if key.startswith("own:"):
        groove = groove_of(song, whole_number(key[4:], "groove"))
        return groove.name, groove_beat(song, groove), groove.feel
    found = library.grooves().get(key)
    if found is None:
        raise EditError(f"“{shown(key)}” is not in the library. Choose a groove from the list.")
    return found.name, found.beat, found.feel


def _take_groove(fields: Fields, song: Song, studio: Studio) -> Read:
    name, played, feel = beat_called(song, fields.get("key", ""))
    return _as("take_beat", fields, song, name=name, length_ticks=played.length_ticks, hits=as_rows(played), feel=feel)


def _take_fill(fields: Fields, song: Song, studio: Studio) -> Read:
    """A fill at the end of a phrase, or of each."""
    name, played, _ = beat_called(song, fields.get("key", ""))
    where = {k: v for k, v in fields.items() if k != "phrase" or not fields.get("everywhere")}
    return _as("place_fill", where, song, name=name, length_ticks=played.length_ticks, hits=as_rows(played))


def _next(fields: Fields, song: Song, studio: Studio) -> Read:
    section = section_of(song, whole_number(fields.get("section_id"), "section"))
    return take_next(song, section, fields.get("next", ""))


def _print(fields: Fields, song: Song, studio: Studio) -> Read:
    return [studio.print_of(song, whole_number(fields.get("layer_id"), "layer"))], ""


def _with_sample(fields: Fields, song: Song, studio: Studio) -> Read:
    """A recording of the library, by its id, comes with what was read from it."""
    if not fields.get("sample_id"):
        return [read_command(fields, song)], ""
    sample = asdict(studio.samples.sample(whole_number(fields["sample_id"], "sample", 1)))
    rest = {name: value for name, value in fields.items() if not name.startswith("sample.")}
    return [read_command({**rest, **{f"sample.{name}": str(value) for name, value in sample.items()}}, song)], ""


def _take_loop_beat(fields: Fields, song: Song, studio: Studio) -> Read:
    """The beat of a recorded loop, taken by the song's own drums for the whole section."""
    section = section_of(song, whole_number(fields.get("section_id"), "section"))
    sample = studio.samples.sample(whole_number(fields.get("sample_id"), "sample", 1))
    length, hits = beat_of(song, section, sample)
    return _as(
        "take_beat",
        fields,
        song,
        name=sample.name[:60],
        length_ticks=length,
        hits=hits,
        feel="from a recording",
        phrase="0",
        whole="true",
    )


def _play_slice(fields: Fields, song: Song, studio: Studio) -> Read:
    """What a slice sounds at is heard in its audio."""
    if fields.get("pitch"):
        return [read_command(fields, song)], ""
    layer_id, number = (whole_number(fields.get(name), "number", 0) for name in ("layer_id", "number"))
    return _as("play_slice", fields, song, pitch=clip_pitch(clip_of(layer_of(song, layer_id), number)))


def _rekey_slices(fields: Fields, song: Song, studio: Studio) -> Read:
    """What slices sound at is heard in their audio."""
    layer_id, pattern_id = (whole_number(fields.get(name), "number", 1) for name in ("layer_id", "pattern_id"))
    return _as("rekey_slices", fields, song, pitches=slice_pitches(song, layer_id, pattern_id))


def _place_idea(fields: Fields, song: Song, studio: Studio) -> Read:
    """An idea brought back; words and recordings are brought in by hand."""
    idea = studio.ideas.idea(whole_number(fields.get("idea_id"), "idea"))
    if idea.song is None:
        raise EditError(f"“{idea.name}” is brought in by hand. When it is done, say so in the list of ideas.")
    return [PlaceIdea(whole_number(fields.get("section_id"), "section"), idea.song, fields.get("place", ""))], ""


def _idea_placed(fields: Fields, song_id: int, after: Song, studio: Studio) -> None:
    section = section_of(after, whole_number(fields.get("section_id"), "section"))
    studio.ideas.set_placed(whole_number(fields.get("idea_id"), "idea"), f"{after.title}, {section.name}")


def _stand_in(fields: Fields, song: Song, studio: Studio) -> Read:
    """What is looked for, played by the sound of the palette that comes nearest to it, with that sound's usual notes."""
    words = clean_line(fields.get("words", ""))[:80]
    if not words:
        raise EditError("Say what is looked for: a few words, as one would search for it.")
    sound = sound_for(words)
    usual = library.default_for(sound.key)
    rows = usual.pattern.to_list() if usual else []
    length = usual.pattern.length_ticks if usual else song.metre.bar_ticks
    section = section_of(song, whole_number(fields.get("section_id"), "section"))
    return [AddStandIn(sound.key, words, section.id, length, rows)], ""


def _stood_in(fields: Fields, song_id: int, after: Song, studio: Studio) -> None:
    made = max((x for x in after.layers if x.stand_in), key=lambda x: x.id)
    studio.samples.want(fields.get("words", ""), song_id, made.sound.label, made.id)


def _found(fields: Fields, song_id: int, after: Song, studio: Studio) -> None:
    studio.samples.forget_stand_in(song_id, whole_number(fields.get("layer_id"), "layer"))


def _lay_family(fields: Fields, song: Song, studio: Studio) -> Read:
    """All recordings of the performance that one sample belongs to."""
    family = studio.samples.family(whole_number(fields.get("sample_id"), "sample", 1))
    if family is None:
        raise EditError(
            "No other recording belongs to it. Names that differ by verse, alternate, fill or ending make a family."
        )
    members = [{"part": m.part, "sample": asdict(studio.samples.sample(m.card.id))} for m in family.members]
    return [LayFamily(family.name, members)], ""


def _sing(fields: Fields, song: Song, studio: Studio) -> Read:
    """A take by the simulated singer, by the next seed."""
    section = section_of(song, whole_number(fields.get("section_id"), "section"))
    part = one_of(fields.get("part", "") or "lead", list(VOICE_PARTS), "voice")
    seed = whole_number(fields.get("seed") or len(song.takes) + 1, "seed", 0)
    return [sung_by_program(studio, song, section, part, seed)], ""


def _polish(fields: Fields, song: Song, studio: Studio) -> Read:
    """A take's polish, heard in sound that is made now."""
    polish = polish_from(fields)
    return [polish_edit(studio, song, whole_number(fields.get("take_id"), "take"), polish)], ""


def _beat_of_take(fields: Fields, song: Song, studio: Studio) -> Read:
    """Which kind of sound every stroke is, as it was learnt."""
    if fields.get("kinds"):
        return [read_command(fields, song)], ""
    kinds = studio.mouth.kinds_of(song, take_of(song, whole_number(fields.get("take_id"), "take")))
    return _as("take_to_beat", fields, song, **({"kinds": kinds} if kinds else {}))


def _balanced(kind: str) -> Prepared:
    """What the page of balance proposes, found again in what is heard."""
    return Prepared(lambda fields, song, studio: _listed(edits_of(studio.rendering, song, kind, fields)))


def _listed(found: tuple[tuple[Edit, ...], str]) -> Read:
    return list(found[0]), found[1]


PREPARED: dict[str, Prepared] = {
    "add_layer": Prepared(_add_layer),
    "place_library": Prepared(_place_library),
    "take_groove": Prepared(_take_groove),
    "take_fill": Prepared(_take_fill),
    "next": Prepared(_next),
    "print_layer": Prepared(_print),
    "print_again": Prepared(_print),
    "place_idea": Prepared(_place_idea, _idea_placed),
    "lay_sample": Prepared(_with_sample),
    "exchange_sample": Prepared(_with_sample),
    "play_sample": Prepared(_with_sample, _found),
    "stack_sample": Prepared(_with_sample),
    "borrow_fill": Prepared(_with_sample),
    "renew_sample": Prepared(_with_sample),
    "lay_family": Prepared(_lay_family),
    "add_stand_in": Prepared(_stand_in, _stood_in),
    "take_loop_beat": Prepared(_take_loop_beat),
    "play_slice": Prepared(_play_slice),
    "rekey_slices": Prepared(_rekey_slices),
    "take_to_beat": Prepared(_beat_of_take),
    "sing_take": Prepared(_sing),
    "polish_take": Prepared(_polish),
    **{kind: _balanced(kind) for kind in (UNMASK, ROUGH, MEND, RIDE)},
}
