"""Layers as parts: stand-ins exchanged at their loudness, groups and what each member adds, places in the mix, what an effect does."""

import pytest

from escalera.core.bench.group_bands import group_bands
from escalera.core.bench.mix_places import PLACES, free_octave, in_its_place, loudness_at_zero, spaces_of, whole_section
from escalera.core.bench.seats import seats
from escalera.core.edits import EDITS
from escalera.core.edits.stand_in_edits import alternatives_to
from escalera.core.palette.sounds import SOUNDS
from escalera.errors import EditError
from escalera.services.dynamics import measured_dynamics
from escalera.services.new_song import new_song
from escalera.services.rendering import Rendering
from escalera.services.starting_loops import song_of
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))
LOOP, _ = song_of("bright-strum")


def loud(song, layer):
    section = song.sections[0]
    return loudness_at_zero(song, section, layer, whole_section(song, section, layer)) + layer.level_db


@pytest.mark.parametrize("layer_id", [x.id for x in LOOP.layers], ids=[x.name for x in LOOP.layers])
def test_a_stand_in_comes_round_through_all_that_could_stand_in_as_loud_as_it_was(layer_id):
    layer, song, seen = LOOP.layer_by_id[layer_id], LOOP, []
    count = len(alternatives_to(layer))
    if count < 2:
        with pytest.raises(EditError, match="No other sound does what"):
            EDITS["exchange_sound"](layer_id).apply(song)
        return
    for _ in range(count):
        song = EDITS["exchange_sound"](layer_id).apply(song)
        now = song.layer_by_id[layer_id]
        assert abs(loud(song, now) - loud(LOOP, layer)) < 0.2 or now.level_db in (12.0, -60.0), now.sound_key
        assert now.family == layer.family and now.stand_in and now.pattern_id == layer.pattern_id
        seen.append(now.sound_key)
    assert seen[-1] == layer.sound_key and len(set(seen)) == count


def test_every_layer_has_a_seat_and_every_seat_a_place():
    for song in (LOOP, new_song(school="weather"), SONG):
        assert [s.layer.id for s in seats(song)] == [x.id for x in song.layers if not x.muted]
        assert all(s.part in PLACES for s in seats(song))
    for sound in SOUNDS:
        song = EDITS["add_layer"](sound.key).apply(SONG)
        assert next(s.part for s in seats(song) if s.layer.id not in SONG.layer_by_id) in PLACES


def test_a_new_pad_goes_an_octave_away_and_to_the_side_where_less_lies():
    song = EDITS["add_layer"]("tine-keys").apply(EDITS["add_layer"]("soft-pad").apply(SONG))
    every = list(seats(song))
    pads = [s for s in every if s.part == "wide"]
    assert pads and free_octave(pads[0], [s for s in every if s is not pads[0]]) != pads[0].layer.octave
    shakers = [EDITS["add_layer"](key) for key in ("seed-shaker", "low-hand-drum")]
    song = SONG
    for step in shakers:
        song = step.apply(song)
        made = max(song.layers, key=lambda x: x.id)
        song = song.with_layer(in_its_place(song, song.sections[0], made.id))
    sides = [x.pan for x in song.layers if x.sound.drum in ("shaker", "low hand drum")]
    assert sides[0] * sides[1] < 0


def test_a_layer_is_sent_into_the_spaces_the_song_has():
    assert spaces_of(LOOP) == ("near", "hall") and spaces_of(SONG) == ("chamber", "hall")
    made = EDITS["add_layer"]("reed-solo", in_place=True).apply(LOOP)
    assert {key for key, _ in max(made.layers, key=lambda x: x.id).sends} <= {"near", "hall"}


def test_a_group_says_what_each_adds_and_is_balanced():
    song = EDITS["group_layers"]([K, B, P], "All").apply(SONG)
    bands = dict(group_bands(song, "All"))
    assert "30–90" in dict(bands["Round kick"]) | dict(bands["Plucked bass"]) and any(
        b in ("250–800", "800–3k") for b, _ in bands["Soft pad"]
    )
    apart = EDITS["set_control"](P, "level_db", -30).apply(song)
    balanced = EDITS["balance_group"]("All").apply(apart)
    assert balanced.layer_by_id[P].level_db > -25 and group_bands(song, "None") == []
    with pytest.raises(EditError, match="no group called"):
        EDITS["mute_group"]("None").apply(song)
    left = EDITS["group_layers"]([K, B], "").apply(song)
    assert not any(x.group for x in left.layers), "one layer alone is no group"


def test_an_effect_says_what_it_does_in_a_section_and_silence_is_said():
    song = EDITS["add_effect"](f"layer.{K}", "compressor", V).apply(SONG)
    effect = song.layer_by_id[K].devices[0]
    assert not effect.on and [t.lane for t in song.section_by_id[V].treatments] == [f"fx.{effect.id}.on"]
    rendering = Rendering(60)
    found = measured_dynamics(rendering, song, V, K, effect.id)
    assert found.crest_db < found.crest_without_db - 2.0 and abs(found.level_db) < 0.2
    silent = EDITS["lift"](V, K, None, None, None).apply(song)
    with pytest.raises(EditError, match="is silent in Verse"):
        measured_dynamics(rendering, silent, V, K, effect.id)
    with pytest.raises(EditError, match="not in the chain any more"):
        measured_dynamics(rendering, song, V, K, 999)
    rendering.close()
