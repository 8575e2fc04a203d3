"""Sets of songs over the store: steps taken back, files out and in, songs that go, joins heard; and the made-up year."""

import io
import json
import wave
import zipfile
from dataclasses import replace

import numpy as np
import pytest

from escalera.core.sets import song_set as acts
from escalera.errors import EditError, FormatError, NotFound
from escalera.formats.project import read_project, write_project
from escalera.services import library
from escalera.services.demo_year import SONGS_FILE, YEAR_FILE, file_of, made_song
from escalera.services.set_hearing import BEGINNING_S, END_S, heard_join
from tests.planned import SONG


@pytest.fixture
def three(studio):
    """A set of three songs: its id, and the songs' ids."""
    songs = [
        studio.add_song(replace(SONG, title=t, tempo_bpm=b), "Made")
        for t, b in (("A", 90.0), ("B", 120.0), ("C", 150.0))
    ]
    set_id = studio.sets.make("Evening", "live set")
    for song_id, title in zip(songs, "ABC"):
        studio.sets.change(set_id, lambda s, i=song_id, t=title: acts.with_song(s, i, t, "Mira"))
    return set_id, songs


def order(studio, set_id):
    return [p.facts.title for p in studio.sets.get(set_id).read.songs]


def test_what_is_done_with_a_set_is_taken_back_and_done_again(studio, three):
    set_id, _ = three
    entries = studio.sets.get(set_id).document.entries
    assert studio.sets.change(set_id, lambda s: acts.moved(s, entries[2].id, 1, "C")) == "C to place 1."
    assert order(studio, set_id) == ["C", "A", "B"]
    assert studio.sets.step(set_id, False) == "Undone: C to place 1." and order(studio, set_id) == ["A", "B", "C"]
    assert studio.sets.step(set_id, True) == "Done again: C to place 1." and order(studio, set_id) == ["C", "A", "B"]
    with pytest.raises(EditError, match="nothing to redo"):
        studio.sets.step(set_id, True)
    studio.sets.step(set_id, False)
    studio.sets.change(set_id, lambda s: acts.with_kept_order(s, "First", "Mira", "it rises"))
    assert not studio.sets.get(set_id).can_redo and [done for *_, done in studio.sets.history(set_id)] == [True] * 5
    studio.sets.change(set_id, lambda s: acts.in_order(s, [e.id for e in reversed(entries)], "backwards"))
    studio.sets.change(set_id, lambda s: acts.with_order(s, "first"))
    assert order(studio, set_id) == ["A", "B", "C"]
    for _ in range(6):
        studio.sets.step(set_id, False)
    with pytest.raises(EditError, match="nothing to undo"):
        studio.sets.step(set_id, False)
    assert studio.sets.get(set_id).document.entries == ()


def test_a_song_that_goes_leaves_its_place_and_comes_back_to_it(studio, three):
    set_id, songs = three
    studio.set_deleted(songs[1], True)
    told = studio.sets.get(set_id)
    assert [p.facts.title for p in told.read.songs] == ["A", "C"] and len(told.read.missing) == 1
    studio.set_deleted(songs[1], False)
    assert order(studio, set_id) == ["A", "B", "C"]
    studio.sets.set_deleted(set_id, True)
    with pytest.raises(NotFound, match="no such set"):
        studio.sets.get(set_id)
    assert [t.document.name for t in studio.sets.all(deleted=True)] == ["Evening"]
    studio.sets.set_deleted(set_id, False)
    assert order(studio, set_id) == ["A", "B", "C"]


def test_songs_that_are_not_read_yet_are_in_their_sets_and_can_be_chosen(studio, three):
    set_id, songs = three
    other = studio.add_song(replace(SONG, title="a song of today"), "Made")
    for song_id in songs:
        studio.command(song_id, studio.head(song_id).revision_id, {"kind": "set_tempo", "tempo_bpm": "101"})
    studio.index.at_once_s = 0
    assert order(studio, set_id) == ["A", "B", "C"]
    now = studio.index.all()
    assert (now.waiting, now.offered[0]) == (1, (songs[0], "A")) and (other, "a song of today") in now.offered
    assert len(studio.sets.as_csv(set_id).splitlines()) == 4
    studio.index.all(whole=True)
    studio.command(other, studio.head(other).revision_id, {"kind": "set_archived", "archived": "true"})
    assert other in dict(studio.index.all().offered), "not known yet to be archived"
    assert other not in dict(studio.index.all(needed=[other]).offered)


def test_a_set_is_written_out_and_read_in_by_the_titles_of_its_songs(studio, three):
    set_id, songs = three
    studio.sets.change(set_id, lambda s: acts.with_kept_order(s, "First", "=cmd()", "it rises"))
    data = studio.sets.as_json(set_id).encode()
    again = studio.sets.get(studio.sets.read_in(data))
    assert again.document == studio.sets.get(set_id).document
    studio.set_deleted(songs[2], True)
    fewer = studio.sets.get(studio.sets.read_in(data))
    assert [p.facts.title for p in fewer.read.songs] == ["A", "B"] and len(fewer.document.orders[0].entries) == 2
    rows = studio.sets.as_csv(set_id).splitlines()
    assert rows[0].startswith("place,title,begins") and rows[1].startswith("1,A,0:00,")
    plain = json.loads(data)
    for bad, says in (
        (b"{", "cannot be read as JSON"),
        (b"[]", "no set that Escalera wrote"),
        (json.dumps({**plain, "titles": {"1": "Nowhere"}}).encode(), "None of its songs"),
        (json.dumps({**plain, "set": {**plain["set"], "kind": "box"}}).encode(), "kind"),
        (b" " * 2_000_001, "at most 2,000,000"),
    ):
        with pytest.raises(FormatError, match=says):
            studio.sets.read_in(bad)


def test_the_join_between_two_songs_is_heard_with_its_gap(studio):
    wav = heard_join(studio.rendering, SONG, SONG, 3.0)
    with wave.open(io.BytesIO(wav)) as found:
        rate, frames = found.getframerate(), found.getnframes()
        audio = np.frombuffer(found.readframes(frames), np.int16).reshape(-1, 2) / 32768
    assert frames / rate == pytest.approx(END_S + 3.0 + BEGINNING_S, abs=0.01)

    def level(low, high):
        return float(np.sqrt(np.mean(audio[round(low * rate) : round(high * rate)] ** 2)))

    assert level(END_S - 2, END_S) > 0.01 and level(END_S + 3, END_S + 5) > 0.01
    assert level(END_S + 2.5, END_S + 3) < 0.05 * level(END_S - 2, END_S), (
        "the gap is quiet once the last notes are gone"
    )
    assert level(END_S, END_S + 0.2) > level(END_S + 2.5, END_S + 3), "the last notes ring into it"


def test_the_songs_of_the_year_stand_ready_as_they_would_be_laid_out():
    rows = library.data(YEAR_FILE)["songs"]
    with zipfile.ZipFile(io.BytesIO(library.file(SONGS_FILE))) as songs:
        ready = {row["title"]: read_project(songs.read(file_of(row))) for row in rows}
        assert len(songs.namelist()) == len(rows) == len(ready)
    for row in (rows[0], rows[-1]):
        assert ready[row["title"]] == read_project(write_project(made_song(row))), "run tools/write_demo_year.py"
