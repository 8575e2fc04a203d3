"""Readings and helpers of the document: names, chords as text, sections found, notes that follow."""

import numpy as np
import pytest

from escalera.core.document.names import clean_name, guess_role, next_name
from escalera.core.document.target import Target
from escalera.core.edits import EDITS
from escalera.core.reading.events import PITCH, layer_events
from escalera.core.reading.slips import find_slips
from escalera.core.reading.tiles import tiles, where
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import DEGREE, FIXED, TONE, VOICE
from escalera.errors import InputError
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Soft pad"))


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("Verse 2", "verse"),
        ("PRE-chorus", "pre-chorus"),
        ("Refrain", "chorus"),
        ("lift", "pre-chorus"),
        ("Zebra", "none"),
        ("Coda", "outro"),
        ("", "none"),
    ],
)
def test_a_name_suggests_a_role(name, role):
    assert guess_role(name) == role


def test_names_are_cleaned_and_numbered():
    assert clean_name("  a\n b\x00 ") == "a b"
    assert (
        next_name(SONG, "Verse") == "Verse 2"
        and next_name(EDITS["duplicate_section"](V).apply(SONG), "Verse 2") == "Verse 3"
    )
    with pytest.raises(InputError, match="is empty"):
        clean_name(" \x00 ")


@pytest.mark.parametrize(
    ("shape", "middle", "mean"), [("line", 5.0, 5.0), ("late", 3.5, 4.0), ("early", 6.5, 6.0), ("hold", 2.0, 2.0)]
)
def test_a_target_has_its_shape(shape, middle, mean):
    target = Target(2.0, 8.0, shape)
    assert (target.at(0.0), target.at(1.0)) == (2.0, 8.0)
    assert (target.at(0.5), target.mean) == (pytest.approx(middle), pytest.approx(mean))
    assert np.mean([target.at(x) for x in np.linspace(0, 0.9999, 4000)]) == pytest.approx(mean, abs=0.01)


# kind: (row, pitches over the chords C, Am, F, G for the pad, whose register begins at D3 = 50)
FOLLOWING = {
    "fixed": ([0, 100, FIXED, 61, 0, 90], [61, 61, 61, 61]),
    "degree": ([0, 100, DEGREE, 2, 0, 90], [64, 64, 64, 64]),
    "degree an octave down": ([0, 100, DEGREE, 0, -1, 90], [48, 48, 48, 48]),
    "root": ([0, 100, TONE, 0, 0, 90], [60, 57, 53, 55]),
    "third above the octave": ([0, 100, TONE, 4, 0, 90], [76, 72, 69, 71]),
}


@pytest.mark.parametrize("kind", FOLLOWING)
def test_notes_follow_the_harmony_as_their_kind_says(kind):
    row, pitches = FOLLOWING[kind]
    song = EDITS["place_new"](C, P, "x", 3840, [row]).apply(SONG)
    table = layer_events(song, timeline(song).span_of(C), song.layer_by_id[P]).table
    assert table[:4, PITCH].tolist() == pitches


def test_voices_lead_with_little_motion_and_start_anew_in_each_section():
    rows = [[0, 3000, VOICE, i, 0, 90] for i in range(3)]
    song = SONG
    for section in (V, C):
        song = EDITS["place_new"](section, P, "x", 3840, rows).apply(song)
    spans = timeline(song).spans
    verse, chorus = (layer_events(song, s, song.layer_by_id[P]).table[:, PITCH].reshape(-1, 3) for s in spans)
    assert np.array_equal(verse, chorus) and np.abs(np.diff(verse, axis=0)).max() <= 5


def test_no_edit_makes_a_note_that_cannot_be_written():
    song = EDITS["place_new"](C, P, "x", 3840, [[0, 100, FIXED, 127, 0, 90], [960, 100, FIXED, 2, 0, 90]]).apply(SONG)
    song = EDITS["vary"](C, P, transpose_semitones=24).apply(EDITS["shift_section"](C, 24).apply(song))
    pitch = layer_events(song, timeline(song).span_of(C), song.layer_by_id[P]).table[:, PITCH]
    assert pitch.min() >= 0 and pitch.max() <= 127 and set(pitch % 12) == {(127 + 48) % 12, (2 + 48) % 12}


# what is done to the kick in the verse's first phrase, and how its tile then looks
TILES = {
    "full": None, "empty": EDITS["lift"](V, K, phrase=0), "thin": EDITS["vary"](V, K, phrase=0, keep=0.5), "part": EDITS["lift"](V, K, start_ticks=0, end_ticks=3840),
    "opening": EDITS["vary"](V, K, phrase=0, level_start_db=-12), "closing": EDITS["vary"](V, K, phrase=0, lowpass_start_hz=9000, lowpass_end_hz=300),
}  # fmt: skip


@pytest.mark.parametrize("state", TILES)
def test_a_tile_shows_how_a_phrase_plays(state):
    song = TILES[state].apply(SONG) if TILES[state] else SONG
    tile = tiles(song, timeline(song).span_of(V))[K][0]
    assert tile.state == state and tile.said.startswith("bars 1–4: ")


def test_one_bar_is_said_in_the_singular():
    song = EDITS["resize_section"](V, 1).apply(SONG)
    assert where(timeline(song).spans[0]).startswith("bar 1 · 1 bar · 0:00–0:02; the next starts at bar 2")


@pytest.mark.parametrize(("start", "end", "found"), [
    (5 * 3840 - 960, None, ["Round kick ends 1 beat early, beside the end of bar 5"]), (5 * 3840 - 480, None, ["Round kick ends 0.5 beat early, beside the end of bar 5"]),
    (5 * 3840, None, []), (5 * 3840 - 1920, None, []), (0, 960, ["Round kick starts 1 beat late, beside bar 1"]),
])  # fmt: skip
def test_slips_of_a_beat_are_found_and_what_is_meant_is_left(start, end, found):
    song = small_song()
    name = ids(song)
    verse, kick = name["Verse"], name["Round kick"]
    song = EDITS["lift"](verse, kick, None, start, 8 * 3840 if end is None else end).apply(song)
    assert [s.said for s in find_slips(song, timeline(song).span_of(verse))] == found


@pytest.mark.parametrize(
    ("start", "end", "found"), [(2880, 3840, 0), (1920, 2880, 0), (2880, 4800, 1), (2880, 5760, 0)]
)
def test_a_throw_is_a_beat_long_only_where_it_runs_over_the_bar_line(start, end, found):
    song = small_song()
    name = ids(song)
    song = EDITS["throw"](name["Verse"], name["Plucked bass"], start, end).apply(song)
    assert len(find_slips(song, timeline(song).span_of(name["Verse"]))) == found
