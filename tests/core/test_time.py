import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.song import Section, Song, default_phrases
from escalera.core.reading.tiles import where
from escalera.core.reading.timeline import timeline
from escalera.core.time.metre import Metre, parse_metre
from escalera.core.time.ticks import clock, seconds_to_ticks, ticks_to_seconds
from escalera.errors import InputError


@given(st.floats(0, 1e6), st.floats(30, 300))
def test_ticks_and_seconds_are_inverse(ticks, tempo):
    assert seconds_to_ticks(ticks_to_seconds(ticks, tempo), tempo) == pytest.approx(ticks, abs=1e-6)
    assert ticks_to_seconds(ticks, 2 * tempo) == pytest.approx(ticks_to_seconds(ticks, tempo) / 2)


@pytest.mark.parametrize(
    ("text", "ticks", "beats"), [("4/4", 3840, 4), ("6/8", 2880, 2), ("7/8", 3360, 7), ("3/2", 5760, 3)]
)
def test_metres_count_bars_and_beats(text, ticks, beats):
    metre = parse_metre(text)
    assert (metre.bar_ticks, metre.beats, str(metre)) == (ticks, beats, text)


@pytest.mark.parametrize("text", ["4/0", "0/4", "5/3", "four", "99/4", "4/4/4"])
def test_a_metre_that_cannot_be_counted_is_refused(text):
    with pytest.raises(InputError, match="time signature"):
        parse_metre(text)


@pytest.mark.parametrize(
    ("bars", "phrases"), [(16, (4, 4, 4, 4)), (10, (4, 4, 2)), (6, (4, 2)), (5, (5,)), (1, (1,)), (9, (4, 4, 1))]
)
def test_phrases_are_four_bars_unless_said_otherwise(bars, phrases):
    assert default_phrases(bars) == phrases


def test_bar_numbers_and_clock_times_are_the_fields_own():
    song = Song(
        tempo_bpm=113.0,
        sections=(Section(1, "Intro", bars=16), Section(2, "Verse", bars=8, metre_changes=((4, Metre(3, 4)),))),
    )
    line = timeline(song)
    assert where(line.spans[0]).startswith("bars 1–16 · 16 bars · 0:00–0:34; the next starts at bar 17")
    assert (line.spans[1].first_bar, line.spans[1].last_bar) == (17, 24)
    assert line.spans[1].length_ticks == 4 * 3840 + 4 * 2880
    assert line.locate_bar(22) == (line.spans[1], 4 * 3840 + 2880)
    assert clock(33.98) == "0:34" and clock(72.66, tenths=True) == "1:12.7"


def test_tempo_changes_inside_a_section_add_up():
    section = Section(1, "A", bars=2, tempo_changes=((0, 60.0), (3840, 120.0)))
    span = timeline(Song(sections=(section,))).spans[0]
    assert span.seconds_at(3840) == pytest.approx(4.0)
    assert span.length_seconds == pytest.approx(6.0)
    assert span.seconds_at(-960) == pytest.approx(-1.0)


def test_bars_before_bar_one_are_numbered_from_zero_down():
    line = timeline(Song(lead_bars=2, sections=(Section(1, "In", bars=4),)))
    assert (line.spans[0].first_bar, line.spans[0].last_bar) == (-1, 2)
