"""What comes back: matched by notes, names and sound; changed where it was changed; nothing taken; odd files answered."""

import zipfile
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.services.packing import PackOptions, write_pack
from escalera.services.rendering import Rendering
from escalera.services.returned import returned_list
from tests.songs import ids, small_song

RATE = 44_100
SONG = replace(small_song(), master_gain_db=-3.0)
NAME = ids(SONG)
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))


@pytest.fixture(scope="module")
def handed(tmp_path_factory):
    """Stems as they were handed over: (rendering, {layer: samples}, the mix)."""
    folder, rendering = tmp_path_factory.mktemp("handed"), Rendering(300)
    write_pack(SONG, rendering, PackOptions(("dry", "premaster"), "name"), folder / "out.zip")
    with zipfile.ZipFile(folder / "out.zip") as archive:
        archive.extractall(folder)
    stems = {p.stem: soundfile.read(p, dtype="float32")[0] for p in (folder / "dry").iterdir()}
    yield rendering, stems, soundfile.read(folder / "small-premaster.wav", dtype="float32")[0]
    rendering.close()


def told(rendering, folder, files, song=SONG):
    for name, audio in files.items():
        soundfile.write(folder / name, audio, RATE, subtype="FLOAT")
    found = returned_list(song, rendering, [folder])
    return {f.file: f for f in found.files}, found.missing


def test_stems_are_known_by_their_sound_and_said_where_they_changed(handed, tmp_path):
    rendering, stems, mix = handed
    chorus = timeline(SONG).samples(RATE)[1]
    louder = stems["plucked-bass"].copy()
    louder[chorus:] *= 2.0
    other = 0.1 * np.random.default_rng(1).standard_normal(mix.shape).astype(np.float32)
    found, missing = told(rendering, tmp_path, {
        "Take 7 final.wav": stems["soft-pad"], "bass_v2.wav": louder, "new thing.wav": other, "whole.wav": mix,
    })  # fmt: skip
    assert (found["Take 7 final.wav"].layer, found["Take 7 final.wav"].state) == ("Soft pad", "same")
    bass = found["bass_v2.wav"]
    assert (
        (bass.layer, bass.state) == ("Plucked bass", "changed")
        and [w.split(":")[0] for w in bass.where] == ["Chorus"]
        and "6.0 dB" in bass.where[0]
    )
    assert (found["new thing.wav"].state, found["new thing.wav"].layer) == ("new", "")
    assert (found["whole.wav"].kind, found["whole.wav"].state) == ("mix", "same") and missing == ("Round kick",)


def test_a_file_that_begins_a_second_late_is_said_and_not_taken_for_another(handed, tmp_path):
    rendering, stems, _ = handed
    late = np.concatenate((np.zeros((RATE, 2), np.float32), stems["round-kick"]))
    found, _ = told(rendering, tmp_path, {"k.wav": late})
    assert (
        found["k.wav"].layer == "Round kick"
        and "begins 1.00 s late" in found["k.wav"].said
        and found["k.wav"].where == ()
    )


def test_tracks_and_projects_are_held_against_the_song(handed, tmp_path):
    rendering = handed[0]
    changed = EDITS["lift"](C, K).apply(EDITS["rename_layer"](B, "Deep").apply(SONG))
    more = EDITS["add_layer"]("glass-bell").apply(changed)
    bell = more.layers[-1]
    more = (
        EDITS["place"](C, bell.id, bell.pattern_id, start_ticks=0, end_ticks=3840).apply(more)
        if bell.pattern_id
        else more
    )
    (tmp_path / "back.mid").write_bytes(write_midi(more))
    (tmp_path / "back.json").write_bytes(write_project(changed))
    (tmp_path / "same.json").write_bytes(write_project(SONG))
    found = returned_list(SONG, rendering, [tmp_path])
    tracks = {f.layer: f for f in found.files if f.kind == "track"}
    assert (
        tracks["Plucked bass"].state == "same"
        and tracks["Round kick"].state == "changed"
        and tracks["Round kick"].where[0].startswith("Chorus: 0 notes more")
    )
    projects = {f.file: f for f in found.files if f.kind == "project"}
    assert (
        projects["same.json"].state == "same"
        and projects["back.json"].state == "changed"
        and any("Chorus" in w for w in projects["back.json"].where)
    )


def test_odd_files_are_a_sentence_each(handed, tmp_path):
    rendering = handed[0]
    (tmp_path / "broken.wav").write_bytes(b"RIFF nothing")
    (tmp_path / "text.json").write_text("{ no json")
    with zipfile.ZipFile(tmp_path / "outside.zip", "w") as archive:
        archive.writestr("../../evil.txt", "x")
    soundfile.write(tmp_path / "silent.wav", np.zeros((RATE, 2)), RATE)
    found = {f.file: f for f in returned_list(SONG, rendering, [tmp_path]).files}
    assert {found[n].state for n in ("broken.wav", "text.json", "outside.zip")} == {"unread"} and all(
        found[n].said.endswith(".") for n in ("broken.wav", "text.json", "outside.zip")
    )
    assert found["silent.wav"].said == "silent"
    many = tmp_path / "many"
    many.mkdir()
    for i in range(501):
        (many / f"{i}.txt").touch()
    with pytest.raises(InputError, match="501 files"):
        returned_list(SONG, rendering, [many])
