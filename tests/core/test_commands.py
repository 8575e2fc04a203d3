"""Laws that hold of every command there is, on a song as it is, with parked bodies, with prints and with pinned layers."""

import json
from dataclasses import fields, replace

import pytest

from escalera.core.commands import COMMANDS, read_command, write_command
from escalera.core.commands.form_reading import read_command as read
from escalera.core.document.codec import from_plain, to_plain
from escalera.core.document.lanes import FROZEN
from escalera.core.edits.protection import SOUND, keep_protected
from escalera.core.edits.touched import PARTS, touched
from escalera.core.ideas import PlaceIdea, cut_section
from escalera.core.validation.whole import validate
from escalera.errors import EditError, EscaleraError
from tests.core.test_edits import ROWS, SONG, B, C, K, P, V, base_of
from tests.walking import texts


def parked(song):
    for section_id in (V, C):
        song = COMMANDS["park_body"](section_id, "beside it").apply(song)
    return song


def printed(song):
    for layer in song.layers:
        song = COMMANDS["print_layer"](layer.id, [["notes", "audio", 0]]).apply(song)
    return song


def pinned(song):
    for layer in song.layers:
        song = COMMANDS["hold_layer"](layer.id, "Ana").apply(song)
    return song


STATES = {"plain": lambda song: song, "parked": parked, "printed": printed, "pinned": pinned}


def sounding(song, layer_id, names):
    layer = song.layer_by_id[layer_id]
    return [getattr(layer, name) for name in names]


@pytest.mark.parametrize("state", STATES)
@pytest.mark.parametrize("kind", ROWS)
def test_a_command_leaves_a_whole_song_and_touches_nothing_that_is_frozen_or_pinned(kind, state):
    song = STATES[state](base_of(kind))
    before, command = to_plain(song), COMMANDS[kind](**ROWS[kind][0][0])
    try:
        after = keep_protected(song, command.apply(song))
    except EditError:
        assert state != "plain" and not (state == "parked" and kind not in ("exchange_body", "forget_body"))
        return
    assert to_plain(song) == before and validate(after)
    assert touched(song, after) <= command.touches <= set(PARTS), "more than it declares"
    notes = {e.pattern.content_hash: e.pattern for e in after.patterns}
    assert from_plain(json.loads(json.dumps(to_plain(after))), notes) == after
    still = [x for x in after.layers if x.id in song.layer_by_id]
    if state == "printed":
        assert all(sounding(song, x.id, FROZEN) == sounding(after, x.id, FROZEN) for x in still if x.prints)
    if state == "pinned" and kind != "hold_layer":
        assert all(sounding(song, x.id, SOUND) == sounding(after, x.id, SOUND) for x in still)


def played(body):
    """What a body plays, without ids and without what belongs to its section."""
    placements = sorted((replace(p, id=0) for p in body.placements), key=lambda p: (p.layer_id, p.start_ticks))
    return replace(
        body,
        id=0,
        name="",
        role="none",
        target=SONG.sections[0].target,
        placements=tuple(placements),
        parked=(),
        body_name="",
        body_who="",
    )


OF_ONE_SECTION = {"section_id", "from_id"}
WHOLE = [kind for kind in ROWS if not OF_ONE_SECTION & {f.name for f in fields(COMMANDS[kind])}]
# what these make or name are sections by themselves, or takes of one
OF_SECTIONS = {"add_section", "lay_out", "set_tiles", "sweep"}
OF_SECTIONS |= {"add_take", "remove_take", "use_as_double", "polish_take", "take_to_line", "take_to_beat"}
OF_SECTIONS |= {"take_tempo"}


@pytest.mark.parametrize("kind", [k for k in WHOLE if k not in OF_SECTIONS])
def test_a_command_to_the_song_reaches_parked_bodies_too(kind):
    """A body parked beside the same body in its section still plays the same after whatever is done to the song."""
    song = base_of(kind)
    for section_id in (V, C):
        song = COMMANDS["park_body"](section_id, "twin").apply(song)
    after = COMMANDS[kind](**ROWS[kind][0][0]).apply(song)
    for section in after.sections:
        for twin in section.parked:
            if twin.name == "twin":
                assert played(twin.body) == played(section)


@pytest.mark.parametrize("kind", ROWS)
def test_a_command_is_read_back_from_fields_of_text(kind):
    """What a form or a file writes down is the command again."""
    written = {}
    for name, value in ROWS[kind][0][0].items():
        if isinstance(value, dict):
            written |= {f"{name}.{key}": str(v) for key, v in value.items()}
        else:
            written[name] = json.dumps(value) if isinstance(value, list) else str(value)
    assert read_command({"kind": kind, **written}, base_of(kind)).apply(base_of(kind)) == COMMANDS[kind](
        **ROWS[kind][0][0]
    ).apply(base_of(kind))


@pytest.mark.parametrize("fields, says", [
    ({"kind": "fly"}, "is not an edit"), ({"kind": "set_tempo", "tempo_bpm": "fast"}, "tempo bpm: “fast” cannot be used"),
    ({"kind": "set_tempo"}, "tempo bpm: is missing"), ({"kind": "set_tiles", "cells": "[[1,"}, "rows of the command"),
    ({"kind": "lift", "section_id": str(V), "layer_id": str(K), "first_bar": "9", "last_bar": "12"}, "do not lie in Verse"),
    ({"kind": "lift", "section_id": str(V), "layer_id": str(K), "first_bar": "one"}, "not a bar number"),
    ({"kind": "throw", "section_id": str(V), "layer_id": str(P), "at_bar": "2", "at_beat": "9"}, "has beats 1 to 4"),
    ({"kind": "rename_song", **{f"x{i}": "1" for i in range(500)}}, "at most 400"),
])  # fmt: skip
def test_fields_that_cannot_be_read_are_said(fields, says):
    with pytest.raises(EditError, match=says):
        read(fields, SONG)


@pytest.mark.parametrize("kind", ROWS)
def test_a_command_is_written_down_and_replayed(kind):
    command = COMMANDS[kind](**ROWS[kind][0][0])
    kept = json.loads(json.dumps(write_command(command)))
    assert read_command(kept, base_of(kind)).apply(base_of(kind)) == command.apply(base_of(kind))


def test_bars_and_beats_are_turned_into_ticks_of_the_section():
    lift = read({"kind": "lift", "section_id": str(C), "layer_id": str(B), "first_bar": "10", "last_bar": "11"}, SONG)
    assert (lift.start_ticks, lift.end_ticks) == (3840, 3 * 3840)
    throw = read(
        {"kind": "throw", "section_id": str(C), "layer_id": str(P), "at_bar": "9", "at_beat": "3", "beats_long": "0.5"},
        SONG,
    )
    assert (throw.start_ticks, throw.end_ticks) == (1920, 2400)


def test_an_idea_is_brought_back_as_a_command():
    after = PlaceIdea(V, cut_section(SONG, C), "option").apply(SONG)
    assert validate(after).sections[0].parked


ODD = (
    "9" * 5_000,
    "1e400",
    "nan",
    "²",
    "[[1e999]]",
    f"[{'9' * 5_000}]",
    f'["{"9" * 5_000}"]',
    '{"a": 1}',
    "C" + "#" * 400,
)


@pytest.mark.parametrize("kind", ROWS)
def test_an_odd_value_in_any_field_is_taken_or_answered_with_a_sentence(kind):
    song, fields = base_of(kind), texts({n: v for n, v in ROWS[kind][0][0].items() if not isinstance(v, dict)})
    for name in fields:
        for odd in ODD:
            try:
                after = read({"kind": kind, **fields, name: odd}, song).apply(song)
            except EscaleraError as error:
                assert len(odd) < 60 or odd not in str(error)
            else:
                validate(after)
