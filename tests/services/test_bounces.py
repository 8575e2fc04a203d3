"""A mix made elsewhere over the plan: found whatever its sounds, with what is missing and added, measured like the sketch, judged."""

from dataclasses import replace

import numpy as np
import pytest
import soxr

from escalera.core.bounce_judgement import BounceReading, SectionHeard, bounce_findings
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError, NotFound
from escalera.services.bounces import bars_of, bounce_report, read_mix
from escalera.services.finished_tracks import stem_kit
from escalera.services.new_song import new_song
from escalera.services.rendering import Rendering
from escalera.services.stand_in_mix import add_stand_in, elsewhere
from escalera.services.stems import bounce_of_stems
from escalera.services.watching import FolderWatch
from escalera.sound.mix import Renderer
from tests.recordings import RATE, loop, written
from tests.songs import small_song

SONG = small_song()


@pytest.fixture(scope="module")
def rendering():
    found = Rendering(150)
    yield found
    found.close()


@pytest.fixture(scope="module")
def mixed():
    """A song of six sections, and its mix by other sounds, driven into saturation: nothing of it was tuned on."""
    song = new_song(
        "Ferry", key="G major", school="band", form_text="intro 4, verse 8, chorus 8, bridge 4, chorus 8, outro 4"
    )
    return song, (np.tanh(2.0 * Renderer(150).render(elsewhere(song))) / 1.1).astype(np.float32)


def shifted(mix, seconds=0.0, ppm=0):
    mix = np.pad(mix, ((0, 0), (round(seconds * RATE), 0)))
    return np.ascontiguousarray(soxr.resample(mix.T, 1_000_000, 1_000_000 + ppm).T) if ppm else mix


def without(song, mix, index):
    span = timeline(song).spans[index]
    low, high = (round(x * RATE) for x in (span.start_seconds, span.start_seconds + span.length_seconds))
    bars = tuple(range(span.first_bar, span.first_bar + span.section.bars))
    return np.concatenate((mix[:, :low], mix[:, high:]), axis=1), bars


def of(mix):
    return lambda low, count: mix[:, low : low + count]


def test_a_mix_by_other_sounds_lies_where_it_lies_and_ranks_as_the_sketch(mixed, rendering):
    song, mix = mixed
    found = read_mix(song, rendering, "Mix", of(shifted(mix, 1.37, 90)))
    assert found.offset_s == pytest.approx(1.37, abs=0.006) and found.drift_ppm == pytest.approx(90, abs=30)
    assert not found.missing_bars and not found.added_bars
    own, heard_there = (np.array([s.energy for s in rows]) for rows in (found.sketch, found.sections))
    assert np.corrcoef(own, heard_there)[0, 1] > 0.98
    apart = np.abs(own[:, None] - own) > 0.5  # nearer ones are alike
    assert (np.sign(own[:, None] - own) == np.sign(heard_there[:, None] - heard_there))[apart].all()
    report = bounce_report(song, found)
    assert [s["name"] for s in report["sections"]] == [s.name for s in song.sections]
    assert all(abs(s["bounce"] - s["sketch"]) < 1.2 for s in report["sections"])


def test_what_is_missing_or_added_is_found(mixed, rendering):
    song, mix = mixed
    cut, bars = without(song, mix, 2)
    found = read_mix(song, rendering, "Mix", of(shifted(cut, 0.4)))
    assert found.missing_bars == bars and found.offset_s == pytest.approx(0.4, abs=0.006)
    gone = found.of(song.sections[2].id)
    assert gone.energy is None and set(gone.bars) == {None} and gone.points == ()
    whole = read_mix(song, rendering, "Mix", of(mix))
    for heard, other in zip(found.sections, whole.sections):
        assert heard.energy is None or heard.energy == pytest.approx(other.energy, abs=0.25)
    late = round(bars_of(song)[4] * RATE)
    begun = read_mix(song, rendering, "Mix", of(mix[:, late:]))
    assert begun.missing_bars == (1, 2, 3, 4) and begun.offset_s == pytest.approx(-bars_of(song)[4], abs=0.02)


ODD = {
    "another song": lambda: loop("both", 97.0, 32, key=6, beat="broken")[0],
    "noise": lambda: 0.1 * np.random.default_rng(1).standard_normal((2, 40 * RATE)).astype(np.float32),
    "silence": lambda: np.zeros((2, 20 * RATE), np.float32),
    "two seconds": lambda: loop("drums", 97.0, 1)[0],
}


@pytest.mark.parametrize("name", ODD)
def test_what_is_not_this_song_is_said(rendering, name):
    audio = ODD[name]()
    with pytest.raises(InputError, match="does not sound like this song"):
        read_mix(SONG, rendering, name, of(audio))


def test_what_lasts_far_longer_than_the_song_is_refused(rendering):
    long = np.tile(loop("drums", 120.0, 4)[0], (1, 20))
    with pytest.raises(InputError, match="160 s, and the song 32 s"):
        read_mix(SONG, rendering, "A whole set", of(long))


def heard(section, energy, points=(1.0,) * 9, bands=(-30.0,) * 6):
    return SectionHeard(section.id, section.name, energy, (energy,) * section.bars, -14.0, 0.2, points, bands)


def test_a_bounce_is_judged_against_what_is_wanted():
    song = replace(
        SONG,
        sections=tuple(
            replace(s, role="chorus", target=replace(s.target, start=t, end=t))
            for s, t in zip(SONG.sections, (7.0, 8.2))
        ),
    )
    first, last = song.sections
    sketch = (heard(first, 7.0), heard(last, 8.2))
    good = BounceReading(0, 0, (), (), 0.6, 0.0, -14.0, -1.0, sketch, sketch)
    assert bounce_findings(song, good) == []
    flat = replace(good, sections=(heard(first, 7.1), heard(last, 7.2, (0.1, *(1.0,) * 8), (-30, -38, *(-30,) * 4))))
    said = [f.said for f in bounce_findings(song, flat)]
    assert said == [
        f"{last.name} measures 0.1 above {first.name}; wanted is +1.2.",
        f"{last.name} measures 7.2 in the mix; wanted is 8.2.",
    ]
    assert "drive −0.9" in bounce_findings(song, flat)[0].cause and "−8 dB" in bounce_findings(song, flat)[0].cause


def test_a_bounce_is_kept_read_in_the_background_and_goes_with_its_song(studio, tmp_path, mixed):
    mix = Renderer(60).render(SONG)
    song_id = studio.add_song(SONG, "Small")
    id, _ = studio.samples.add_file(written(tmp_path, "Rough mix.wav", shifted(mix, 0.25)))
    bounce_id = studio.add_bounce(song_id, id, "vocals louder")
    assert studio.add_bounce(song_id, id) == bounce_id, "the same audio is one bounce"
    studio.bounces.read(bounce_id, SONG)
    kept = studio.bounces.of_song(song_id, SONG)[0]
    assert kept.note == "vocals louder" and kept.fresh and kept.reading.offset_s == pytest.approx(0.25, abs=0.004)
    for own, of_mix in zip(kept.reading.sketch, kept.reading.sections):
        assert of_mix.energy == pytest.approx(own.energy, abs=0.1), "the sketch itself measures as the sketch"
    longer = replace(SONG, tempo_bpm=100.0)
    assert not studio.bounces.of_song(song_id, longer)[0].fresh
    studio.samples.remove(id)
    assert list(studio.samples.folder.glob("*.flac")), "its audio stays while the bounce needs it"
    for act in (studio.bounces.remove, studio.read_bounce):
        with pytest.raises(NotFound, match="another song"):
            act(song_id + 1, bounce_id)
    studio.set_deleted(song_id, True)
    studio.erase(song_id)
    assert not studio.bounces.of_song(song_id, SONG) and not list(studio.samples.folder.glob("*.flac"))


def test_a_made_up_mix_shows_what_a_bounce_is(studio, mixed):
    song, _ = mixed
    song_id = studio.add_song(song, song.title)
    studio.bounces.read(add_stand_in(studio, song_id, song), song)
    kept = studio.bounces.of_song(song_id, song)[0]
    gone = timeline(song).spans[len(song.sections) // 2]
    assert kept.reading.missing_bars == tuple(range(gone.first_bar, gone.first_bar + gone.section.bars))
    assert kept.reading.offset_s == pytest.approx(0.68, abs=0.01) and "made-up mix" in kept.name


def test_a_newer_file_in_the_watched_folder_is_read_once_it_is_whole(studio, tmp_path, mixed):
    folder = tmp_path / "mixes"
    folder.mkdir()
    mix = Renderer(60).render(SONG)
    song_id = studio.add_song(SONG, "Small")
    id, _ = studio.samples.add_file(written(folder, "Rough mix.wav", mix))
    studio.add_bounce(song_id, id)
    watch = FolderWatch(studio, folder)
    watch._read = watch._files()  # as when it begins: what lies there is no news
    assert watch.look() == watch.look() == []
    written(folder, "Rough mix.wav", shifted(mix, 0.3))
    written(folder, "Another song.wav", mix)
    (folder / "Linked.wav").symlink_to(folder / "Rough mix.wav")
    assert watch.look() == [], "it may still grow"
    assert watch.look() == ["Rough mix.wav"] and watch.look() == []
    kept = studio.bounces.of_song(song_id, SONG)
    assert [b.name for b in kept] == ["Rough mix", "Rough mix"] and kept[0].note == "from the watched folder"
    (folder / "Rough mix.wav").write_bytes(b"half a file")
    watch.look()
    assert watch.look() == [] and len(studio.bounces.of_song(song_id, SONG)) == 2, (
        "a broken file is written down and leaves nothing"
    )


def test_a_mix_may_be_given_as_stems(studio, tmp_path):
    song = small_song()
    song_id = studio.add_song(song, "Small")
    files = stem_kit(song, tmp_path)
    bounce_id = bounce_of_stems(studio, [(f, f.name) for f in files], song_id)
    studio.bounces.read(bounce_id, song)
    (found,) = studio.bounces.of_song(song_id, song)
    assert found.note == "given as stems" and not found.reading.missing_bars
    assert abs(found.reading.offset_s) < 0.01
    for heard, own in zip(found.reading.sections, found.reading.sketch):
        assert heard.energy == pytest.approx(own.energy, abs=0.4)
    with pytest.raises(InputError, match="None of the 1 stems"):
        bounce_of_stems(studio, [(tmp_path / "none.wav", "none.wav")], song_id)
