"""Laws of the energy model: what it may not depend on, what must add up, what must move it."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.schools import SCHOOLS, SWITCHES, TERMS, switch_value
from escalera.core.document.song import EnergyScale, Progression
from escalera.core.edits import EDITS
from escalera.core.energy.explain import agreement, explain, fitted_scale
from escalera.core.energy.joins import DEVICES, join_devices
from escalera.core.energy.model import arranged
from escalera.core.energy.refit import with_present_scale
from escalera.core.energy.terms import MODEL
from escalera.core.palette.profiles import MEASURED, note_energy
from escalera.core.palette.sounds import SOUNDS
from escalera.core.rhythm.pattern import Pattern
from tests.songs import HATS, edits_for, ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


def values(song):
    return [s.value for s in arranged(song).sections]


@given(st.data())
def test_shares_and_terms_add_up_to_the_energy(data):
    song = SONG
    for _ in range(3):
        try:
            song = data.draw(edits_for(song)).apply(song)
        except ValueError:
            continue
        except Exception as error:
            assert type(error).__name__ == "EditError"
    for section in arranged(song).sections:
        assert sum(section.shares.values()) == pytest.approx(section.value, abs=1e-6)
        assert section.bars.mean() >= 0 and ((section.tension >= 0) & (section.tension <= 1)).all()
        if section.value > 0 and (section.felt > 0).all():
            assert sum(section.contributions().values()) == pytest.approx(section.value, abs=1e-6)


def double_notated(song):
    """The same music written at twice the tempo with doubled note values."""
    patterns = tuple(
        replace(e, pattern=Pattern(e.pattern.length_ticks * 2, e.pattern.rows * [2, 2, 1, 1, 1, 1]))
        for e in song.patterns
    )
    p = song.progression
    sections = tuple(
        replace(
            s,
            bars=s.bars * 2,
            placements=tuple(
                replace(q, start_ticks=q.start_ticks * 2, end_ticks=q.end_ticks * 2) for q in s.placements
            ),
        )
        for s in song.sections
    )
    doubled = Progression(tuple((2 * t, c) for t, c in p.changes), 2 * p.length_ticks)
    return replace(song, tempo_bpm=song.tempo_bpm * 2, patterns=patterns, sections=sections, progression=doubled)


@pytest.mark.parametrize("tempo", [70.0, 104.0, 128.0, 174.0])
def test_notation_does_not_matter(tempo):
    song = replace(SONG, tempo_bpm=tempo)
    assert values(double_notated(song)) == pytest.approx(values(song), abs=1e-9)


HATTED = EDITS["add_layer"]("tin-hat", rows=HATS, length_ticks=3840).apply(SONG)
HAT = next(x.id for x in HATTED.layers if x.sound_key == "tin-hat")
WIDE = EDITS["set_sound"](P, "wide-saws").apply(SONG)
# what is done to the song, in which section it must be felt, which term must rise with it
RAISES = {
    "hats come in": (HATTED, [("place", dict(section_id=C, layer_id=HAT, pattern_id=HATTED.layer_by_id[HAT].pattern_id))], "drive"),
    "the filter opens": (EDITS["set_control"](P, "lowpass_hz", 300).apply(WIDE), [("set_control", dict(layer_id=P, control="lowpass_hz", value=12000))], "brightness"),
    "the pad is replaced by saws": (SONG, [("set_sound", dict(layer_id=P, sound="wide-saws"))], "fullness"),
    "a voice joins": (EDITS["set_family"](P, "voices").apply(EDITS["set_control"](P, "level_db", -40).apply(SONG)), [("set_control", dict(layer_id=P, control="level_db", value=-10))], "voice"),
    "the sub is louder": (EDITS["set_sound"](B, "sub-sine").apply(SONG), [("set_control", dict(layer_id=B, control="level_db", value=-6))], "weight"),
    "an effect's filter opens": (
        EDITS["add_effect"](f"layer.{P}", "low-pass").apply(WIDE), [("set_value", dict(lane=f"layer.{P}.fx.{WIDE.next_id}.cutoff_hz", value=15000))], "brightness"),
    "the mix's filter opens": (
        EDITS["add_effect"]("master", "low-pass").apply(WIDE), [("set_value", dict(lane=f"master.fx.{WIDE.next_id}.cutoff_hz", value=15000))], "brightness"),
    "a curve lifts a level": (EDITS["set_control"](P, "level_db", -30).apply(WIDE), [("set_curve", dict(section_id=C, lane=f"layer.{P}.level_db", points=[[0, -30, "line"], [7680, -8, "line"]]))], "fullness"),
    "a bus is turned up": (EDITS["set_value"]("bus.chords.level_db", -20).apply(WIDE), [("set_value", dict(lane="bus.chords.level_db", value=0))], "fullness"),
    "a section treats a layer brighter": (EDITS["set_control"](P, "lowpass_hz", 300).apply(WIDE), [("treat", dict(section_id=C, layer_id=P, lane="lowpass_hz", value=12000))], "brightness"),
    "a sound is stacked on the bass": (EDITS["set_muted"](K, True).apply(EDITS["set_control"](B, "level_db", -26).apply(SONG)), [("add_stack", dict(layer_id=B, sound="sub-sine")), ("add_stack", dict(layer_id=B, sound="kick-bass"))], "weight"),
    "the key goes up": (SONG, [("shift_section", dict(section_id=C, semitones=2))], "height"),
}  # fmt: skip


@pytest.mark.parametrize("what", RAISES)
def test_what_raises_energy_raises_it_through_its_term(what):
    before, edits, term = RAISES[what]
    after = before
    for kind, fields in edits:
        after = EDITS[kind](**fields).apply(after)
    x, y = arranged(before).of(C), arranged(after).of(C)
    at = TERMS.index(term)
    assert y.mean_terms[at] > x.mean_terms[at] + 0.005
    assert y.value > x.value


def test_opening_a_filter_over_a_section_shows_bar_by_bar():
    song = EDITS["vary"](C, P, lowpass_start_hz=200, lowpass_end_hz=9000).apply(WIDE)
    bars = arranged(song).of(C).bars
    assert bars[-1] > bars[0] + 0.3 and (np.diff(bars) > -0.05).all()


def test_a_filter_curve_shows_bar_by_bar_and_only_where_it_is():
    song = EDITS["set_curve"](C, f"layer.{P}.lowpass_hz", [[0, 200, "line"], [8 * 3840, 9000, "line"]]).apply(WIDE)
    bars = arranged(song).of(C).bars
    assert bars[-1] > bars[0] + 0.3 and arranged(song).of(V).value == arranged(WIDE).of(V).value


def test_a_masked_layer_loses_nothing_and_says_so():
    song = EDITS["set_control"](P, "level_db", -59).apply(SONG)
    section = arranged(song).of(C)
    assert abs(section.without[P] - 0) < 0.6 and section.without[P] < section.without[K]


def test_silence_has_no_energy():
    song = SONG
    for layer in SONG.layers:
        song = EDITS["set_muted"](layer.id, True).apply(song)
    assert values(song) == [0.0, 0.0]


def test_an_explanation_names_the_layer_that_makes_the_difference():
    song = EDITS["lift"](V, K).apply(SONG)
    energy = arranged(song)
    why = explain(energy.of(C), energy.of(V))
    assert {c.how for c in why.layers if c.layer_id in (K, P)} == {"in"}
    assert sum(c.points for c in why.layers) == pytest.approx(energy.of(C).value - energy.of(V).value, abs=0.6)
    assert "against Verse" in why.sentence("Verse") and "Round kick" in why.sentence("Verse")


def test_agreement_counts_joins_that_move_as_meant():
    song = EDITS["set_target"](V, 3).apply(EDITS["set_target"](C, 8).apply(SONG))
    assert agreement(song.sections, [2.0, 7.0], [(2.0, 2.0), (7.0, 7.0)]).joins_as_meant == 1
    found = agreement(song.sections, [5.0, 4.0], [(5.0, 5.0), (4.0, 4.0)])
    assert (found.joins_as_meant, found.joins, found.mean_distance, found.worst_section_id) == (0, 1, 3.0, C)


def test_fitting_meets_the_lowest_and_highest_targets_and_then_stands():
    song = EDITS["lift"](V, K).apply(EDITS["set_target"](V, 3).apply(EDITS["set_target"](C, 8).apply(SONG)))
    gain, offset = fitted_scale(arranged(song))
    fitted = EDITS["set_scale"](gain, offset).apply(song)
    assert max(values(fitted)) == pytest.approx(8.0, abs=0.3)
    louder = EDITS["toggle_tile"](V, K, 0).apply(fitted)
    assert values(louder)[0] > values(fitted)[0], "an edit always shows"


def test_tension_rises_with_a_riser_and_is_not_summed():
    song = EDITS["add_layer"]("noise-riser", rows=[[0, 4 * 3840 - 10, 0, 60, 0, 100]], length_ticks=4 * 3840).apply(
        SONG
    )
    riser = song.layers[-1]
    song = EDITS["place"](V, riser.id, riser.pattern_id, phrase=1).apply(song)
    before, after = arranged(SONG).of(V), arranged(song).of(V)
    assert after.tension[:4].max() == 0.0 and after.tension[-1] > 0.4 and (np.diff(after.tension[4:]) > 0).all()
    assert after.value - before.value < 1.0
    cores, flat = ([section.core for section in arranged(x).sections] for x in (song, SONG))
    assert "rise" in join_devices(*cores) and join_devices(*flat) == ("nothing",)
    assert set(join_devices(*cores)) <= set(DEVICES)


@pytest.mark.parametrize("key", SCHOOLS)
def test_a_school_is_whole(key):
    school = SCHOOLS[key]
    assert set(school.weights) == set(TERMS) and sum(school.weights.values()) == pytest.approx(10, abs=0.6)
    assert set(school.switches) <= set(SWITCHES)
    for name, switch in SWITCHES.items():
        assert switch_value(key, (), name) in switch.options
        other = next(o for o in switch.options if o != switch_value(key, (), name))
        assert switch_value(key, ((name, other),), name) == other


def test_profiles_cover_the_palette_and_grow_with_length():
    assert set(MEASURED) == {s.key for s in SOUNDS}
    for sound in SOUNDS:
        short, long = note_energy(sound.key, np.array([sound.centre] * 2, float), np.array([0.3, 3.0])).sum(axis=1)
        assert long >= short * 0.85 > 0  # two slowly beating voices may be lower later


def test_a_section_is_at_its_own_place_whatever_was_computed_before():
    arranged(SONG)
    moved = EDITS["set_target"](C, 9).apply(EDITS["add_section"]("Intro", "", 3, 0).apply(SONG))
    assert [(s.span.first_bar, s.span.section.target.start) for s in arranged(moved).sections][2] == (12, 9)
    assert [s.span.first_bar for s in arranged(small_song()).sections] == [1, 9]


def test_a_scale_fitted_to_an_earlier_model_is_fitted_once_and_that_is_said():
    old = replace(small_song(), scale=EnergyScale(1.3, -0.4))
    new = with_present_scale(old)
    fitted = fitted_scale(arranged(old))
    assert (new.scale.gain, new.scale.offset) == fitted and new.scale.refitted and new.scale.model == MODEL
    assert [s.target for s in new.sections] == [s.target for s in old.sections]
    assert with_present_scale(new) is new and with_present_scale(small_song()) == small_song()
    again = EDITS["set_scale"](*fitted).apply(new)
    assert not again.scale.refitted and with_present_scale(again) is again
