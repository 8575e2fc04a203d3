"""Options said in words: what each is read as, what it leaves alone, what cannot be had and why."""

import pytest

from escalera.core.document.codec import from_plain, to_plain
from escalera.core.edits import EDITS
from escalera.core.edits.body_edits import with_body
from escalera.core.energy.model import arranged
from escalera.core.moves.option_text import AddOptions, listed, read_options
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from tests.songs import HATS, ids, small_song

SONG = EDITS["add_layer"]("tin-hat", "Tin hats", rows=HATS, length_ticks=3840).apply(small_song())
V, C, K, B, P, H = (ids(SONG)[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad", "Tin hats"))


def heard(song, section_id):
    return {p.layer_id for p in song.section_by_id[section_id].placements}


@pytest.mark.parametrize(("text", "plays"), [
    ("no kick", {B, P}), ("without the round kick", {B, P}), ("pad out", {K, B}), ("no drums", {B, P}), ("leave out the bass and the pads", {K}),
    ("only bass and pad", {B, P}), ("just drums", {K}), ("Soft pad only", {P}), ("with hats", {K, B, P, H}), ("bring in the tin hats", {K, B, P, H}),
    ("as in Verse", {K, B}), ("pad like verse", {K, B}), ("drums as in Verse and no bass", {K, P}), ("no drums, but keep the hats", {B, P, H}),
    ("everything out but add pad", {P}), ("take the kick out", {B, P}), ("strp to bass and drums", {K, B}), ("strip to the pad", {P}),
])  # fmt: skip
def test_words_become_what_plays(text, plays):
    option = read_options(SONG, C, text)[0]
    assert option.after and heard(option.after, C) == plays, option.trouble
    assert option.after.sections[0] == SONG.sections[0] and heard(SONG, C) == {K, B, P}


@pytest.mark.parametrize(
    ("text", "bars", "shift"), [("4 bars", 4, 0), ("raise by a tone", 8, 2), ("no kick and 12 bars long", 12, 0)]
)
def test_words_become_length_and_key(text, bars, shift):
    option = read_options(SONG, C, text)[0]
    assert option.after, option.trouble
    section = option.after.section_by_id[C]
    assert (section.bars, section.shift_semitones) == (bars, shift)


@pytest.mark.parametrize(("text", "says"), [
    ("no kazoo", "“kazoo” is no layer"), ("wobble it", "is not understood for Chorus"), ("as in Bridge", "no section called “bridge”"),
    ("as it is", "changes nothing in Chorus"), ("double chorus", "reaches beyond Chorus"), ("1000 bars", "not"), ("no tin hats", "changes nothing"),
])  # fmt: skip
def test_what_cannot_be_had_says_why(text, says):
    option = read_options(SONG, C, text)[0]
    assert option.after is None and says in option.trouble
    with pytest.raises(EditError):
        AddOptions(C, text).apply(SONG)


@pytest.mark.parametrize(("text", "items"), [
    ("one no drums two half time three only bass", ["no drums", "half time", "only bass"]),
    ("first: no kick second: 4 bars", ["no kick", "4 bars"]), ("1. no kick 2. no bass", ["no kick", "no bass"]),
    ("no kick; no bass\nonly pad", ["no kick", "no bass", "only pad"]), ("no kick or no bass", ["no kick", "no bass"]),
    ("two bars more", ["two bars more"]), (" \n ; ", []),
])  # fmt: skip
def test_a_dictated_list_falls_into_its_items(text, items):
    assert listed(text) == items


def test_options_stay_beside_the_section_and_bring_their_energy_when_taken():
    song = validate(AddOptions(C, "no drums; 4 bars and no pad; wobble; only bass", "Ana").apply(SONG))
    section = song.section_by_id[C]
    assert [(p.name, p.who) for p in section.parked] == [
        (n, "Ana") for n in ("no drums", "4 bars and no pad", "only bass")
    ]
    assert arranged(song).of(C).value == arranged(SONG).of(C).value
    for parked, option in zip(section.parked, list(read_options(SONG, C, "no drums; 4 bars and no pad; only bass"))):
        placed = validate(with_body(song, section, parked))
        assert arranged(placed).of(C).value == pytest.approx(arranged(option.after).of(C).value)
    summary = AddOptions(C, "no drums; wobble", "Ana").summary(SONG)
    assert "by Ana: no drums" in summary and "wobble" not in summary


@pytest.mark.parametrize(("kind", "fields", "holds"), [
    ("remove_layer", (B,), lambda body: all(p.layer_id != B for p in body.placements)),
    ("set_metre", ("3/4",), lambda body: body.placements[0].end_ticks == 8 * 2880),
    ("set_key", ("D major",), lambda body: body.progression.changes[0][1].name() == "D"),
])  # fmt: skip
def test_what_is_done_to_the_whole_song_is_done_to_parked_bodies_too(kind, fields, holds):
    song = EDITS["park_body"](C, "before").apply(EDITS["set_chords"]("C | G", C).apply(SONG))
    after = validate(EDITS[kind](*fields).apply(song))
    assert holds(after.section_by_id[C].parked[0].body)
    taken = EDITS["exchange_body"](C, after.section_by_id[C].parked[0].id).apply(after)
    assert heard(validate(taken), C) == heard(after, C)


def test_who_proposed_what_outlives_the_choices_and_a_verdict_reaches_all_that_were_heard():
    song = AddOptions(C, "no kick; only pad", "Ana").apply(SONG)
    first, second = (p.id for p in song.section_by_id[C].parked)
    taken = EDITS["exchange_body"](C, first, "Ben", "it breathes").apply(song)
    assert [p.reason for p in taken.section_by_id[C].parked] == ["passed over for no kick, by Ben: it breathes"] * 2
    back = EDITS["exchange_body"](C, first, "Cy").apply(taken)
    assert [(p.name, p.who) for p in back.section_by_id[C].parked] == [("no kick", "Ana"), ("only pad", "Ana")]
    assert from_plain(to_plain(taken, True)) == taken
