"""Stems become a song: families by name and sound, the form of their sum, tiles where something sounds, and the same mix again."""

import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile

from escalera.core.samples.stem_names import family_of_stem
from escalera.core.study.kit import sounds_in
from escalera.errors import InputError
from escalera.formats.file_says import began_at_s
from escalera.listen.whole_reading import read_lightly
from escalera.services.finished_tracks import Recipe, song_of_recipe, stem_kit
from escalera.services.stems import bring_in_stems, stem_files, title_of_kit
from tests.recordings import RATE, loop, tone

NAMES = {
    "03_Kick In.wav": "drums", "BassDI.flac": "low end", "Lead Vox dbl.wav": "voices", "bass drum.wav": "drums", "GTR clean.aif": "chords",
    "FX riser 2.wav": "effects", "FieldRecording ambience.wav": "atmosphere", "SynthLead.wav": "leads", "Piano.wav": "chords",
}  # fmt: skip


@pytest.fixture(scope="module")
def kit(tmp_path_factory):
    """Stems of a song of which nothing was fitted, 37 s."""
    folder = tmp_path_factory.mktemp("kit")
    song = song_of_recipe(Recipe("Kit", "loose-funk", "Verse 8, Chorus 8", 104.0, breathes=False))
    return song, folder, stem_kit(song, folder)


def light(audio):
    return read_lightly([np.atleast_2d(audio).astype(np.float32)], RATE, 1)


@pytest.mark.parametrize("name", NAMES)
def test_a_stem_is_what_its_name_says(name):
    family, why = family_of_stem(name, light(tone(60, 4)))
    assert family == NAMES[name] and why.startswith("its name says")


@pytest.mark.parametrize(
    ("make", "family"),
    [
        (lambda: loop("drums", 110.0, 4)[0], "drums"),
        (lambda: np.concatenate([tone(31, 0.5, partials=2) for _ in range(16)]), "low end"),
        (lambda: np.concatenate([sum(tone(p, 2.0, ring=0.3) for p in (60, 64, 67)) for _ in range(4)]) / 3, "chords"),
        (lambda: np.concatenate([tone(72 + i % 5, 0.25) for i in range(32)]), "leads"),
    ],
)
def test_a_stem_without_a_telling_name_is_what_it_sounds_like(make, family):
    assert family_of_stem("Audio 7.wav", light(make())) == (family, "its sound")


def test_a_folder_of_stems_is_the_same_mix_again(studio, kit, tmp_path):
    song, folder, files = kit
    again = tmp_path / "again.flac"  # the same stem twice, softer; and a silent one
    audio, _ = soundfile.read(files[0], always_2d=True)
    soundfile.write(again, 0.5 * audio, RATE)
    soundfile.write(tmp_path / "empty.flac", np.zeros((RATE, 2)), RATE)
    named = [(f, f.name) for f in (*stem_files(folder), again, tmp_path / "empty.flac")]
    found = bring_in_stems(studio, named, "Remix")
    made = studio.head(found.song_id).song
    assert any("is the same as" in x for x in found.said) and any("silent" in x for x in found.said)
    assert (made.tempo_bpm, str(made.metre), made.bars) == (104.0, "4/4", song.bars)
    assert len(made.layers) == len(files) and all(
        x.clips and x.reason.startswith("stem of the kit") for x in made.layers
    )
    edges = np.cumsum([s.bars for s in made.sections])[:-1]
    assert all(min(abs(e - t) for t in np.cumsum([s.bars for s in song.sections])[:-1]) <= 1 for e in edges)
    own, theirs = (studio.rendering.renderer.render(x) for x in (song, made))
    size = min(own.shape[1], theirs.shape[1])
    a, b = own[:, :size].ravel(), theirs[:, :size].ravel()
    assert float(a @ b / np.sqrt((a @ a) * (b @ b))) > 0.98
    bars = {
        x.name: sum(p.end_ticks - p.start_ticks for s in made.sections for p in s.placements if p.layer_id == x.id)
        for x in made.layers
    }
    assert min(bars.values()) < max(bars.values())  # tiles only where something sounds


def test_many_channels_of_one_file_are_stems(studio, tmp_path):
    parts = [loop("drums", 100.0, 8)[0], loop("chords", 100.0, 8, key=9, mode="minor")[0]]
    bass = np.zeros_like(np.atleast_2d(parts[0])[0])
    for beat in range(32):
        at = round(beat * 0.6 * RATE)
        sound = tone((33, 29, 36, 31)[beat // 4 % 4], 0.55, partials=3)
        bass[at : at + len(sound)] += sound[: len(bass) - at]
    size = min(np.atleast_2d(p).shape[1] for p in parts)
    audio = np.stack([np.atleast_2d(p)[0][:size] for p in parts] + [bass[:size]])
    path = tmp_path / "Session stems.wav"
    soundfile.write(path, 0.5 * audio.T, RATE)
    found = bring_in_stems(studio, [(path, path.name)], title_of_kit(path.name), 100.0)
    made = studio.head(found.song_id).song
    assert made.title == "Session" and made.tempo_bpm == 100.0 and len(made.layers) == 3
    assert [x.name for x in made.layers if x.family == "drums"] == ["Session stems, channel 1"]
    assert not list((studio.folder / "kit-channels").iterdir())


def test_what_cannot_be_laid_says_why(studio, tmp_path):
    with pytest.raises(InputError, match="holds no recordings"):
        stem_files(tmp_path)
    noise = tmp_path / "noise.flac"
    soundfile.write(noise, 0.1 * np.random.default_rng(1).standard_normal((10 * RATE, 2)), RATE)
    with pytest.raises(InputError, match="No steady beat"):
        bring_in_stems(studio, [(noise, "noise.flac")], "x")
    soundfile.write(tmp_path / "empty.flac", np.zeros((RATE, 2)), RATE)
    with pytest.raises(InputError, match="Nothing of it can be laid"):
        bring_in_stems(studio, [(tmp_path / "empty.flac", "empty.flac")], "x")


def test_a_stem_sounds_where_it_is_no_tail():
    assert sounds_in(np.array([-20.0, -30.0, -70.0, -75.0])).tolist() == [True, True, False, False]
    assert not sounds_in(np.full(3, -100.0)).any()


def test_a_kit_waits_until_all_its_stems_are_there(tmp_path):
    from escalera.services.kits_waiting import KitsWaiting

    kits = KitsWaiting(tmp_path / "kits")
    for number, name in enumerate(("b.wav", "a.wav")):
        file = tmp_path / f"{number}.ready"
        file.write_bytes(b"x")
        kits.take(7, file, name)
    assert [name for _, name in kits.named(7)] == ["b.wav", "a.wav"] and not kits.whole(7, 3)
    assert kits.whole(7, 2, fewer=True) and kits.whole(7, 3)
    kits.clear(7)
    assert kits.named(7) == [] and isinstance(kits.folder(7), Path)


def with_time(path, audio, late_s):
    """A broadcast wave that says when in its session it began."""
    soundfile.write(path, audio.T, RATE, subtype="PCM_16")
    bext = bytes(338) + struct.pack("<Q", round((3600 + late_s) * RATE)) + bytes(256)
    data = path.read_bytes() + b"bext" + struct.pack("<I", len(bext)) + bext
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])


def test_stems_that_begin_later_lie_where_their_files_say(studio, tmp_path):
    drums, keys = (
        0.4 * np.atleast_2d(loop(kind, 100.0, 8, key=9, mode="minor")[0])[:1] for kind in ("drums", "chords")
    )
    late_s = 2 * 2.4 + 0.6  # two bars and a beat
    with_time(tmp_path / "Drums.wav", drums, 0.0)
    with_time(tmp_path / "Keys.wav", keys[:, round(late_s * RATE) :], late_s)
    found = bring_in_stems(studio, [(f, f.name) for f in stem_files(tmp_path)], "Late", 100.0)
    made = studio.head(found.song_id).song
    layer = next(x for x in made.layers if x.name == "Keys")
    first = min(p.start_ticks for s in made.sections[:1] for p in s.placements if p.layer_id == layer.id)
    assert first == 2 * 4 * 960 and made.pattern_by_id[layer.pattern_id].pattern.to_list()[0][0] == pytest.approx(
        960, abs=12
    )
    size = keys.shape[1] - RATE
    own = studio.rendering.renderer.render(made)[:, :size].mean(axis=0)
    wanted = drums[0, :size].copy()
    wanted[round(late_s * RATE) :] += keys[0, round(late_s * RATE) : size]
    assert float(own @ wanted / np.sqrt((own @ own) * (wanted @ wanted))) > 0.97
    (tmp_path / "Keys.wav").write_bytes((tmp_path / "Keys.wav").read_bytes()[:200])  # broken off: nothing is invented
    assert began_at_s(tmp_path / "Keys.wav") is None and began_at_s(tmp_path / "Drums.wav") == pytest.approx(3600.0)
