"""The store: nothing answered is lost, nothing refused is changed."""

import sqlite3
from dataclasses import replace
from pathlib import Path
from shutil import copy

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.errors import EditError, EscaleraError, NotFound, StaleRevision, StoreError
from escalera.formats.project import read_project
from escalera.services.studio import Studio
from escalera.store.database import MIGRATIONS, Database
from tests.songs import edits_for, ids, small_song

NAME = ids(small_song())


def test_an_edit_survives_a_restart(tmp_path):
    first = Studio(tmp_path, cache_mb=10)
    song_id = first.add_song(small_song(), "New")
    base = first.head(song_id).revision_id
    first.edit(song_id, base, EDITS["set_tempo"](90))
    first.close()
    second = Studio(tmp_path, cache_mb=10)
    assert second.head(song_id).song.tempo_bpm == 90 and second.shelf()[0].picture["tempo_bpm"] == 90
    assert second.head(song_id).song == EDITS["set_tempo"](90).apply(small_song())
    second.close()


def test_a_database_of_the_first_format_opens_with_its_history_and_its_prints(tmp_path):
    """Written by the version before: two songs, one with a printed bass, an undone step, the other with something of everything."""
    copy(Path(__file__).parents[1] / "data" / "format1" / "songs.db", tmp_path / "escalera.db")
    studio = Studio(tmp_path, cache_mb=10)
    small, full = sorted(card.id for card in studio.shelf())
    head = studio.head(small)
    bass = next(x for x in head.song.layers if x.name == "Plucked bass")
    assert bass.send_db("hall") == -12 and len(bass.prints) == 2 and head.can_redo
    assert studio.rendering.print_state(head.song, bass.id) == (2, 2), "the prints sound wherever the bass plays"
    for entry in studio.history(small):
        assert studio.state(small, entry.revision_id).sections
    project = (Path(__file__).parents[1] / "data" / "format1" / "everything.json").read_bytes()
    assert replace(studio.head(full).song, layers=()) == replace(read_project(project), layers=())
    assert studio.redo(small).song.layers[-1].pan == 0.5
    studio.close()


def test_a_damaged_state_does_not_keep_an_older_database_from_opening(tmp_path):
    copy(Path(__file__).parents[1] / "data" / "format1" / "songs.db", tmp_path / "escalera.db")
    with sqlite3.connect(tmp_path / "escalera.db") as connection:
        connection.execute("UPDATE revisions SET document = x'00' WHERE id = (SELECT min(id) FROM revisions)")
    connection.close()
    studio = Studio(tmp_path, cache_mb=10)
    small = min(card.id for card in studio.shelf())
    song = studio.head(small).song
    assert studio.rendering.print_state(song, next(x.id for x in song.layers if x.prints)) == (2, 2)
    studio.close()


def test_undo_and_redo_walk_the_line_and_a_new_edit_cuts_the_rest(studio):
    song_id = studio.add_song(small_song(), "New")
    for tempo in (90, 100, 110):
        studio.edit(song_id, studio.head(song_id).revision_id, EDITS["set_tempo"](tempo))
    assert [studio.undo(song_id).song.tempo_bpm for _ in range(3)] == [100, 90, 120]
    with pytest.raises(EditError, match="nothing to undo"):
        studio.undo(song_id)
    assert [studio.redo(song_id).song.tempo_bpm for _ in range(2)] == [90, 100]
    assert [e.state for e in studio.history(song_id)] == ["undone", "now", "done", "done"]
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["rename_song"]("Other"))
    with pytest.raises(EditError, match="nothing to redo"):
        studio.redo(song_id)
    assert studio.shelf()[0].title == "Other"


@settings(max_examples=6)
@given(st.data())
def test_undo_restores_exactly(tmp_path_factory, data):
    studio = Studio(tmp_path_factory.mktemp("s"), cache_mb=10)
    song_id = studio.add_song(small_song(), "New")
    states = [studio.head(song_id).song]
    for _ in range(4):
        try:
            head = studio.edit(song_id, studio.head(song_id).revision_id, data.draw(edits_for(states[-1]))).head
        except EditError:
            continue
        if head.song != states[-1]:
            states.append(head.song)
    for state in reversed(states[:-1]):
        assert studio.undo(song_id).song == state
    studio.close()


def test_a_stale_edit_is_refused_and_changes_nothing(studio):
    song_id = studio.add_song(small_song(), "New")
    old = studio.head(song_id).revision_id
    studio.edit(song_id, old, EDITS["set_tempo"](90))
    with pytest.raises(StaleRevision, match="changed in the meantime"):
        studio.edit(song_id, old, EDITS["set_tempo"](150))
    assert studio.head(song_id).song.tempo_bpm == 90


def test_restoring_a_state_is_a_step_and_ids_are_not_used_again(studio):
    song_id = studio.add_song(small_song(), "New")
    first = studio.head(song_id).revision_id
    head = studio.edit(song_id, first, EDITS["duplicate_section"](NAME["Verse"])).head
    back = studio.restore(song_id, head.revision_id, first).head
    assert back.song.sections == small_song().sections and back.song.next_id == head.song.next_id


def test_the_bin_keeps_a_song_until_it_is_erased(studio):
    song_id = studio.add_song(small_song(), "New")
    studio.set_deleted(song_id, True)
    assert not studio.shelf() and studio.bin_count() == 1
    with pytest.raises(NotFound, match="lies in the bin"):
        studio.head(song_id)
    studio.set_deleted(song_id, False)
    assert studio.head(song_id).song == small_song()
    studio.erase(song_id)
    with pytest.raises(NotFound, match="no song"):
        studio.head(song_id)


def test_a_full_disk_is_said_plainly_and_changes_nothing(tmp_path):
    studio = Studio(tmp_path, cache_mb=10)
    song_id = studio.add_song(small_song(), "New")
    pages = sqlite3.connect(studio.database.path).execute("PRAGMA page_count").fetchone()[0]
    studio.close()
    full = Studio(tmp_path, max_pages=pages + 2, cache_mb=10)
    before = full.head(song_id)
    with pytest.raises(StoreError, match=f"limit of {pages + 2} pages is full"):
        for bars in range(1, 200):
            full.edit(song_id, full.head(song_id).revision_id, EDITS["resize_section"](NAME["Verse"], bars))
            before = full.head(song_id)
    assert full.head(song_id) == before
    full.close()


def test_a_backup_is_a_whole_database(studio, tmp_path):
    song_id = studio.add_song(small_song(), "New")
    (tmp_path / "copy").mkdir()
    studio.backup(tmp_path / "copy" / "escalera.db")
    other = Studio(tmp_path / "copy", cache_mb=10)
    assert other.head(song_id).song == small_song()
    other.close()
    with pytest.raises(EscaleraError, match="does not exist"):
        studio.backup(tmp_path / "nowhere" / "x.db")


LATER = {"songs": ("deleted_at", "card"), "versions": ("reason", "created_at")}  # columns that later migrations added


def test_a_populated_older_database_is_migrated(tmp_path):
    """A database of the first version, with a song in it, made by that version's own migration."""
    from alembic import command
    from alembic.config import Config
    from sqlalchemy import create_engine, text

    modern = Studio(tmp_path, cache_mb=10)
    song_id = modern.add_song(small_song(), "New")
    with modern.database.read() as session:
        tables = {
            t: session.execute(text(f"select * from {t}")).mappings().all()
            for t in ("songs", "versions", "revisions", "patterns")
        }
    modern.close()
    (tmp_path / "old").mkdir()
    path, config = tmp_path / "old" / "escalera.db", Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    engine = create_engine(f"sqlite:///{path}")
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
        for table, rows in tables.items():
            for row in rows:
                kept = {k: v for k, v in row.items() if k not in LATER.get(table, ())}
                names = ", ".join(kept)
                connection.execute(
                    text(f"insert into {table} ({names}) values ({', '.join(':' + k for k in kept)})"), kept
                )
    engine.dispose()
    migrated = Studio(tmp_path / "old", cache_mb=10)
    assert migrated.head(song_id).song == small_song() and migrated.shelf()[0].title == "Small"
    migrated.edit(song_id, migrated.head(song_id).revision_id, EDITS["set_tempo"](80))
    migrated.close()


def test_a_file_that_is_no_database_is_named(tmp_path):
    (tmp_path / "escalera.db").write_bytes(b"hello" * 1000)
    with pytest.raises(StoreError, match="cannot be opened as a database"):
        Database(tmp_path / "escalera.db")


def test_of_two_edits_at_once_exactly_one_is_made(studio):
    from concurrent.futures import ThreadPoolExecutor

    song_id = studio.add_song(small_song(), "New")
    base = studio.head(song_id).revision_id

    def change(tempo):
        try:
            studio.edit(song_id, base, EDITS["set_tempo"](tempo))
            return tempo
        except StaleRevision:
            return None

    with ThreadPoolExecutor(6) as pool:
        made = [t for t in pool.map(change, range(90, 102)) if t]
    assert len(made) == 1 and studio.head(song_id).song.tempo_bpm == made[0] and len(studio.history(song_id)) == 2


def test_several_edits_are_one_step_or_none(studio):
    song_id = studio.add_song(small_song(), "New")
    base = studio.head(song_id).revision_id
    with pytest.raises(EditError):
        studio.edit(song_id, base, [EDITS["set_tempo"](90), EDITS["set_tempo"](900)])
    assert studio.head(song_id).song == small_song()
    both = studio.edit(song_id, base, [EDITS["set_tempo"](90), EDITS["rename_song"]("Two")])
    assert both.summary == "Tempo: 90 bpm; Title: Two"
    assert studio.undo(song_id).song == small_song()


def test_an_edit_that_changes_nothing_makes_no_state(studio):
    song_id = studio.add_song(small_song(), "New")
    base = studio.head(song_id).revision_id
    assert studio.edit(song_id, base, EDITS["set_tempo"](120)).head.revision_id == base


def test_fitting_the_scale_is_an_edit_like_others(studio):
    song_id = studio.add_song(EDITS["lift"](NAME["Verse"], NAME["Round kick"]).apply(small_song()), "New")
    head = studio.command(song_id, studio.head(song_id).revision_id, {"kind": "fit_scale"}).head
    assert head.song.scale.gain and studio.history(song_id)[0].summary == "Energy scale fitted to this song"


def test_a_stair_that_an_edit_left_undrawn_is_drawn_for_the_shelf_once(studio):
    song_id = studio.add_song(small_song(), "New")
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["set_chords"]("I | V"))
    touched = studio.shelf()[0].touched_at
    heights = [step["arranged"] for step in studio.shelf()[0].picture["steps"]]
    assert all(h > 0 for h in heights) and heights == [
        round(s.value, 2) for s in arranged(studio.head(song_id).song).sections
    ]
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["set_chords"]("I | IV"))
    studio.set_deleted(song_id, True)
    in_bin = studio.shelf(deleted=True)[0]
    assert in_bin.touched_at >= touched and all(step["arranged"] > 0 for step in in_bin.picture["steps"])
