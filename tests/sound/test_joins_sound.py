"""Joins held against the rendered sound, to the sample where it is promised."""

from dataclasses import replace

import numpy as np
import pytest

from escalera.core.edits import EDITS
from escalera.core.joins import played
from escalera.core.reading.timeline import timeline
from escalera.core.time.ruler import RATE_HZ
from escalera.sound.mix import Renderer
from tests.singing import GUIDED
from tests.singing import V as SUNG
from tests.songs import ids, small_song

SONG = small_song()
NAMES = ids(SONG)
V, C = NAMES["Verse"], NAMES["Chorus"]
BEAT = 960
BEAT_SAMPLES = RATE_HZ // 2  # at 120 bpm
RENDERER = Renderer(200)
ONE = timeline(SONG).samples(RATE_HZ)[1]


def with_device(kind, song=SONG, **more):
    return EDITS["add_device"](C, kind, **more).apply(song)


def about(song, low, high, layers=None):
    """Samples from `low` to `high` about the one, before the limiter."""
    return RENDERER.before_master(song, timeline(song), ONE + low, ONE + high, layers)


def player(song):
    return frozenset((song.section_by_id[C].devices[0].layer_id,))


def busy():
    """The song with a pad into a hall, so that something rings into every silence."""
    song = EDITS["set_control"](NAMES["Soft pad"], "send.hall", 0.0).apply(SONG)
    return EDITS["toggle_tile"](V, NAMES["Soft pad"], 1).apply(song)


@pytest.mark.parametrize("length", [BEAT, BEAT // 4, 3 * BEAT])
def test_a_gap_is_silent_from_its_first_to_its_last_sample(length):
    song = with_device("gap", busy(), start_ticks=-length, length_ticks=length)
    samples = length * BEAT_SAMPLES // BEAT
    assert np.abs(about(busy(), -samples, 0)).max() > 0.01
    assert np.abs(about(song, -samples, 0)).max() == 0.0
    assert np.abs(about(song, -samples - 2000, -samples - 400)).max() > 0.001, "what lies before it sounds"
    ringing = EDITS["set_device_value"](C, song.section_by_id[C].devices[0].id, "tails", 1).apply(song)
    left = np.abs(about(ringing, -samples, 0))
    assert left.max() > 0.0 and left[:, -200:].max() < left[:, :200].max() + 1e-6, "tails ring and fall"


def test_an_impact_lands_on_the_sample_of_the_one():
    song = with_device("impact")
    heard = np.abs(about(song, -RATE_HZ, RATE_HZ, player(song))).max(axis=0)
    first = np.flatnonzero(heard > 1e-6)[0] - RATE_HZ
    assert 0 <= first <= 2


@pytest.mark.parametrize("kind", ["riser", "sweep-up", "reversed-crash", "reversed-chord"])
@pytest.mark.parametrize("gap", [0, BEAT])
def test_what_climbs_is_loudest_at_its_declared_end(kind, gap):
    song = with_device(kind)
    if gap:
        song = with_device("gap", song, start_ticks=-gap, length_ticks=gap)
        song = EDITS["set_device_value"](C, song.section_by_id[C].devices[-1].id, "tails", 1).apply(song)
    layer = next(d.layer_id for d in song.section_by_id[C].devices if d.kind == kind)
    sound = about(song, -4 * RATE_HZ, RATE_HZ, frozenset((layer,)))
    step = RATE_HZ // 20
    level = np.sqrt((sound**2).mean(axis=0).reshape(-1, step).mean(axis=1))
    end = (4 * RATE_HZ - gap * BEAT_SAMPLES // BEAT) // step
    assert abs(int(level.argmax()) - end) <= 2, "within 100 ms, which is what a window tells"
    assert level[end + 4 :].max() < 0.35 * level.max()


def test_a_crossfade_is_level():
    """Two noises of one level, one that leaves and one that enters: neither dip nor bump."""
    song = SONG
    for name in ("Old", "New"):
        song = EDITS["add_layer"]("plain-noise", name, rows=[[0, 3840, 0, 60, 0, 100]], length_ticks=3840).apply(song)
    old, new = (next(x for x in song.layers if x.name == n) for n in ("Old", "New"))
    song = EDITS["place"](V, old.id, old.pattern_id).apply(song)
    song = EDITS["place"](C, new.id, new.pattern_id).apply(song)
    song = with_device("overlap", song, start_ticks=0, length_ticks=4 * BEAT)
    sound = about(song, -RATE_HZ, 3 * RATE_HZ, frozenset((old.id, new.id)))
    # a moment about bar lines, where the noise itself begins anew, says nothing of the fade
    level = [
        10 * np.log10((sound[:, a : a + RATE_HZ // 5] ** 2).mean())
        for a in range(RATE_HZ // 4, 3 * RATE_HZ - RATE_HZ // 5, RATE_HZ // 5)
    ]
    assert max(level) - min(level) < 1.6, level


def test_a_tempo_that_eases_is_back_on_the_one_and_all_agree_where_that_is():
    song = with_device("tempo-ease")
    there = timeline(song)
    assert there.samples(RATE_HZ)[1] > ONE and there.spans[1].tempo_points[0].bpm == 120
    assert timeline(played(song)).samples(RATE_HZ) == there.samples(RATE_HZ)
    assert RENDERER.chunk(song, there, 0).shape[1] == there.samples(RATE_HZ)[1]


def test_what_is_heard_is_keyed_by_what_carries_it():
    keys = RENDERER.chunk_keys(SONG, timeline(SONG))
    other = with_device("crash")
    changed = RENDERER.chunk_keys(other, timeline(other))
    assert changed[1] != keys[1]
    parked = EDITS["park_device"](C, other.section_by_id[C].devices[0].id).apply(other)
    assert RENDERER.chunk_keys(parked, timeline(parked)) == keys


def test_what_is_tied_to_words_is_played_once_and_a_whole_song_of_it_renders():
    sung = replace(GUIDED, title="By itself")
    tied = EDITS["tie_moment"](SUNG, 2, "gap").apply(sung)
    assert played(tied) is not tied and played(played(tied)) is played(tied)
    plain, quieter = (Renderer(100).render(song) for song in (sung, tied))
    assert np.sum(quieter[:, : plain.shape[1]] ** 2) < 0.99 * np.sum(plain**2)
