"""Forms as text and as tables: read, said where they cannot be, and read back the same after they were written."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.handing.form_sheet import form_text, read_form_sheet, song_of_form
from escalera.core.handing.handed_tables import marker_rows
from escalera.core.reading.timeline import timeline
from escalera.core.validation.whole import validate
from escalera.errors import InputError
from escalera.formats.tables import csv_text
from escalera.services.demo import demo_songs
from tests.core.test_merging import edited
from tests.songs import small_song

SONG = small_song()
TEXT = """Title: Night Ferry
Tempo: 118
Key: A minor
Time: 4/4
# a remark
Intro: 8 bars; energy 2 to 3
Verse 1: 16; chords Am | F | C | G; key +2
Drop: 8 bars; time 3/4; tempo 124,5; energy 9
bridge 4, chorus 8 x2
"""


def made(text):
    return song_of_form(read_form_sheet(text))


def shape(song):
    return [
        (
            s.section.name,
            s.section.bars,
            s.section.shift_semitones,
            round(s.tempo_points[0][1], 3),
            str(s.bar_metres[0]),
        )
        for s in timeline(song).spans
    ]


def test_a_form_as_text_is_a_song():
    song, _ = made(TEXT)
    assert (song.title, song.tempo_bpm, str(song.key)) == ("Night Ferry", 118.0, "A minor")
    assert shape(song) == [
        ("Intro", 8, 0, 118.0, "4/4"),
        ("Verse 1", 16, 2, 118.0, "4/4"),
        ("Drop", 8, 0, 124.5, "3/4"),
        ("Bridge", 4, 0, 118.0, "4/4"),
        ("Chorus 1", 8, 0, 118.0, "4/4"),
        ("Chorus 2", 8, 0, 118.0, "4/4"),
    ]
    assert [s.role for s in song.sections[:4]] == ["intro", "verse", "drop", "bridge"]
    assert (song.sections[0].target.start, song.sections[0].target.end) == (2.0, 3.0)
    assert len(song.sections[1].progression.changes) == 4


@pytest.mark.parametrize(
    "text, rows",
    [
        ("section,bars\nIntro,8\nVerse,16\n", [("Intro", 8), ("Verse", 16)]),
        ("Name;Start;BPM\nIntro;0:00.000;120\nDrop;0:16.0;120\n", [("Intro", 8), ("Drop", 8)]),
        ("marker\tbar\nA\t1\nB\t9\nC\t13\n", [("A", 8), ("B", 4), ("C", 8)]),
        ("name,seconds,end,tempo\nB,16,24,120\nA,2,8,120\n", [("Start", 1), ("A", 3), ("Between", 4), ("B", 4)]),
        ("name,bars,energy\n'=1+1,8,3\n", [("=1+1", 8)]),
    ],
)
def test_tables_are_read_by_their_heads(text, rows):
    assert [(s.name, s.bars) for s in made(text)[0].sections] == rows


@pytest.mark.parametrize(
    "text, says",
    [
        ("", "The form is empty"),
        ("Verse: lots", "no number of bars"),
        ("Verse: 8; louder", "begins with none of"),
        ("section,bars\nIntro,none\n", "Line 2 of the table"),
        ("section,start\nIntro,0\nVerse,16\n", "no tempo is said"),
        ("section,start,tempo\nIntro,soon,120\n", "is no time"),
        ("section,start,tempo\nIntro,0,fast\n", "is not a tempo"),
        ("Verse: 8; energy 11", "is no energy"),
        ("Verse: 8; chords Hx", "Verse: Chord 1"),
        ("\n".join(f"Part {i}: 9 bars" for i in range(900)), "are more than"),
        ("section,bars\n", "no row"),
    ],
)
def test_what_cannot_be_read_is_said_with_its_place(text, says):
    with pytest.raises(InputError, match=says):
        made(text)


@settings(max_examples=15, deadline=None)
@given(st.data())
def test_a_form_that_was_written_is_read_back(data):
    song = edited(SONG, data, 5)
    again = validate(made(form_text(song))[0])
    starts = shape(song)
    assert [r[1:] for r in shape(again)] == [r[1:] for r in starts]
    ends = [[v for s in x.sections for v in (s.target.start, s.target.end)] for x in (again, song)]
    assert ends[0] == pytest.approx(ends[1], abs=1e-4)
    table = validate(made(csv_text(marker_rows(song)))[0])
    assert [r[1] for r in shape(table)] == [r[1] for r in starts]
    assert [s.section.bars for s in timeline(table).spans] == [s.section.bars for s in timeline(song).spans]


def test_demo_songs_come_back_with_their_chords():
    for song in demo_songs():
        again = made(form_text(song))[0]
        assert shape(again) == shape(song), song.title
        for mine, theirs in zip(song.sections, again.sections):
            chords = mine.progression or song.progression
            assert (theirs.progression.changes if theirs.progression else None) == (chords.changes if chords else None)
