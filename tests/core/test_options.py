"""Options said in words: what each is read as, what it leaves alone, what cannot be had and why."""

from dataclasses import replace

import pytest

from escalera.core.document.codec import from_plain, to_plain
from escalera.core.edits import EDITS
from escalera.core.edits.body_edits import with_body
from escalera.core.energy.model import arranged
from escalera.core.moves.option_text import AddOptions, listed, read_options
from escalera.core.reading.events import _layer_events, _section_events, section_events
from escalera.core.reading.timeline import timeline
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from escalera.services.new_song import new_song
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


# a band, and what sentences make of its last chorus (16 bars): who plays on every second bar, one letter a layer
BAND = new_song(school="song", form="short", start="bright-strum")
PEAK = next(s for s in reversed(BAND.sections) if s.role == "chorus")
LETTERS = {
    "Round kick": "k", "Room snare": "s", "Loose clap": "c", "Tin hat": "h", "Bell ride": "r", "Seed shaker": "e", "Picked bass": "b", "Strummed guitar": "g",
    "Grand piano": "p", "Bowed strings": "t", "Wood mallet": "m", "Vowel voice": "v", "Ooh voices": "o", "Low tom": "T", "Glass bell": "B", "Warm brass": "W",
    "Music box": "X",
}  # fmt: skip


def who(song, bar):
    """Letters of the layers that are placed on a bar (from 0) of the last chorus, in alphabetical order."""
    tick, names = bar * 3840, {x.id: x.name for x in song.layers}
    return "".join(
        sorted(
            LETTERS[names[p.layer_id]]
            for p in song.section_by_id[PEAK.id].placements
            if p.start_ticks <= tick < p.end_ticks
        )
    )


ALL = who(BAND, 15)
DRUMS, RHYTHM = "cehkrs", "bcehkrs"


def minus(letters):
    return "".join(x for x in ALL if x not in letters)


@pytest.mark.parametrize(("text", "plays"), [
    ("drums alone for two bars, then everything", {0: "chkrs", 1: "chkrs", 2: "everybody"}), ("drums for two bars, then bass for two bars, then everything", {1: "chkrs", 2: "b", 3: "b", 4: "everybody"}),
    ("keys and strings for the first eight bars", {0: "pt", 7: "pt", 8: None}), ("melody alone for four bars then the band", {3: "mv", 4: "everybody"}),
    ("only piano for four bars and then as it was", {0: "p", 3: "p", 4: None}), ("no drums for a couple of bars, then full band", {1: ("minus", DRUMS), 2: "everybody"}),
    ("guitar out for the first 4 bars", {0: ("minus", "g"), 4: None}), ("no drums in the first half", {7: ("minus", DRUMS), 8: None}), ("hats only in the second half", {7: None, 8: "h", 15: "h"}),
    ("no kick until bar 5", {3: ("minus", "k"), 4: None}), ("no kick from bar 5", {3: None, 4: ("minus", "k")}), ("bass out for the last two bars", {13: None, 14: ("minus", "b")}),
    ("only the voices in the last phrase", {11: None, 12: "ov"}), ("silence in the last bar", {14: None, 15: ""}), ("nothing in the last bar", {14: None, 15: ""}), ("the drums come in later", {0: ("minus", DRUMS), 8: None}),
    ("full band", {0: "everybody", 15: "everybody"}), ("the full band", {0: "everybody"}), ("everybody in", {0: "everybody"}), ("everything except the drums", {0: "bgmoptv"}), ("all but the guitar", {0: "everybody but g"}),
    ("the kit only", {0: DRUMS}), ("only the rhythm section", {0: RHYTHM}), ("just cymbals and bass", {0: "bhr"}), ("the keys and the voice", {0: "opv"}),
    ("no voices", {0: ("minus", "ov")}), ("no backing vocals", {0: ("minus", "o")}), ("no singing", {0: ("minus", "ov")}), ("without harmonies", {0: ("minus", "o")}), ("no cymbals", {0: ("minus", "hr")}),
    ("no snare and no claps, but keep the hats", {0: ("minus", "cs")}), ("lose the tune", {0: ("minus", "mv")}), ("strings out", {0: ("minus", "t")}),
    ("toms instead of hats", {0: ("minus", "h", "T")}), ("swap the piano for glass bell", {0: ("minus", "p", "B")}), ("replace the snare with claps", {0: ("minus", "s")}), ("horns instead of strings", {0: ("minus", "t", "W")}),
    ("music box in place of the mallet", {0: ("minus", "m", "X")}), ("one by one", {15: None}), ("layers come in one by one", {15: None}), ("leave one by one", {0: None}),
])  # fmt: skip
def test_sentences_with_order_time_and_everyday_words_become_who_plays_when(text, plays):
    option = read_options(BAND, PEAK.id, text)[0]
    assert option.after, option.trouble
    everybody = "".join(sorted("bcehkrsgptmvo"))
    for bar, wanted in plays.items():
        if wanted is None:
            wanted = who(BAND, bar)
        elif isinstance(wanted, tuple):
            wanted = "".join(sorted([x for x in who(BAND, bar) if x not in wanted[1]] + list("".join(wanted[2:]))))
        elif wanted.startswith("everybody"):
            wanted = "".join(
                x for x in everybody if x not in wanted.removeprefix("everybody but ")[:1] or wanted == "everybody"
            )
        assert who(option.after, bar) in (wanted, wanted.replace("e", "")), (bar, who(option.after, bar), wanted)
    assert [who(option.after, bar) for bar in range(16)] != [who(BAND, bar) for bar in range(16)]


def first(song, words):
    layer = next(x.id for x in song.layers if x.name.lower() == words)
    return next(p.variation for p in song.section_by_id[PEAK.id].placements if p.layer_id == layer)


@pytest.mark.parametrize(("text", "layer", "field", "value"), [
    ("bass an octave up", "picked bass", "transpose_semitones", 12), ("a bass an octave up", "picked bass", "transpose_semitones", 12), ("strings an octave down", "bowed strings", "transpose_semitones", -12),
    ("tune up one octave", "wood mallet", "transpose_semitones", 12), ("half the hats", "tin hat", "keep", 0.5), ("fewer hats", "tin hat", "keep", 0.5), ("busier hats", "tin hat", "double", True),
    ("twice as many hats", "tin hat", "double", True), ("double time drums", "tin hat", "double", True), ("guitar softer", "strummed guitar", "level_end_db", -4.0), ("guitar 6 db quieter", "strummed guitar", "level_end_db", -6.0),
    ("louder strings", "bowed strings", "level_start_db", 4.0), ("voices 3 db up", "vowel voice", "level_end_db", 3.0), ("filtered guitar", "strummed guitar", "lowpass_end_hz", 600.0),
    ("piano muffled", "grand piano", "lowpass_start_hz", 600.0), ("low-pass on the drums", "tin hat", "lowpass_end_hz", 600.0), ("open the filter", "grand piano", "slope", 1), ("the filter opens on guitar", "strummed guitar", "slope", 1),
    ("filter closes", "grand piano", "slope", -1), ("fade in strings", "bowed strings", "slope", 1), ("fade out", "grand piano", "slope", -1),
])  # fmt: skip
def test_amounts_octaves_and_filters_become_variations(text, layer, field, value):
    option = read_options(BAND, PEAK.id, text)[0]
    assert option.after, option.trouble
    assert getattr(first(option.after, layer), field) == value


@pytest.mark.parametrize(("text", "kind"), [
    ("a crash on the one", "crash"), ("a riser into it", "riser"), ("with a fill before it", "fill"), ("an impact on the one", "impact"), ("a gap before it", "gap"), ("reversed crash leading in", "reversed-crash"),
])  # fmt: skip
def test_what_carries_a_join_can_be_said(text, kind):
    bare = BAND.with_section(replace(PEAK, devices=(), build=None))
    option = read_options(bare, PEAK.id, text)[0]
    assert option.after and [d.kind for d in option.after.section_by_id[PEAK.id].devices] == [kind], option.trouble


@pytest.mark.parametrize(("text", "says"), [
    ("toms instead of kazoo", "“kazoo” is no layer"), ("only voices and tambourine", "“tambourine” is not understood"), ("no backing vocalz", "Did you mean backing vocals"), ("hats an octave up", "has no pitch"), ("no drums for 40 bars then no bass for 2 bars", "lies beyond"), ("strings two octaves up and strings two octaves up", "at most 24"),
    ("4 bars for the first 2 bars", "changes the length"),
])  # fmt: skip
def test_what_is_not_understood_stays_with_a_hint(text, says):
    option = read_options(BAND, PEAK.id, text)[0]
    assert option.after is None and any(x in option.trouble for x in says.split("|")), option.trouble


def test_no_line_vanishes():
    text = "\n".join(f"no drums for {i} bars" for i in range(1, 30))
    found = read_options(BAND, PEAK.id, text)
    assert len(found) == 29 and any("At most" in o.trouble for o in found)


def test_an_option_is_held_against_what_plays_and_not_against_what_is_remembered():
    """The other sections are resolved anew in between, as when much else was looked at."""
    song, section = small_song(), "Verse"
    before = [section_events(song, span) for span in timeline(song).spans]
    for remembered in (_layer_events, _section_events):
        remembered.cache_clear()
    assert [option.trouble for option in read_options(song, ids(song)[section], "no drums; only bass")] == ["", ""]
    again = [section_events(small_song(), span) for span in timeline(small_song()).spans]
    assert again == before and hash(again[0][ids(song)["Plucked bass"]]) == hash(before[0][ids(song)["Plucked bass"]])
    bass, kick = (before[0][ids(song)[name]] for name in ("Plucked bass", "Round kick"))
    assert bass != kick and bass != bass.table.tobytes()
