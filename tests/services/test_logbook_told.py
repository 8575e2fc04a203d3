"""The logbook over songs: what changed in words, one's own line, found by words; nothing of it is kept up by hand."""

import pytest

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.logbook.work_sessions import SongWork
from escalera.errors import InputError
from escalera.services.logbook import session_text
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
C, P = NAME["Chorus"], NAME["Soft pad"]


def done(studio, song_id, *edits):
    for each in edits:
        studio.edit(song_id, studio.head(song_id).revision_id, each)


def test_work_is_told_in_words_and_found_again(studio):
    first, second = studio.add_song(SONG, "Made"), studio.add_song(SONG, "Made")
    done(studio, first, EDITS["set_tempo"](99.0), EDITS["set_aside"](P, "too sweet"))
    (session,) = studio.logbook.sessions()
    assert [(w.song_id, w.steps) for w in session.songs] == [(first, 3), (second, 1)] and session.minutes >= 1
    assert session.songs[0].changes[0] == "begun: 2 sections, 3 layers" and "99" in " ".join(
        session.songs[0].changes[1:]
    )
    assert session.songs[0].decisions == ("Soft pad set aside: too sweet",)
    studio.logbook.write_line(session.key, " slow\tday ")
    assert [s.line for s in studio.logbook.sessions("SWEET slow")] == ["slow day"]
    assert not studio.logbook.sessions("sour") and "decided: Soft pad set aside" in session_text(session)
    for key, text, says in (
        (session.key, "x" * 500, "400 fit"),
        ("soon", "x", "is no session"),
        ("2001-01-01T00:00:00", "x", "not there any more"),
    ):
        with pytest.raises(InputError, match=says):
            studio.logbook.write_line(key, text)
    studio.logbook.write_line(session.key, "")
    assert studio.logbook.sessions()[0].line == ""
    studio.set_deleted(first, True)
    assert [w.song_id for s in studio.logbook.sessions() for w in s.songs] == [second]


def test_what_changed_is_the_difference_not_every_step(studio):
    song_id = studio.add_song(SONG, "Made")
    first = studio.head(song_id).revision_id
    done(studio, song_id, EDITS["set_tempo"](99.0), EDITS["set_tempo"](104.0), EDITS["toggle_tile"](C, P, 0))
    told = studio.logbook._changed(SongWork(song_id, first, first + 1, studio.head(song_id).revision_id, ("x",), ()))
    assert any("120" in line and "104" in line for line in told) and not any("99" in line for line in told)
    assert any(line.startswith("Chorus: ") for line in told)
    assert studio.logbook._changed(SongWork(song_id, 999_999, 999_998, 999_998, (), ())) == (
        "its states cannot be read",
    )
