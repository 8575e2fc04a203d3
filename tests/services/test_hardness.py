"""What comes from outside, and what breaks inside: files that attack, damaged databases, names that are none."""

import io
import json
import struct
import time
import zlib

import numpy as np
import pytest
import soundfile
from sqlalchemy import text

from escalera.cleaning import clean_line, clean_text
from escalera.core.edits import EDITS
from escalera.errors import DamagedState, FormatError, InputError, StoreError
from escalera.formats.audio import decode_audio
from escalera.formats.project import read_project, write_project
from escalera.services import upkeep
from escalera.services.importing import import_file
from escalera.services.studio import Studio
from escalera.web import create_app
from tests.songs import small_song

NOTE = b"\0\x90\x3c\x40\x60\x3c\0"
END = b"\0\xff\x2f\0"


def midi(*tracks, division=96, kind=1):
    body = b"".join(b"MTrk" + struct.pack(">I", len(t)) + t for t in tracks)
    return b"MThd" + struct.pack(">IHHH", 6, kind, len(tracks), division) + body


def flac(seconds, rate=44_100):
    out = io.BytesIO()
    soundfile.write(out, np.zeros(int(seconds * rate), np.int16), rate, format="FLAC", subtype="PCM_16")
    return out.getvalue()


def project(**more):
    plain = json.loads(write_project(small_song()))
    plain["song"] |= more
    return json.dumps(plain).encode()


LIMIT_S = 5.0
FILES = {  # what is read, or the sentence that refuses it
    "a megabyte of nothing": (lambda: midi(NOTE + b"\0" + b"\xff" * 1_000_000), "damaged"),
    "twenty thousand tempos": (lambda: midi(b"".join(b"\x01\xff\x51\x03" + bytes([7, i % 250, i % 256]) for i in range(19_990)) + NOTE + END), None),
    "metres without end": (lambda: midi(b"".join(b"\x01\xff\x58\x04" + bytes([3 + i % 3, 2, 24, 8]) for i in range(600_000)) + NOTE + END), "changes of tempo"),
    "markers without end": (lambda: midi(b"".join(b"\x60\xff\x06\x02M" + bytes([65 + i % 26]) for i in range(300_000)) + NOTE + END), "changes of tempo"),
    "a million notes": (lambda: midi(b"\0\x90\x3c\x40" + b"\x01\x3c\0\0\x3c\x40" * 900_000 + END), "more than 80,000 notes"),
    "controllers without end": (lambda: midi(b"\0\xb0\x01\x40" + b"\0\x01\x05" * 1_500_000 + NOTE + END), "more than 600,000 events"),
    "dense notes": (lambda: midi(b"\0\x90\x3c\x40" + b"".join(b"\x01\x3c\0\0" + bytes([48 + i % 24]) + b"\x40\x01" + bytes([48 + i % 24]) + b"\0\0\x3c\x40" for i in range(12_000)) + END), None),
    "thousands of tracks": (lambda: midi(*[NOTE + END] * 3_000), "tracks"),
    "a note of days": (lambda: midi(b"\0\x90\x3c\x40\xff\xff\xff\x7f\x3c\0" + END), None),
    "a message of two megabytes": (lambda: midi(b"\0\xf0\xfa\x89\x00" + b"\x01" * 2_000_000 + NOTE + END), None),
    "names that are none": (lambda: midi(b"\0\xff\x03\x0cA\0\xe2\x80\xaeB\r\nC\x1b\xffD" + NOTE + END), None),
    "an hour of silence": (lambda: flac(3_600), "lasts longer"),
    "lists in lists": (lambda: b'{"format": "escalera-project", "song": ' + b"[" * 500_000, "not whole JSON"),
    "deep lists": (lambda: b'{"a": ' + b"[" * 5_000 + b"]" * 5_000 + b"}", "not whole JSON|not an Escalera"),
    "a million parts": (lambda: b'{"format": "escalera-project", "song": [' + b"{}," * 1_000_000 + b"0]}", "too large"),
    "a million fields": (lambda: project(**{f"x{i}": 1 for i in range(1_000_000)}), "fields; at most"),
    "numbers without end": (lambda: project(tempo_bpm=int("9" * 4_000)), "cannot be used|not whole"),
}  # fmt: skip


@pytest.mark.parametrize("name", FILES)
def test_no_file_holds_the_program_up(name):
    make, refused = FILES[name]
    data, read = (
        make(),
        (lambda d: decode_audio(d)) if name == "an hour of silence" else (lambda d: import_file("x", d)),
    )
    begun = time.process_time()
    if refused:
        with pytest.raises(FormatError, match=refused):
            read(data)
    else:
        song = read(data).song
        assert read_project(write_project(song)) == song
        assert all(n == clean_line(n) and n for n in (song.title, *(x.name for x in song.layers)))
    assert time.process_time() - begun < LIMIT_S * (1 if len(data) < 6_000_000 else 2)


@pytest.mark.parametrize(("rate", "said"), [(50, "50 samples a second"), (8_000, None), (44_100, None)])
def test_rates_that_are_none_are_refused(rate, said):
    if said:
        with pytest.raises(FormatError, match=said):
            decode_audio(flac(1, rate))
    else:
        assert decode_audio(flac(1, rate))[0].shape == (1, rate)


@pytest.mark.parametrize(
    ("given", "line", "lines"),
    [
        ("plain", "plain", "plain"),
        ("a\x00b\x1bc", "a b c", "a b c"),
        ("left\u202eright\u2066", "left right", "left right "),
        ("half \ud800 pair", "half pair", "half   pair"),
        ("one\r\ntwo\rthree", "one two three", "one\ntwo\nthree"),
        ("ñandú 🎹 नमस्ते", "ñandú 🎹 नमस्ते", "ñandú 🎹 नमस्ते"),
        ("👩\u200d🎤", "👩\u200d🎤", "👩\u200d🎤"),
    ],
)
def test_text_from_outside_is_cleaned(given, line, lines):
    assert clean_line(given) == line and clean_text(given) == lines
    given.encode("utf-8", "surrogatepass")
    clean_text(given).encode()


def test_texts_that_break_pages_do_not_enter_by_files_or_commands(studio):
    song = read_project(project(title="Up\ud800\u202eside\x00\ndown", notes="one\r\ntwo\x07"))
    assert song.title == "Up side down" and song.notes == "one\ntwo "
    song_id = studio.add_song(song, "New")
    studio.command(song_id, studio.head(song_id).revision_id, {"kind": "rename_song", "title": "A\u202eB\x00C"})
    assert studio.head(song_id).song.title == "A B C" and studio.shelf()[0].title == "A B C"


# the database --------------------------------------------------------------------------------------------------------------


def damage(studio, song_id, what=b"damaged"):
    with studio.database.write() as session:
        session.execute(
            text("UPDATE revisions SET document = :d WHERE id = :i"), {"d": what, "i": studio.head(song_id).revision_id}
        )
    studio.repository._documents.clear()


@pytest.mark.parametrize(
    "what", [b"damaged", zlib.compress(b"{}"), zlib.compress(b'{"version": 2, "song": {"title": 5}}'), b""]
)
def test_a_damaged_state_stands_alone_and_there_is_a_way_back(studio, what):
    other = studio.add_song(small_song(), "New")
    song_id = studio.add_song(small_song(), "New")
    before = studio.head(song_id)
    studio.command(song_id, before.revision_id, {"kind": "rename_song", "title": "Broken"})
    damage(studio, song_id, what)
    app = create_app(studio, testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    page = client.get("/").get_data(as_text=True)
    assert "Small" in page and "is damaged in the database" in page
    assert client.get(f"/songs/{other}").status_code == 200
    broken = client.get(f"/songs/{song_id}")
    assert broken.status_code == 500 and "last readable state" in broken.get_data(as_text=True)
    assert client.post(f"/songs/{song_id}/recover").status_code == 302
    assert studio.head(song_id).song == before.song
    damage(studio, song_id)
    with pytest.raises(StoreError, match="Restore a backup"):
        studio.recover(song_id)
    with pytest.raises(DamagedState):
        studio.head(song_id)


def test_the_shelf_is_shown_when_nothing_can_be_written(studio, monkeypatch):
    song_id = studio.add_song(small_song(), "New")
    monkeypatch.setattr(studio.database, "write", lambda: pytest.fail("reading writes"))
    assert studio.shelf()[0].picture["steps"] and studio.shelf()[0].id == song_id


@pytest.mark.parametrize(
    ("content", "said"),
    [(b"not a database at all, but long enough to be read", "cannot be opened as a database"), (None, "is damaged")],
)
def test_a_damaged_database_is_said_with_the_place_of_its_backup(tmp_path, content, said):
    studio = Studio(tmp_path)
    for _ in range(4):
        studio.add_song(small_song(), "New")
    assert upkeep.back_up_daily(studio.database) and upkeep.back_up_daily(studio.database) is None
    studio.close()
    file = tmp_path / "escalera.db"
    whole = file.read_bytes()
    for rest in ("escalera.db-wal", "escalera.db-shm"):
        (tmp_path / rest).unlink(missing_ok=True)
    file.write_bytes(content or whole[:8192] + b"\xff" * (len(whole) - 8192))
    with pytest.raises(StoreError, match=said) as raised:
        opened = Studio(tmp_path)
        opened.shelf()
        opened.head(1)
    copy = next((tmp_path / "backups").glob("*.db"))
    assert str(copy) in str(raised.value)
    file.write_bytes(copy.read_bytes())
    assert len(Studio(tmp_path).shelf()) == 4, "the remedy works"


def test_what_cannot_be_written_can_be_read(tmp_path, monkeypatch):
    first = Studio(tmp_path)
    song_id = first.add_song(small_song(), "New")
    first.close()
    monkeypatch.setattr("escalera.store.database.os.access", lambda *_: False)
    studio = Studio(tmp_path)
    assert studio.head(song_id).song == small_song() and len(studio.shelf()) == 1
    with pytest.raises(StoreError, match="cannot be written"):
        studio.add_song(small_song(), "New")
    studio.close()


@pytest.mark.parametrize("content", [b"", b"short", b"\xff\xfe\x00", None])
def test_a_key_file_that_is_none_is_made_anew(studio, content):
    if content is not None:
        (studio.folder / "secret.key").write_bytes(content)
    key = create_app(studio, testing=True).config["SECRET_KEY"]
    assert len(key) == 64 and create_app(studio, testing=True).config["SECRET_KEY"] == key
    assert (studio.folder / "secret.key").stat().st_mode & 0o077 == 0


def test_erasing_leaves_nothing_of_a_song_and_everything_of_the_others(studio):
    kept, gone = studio.add_song(small_song(), "New"), studio.add_song(small_song(), "New")
    song = studio.head(gone).song
    layer = next(x for x in song.layers if x.sound_key == "soft-pad")
    studio.edit(
        gone,
        studio.head(gone).revision_id,
        EDITS["add_layer"]("round-kick", rows=[[11, 22, 0, 0, 0, 33]], length_ticks=3840),
    )
    studio.print_layer(gone, studio.head(gone).revision_id, layer.id)
    studio.rendering.chunk_wav(studio.head(gone).song, 0)
    studio.rendering.shelf.settle()
    assert _count(studio, "patterns") == 4 and _count(studio, "prints") == 1
    studio.set_deleted(gone, True)
    studio.erase(gone)
    assert _count(studio, "patterns") == 3 and _count(studio, "prints") == 0
    assert not list((studio.folder / "sound").glob("*.*")) and studio.head(kept).song == small_song()


def _count(studio, table):
    with studio.database.read() as session:
        return session.execute(text(f"SELECT count(*) FROM {table}")).scalar()


# numbers and rows ------------------------------------------------------------------------------------------------------------

ODD = {
    "an id beyond every store": ("GET", "/songs/99999999999999999999", {}, 404),
    "a state beyond every store": ("GET", f"/songs/1/audio/{10**30}/0/x.wav", {}, 404),
    "a section of five thousand digits": ("GET", "/songs/1/moves?section=" + "9" * 5_000, {}, 422),
    "a section that is a word": ("GET", "/songs/1/moves?section=verse", {}, 422),
    "a note of five thousand digits": ("POST", "/songs/1/edits", {"kind": "set_range", "base": "1", "low": "9" * 5_000}, 422),
    "a base of five thousand digits": ("POST", "/songs/1/edits", {"kind": "fit_scale", "base": "9" * 5_000}, 422),
    "cells that are none": ("POST", "/songs/1/edits", {"kind": "set_tiles", "cells": '[[1, "x", null], {}, 7]', "base": "1"}, 422),
    "cells beyond every store": ("POST", "/songs/1/edits", {"kind": "set_tiles", "cells": f"[[{10**40}, 1, 1]]", "base": "1"}, 422),
    "rows in rows": ("POST", "/songs/1/edits", {"kind": "set_tiles", "cells": "[" * 30_000, "base": "1"}, 422),
    "a selection of nonsense": ("GET", "/songs/1?select=" + "tile:" * 200 + "9" * 4_400, {}, 200),
}  # fmt: skip


@pytest.mark.parametrize("name", ODD)
def test_odd_numbers_and_rows_are_answered_with_a_sentence(client, studio, name):
    studio.add_song(small_song(), "New")
    method, address, data, status = ODD[name]
    answer = client.open(address, method=method, data=data)
    assert answer.status_code == status, answer.get_data(as_text=True)[:300]


def test_nobody_is_asked_for_less(studio):
    with pytest.raises(InputError, match="silent"):
        studio.ideas.keep_sample("x", flac(1), "mine")
