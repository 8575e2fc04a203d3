"""What is declared of a field holds: in files, in comparisons, under pins and prints, and in copies."""

import json
from dataclasses import fields, replace

import pytest

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.document.codec import PARTS, from_plain, to_plain
from escalera.core.document.devices import Device, Print, StackPart
from escalera.core.document.fields import specs
from escalera.core.document.recordings import Clip
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.layer_edits import as_copy
from escalera.core.edits.protection import keep_protected
from escalera.core.moves.differences import section_changes, song_changes
from escalera.core.theory.voicings import Voicing
from escalera.errors import EditError, FormatError
from escalera.formats.project import read_project, write_project
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))
PAD = SONG.layer_by_id[P]
# values other than the default, where a number, a word or a choice does not make one by itself
OTHER = {
    "sound_key": "wide-saws", "family": "leads", "job": "top", "name": "Renamed", "duck_by": B, "sends": (("hall", -9.0),), "settings": (("attack_s", 0.4),),
    "devices": (Device(900, "low-pass"),), "stack": (StackPart(901, "wide-saws"),), "prints": (Print("notes", "audio", 0),), "clips": (Clip("0" * 32, 0.0, 1.0),), "muted": True, "stand_in": True, "voice": "lead",
    "pattern_id": NAME["pattern of Plucked bass"], "voicing": Voicing(voices=2), "lowpass_hz": 4000.0,
}  # fmt: skip


def other(name):
    """A layer that differs from the pad in one field."""
    spec = specs(Layer)[name]
    if name in OTHER:
        value = OTHER[name]
    elif spec.low is not None:
        kind = type(getattr(PAD, name))
        value = kind(spec.parameter.at(0.6)) + (1 if kind is int else 0)
    else:
        value = "another text"
    changed = replace(PAD, **{name: value})
    assert changed != PAD
    return changed


LAYER = list(specs(Layer))


@pytest.mark.parametrize("name", LAYER)
def test_a_field_of_a_layer_survives_the_store_and_a_file(name):
    layer = replace(other(name), muted=True) if name == "aside" else other(name)  # what is set aside is muted
    song = replace(SONG.with_layer(layer), next_id=1000)
    notes = {e.pattern.content_hash: e.pattern for e in song.patterns}
    assert from_plain(json.loads(json.dumps(to_plain(song))), notes) == song
    back = read_project(write_project(song)).layer_by_id[P]
    assert back == (PAD if name == "prints" else layer), "prints stay in the store"


@pytest.mark.parametrize("name", LAYER)
def test_a_field_of_a_layer_is_named_where_two_states_differ(name):
    told = song_changes(SONG, SONG.with_layer(other(name)))
    assert len(told) == 1 and told[0].startswith(("Soft pad: ", "Renamed: "))
    assert song_changes(SONG, SONG) == []


@pytest.mark.parametrize("name", LAYER)
def test_a_field_is_held_by_a_pin_or_a_print_just_where_it_says_so(name):
    spec = specs(Layer)[name]
    for held, by in (
        (spec.pinned, {"sent_by": "Ana"}),
        (spec.frozen and name != "prints", {"prints": (Print("n", "a", 0),)}),
    ):
        if name in by:
            continue
        before = SONG.with_layer(replace(PAD, **by))
        after = SONG.with_layer(replace(other(name), **by))
        if held:
            with pytest.raises(EditError, match="pinned" if "sent_by" in by else "frozen"):
                keep_protected(before, after)
        elif name != "pattern_id":  # a pinned layer's notes are held too
            assert keep_protected(before, after) is after


@pytest.mark.parametrize("name", LAYER)
def test_a_field_goes_along_with_a_copy_of_the_line_just_where_it_says_so(name):
    made = as_copy(other(name), replace(PAD, id=99, name="Copy", sound_key=other(name).sound_key))
    same = getattr(made, name) == getattr(other(name), name)
    assert same == (specs(Layer)[name].copied or name == "sound_key")


@pytest.mark.parametrize("part", PARTS, ids=lambda part: part.__name__)
def test_every_number_of_the_document_refuses_what_lies_outside_its_limits(part):
    for name, spec in specs(part).items():
        for bound, step in ((spec.low, -1), (spec.high, 1)):
            if bound is not None and part in (Layer, Section, Song):
                plain = to_plain(SONG, with_notes=True)
                place = {Layer: plain["layers"][0], Section: plain["sections"][0], Song: plain}[part]
                place[name] = bound + step
                with pytest.raises(FormatError, match=name):
                    from_plain(plain)


def test_every_field_of_a_layer_a_section_and_a_song_is_declared():
    for part in (Layer, Section, Song):
        assert {f.name for f in fields(part)} - set(specs(part)) <= {"id"}
        assert all(spec.label for spec in specs(part).values())


SECTION = {
    "name": EDITS["rename_section"](V, "Opening"), "role": EDITS["set_role"](V, "break"), "bars": EDITS["resize_section"](V, 6),
    "target": EDITS["set_target"](V, 2.0, 3.0), "metre_changes": EDITS["set_metre"]("3/4", V), "tempo_changes": EDITS["set_tempo"](90, V),
    "shift_semitones": EDITS["shift_section"](V, 2), "progression": EDITS["set_chords"]("Dm | G", V), "phrases": EDITS["set_phrases"](V, "2+6"),
    "curves": EDITS["set_curve"](V, f"layer.{B}.pan", [[0, 0.0, "line"], [960, 0.5, "line"]]), "treatments": EDITS["treat"](V, B, "pan", 0.5),
    "throws": EDITS["throw"](V, B, 0, 960), "swings": EDITS["set_swing"](V, 60), "parked": EDITS["park_body"](V, "beside it"),
    "length_reason": EDITS["set_length_reason"](V, "it waits"), "stretched": EDITS["stretch_section"](V, 2, "held"),
}  # fmt: skip


@pytest.mark.parametrize("name", SECTION)
def test_a_field_of_a_section_is_named_where_two_states_differ(name):
    told = [
        line
        for c in section_changes(SONG, SECTION[name].apply(SONG))
        if c.name in ("Verse", "Opening")
        for line in c.what
    ]
    assert any(line.startswith(specs(Section)[name].label.lower()) for line in told), told


def test_placements_are_told_by_what_they_play():
    rewritten = EDITS["set_pattern_text"](NAME["pattern of Round kick"], K, "0 1.5", 4).apply(SONG)
    assert [c.what for c in section_changes(SONG, rewritten)] == [("changed: Round kick",)] * 2
    shorter = EDITS["lift"](V, K, start_ticks=0, end_ticks=960).apply(EDITS["resize_section"](V, 6).apply(SONG))
    assert "changed: Round kick" in next(c.what for c in section_changes(SONG, shorter))
