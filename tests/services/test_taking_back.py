"""Taking what came back: what is taken sounds and reads as it was sent, what is not stays; a zip with odd things in it takes nothing."""

import json
import zipfile
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from escalera.core.edits import EDITS
from escalera.core.handing.merging import THEIRS
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError, InputError
from escalera.formats.midi_read import read_midi
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.formats.zip_gate import MOST_ENTRIES, unpacked_files
from escalera.services.packing import PackOptions, write_pack
from escalera.services.returned import returned_list
from escalera.services.stems_heard import heard_stems
from escalera.services.taking_back import chosen_rows, take_back
from tests.songs import ids, small_song

RATE = 44_100
SONG = replace(small_song(), master_gain_db=-3.0)
NAME = ids(SONG)
V, C, B, P = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad"))


@pytest.fixture(scope="module")
def stems(tmp_path_factory):
    """Dry stems of the song as they were handed over, by name."""
    from escalera.services.rendering import Rendering

    folder, rendering = tmp_path_factory.mktemp("stems"), Rendering(300)
    write_pack(SONG, rendering, PackOptions(("dry",), "name"), folder / "out.zip")
    with zipfile.ZipFile(folder / "out.zip") as archive:
        archive.extractall(folder)
    rendering.close()
    return {p.stem: soundfile.read(p, dtype="float32")[0] for p in (folder / "dry").iterdir()}


@pytest.fixture
def came(tmp_path):
    folder = tmp_path / "came"
    folder.mkdir()
    return folder


def looked(studio, song_id, folder):
    song = studio.head(song_id).song
    return json.loads(
        json.dumps(returned_list(song, studio.rendering, [folder], studio.earlier_states(song_id)).plain())
    )


def alone(studio, song, layer):
    line = timeline(song)
    end = line.samples(RATE)[-1]
    return studio.rendering.renderer.before_master(song, line, 0, end, frozenset((layer.id,)), False)


@pytest.mark.parametrize("way", ["layer", "sections"])
@pytest.mark.parametrize("late", [0, RATE - 333])
def test_a_stem_is_laid_where_it_was_and_as_loud(studio, stems, came, way, late):
    chorus = timeline(SONG).samples(RATE)[1]
    sent = stems["plucked-bass"].copy()
    sent[chorus:] = 0.5 * np.roll(sent[chorus:], RATE // 5, axis=0)
    soundfile.write(came / "bass v2.wav", np.vstack((np.zeros((late, 2), np.float32), sent)), RATE, subtype="FLOAT")
    song_id = studio.add_song(SONG, "Made")
    found = looked(studio, song_id, came)
    assert ("s late" in found["files"][0]["said"]) == bool(late)
    said = take_back(studio, song_id, came, chosen_rows(found, {"way:0": way}), "Ana")
    song = studio.head(song_id).song
    laid, old = next(x for x in song.layers if x.clips), song.layer_by_id[B]
    assert laid.sent_by == "Ana" and "in place of Plucked bass" in said and laid.family == old.family
    places = [
        (s.id, any(p.layer_id == laid.id for p in s.placements), any(p.layer_id == B for p in s.placements))
        for s in song.sections
    ]
    heard = alone(studio, song, laid)
    wanted = sent[: heard.shape[1]].T
    low = chorus + 2000 if way == "sections" else 2000
    off, power = ((heard - wanted)[:, low:-2000] ** 2).mean(), (wanted[:, low:] ** 2).mean()
    assert 10 * np.log10(off / power) < -90, "it sounds as it was sent"
    if way == "layer":
        assert old.muted and old.aside and places == [(V, True, True), (C, True, True)]
    else:
        assert not old.muted and places == [(V, False, True), (C, True, False)]
    take_back(studio, song_id, came, chosen_rows(found, {"way:0": way}), "Ana")
    assert studio.head(song_id).song == song, "taken twice it is there once"
    assert studio.undo(song_id).song == SONG


def test_stems_are_heard_for_what_would_clip_is_silent_or_breaks_off(studio, stems, came):
    line = timeline(SONG)
    cut = line.samples(RATE)[1] + RATE
    sent = stems["plucked-bass"].copy()
    sent[cut - RATE // 2 : cut] += 0.3 * np.sin(np.arange(RATE // 2) * 0.03)[:, None].astype(np.float32)
    sent[cut:] = 0.0
    soundfile.write(came / "bass.wav", sent, RATE, subtype="FLOAT")
    song_id = studio.add_song(SONG, "Made")
    take_back(studio, song_id, came, chosen_rows(looked(studio, song_id, came), {"way:0": "layer"}), "Ana")
    song = studio.head(song_id).song
    heard = {s.layer_id: s for s in heard_stems(song, studio.rendering)}
    laid, bar = next(x for x in song.layers if x.clips), 1 + int(np.searchsorted(line.bar_seconds(), cut / RATE)) - 1
    assert heard[laid.id].breaks_off_bars == (bar,) and B not in heard, "what is set aside gets no file"
    wet = studio.rendering.renderer.before_master(song, line, 0, line.samples(RATE)[-1] + 4 * RATE, frozenset((P,)))
    assert heard[P].peak_dbfs == pytest.approx(20 * np.log10(np.abs(wet).max()), abs=0.06)
    assert not heard[P].breaks_off_bars and not any(s.cut_at_end for s in heard.values())
    quiet = EDITS["set_control"](P, "level_db", -60.0).apply(
        EDITS["set_control"](laid.id, "level_db", 12.0).apply(song)
    )
    hot = {s.layer_id: s.peak_dbfs for s in heard_stems(quiet, studio.rendering)}
    assert hot[P] < -70 and hot[laid.id] - heard[laid.id].peak_dbfs == pytest.approx(12.0 - laid.level_db, abs=0.11)


def test_notes_and_tempo_of_a_track_come_in_where_they_differ(studio, came):
    other = EDITS["transpose_line"](C, B, 0, 2).apply(EDITS["set_tempo"](104.0).apply(SONG))
    (came / "song.mid").write_bytes(write_midi(other))
    song_id = studio.add_song(SONG, "Made")
    found = looked(studio, song_id, came)
    rows = {(f["kind"], f["layer"]): i for i, f in enumerate(found["files"])}
    bass = found["files"][rows["track", "Plucked bass"]]
    assert bass["state"] == "changed" and bass["sections"] == [C]
    assert found["files"][rows["track", "Soft pad"]]["state"] == "same"
    ways = {f"way:{rows['track', 'Plucked bass']}": "notes", f"way:{rows['tempo', '']}": "tempo"}
    take_back(studio, song_id, came, chosen_rows(found, ways), "")
    song = studio.head(song_id).song
    assert song.tempo_bpm == 104.0 and song.section_by_id[V] == SONG.section_by_id[V]
    played = [{p.name: p.notes for p in read_midi(write_midi(x)).parts} for x in (song, other)]
    assert played[0] == played[1]


def test_a_project_of_an_earlier_state_is_merged_and_can_be_kept_as_a_version(studio, came):
    song_id = studio.add_song(SONG, "Made")
    began = studio.head(song_id)
    (came / "theirs.json").write_bytes(write_project(EDITS["set_target"](V, 1.0, 1.0).apply(SONG)))
    studio.edit(song_id, began.revision_id, EDITS["toggle_tile"](C, P, 0))
    mine = studio.head(song_id)
    found = looked(studio, song_id, came)
    row = found["files"][0]
    assert (row["state"], row["base"], [p["key"] for p in row["parts"]]) == (
        "changed",
        began.revision_id,
        [f"section:{V}"],
    )
    take_back(studio, song_id, came, chosen_rows(found, {"way:0": "version"}), "Ana")
    assert studio.head(song_id) == mine, "a version changes nothing"
    assert [v.name for v in studio.versions.of(song_id)] == ["came back from Ana"]
    take_back(studio, song_id, came, chosen_rows(found, {"way:0": "merge", f"part:0:section:{V}": THEIRS}), "Ana")
    song = studio.head(song_id).song
    assert song.section_by_id[V].target.mean == 1.0 and song.section_by_id[C] == mine.song.section_by_id[C]
    with pytest.raises(InputError, match="Nothing was chosen"):
        take_back(studio, song_id, came, [], "")


def odd_zip(path, entries, squeeze=zipfile.ZIP_DEFLATED):
    with zipfile.ZipFile(path, "w", squeeze) as out:
        for name, data in entries:
            out.writestr(name, data)
    return path


@pytest.mark.parametrize(
    "entries, says",
    [
        ([("../../outside.wav", b"RIFF")], "lies outside"),
        ([("C:\\windows\\a.wav", b"RIFF")], "lies outside"),
        ([("bomb.wav", b"\0" * 20_000_000)], "grow more than"),
        ([(f"{i}.wav", b"") for i in range(MOST_ENTRIES + 1)], "501 files"),
        ([("read me.txt", b"hello")], "Nothing in the zip"),
    ],
)
def test_a_zip_that_should_not_be_opened_is_not(tmp_path, entries, says):
    with pytest.raises(EscaleraError, match=says):
        unpacked_files(odd_zip(tmp_path / "odd.zip", entries), tmp_path / "out")
    assert not list((tmp_path / "out").glob("*")) if (tmp_path / "out").exists() else True


def test_stems_in_a_zip_are_looked_at_and_a_broken_one_is_said(studio, stems, came):
    soundfile.write(came / "pad.flac", stems["soft-pad"], RATE)
    odd_zip(came / "all.zip", [("stems/pad.flac", (came / "pad.flac").read_bytes()), ("__MACOSX/._pad.flac", b"x")])
    (came / "pad.flac").unlink()
    (came / "half.zip").write_bytes((came / "all.zip").read_bytes()[:5000])
    found = looked(studio, studio.add_song(SONG, "Made"), came)["files"]
    assert {f["file"]: (f["layer"], f["state"]) for f in found} == {
        "pad.flac": ("Soft pad", "same"),
        "half.zip": ("", "unread"),
    }
