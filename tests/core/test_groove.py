"""Beats: spoken, tapped, compared, varied, timed; as the song plays them."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.edits.groove_edits import NOTES
from escalera.core.reading.events import START, layer_events
from escalera.core.reading.groove_reading import family_of, groove_at, groove_beat, phrase_beat, swing_clashes, used_in
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.beat import LANES, Hit, beat, beat_of_patterns, changes, patterns_of, shortest, tiled
from escalera.core.rhythm.beat_variations import VARIATIONS, vary, with_fill
from escalera.core.rhythm.density import denser, places_in_order
from escalera.core.rhythm.groove_family import FAMILY, related
from escalera.core.rhythm.likeness import distance, folded
from escalera.core.rhythm.measures import (
    anchors,
    evenness,
    kick_and_bass,
    looseness_ms,
    measures,
    swing_of,
    syncopation,
)
from escalera.core.rhythm.performance import humanise, playable, quantise
from escalera.core.rhythm.spoken_beats import WORDS, hear, parse_spoken, write_spoken
from escalera.core.rhythm.tapped_beats import read_tapped
from escalera.core.time.metre import Metre, parse_metre
from escalera.errors import EditError
from escalera.services.groove_library import Wanted, listed_grooves, tapped_alike
from escalera.services.library import grooves
from tests.songs import ids, small_song

COMMON = Metre()
ALL = grooves()
BUILT_IN = [g for g in ALL.values() if g.role != "ends"]


def said(text, metre=COMMON):
    return parse_spoken(text, metre)


def rows(played):
    return [(h.tick, h.drum) for h in played.hits]


# spoken -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("text", "metre", "expected"), [
    ("boom ka boom-boom ka", "4/4", [(0, "kick"), (960, "snare"), (1920, "kick"), (2400, "kick"), (2880, "snare")]),
    ("boom+ts ts-ts-ts", "4/4", [(0, "kick"), (0, "closed hat"), (960, "closed hat"), (1280, "closed hat"), (1600, "closed hat")]),
    ("boom .-.-.-ka | . BOOM", "4/4", [(0, "kick"), (1680, "snare"), (4800, "kick")]), ("boom-ka-ka boom", "6/8", [(0, "kick"), (480, "snare"), (960, "snare"), (1440, "kick")]),
    ("boom . . . ka", "4/4", [(0, "kick"), (3840, "snare")]), ("boom ka ka", "3/4", [(0, "kick"), (960, "snare"), (1920, "snare")]),
])  # fmt: skip
def test_a_word_is_a_beat_and_a_hyphen_divides_it(text, metre, expected):
    assert rows(said(text, parse_metre(metre))) == expected


WORD = st.sampled_from([*WORDS, "."]).flatmap(lambda w: st.sampled_from([w, f"{w}+ts"]) if w != "." else st.just(w))
BEAT = st.lists(WORD, min_size=1, max_size=4).map("-".join)


@given(st.lists(st.lists(BEAT, min_size=1, max_size=4).map(" ".join), min_size=1, max_size=3).map(" | ".join))
def test_canonical_text_to_pattern_and_back_is_identity(text):
    canonical = write_spoken(hear(text, COMMON).beat)
    again = hear(canonical, COMMON)
    assert (
        not again.problems
        and write_spoken(again.beat) == canonical
        and rows(again.beat) == rows(hear(text, COMMON).beat)
    )


@pytest.mark.parametrize("key", ALL)
def test_every_built_in_groove_can_be_said_and_played_by_one_drummer(key):
    entry = ALL[key]
    assert rows(said(write_spoken(entry.beat), entry.beat.metre)) == rows(entry.beat)
    assert playable(entry.beat) == entry.beat
    assert 1 <= entry.energy <= 5 and entry.role in ("carries", "leaves space", "ends") and entry.beat.hits


@pytest.mark.parametrize(("text", "says", "offers"), [
    ("boom zap ka", "Bar 1, beat 2: “zap” is not a word for a drum yet", ()), ("boom kaa", "Say one of ka", ("ka", "kah", "kling")), ("boom ka boom ka ka | boom", "bar 1 has 5 beats; a bar of 4/4 holds 4", ()),
    ("boom--ka", "a hyphen with nothing beside it", ()), (". . .", "Nothing is said yet", None), (" | ".join(["boom"] * 20), "20 bars are more than the 16", ()),
])  # fmt: skip
def test_what_cannot_be_understood_is_pointed_at_and_the_rest_kept(text, says, offers):
    with pytest.raises(EditError, match=says):
        said(text)
    heard = hear(text, COMMON)
    if offers is not None:
        assert heard.problems[0].offers[: len(offers)] == offers and heard.beat.hits


def test_own_words_are_understood_and_written():
    own = {"bap": "snare"}
    assert rows(parse_spoken("boom bap", COMMON, own)) == [(0, "kick"), (960, "snare")]
    assert hear("boom bap", COMMON).problems[0].text == "bap"


# tapped -----------------------------------------------------------------------------------------------------------

TAPPED = {"straight": ((0, "kick"), (1, "snare"), (2, "kick"), (2.5, "kick"), (3, "snare")), "sixteenths": ((0, "kick"), (1, "snare"), (2, "kick"), (2.75, "kick"), (3, "snare")),
          "triplets": ((0, "kick"), (2 / 3, "kick"), (1, "snare"), (5 / 3, "kick"), (2, "kick"), (3, "snare"))}  # fmt: skip


@pytest.mark.parametrize("name", TAPPED)
def test_taps_become_the_beat_that_was_meant(name):
    right = 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        tempo = rng.uniform(93, 113)
        taps = [
            ((t + 4 * bar) * 60 / tempo + rng.normal(0, 0.012) + 5, drum)
            for bar in range(2)
            for t, drum in TAPPED[name]
        ]
        found = read_tapped(taps, 5.0, 104, COMMON)
        right += (
            rows(found.beat) == sorted((round(t * 960), d) for t, d in TAPPED[name])
            and abs(found.tempo_bpm / tempo - 1) < 0.03
        )
        assert 3 < found.looseness_ms < 25
    assert right >= 38


def test_the_one_may_come_later_and_taps_without_a_beat_are_refused():
    taps = [(t * 0.5, "kick" if t % 2 else "snare") for t in range(8)]
    assert rows(read_tapped(taps, 0.5, 120, COMMON).beat) == [
        (0, "kick"),
        (960, "snare"),
        (1920, "kick"),
        (2880, "snare"),
    ]
    rng = np.random.default_rng(2)
    with pytest.raises(EditError, match="fit no steady beat"):
        read_tapped([(float(t), "kick") for t in np.sort(rng.uniform(0, 5, 24))], None, 104, COMMON)
    with pytest.raises(EditError, match="too few"):
        read_tapped([(0, "kick")], None, 104, COMMON)


# likeness ---------------------------------------------------------------------------------------------------------


def test_likeness_is_symmetric_and_zero_for_itself():
    some = BUILT_IN[::5]
    for a in some:
        assert distance(a.beat, a.beat) == 0
        for b in some:
            assert distance(a.beat, b.beat) == distance(b.beat, a.beat)
    assert distance(ALL["plain-waltz"].beat, ALL["plain-four"].beat) is None


@pytest.mark.parametrize(
    "variation", ["busier", "sparser", "ghosts", "lead-ride", "crash-one", "every-fourth", "open-up"]
)
def test_a_known_variation_is_nearer_than_nearly_all_other_grooves(variation):
    ranks = []
    for entry in BUILT_IN:
        varied = vary(entry.beat, variation)
        apart = distance(entry.beat, varied)
        nearer = [g for g in BUILT_IN if g is not entry and (d := distance(g.beat, varied)) is not None and d < apart]
        ranks.append(len(nearer))
    assert np.median(ranks) <= 1


def test_what_differs_is_told_hit_by_hit_and_leads_from_one_to_the_other():
    a, b = (
        said("boom+ts ka boom ka"),
        said("boom ka+ts boom-boom ka").with_hits([*said("boom ka+ts boom-boom ka").hits]),
    )
    told = changes(a, b)
    assert [(c.kind, c.drum, c.tick) for c in told] == [
        ("less", "closed hat", 0),
        ("more", "closed hat", 960),
        ("more", "kick", 2400),
    ]
    hits = {(h.drum, h.tick): h for h in a.hits}
    for c in told:
        if c.kind == "less":
            del hits[(c.drum, c.tick)]
        else:
            hits[(c.drum, c.tick)] = Hit(c.tick, c.drum, c.velocity)
    assert a.with_hits(hits.values()) == b


# variations -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", VARIATIONS)
def test_a_variation_keeps_the_anchors_and_can_be_played(key):
    changed = 0
    for entry in BUILT_IN:
        varied = vary(entry.beat, key)
        changed += varied != entry.beat
        assert varied.length_ticks == entry.beat.length_ticks
        if VARIATIONS[key].keeps_anchors:
            assert anchors(entry.beat) <= {(h.drum, h.tick) for h in varied.hits}, entry.name
        assert playable(varied) == varied
    assert changed >= (4 if key == "cut-short" else len(BUILT_IN) * 0.4), "it does something to many grooves"


def test_busier_has_more_sparser_fewer_and_a_crash_takes_the_hats_hand():
    for entry in BUILT_IN:
        count = len(entry.beat.hits)
        assert len(vary(entry.beat, "busier").hits) >= count > 0 and len(vary(entry.beat, "sparser").hits) <= count
    struck = playable(said("boom+ts+ka ts").with_hits([*said("boom+ts+ka ts").hits, Hit(0, "crash")]))
    assert [h.drum for h in struck.hits if h.tick == 0] == ["kick", "snare", "crash"]


def test_a_fill_takes_the_last_bar_where_it_plays():
    fill = ALL["two-snares"].beat
    filled = with_fill(said("boom ka boom ka"), fill, 4)
    assert filled.bars == 4 and rows(filled)[:4] == rows(said("boom ka boom ka"))
    assert [t - 3 * 3840 for t, _ in rows(filled)[12:]] == [0, 960, 1920, 2880, 3360]


# timing -----------------------------------------------------------------------------------------------------------


@given(st.integers(0, 500), st.floats(0, 25))
def test_humanise_stays_within_its_bound_and_is_the_same_for_the_same_seed(seed, amount):
    played = said("boom-ts ka-ts boom-ts ka-ts")
    moved = humanise(played, amount, 120, seed)
    assert moved == humanise(played, amount, 120, seed)
    limit = amount / 1000 * 120 / 60 * 960 + 1
    homes = {round(h.tick / 480) * 480 for h in moved.hits}
    assert homes == {h.tick for h in played.hits} and all(
        abs(h.tick - round(h.tick / 480) * 480) <= limit for h in moved.hits
    )


@given(st.integers(0, 99), st.sampled_from([0.0, 0.5, 1.0]))
def test_quantise_moves_by_its_amount(seed, amount):
    loose = humanise(said("boom-ts ka-ts boom-ts ka-ts"), 20, 120, seed)
    tight = quantise(loose, 480, amount)
    before, after = ([abs(h.tick - round(h.tick / 480) * 480) for h in b.hits] for b in (loose, tight))
    assert max(after) <= max(before) * (1 - amount) + 1


@pytest.mark.parametrize(
    ("percent", "subdivision", "grid"),
    [(50, "1/8", 480), (58, "1/8", 480), (66, "1/8", 480), (75, "1/16", 240), (62, "1/16", 240)],
)
def test_swing_is_heard_where_it_was_set_and_measured_as_set(percent, subdivision, grid):
    song = EDITS["add_groove"](
        "Hats", 3840, [[t, "closed hat", 80] for t in range(0, 3840, grid)], section_id=ids(small_song())["Verse"]
    ).apply(small_song())
    verse = ids(small_song())["Verse"]
    swung = EDITS["set_swing"](verse, percent, subdivision).apply(song)
    hats = next(x for x in swung.layers if x.sound.drum == "closed hat")
    line = timeline(swung)
    assert swing_of(layer_events(swung, line.span_of(verse), hats).table[:, START], grid) == pytest.approx(
        percent / 100, abs=0.003
    )
    assert phrase_beat(swung, line.span_of(verse), 0) == phrase_beat(song, timeline(song).span_of(verse), 0), (
        "the groove itself stays straight"
    )


def test_straight_and_swung_layers_together_are_warned_of():
    song = small_song()
    verse, bass = ids(song)["Verse"], ids(song)["Plucked bass"]
    song = EDITS["add_groove"](
        "Hats", 3840, [[t, "closed hat", 80] for t in range(0, 3840, 480)], section_id=verse
    ).apply(song)
    span = timeline(song).span_of(verse)
    assert not swing_clashes(song, span)
    swung = EDITS["set_swing"](verse, 64, "1/8", bass).apply(song)
    clash = swing_clashes(swung, timeline(swung).span_of(verse))[0]
    assert clash.subdivision == "eighths" and "Plucked bass" in clash.swung and "Tin hat" in clash.straight
    together = EDITS["set_swing"](verse, 64, "1/8").apply(swung)
    assert not swing_clashes(together, timeline(together).span_of(verse))


# measures ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "synced", "even"),
    [
        ("boom boom boom boom", 0.0, 1.0),
        ("boom .-boom .-boom .-boom", 0.3, 0.4),
        ("boom-boom boom-boom boom-boom boom-boom", 0.0, 1.0),
    ],
)
def test_measures_tell_straight_from_syncopated(text, synced, even):
    assert syncopation(said(text)) == pytest.approx(synced, abs=0.25) if synced else syncopation(said(text)) == 0
    assert evenness(said(text)) == pytest.approx(even, abs=0.35)
    assert measures(said(text), 120).hits_per_second == pytest.approx(measures(said(text), 120).hits_per_beat * 2)


@pytest.mark.parametrize(("kicks", "notes", "ducked", "says"), [
    ([0, 1920], [0, 1920], 0, "mask each other"), ([0, 1920], [10, 1930], 6, "lock: they start together, and the bass steps back"), ([0, 1920], [960, 2880], 0, "apart: the bass answers"), ([], [0], 0, "no kick"), ([0, 1920, 2880], [0], 0, "now together"),
])  # fmt: skip
def test_kick_and_bass_lock_or_mask(kicks, notes, ducked, says):
    assert says in kick_and_bass(kicks, notes, ducked).said


def test_looseness_is_the_spread_about_the_steps():
    rng = np.random.default_rng(1)
    ticks = np.arange(200) * 240 + rng.normal(0, 19.2, 200)  # 10 ms at 120
    assert looseness_ms(ticks, 240, 120) == pytest.approx(10, abs=1.5)


# in the song ------------------------------------------------------------------------------------------------------


def test_patterns_and_beats_are_the_same_thing():
    played = said("boom+ts ts ka+ts ts | boom . ka .")
    assert beat_of_patterns(patterns_of(played, NOTES), COMMON) == played
    assert shortest(tiled(said("boom ka boom ka"), 4 * 3840)).length_ticks == 3840 and set(NOTES) == set(LANES)
    with pytest.raises(EditError, match="17 bars is too long"):
        beat(17 * 3840, COMMON, [Hit(0, "kick")])


def test_a_groove_is_written_varied_and_found_where_it_plays():
    song = small_song()
    verse, chorus = ids(song)["Verse"], ids(song)["Chorus"]
    song = EDITS["adopt_groove"](verse, 0, "Main").apply(song)
    groove = song.grooves[0]
    assert len(used_in(song, groove)) == 4 and groove_beat(song, groove).drums == ("kick",)
    song = EDITS["set_hit"](groove.id, "snare", 960, 100).apply(song)
    assert phrase_beat(song, timeline(song).span_of(chorus), 1).drums == ("kick", "snare"), "everywhere it is used"
    song = EDITS["vary_groove"](groove.id, "half-time", chorus, 1).apply(song)
    section = song.section_by_id[chorus]
    assert (
        groove_at(song, section, 4 * 3840, 8 * 3840).variant_of == groove.id
        and groove_at(song, section, 0, 3840).id == groove.id
    )
    assert [g.name for g in family_of(song, song.grooves[1])] == ["Main", "Main B"] and song.grooves[
        1
    ].made == "half time"
    with pytest.raises(EditError, match="longer than"):
        long = EDITS["stretch_groove"](groove.id, 8).apply(song)
        EDITS["place_groove"](groove.id, chorus, 0).apply(long)


def test_saying_a_groove_keeps_the_velocities_of_the_hits_that_stay():
    song = EDITS["adopt_groove"](ids(small_song())["Verse"], 0, "Main").apply(small_song())
    song = EDITS["set_hit"](song.grooves[0].id, "kick", 960, 33).apply(song)
    song = EDITS["say_groove"](song.grooves[0].id, "boom boom+ka boom boom").apply(song)
    assert [h.velocity for h in groove_beat(song, song.grooves[0]).of("kick")] == [100, 33, 100, 100]


def test_a_pickup_and_a_replaced_velocity_survive_the_groove():
    played = beat(3840, COMMON, [Hit(-240, "snare", 60), Hit(0, "kick", 127)])
    assert beat_of_patterns(patterns_of(played, NOTES), COMMON) == played and replace(played, hits=played.hits[1:]).hits


@pytest.mark.parametrize(("text", "metre", "bars", "said"), [
    ("kick, snare, kick-kick, snare", "4/4", 1, "boom ka boom-boom ka"), ("kick snare hat snare x2", "4/4", 2, "boom ka ts ka | boom ka ts ka"),
    ("boom ka boom ka x2 | boom boom boom boom", "4/4", 3, "boom ka boom ka | boom ka boom ka | boom boom boom boom"),
    ("kick hat hat snare hat hat", "6/8", 1, "boom-ts-ts ka-ts-ts"), ("kick and hat, hat, snare with hat, hat", "4/4", 1, "boom+ts ts ka+ts ts"),
    ("Open hat, kick, low tom, rest", "4/4", 1, "tss boom dum ."), ("boom ka | boom ka", "6/8", 2, "boom ka | boom ka"),
])  # fmt: skip
def test_beats_are_said_with_names_commas_repeats_and_eighths(text, metre, bars, said):
    heard = hear(text, parse_metre(metre))
    assert not heard.problems and heard.beat.bars == bars
    assert write_spoken(heard.beat) == said


def test_a_crash_on_the_one_of_a_short_groove_falls_once_in_its_phrase():
    verse = ids(small_song())["Verse"]
    song = EDITS["adopt_groove"](verse, 0).apply(small_song())
    groove = song.grooves[0]
    assert groove_beat(song, groove).bars == 1
    song = EDITS["vary_groove"](groove.id, "crash-one", verse, 0).apply(song)
    crash = next(x for x in song.layers if x.sound.drum == "crash")
    span = timeline(song).span_of(verse)
    assert layer_events(song, span, crash).table[:, START].tolist() == [0]


# more of a beat -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("groove", BUILT_IN[::5], ids=lambda g: g.key)
@pytest.mark.parametrize("drum", ["kick", "snare", "closed hat", "low tom"])
def test_a_drum_gets_busier_and_sparser_place_by_place(groove, drum):
    counts, busier = [len(groove.beat.of(drum))], groove.beat
    for _ in range(4):
        busier = denser(busier, drum, 1)
        counts.append(len(busier.of(drum)))
        assert playable(busier) == busier and set(busier.of(drum)) >= set(groove.beat.of(drum))
    full = counts[0] == len(places_in_order(groove.beat, drum)) * groove.beat.bars
    assert counts == sorted(counts) and (counts[-1] > counts[0] or full)
    sparser = busier
    for _ in range(40):
        left = denser(sparser, drum, -1)
        assert len(left.of(drum)) < len(sparser.of(drum)) or not sparser.of(drum)
        assert [h for h in left.hits if h.drum != drum] == [h for h in sparser.hits if h.drum != drum]
        sparser = left
    assert not sparser.of(drum)


@pytest.mark.parametrize(("drum", "metre", "first"), [
    ("kick", "4/4", [0, 1920, 1440]), ("snare", "4/4", [960, 2880, 720]), ("closed hat", "4/4", [0, 960, 1920]), ("open hat", "4/4", [3360]),
    ("low tom", "4/4", [3360]), ("kick", "3/4", [0, 1920]), ("snare", "6/8", [1440]), ("crash", "4/4", [0]),
])  # fmt: skip
def test_what_a_player_would_add_first(drum, metre, first):
    bar = parse_metre(metre)
    assert places_in_order(beat(bar.bar_ticks, bar, ()), drum)[: len(first)] == first


@pytest.mark.parametrize("key", FAMILY)
def test_every_part_of_a_song_has_its_relative_of_a_beat(key):
    made = [related(g.beat, key, 4) for g in BUILT_IN]
    assert all(m.hits and playable(m) == m for m in made if m.metre == COMMON)
    assert sum(m != g.beat for m, g in zip(made, BUILT_IN)) >= (0 if key == "plain" else len(BUILT_IN) // 2)


@pytest.mark.parametrize(("wanted", "holds"), [
    (Wanted(), lambda g: True), (Wanted(has="low tom"), lambda g: "low tom" in g.beat.drums), (Wanted(lacks="kick"), lambda g: "kick" not in g.beat.drums),
    (Wanted(energy_from=4), lambda g: g.energy >= 4), (Wanted(role="ends"), lambda g: g.role == "ends"), (Wanted(role="beat", energy_to=2), lambda g: g.role != "ends" and g.energy <= 2),
])  # fmt: skip
def test_two_pads_find_the_groove_that_was_meant_among_those_that_have_what_is_asked_for(wanted, holds):
    listed = [g for g in listed_grooves(small_song()) if holds(g) and len(folded(g.beat).hits) >= 3]
    assert listed and all(wanted.meets(g) == holds(g) for g in listed_grooves(small_song()))
    for meant in listed[:: max(1, len(listed) // 6)]:
        found = tapped_alike(folded(meant.beat), small_song(), wanted)
        assert found[0].distance == 0 and all(holds(ALL[a.key]) for a in found)
    assert folded(said("boom ts ka dum")).drums == ("kick", "snare")
