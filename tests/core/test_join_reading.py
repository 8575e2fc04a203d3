"""What is read of joins: devices found in patterns, likeness and what would vary it, gaps and tension, places in bars and beats."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.energy.join_cues import join_cues, place_seconds, place_text
from escalera.core.energy.join_reading import (
    Carrier,
    found_carriers,
    likeness,
    lows_out_ticks,
    read_join,
    wanted_tension,
)
from escalera.core.moves.join_moves import join_variations, nearest_join
from escalera.core.moves.move import apply_move
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.reading.timeline import timeline
from escalera.services.demo import demo_songs
from tests.songs import ids, small_song

SONG = small_song()
NAMES = ids(SONG)
V, C, B, K, P = (NAMES[n] for n in ("Verse", "Chorus", "Plucked bass", "Round kick", "Soft pad"))
HARBOUR, _ = demo_songs()


def layered(sound, rows, section, length=30720, **where):
    song = EDITS["add_layer"](sound, rows=rows, length_ticks=length).apply(SONG)
    layer = next(x for x in song.layers if x.id not in SONG.layer_by_id)
    return EDITS["place"](section, layer.id, layer.pattern_id, **where).apply(song)


def padded(**variation):
    return EDITS["vary"](V, P, phrase=1, **variation).apply(EDITS["toggle_tile"](V, P, 1).apply(SONG))


# kind: (song where it is found at the join, where it begins in beats), song that has something like it and where it is not found
FOUND = {
    "riser": (layered("tone-riser", [[15360, 15300, 0, 57, 0, 100]], V), -16, layered("tone-riser", [[0, 3840, 0, 57, 0, 100]], V)),
    "reversed-crash": (layered("reversed-crash", [[26880, 3800, 0, 60, 0, 100]], V), -4, layered("reversed-crash", [[0, 3800, 0, 60, 0, 100]], V)),
    "roll": (layered("room-snare", [[29760 + 240 * i, 100, 0, 38, 0, 100] for i in range(4)], V), -1, layered("room-snare", [[29760, 100, 0, 38, 0, 100]], V)),
    "fill": (layered("low-tom", [[28800 + 480 * i, 100, 0, 41, 0, 100] for i in range(4)], V), -2, layered("low-tom", [[960 * i, 100, 0, 41, 0, 100] for i in range(32)], V)),
    "crash": (layered("wide-crash", [[0, 960, 0, 49, 0, 100]], C), 0, layered("wide-crash", [[960, 960, 0, 49, 0, 100]], C)),
    "impact": (layered("deep-impact", [[0, 3840, 0, 60, 0, 100]], C), 0, layered("deep-impact", [[1920, 3840, 0, 60, 0, 100]], C)),
    "sub-drop": (layered("sub-drop", [[0, 3840, 0, 60, 0, 100]], C), 0, layered("sub-drop", [[3840, 3840, 0, 60, 0, 100]], C)),
    "filter-open": (padded(lowpass_start_hz=300, lowpass_end_hz=9000), -16, padded(lowpass_start_hz=9000, lowpass_end_hz=300)),
    "pickup": (layered("glass-bell", [[-480, 400, 0, 72, 0, 90], [0, 400, 0, 76, 0, 90]], C), -0.5, layered("glass-bell", [[0, 400, 0, 76, 0, 90]], C)),
}  # fmt: skip


@pytest.mark.parametrize("kind", FOUND)
def test_a_device_in_patterns_is_found_where_it_is_and_only_there(kind):
    there, start, absent = FOUND[kind]
    found = [c for c in found_carriers(there, 1) if c.kind == kind]
    assert [c.start_ticks / 960 for c in found] == [start] and not found[0].placed
    assert kind not in {c.kind for c in found_carriers(absent, 1)}


carriers = st.lists(
    st.builds(Carrier, st.sampled_from(sorted(JOIN_KINDS)), st.integers(-16, 0).map(lambda b: 960 * b), st.integers(1, 8).map(lambda b: 960 * b), st.just(0), st.booleans()),
    max_size=5,
)  # fmt: skip


@given(carriers, carriers)
def test_likeness_is_a_share_that_goes_both_ways(a, b):
    there, back = likeness(a, b, 960), likeness(b, a, 960)
    assert 0.0 <= there <= 1.0 and likeness(a, a, 960) == 1.0
    if len({c.kind for c in (*a, *b)}) == len(a) + len(b):
        assert there == back == (0.0 if a or b else 1.0)


def test_a_join_that_was_copied_is_varied_away_from_the_first():
    chorus = {s.name: s.id for s in HARBOUR.sections}
    song = EDITS["add_device"](chorus["Verse 2"], "riser").apply(HARBOUR)
    song = EDITS["add_device"](chorus["Verse 2"], "gap").apply(song)
    song = EDITS["copy_join"](chorus["Break"], chorus["Verse 2"]).apply(song)
    index = song.index_of(chorus["Break"])
    near = nearest_join(song, index)
    assert near is not None
    ways = join_variations(song, index)
    assert ways and all(w.after < w.before for w in ways) and [w.after for w in ways] == sorted(w.after for w in ways)
    after = apply_move(song, ways[0].move)
    nearest = read_join(after, near[0])
    assert likeness(read_join(after, index).carriers, nearest.carriers, 960) == pytest.approx(ways[0].after)


@pytest.mark.parametrize("beats", [0.5, 1, 3])
def test_a_gap_is_as_long_as_it_was_placed_and_tension_holds_through_it(beats):
    song = EDITS["add_device"](C, "riser", -7680, 7680).apply(SONG)
    song = EDITS["add_device"](C, "gap", round(-960 * beats), round(960 * beats)).apply(song)
    reading = read_join(song, 1)
    assert reading.gap_beats == beats
    if beats >= 1:
        assert reading.peak_ticks == -960 and reading.tension[-1] == reading.tension.max()


def test_low_end_that_is_gone_is_told_and_a_build_is_held_against_its_shape():
    song = EDITS["set_build"](
        C, 4, "late", [B], [], [7680, 3840, 1920], False, True, 0, 300.0, 0.0, 0, False, 3840, 960
    ).apply(SONG)
    reading = read_join(song, 1)
    assert lows_out_ticks(reading) == 3840 and lows_out_ticks(read_join(SONG, 1)) == 0
    wanted = wanted_tension(song, 1)
    assert wanted is not None and wanted_tension(SONG, 1) is None
    assert np.isnan(wanted[:16]).all() and wanted[16] < 0.05 < 0.9 < wanted[-1]
    told = reading.tension[~np.isnan(wanted)]
    assert np.corrcoef(told, wanted[16:])[0, 1] > 0.7, "what it makes follows what it asks for"


@pytest.mark.parametrize(
    "tick, text, seconds",
    [
        (0, "9.1", 16.0),
        (-960, "8.4", 15.5),
        (-3840 * 8, "1.1", 0.0),
        (120, "9.1.120", 16.0625),
        (-1, "8.4.959", 15.99948),
        (-(10**6), "1.1", 0.0),
    ],
)
def test_places_are_counted_from_the_song(tick, text, seconds):
    assert place_text(SONG, 1, tick) == text
    assert place_seconds(SONG, 1, tick) == pytest.approx(seconds, abs=1e-3)


def test_the_table_of_cues_lies_on_the_song_and_names_who_plays():
    cues = join_cues(HARBOUR)
    end = timeline(HARBOUR).seconds
    assert all(0 <= c.start_s <= c.end_s <= end + 1e-6 for c in cues)
    assert {c.what for c in cues} >= {"Riser", "Build", "Gap", "Crash", "Echo throw"} and any(
        c.player == "Guide voice" for c in cues
    )
    assert [c.to_name for c in cues] == sorted((c.to_name for c in cues), key=[s.name for s in HARBOUR.sections].index)
