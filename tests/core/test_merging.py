"""A project that came back, merged with what happened here since: whatever either did, nothing is overwritten unless it is chosen."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.handing.merging import MINE, OPTION, THEIRS, TakeMerged, _signatures, differences, kinship, nearest
from escalera.core.validation.whole import validate
from escalera.errors import EditError, EscaleraError
from tests.songs import edits_for, ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, B, P = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad"))


def edited(song, data, most):
    for _ in range(data.draw(st.integers(0, most))):
        try:
            song = data.draw(edits_for(song)).apply(song)
        except EscaleraError:
            continue
    return song


@settings(max_examples=15, deadline=None)
@given(st.data())
def test_what_only_one_side_changed_is_as_that_side_has_it(data):
    base = edited(SONG, data, 4)
    mine, theirs = edited(base, data, 5), edited(base, data, 5)
    rows = differences(base, mine, theirs)
    assert not differences(base, mine, base) and not differences(base, base, base)
    chosen = {d.key: d.usual for d in rows}
    if all(way == MINE for way in chosen.values()):
        return
    try:
        merged = TakeMerged(base, theirs, chosen).apply(mine)
    except EscaleraError:
        return  # what cannot stand beside what is here is refused as a whole
    validate(merged)
    had, got, sent = (_signatures(x) for x in (mine, merged, theirs))
    for row in rows:
        if chosen[row.key] == THEIRS and row.state == "changed" and row.key.startswith("song:"):
            assert got[row.key] == sent[row.key]
    touched = {d.key for d in rows}
    for key, was in had.items():  # what they left alone, and what stays mine, is as it was here
        if key.startswith("section:") and (key not in touched or chosen[key] in (MINE, OPTION)) and key in got:
            assert got[key][1] == was[1]


THERE = EDITS["set_target"](V, 2.0, 3.0).apply(EDITS["toggle_tile"](C, P, 0).apply(SONG))
HERE = EDITS["toggle_tile"](C, B, 0).apply(EDITS["set_tempo"](91.0).apply(SONG))


def test_a_conflict_keeps_both_and_what_only_they_changed_is_taken():
    rows = {d.key: d for d in differences(SONG, HERE, THERE)}
    assert {k: (d.state, d.usual) for k, d in rows.items()} == {
        f"section:{V}": ("changed", THEIRS),
        f"section:{C}": ("both", OPTION),
    }
    assert any("Soft pad" in line for line in rows[f"section:{C}"].what)
    merged = TakeMerged(SONG, THERE, {k: d.usual for k, d in rows.items()}, "Ana").apply(HERE)
    chorus = merged.section_by_id[C]
    assert merged.tempo_bpm == 91.0 and merged.section_by_id[V].target == THERE.section_by_id[V].target
    assert chorus.placements == HERE.section_by_id[C].placements
    assert [(p.name, p.who, p.body.placements != chorus.placements) for p in chorus.parked] == [
        ("came back", "Ana", True)
    ]
    with pytest.raises(EditError, match="Nothing of it was chosen"):
        TakeMerged(SONG, THERE, {}).apply(HERE)


def test_new_parts_and_changed_notes_come_in_beside_what_has_the_same_ids_here():
    there = EDITS["add_layer"]("rim-knock", "Their clicks", "", "", "Clicks", 3840, [[0, 240, 0, 0, 0, 100]]).apply(
        SONG
    )
    layer = (
        there.layers[-1]
        if there.layers[-1].name == "Their clicks"
        else next(x for x in there.layers if x.name == "Their clicks")
    )
    there = EDITS["place"](C, layer.id, layer.pattern_id).apply(there)
    here = EDITS["add_layer"]("tin-hat", "My hat", "", "", "Hats", 3840, [[0, 240, 0, 0, 0, 90]]).apply(SONG)
    mine = next(x for x in here.layers if x.name == "My hat")
    assert mine.id == layer.id, "the same id was handed out on both sides"
    merged = validate(TakeMerged(SONG, there, {f"section:{C}": THEIRS}).apply(here))
    clicks = next(x for x in merged.layers if x.name == "Their clicks")
    assert clicks.id != mine.id and merged.layer_by_id[mine.id] == mine
    assert [
        p.layer_id for p in merged.section_by_id[C].placements if p.layer_id not in (x.id for x in SONG.layers)
    ] == [clicks.id]


def test_people_remarks_and_effects_of_theirs_come_in_under_ids_that_are_free_here():
    mine = EDITS["add_layer"]("glass-bell").apply(EDITS["add_person"]("Ana").apply(SONG))
    theirs = EDITS["add_person"]("Ben", "mix").apply(EDITS["take_down_feedback"]("0:18 too loud", "Ben").apply(SONG))
    theirs = EDITS["add_effect"]("master", "compressor").apply(EDITS["add_effect"]("bus.drums", "drive").apply(theirs))
    keys = ("song:people", "song:feedback", "song:master", "song:buses")
    assert set(keys) <= {d.key for d in differences(SONG, mine, theirs)}
    merged = TakeMerged(SONG, theirs, dict.fromkeys(keys, THEIRS)).apply(mine)
    assert [(p.name, p.roles) for p in merged.people] == [("Ben", "mix")] and merged.feedback[0].said == "too loud"
    assert merged.master[0].key == "compressor" and len(merged.layers) == len(SONG.layers) + 1 and validate(merged)


def test_the_state_it_began_from_is_the_one_that_differs_least():
    states = [SONG]
    for energy in (1.0, 2.0, 3.0, 4.0):
        states.append(EDITS["set_target"](C, energy, energy).apply(states[-1]))
    for began in range(5):
        theirs = EDITS["set_target"](V, 9.0, 9.0).apply(states[began])
        found = nearest(list(enumerate(states))[::-1], theirs)
        assert found is not None and found[0] == began
    both = EDITS["set_target"](C, 9.0, 9.0).apply(SONG)
    assert nearest([(1, HERE), (0, SONG)], both) == (0, SONG)
    later = EDITS["set_target"](C, 1.0, 1.0).apply(SONG)
    assert nearest([(1, later), (0, SONG)], both) == (0, SONG), "else the conflict would not be seen"
    assert nearest([], SONG) is None
    stranger = EDITS["rename_section"](V, "Strophe").apply(EDITS["rename_section"](C, "Refrain").apply(SONG))
    assert kinship(SONG, THERE) == 1.0 > kinship(SONG, stranger) > 0
