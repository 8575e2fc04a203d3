"""What the wall says: stretches that sound, bars in words, names in the order of their places."""

import pytest

from escalera.core.document.names import numbered_by_place
from escalera.core.edits import EDITS
from escalera.core.reading.tiles import bars_said, tiles
from escalera.core.reading.timeline import timeline
from tests.songs import ids, small_song

NAME = ids(small_song())
V, C, K = NAME["Verse"], NAME["Chorus"], NAME["Round kick"]


@pytest.mark.parametrize(
    ("bars", "filled"),
    [((1, 1), ((0.25, 1.0),)), ((4, 4), ((0.0, 0.75),)), ((2, 3), ((0.0, 0.25), (0.75, 1.0))), (None, ())],
)
def test_a_tile_is_filled_where_it_sounds(bars, filled):
    song = small_song()
    if bars:
        low, high = (bars[0] - 1) * 3840, bars[1] * 3840
        song = EDITS["lift"](V, K, start_ticks=low, end_ticks=high).apply(song)
    tile = tiles(song, timeline(song).span_of(V))[K][0]
    assert tile.filled == filled and tile.state == ("part" if bars else "full")


@pytest.mark.parametrize(("first", "count", "said"), [(56, 1, "bar 56"), (13, 4, "bars 13–16")])
def test_bars_are_said_as_people_say_them(first, count, said):
    assert bars_said(first, count) == said


def test_sections_of_one_name_are_numbered_by_their_place():
    song = EDITS["duplicate_section"](C).apply(small_song())
    song = EDITS["duplicate_section"](V, after_id=song.sections[-1].id).apply(song)
    names = [s.name for s in song.sections]
    moved = EDITS["move_section"](song.sections[2].id, -1).apply(song)
    assert [s.name for s in moved.sections] == names, "the names stay in order, the sections change places"
    assert [s.id for s in moved.sections] != [s.id for s in song.sections]
    assert numbered_by_place(moved) is moved


def test_a_new_layer_plays_at_once_in_the_section_it_is_added_for():
    rows = [[0, 240, 0, 0, 0, 100]]
    song = EDITS["add_layer"]("room-snare", rows=rows, length_ticks=3840, section_id=C).apply(small_song())
    made = next(x for x in song.layers if x.sound_key == "room-snare")
    playing = [s.id for s in song.sections if any(p.layer_id == made.id for p in s.placements)]
    assert playing == [C]
    assert not any(
        p.layer_id == made.id
        for s in EDITS["add_layer"]("room-snare", rows=rows, length_ticks=3840).apply(small_song()).sections
        for p in s.placements
    )
