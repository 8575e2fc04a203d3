"""Feedback: lists as people write them, laid where they belong; contradictions between listeners; kept through files and edits."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.feedback.disagreement import AXES, disagreements
from escalera.core.feedback.remark_list import read_remarks
from escalera.core.reading.timeline import timeline
from escalera.core.validation.whole import validate
from escalera.errors import EscaleraError
from escalera.formats.project import read_project, write_project
from escalera.services.feedback_lists import remarks_by_place, where
from tests.songs import edits_for, ids, small_song

SONG = small_song()  # a verse and a chorus of eight bars at 120 bpm: 16 s each
NAME = ids(SONG)
V, C = NAME["Verse"], NAME["Chorus"]
TWICE = EDITS["duplicate_section"](C).apply(SONG)
LAST = TWICE.sections[-1].id
# a line: who, where, bar, what
LINES = {
    "0:18 kick too loud": ("", C, 2, "kick too loud"),
    "- [0:18] kick": ("", C, 2, "kick"),
    "at 0:18-0:22 - kick, please": ("", C, 2, "kick, please"),
    "3) 0:00 nice": ("", V, 1, "nice"),
    "Ana: 0:18 kick": ("Ana", C, 2, "kick"),
    "bar 9: here": ("", C, 1, "here"),
    "bars 3-4 drag": ("", V, 3, "drag"),
    "Chorus: louder": ("", C, 0, "louder"),
    "verse - shorter": ("", V, 0, "shorter"),
    "Ben: last chorus, bigger": ("Ben", LAST, 0, "bigger"),
    "the verse is too long": ("", V, 0, "the verse is too long"),
    "I like all of it": ("", 0, 0, "I like all of it"),
    "9:30 fade": ("", 0, 0, "fade"),
    "bar 900 what": ("", 0, 0, "what"),
    "who: is this": ("who", 0, 0, "is this"),
}


@pytest.mark.parametrize("line", LINES)
def test_a_line_is_laid_where_it_belongs(line):
    (found,) = read_remarks(line, TWICE)
    assert (found.who, found.section_id, found.bar, found.said) == LINES[line]
    assert bool(found.odd) == line.startswith(("9:30", "bar 900"))


def test_headings_name_the_listener_and_lines_may_go_on():
    text = "# Ana\n0:01 one\n  and more\nFrom Ben\nverse: two\n\nCleo:\n\u202ebar 2 three\n"
    found = [(r.who, r.said) for r in read_remarks(text, SONG, "Somebody")]
    assert found == [("Ana", "one and more"), ("Ben", "two"), ("Cleo", "three")]
    assert [r.who for r in read_remarks("0:01 one", SONG, "Somebody")] == ["Somebody"]


# axis: a remark that wants more of it, one that wants less
OPPOSITE = {
    "level": ("kick louder", "the kick is too loud"), "length": ("too short", "it drags on"), "tempo": ("too slow", "slower please"),
    "brightness": ("sounds muddy", "harsh"), "density": ("too empty", "too busy"), "energy": ("needs a lift", "too intense"),
    "room": ("too dry", "washed out"), "liking": ("love the bass", "lose the bass"),
}  # fmt: skip


@pytest.mark.parametrize("axis", AXES)
def test_listeners_contradict_each_other_about_the_same_thing_at_the_same_place(axis):
    more, less = OPPOSITE[axis]

    def clashes(*rows):
        song = SONG
        for who, line in rows:
            song = EDITS["take_down_feedback"](line, who).apply(song)
        return disagreements(song)

    (clash,) = clashes(("Ana", f"Chorus: {more}"), ("Ben", f"0:20 {less}"))
    assert (clash.about, clash.one.who, clash.other.who) == (axis, "Ana", "Ben")
    assert not clashes(("Ana", f"Chorus: {more}"), ("Ana", f"Chorus: {less}")), "one may change their mind"
    assert not clashes(("Ana", f"Chorus: {more}"), ("Ben", f"Verse: {less}"))
    assert not clashes(("Ana", f"Chorus: {more}"), ("Ben", f"Chorus: {more}"))
    if axis in ("level", "liking"):
        assert not clashes(
            ("Ana", f"Chorus: {more}"), ("Ben", f"Chorus: {less}".replace("kick", "pad").replace("bass", "pad"))
        )


SAID = EDITS["take_down_feedback"]("Ana: 0:18 pad too loud\nChorus: bigger\n7:00 gone\nBen: nice", "").apply(SONG)


@given(st.data())
def test_feedback_is_kept_whatever_is_edited_and_always_has_a_place(data):
    song = SAID
    for _ in range(data.draw(st.integers(0, 6))):
        try:
            song = data.draw(edits_for(song)).apply(song)
        except EscaleraError:
            continue
    validate(song)
    back = read_project(write_project(song))
    assert back.feedback == song.feedback and len(song.feedback) == len(SAID.feedback)
    listed = [r for _, _, rows in remarks_by_place(song) for r in rows]
    assert sorted(r.id for r in listed) == sorted(r.id for r in song.feedback)
    assert all(where(song, timeline(song), r) for r in song.feedback)


def test_a_list_that_came_twice_is_taken_down_once_and_energy_does_not_listen():
    with pytest.raises(EscaleraError, match="in the list already"):
        EDITS["take_down_feedback"]("Ana: 0:18 pad too loud").apply(SAID)
    more = EDITS["take_down_feedback"]("Ana: 0:18 pad too loud\nBen: 0:19 no").apply(SAID)
    assert len(more.feedback) == len(SAID.feedback) + 1
    with pytest.raises(EscaleraError, match="500 fit"):
        EDITS["take_down_feedback"]("\n".join(f"remark {i}" for i in range(501))).apply(SONG)
    assert replace(SAID, feedback=(), next_id=SONG.next_id) == SONG
