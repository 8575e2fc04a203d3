"""Choosing, printing and keeping sound: auditions, prints, the store on disk, stopped renders, stacked sounds."""

from dataclasses import replace

import numpy as np
import pytest

from escalera.core.document.chord_text import parse_chordline
from escalera.core.edits import EDITS
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.events import layer_events
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.spoken_beats import parse_spoken
from escalera.errors import EditError, InputError, RenderStopped
from escalera.services.audition import audition_song
from escalera.services.hearing import beat_song, chords_song, note_song
from escalera.services.rendering import Rendering, wav_bytes
from escalera.services.studio import Studio
from escalera.sound import mix as mixing
from escalera.sound import spec
from escalera.sound.disk import DiskShelf, MixFolder
from escalera.sound.mix import Renderer
from escalera.sound.schedule import ticks_to_samples
from escalera.sound.section import SectionMix, mix_arrays
from escalera.sound.spec import ticks_at
from escalera.sound.stacking import stack_report
from tests.songs import HATS, ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


@pytest.mark.parametrize("key", BY_KEY)
def test_every_sound_is_heard_in_the_songs_key_and_tempo(key):
    song = EDITS["set_tempo"](93).apply(SONG)
    heard = audition_song(song, key)
    audio = Renderer(30).render(heard)
    assert heard.tempo_bpm == 93 and heard.key == song.key and heard.progression == song.progression
    assert 0.01 < np.abs(audio).max() <= 0.9 and not np.abs(audio[:, -1]).any()


def heard(studio, song_id):
    song = studio.head(song_id).song
    return studio.rendering.renderer.render(song)


def test_a_printed_layer_sounds_the_same_whatever_happens_to_the_engine_and_goes_back_in_one_step(
    tmp_path, monkeypatch
):
    studio = Studio(tmp_path, cache_mb=100)
    song_id = studio.add_song(EDITS["add_effect"](f"layer.{P}", "auto-pan").apply(SONG), "New")
    before, head = heard(studio, song_id), studio.head(song_id)
    studio.print_layer(song_id, head.revision_id, P)
    printed = heard(studio, song_id)
    assert np.abs(printed - before).max() < 2e-5, "24 bits"
    assert studio.rendering.print_state(studio.head(song_id).song, P) == (1, 1)
    studio.close()
    monkeypatch.setattr(spec, "VERSION", 999)
    monkeypatch.setattr(
        mixing,
        "render_unit",
        lambda s, *rest: pytest.fail("rendered again") if s.sounds[0].sound_key == "soft-pad" else real(s, *rest),
    )
    again = Studio(tmp_path, cache_mb=100)
    spec.unit_key.cache_clear()
    assert np.array_equal(heard(again, song_id), printed), "after a restart, with another engine"
    again.undo(song_id)
    assert again.head(song_id).song == head.song
    again.close()
    spec.unit_key.cache_clear()


real = mixing.render_unit


def test_a_print_follows_its_notes_and_the_original_plays_where_they_changed(studio):
    song_id = studio.add_song(SONG, "New")
    studio.print_layer(song_id, studio.head(song_id).revision_id, B)
    copied = studio.edit(song_id, studio.head(song_id).revision_id, EDITS["duplicate_section"](C))
    assert studio.rendering.print_state(copied.head.song, B) == (3, 3)
    changed = studio.edit(song_id, copied.head.revision_id, EDITS["lift"](V, B, 0))
    assert studio.rendering.print_state(changed.head.song, B) == (2, 3)
    silent = _silent_layer(studio, song_id)
    with pytest.raises(EditError, match="plays nothing yet"):
        studio.print_layer(song_id, studio.head(song_id).revision_id, silent)


def _silent_layer(studio, song_id):
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["add_layer"]("tin-hat", rows=HATS, length_ticks=3840))
    return max(x.id for x in studio.head(song_id).song.layers)


def test_sound_outlives_a_restart_and_a_damaged_file_is_made_again(tmp_path, monkeypatch):
    first = Rendering(100, disk=(tmp_path / "sound", 50))
    audio = first.renderer.render(SONG)
    first.shelf.settle()
    first.close()
    files = sorted((tmp_path / "sound").glob("*.npz"))
    assert len(files) == 2
    second = Rendering(100, disk=(tmp_path / "sound", 50))
    assert second.chunk_wav(SONG, 0) == wav_bytes(audio[:, : timeline(SONG).samples(44_100)[1]])
    second.shelf.settle()
    monkeypatch.setattr(mixing, "mix_section", lambda *a: pytest.fail("mixed again"))
    third = Rendering(100, disk=(tmp_path / "sound", 50))
    assert third.chunk_wav(SONG, 0) == second.chunk_wav(SONG, 0)
    third.close()
    monkeypatch.setattr(mixing, "render_unit", lambda *a: pytest.fail("rendered again"))
    assert np.array_equal(second.renderer.render(SONG), audio)
    second.close()
    monkeypatch.undo()
    files[0].write_bytes(b"nonsense")
    third = Rendering(100, disk=(tmp_path / "sound", 50))
    assert np.array_equal(third.renderer.render(SONG), audio)
    third.close()


def test_a_kept_mix_is_mapped_and_one_that_is_not_what_was_written_is_made_again(tmp_path):
    mix = SectionMix(
        -3,
        np.ones((2, 50_000), np.float32),
        {"drums": np.full((2, 50_000), 2.0, np.float32), "bass": np.zeros((2, 3), np.float32)},
    )
    shelf = DiskShelf(tmp_path, 10_000_000)
    for key in "ab":
        shelf.put(key, mix)
    shelf.settle()
    np.savez(tmp_path / "old.npz", **mix_arrays(mix))  # as earlier versions wrote them
    for key in ("a", "old"):
        back = shelf.get(key)
        assert back.offset == -3 and all(
            np.array_equal(x, y) and x.flags.aligned
            for x, y in zip(mix_arrays(back).values(), mix_arrays(mix).values())
        )
    assert isinstance(shelf.get("a").audio, np.memmap)
    whole = (tmp_path / "b.npz").read_bytes()
    (tmp_path / "b.npz").write_bytes(whole[:90_000] + bytes((whole[90_000] ^ 1,)) + whole[90_001:])
    shelf.close()
    again = DiskShelf(tmp_path, 10_000_000)  # what it wrote itself a shelf does not doubt
    assert again.get("b") is None and not (tmp_path / "b.npz").exists()
    again.close()


def test_the_disk_shelf_keeps_its_limit_and_a_folder_that_cannot_be_written_costs_nothing(tmp_path):
    mix = SectionMix(0, np.ones((2, 50_000), np.float32))
    shelf = DiskShelf(tmp_path / "small", 1_000_000)
    for i in range(6):
        shelf.put(f"key{i}", mix)
        shelf.settle()
    kept = [i for i in range(6) if shelf.get(f"key{i}") is not None]
    assert (
        sum(f.stat().st_size for f in (tmp_path / "small").iterdir()) <= 1_000_000 and kept[-1] == 5 and 0 not in kept
    )
    shelf.close()
    (tmp_path / "file").write_text("in the way")
    rendering = Rendering(60, disk=(tmp_path / "file", 10))
    assert np.array_equal(rendering.renderer.render(SONG), Renderer(60).render(SONG))
    rendering.close()


def test_a_sparing_renderer_sounds_the_same_and_a_full_disk_only_costs_time(tmp_path, monkeypatch):
    whole = Renderer(100).render(SONG)
    folder = MixFolder(tmp_path / "mixes")
    assert np.array_equal(Renderer(100).sparing(folder).render(SONG), whole)
    mix = SectionMix(3, np.ones((2, 50), np.float32), {"drums": np.zeros((2, 50), np.float32)})
    folder.put("a", mix)
    back = folder.get("a")
    assert back.offset == 3 and np.array_equal(back.audio, mix.audio) and "drums" in back.buses and "b" not in folder

    def full(file, array):
        if "audio" in file.name:
            raise OSError(28, "No space left on device")
        file.write_bytes(b"half")

    monkeypatch.setattr("escalera.sound.disk.np.save", full)
    folder.put("c", mix)
    assert folder.get("c") is None and not list((tmp_path / "mixes").glob("c *"))
    assert np.array_equal(Renderer(100).sparing(MixFolder(tmp_path / "none")).render(SONG), whole)


def test_a_render_tells_how_far_it_is_and_stops_when_it_is_outdated():
    told = []
    Renderer(60).render(SONG, told.append)
    assert told == sorted(told) and told[-1] == 1.0 and len(told) == len(SONG.sections)
    seen = []
    with pytest.raises(RenderStopped):
        Renderer(60).render(SONG, seen.append, lambda: False)
    assert not seen


def stacked(sound, **values):
    song = EDITS["add_stack"](K, sound).apply(SONG)
    return EDITS["set_stack"](K, song.layer_by_id[K].stack[0].id, **values).apply(song).layer_by_id[K]


@pytest.mark.parametrize("layer, cancels", [
    (lambda: stacked("round-kick", inverted=True, level_db=-1), True), (lambda: stacked("round-kick", offset_ms=9.5), True),
    (lambda: stacked("round-kick"), False), (lambda: stacked("stomp-kick", level_db=-12), False),
])  # fmt: skip
def test_stacked_sounds_that_cancel_in_the_low_end_are_found_with_a_remedy(layer, cancels):
    layer = layer()
    report = stack_report(layer)
    assert report.cancels == cancels
    if cancels:
        mended = replace(layer, stack=(report.remedy,))
        assert report.gain_db > 1.5 and stack_report(mended).loss_db < report.loss_db - 1.0


def test_a_stack_without_low_end_has_nothing_to_cancel():
    assert stack_report(stacked("dry-click")) is None and stack_report(SONG.layer_by_id[K]) is None


def test_too_many_layers_and_too_long_songs_meet_a_plain_limit():
    song = SONG
    with pytest.raises(EditError, match="64 layers, and no more fit"):
        for _ in range(200):
            song = EDITS["add_layer"]("tin-hat").apply(song)
    long = EDITS["set_tempo"](133).apply(EDITS["resize_section"](C, 991).apply(SONG))
    line = timeline(long)
    assert line.seconds > 30 * 59
    head = Renderer(60).before_master(long, line, line.samples(44_100)[1], line.samples(44_100)[1] + 44_100)
    assert np.isfinite(head).all() and head.any()


def test_favourites_belong_to_all_songs(studio):
    studio.set_favourite("rain", True)
    studio.set_favourite("rain", True)
    assert studio.favourites() == {"rain"}
    studio.set_favourite("rain", False)
    assert not studio.favourites()
    with pytest.raises(EditError, match="is not a sound"):
        studio.set_favourite("gong", True)


def test_chords_are_heard_as_the_layer_would_play_them(song):
    pad = next(x for x in song.layers if x.sound_key == "soft-pad")
    song = song.with_layer(replace(pad, voicing=replace(pad.voicing, spread="open"), octave=1))
    progression = parse_chordline("F | G7", song.key, song.metre)
    heard = chords_song(song, song.sections[0], progression, song.layer_by_id[pad.id])
    assert (
        [x.sound_key for x in heard.layers] == ["soft-pad"]
        and heard.layers[0].octave == 1
        and heard.layers[0].voicing.spread == "open"
    )
    neutral = chords_song(song, None, progression, None)
    assert {x.family for x in neutral.layers} == {"chords", "low end"} and neutral.bars == 2
    bass = next(x for x in song.layers if x.family == "low end")
    line = chords_song(song, None, progression, bass)
    assert [p % 12 for p in layer_events(line, timeline(line).spans[0], line.layers[0]).table[:, 2]] == [5, 7], (
        "a bass plays the roots"
    )
    with pytest.raises(InputError, match="are more than the 64"):
        chords_song(song, None, replace(progression, length_ticks=65 * 3840), None)


def test_a_beat_is_heard_on_the_songs_own_drums_in_its_swing(song):
    song = EDITS["set_swing"](song.sections[0].id, 60, "1/8").apply(song)
    played = parse_spoken("boom-ts ka-ts", song.metre)
    heard = beat_song(song, played, song.sections[0])
    assert [x.sound_key for x in heard.layers if x.sound.drum == "kick"] == ["round-kick"] and heard.bars == 2
    hats = next(x for x in heard.layers if x.sound.drum == "closed hat")
    assert layer_events(heard, timeline(heard).spans[0], hats).table[0, 0] == 576
    assert len(note_song(song, 64, None).layers) == 1
    with pytest.raises(InputError, match="is not a pitch"):
        note_song(song, 200, None)


def test_a_render_follows_a_glide():
    song = EDITS["glide_tempo"](small_song().sections[0].id, 60.0).apply(small_song())
    span = timeline(song).spans[0]
    ticks = np.arange(0, 8 * 3840, 480)
    samples = ticks_to_samples(span.grid, ticks)
    assert np.allclose(samples / 44_100, [span.seconds_at(int(t)) for t in ticks], atol=2e-5)
    assert np.allclose(ticks_at(span.tempo_points, samples.astype(float)), ticks, atol=0.05)
