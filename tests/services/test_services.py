"""Use cases: demo songs, new songs, hand over, arranged against measured."""

import zipfile

import numpy as np
import pytest

from escalera.core.energy.model import arranged
from escalera.core.handing.file_names import plain_name
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError
from escalera.formats.audio import decode_audio
from escalera.services import library
from escalera.services.exporting import FORMATS, Options, export
from escalera.services.memory import let_compiler_go, resident_bytes
from escalera.services.new_song import STARTS, new_song
from escalera.services.rendering import Rendering
from escalera.services.reporting import energy_report, measure_report
from tests.songs import ids, small_song


@pytest.fixture(scope="module")
def measured(demos):
    """Both demo songs, rendered and measured once."""
    rendering = Rendering(900)
    yield {song.title: (song, rendering.measure(song)) for song in demos}
    rendering.close()


def test_demo_songs_are_worth_hearing(measured):
    for song, found in measured.values():
        assert 60 <= song.bars <= 110
        assert found.loudness.integrated_lufs == pytest.approx(-16, abs=2) and found.true_peak_dbtp <= -1.0
        by_role = {s.span.section.role: s for s in found.sections}
        loudest = max(s.section_lufs for s in found.sections)
        assert loudest - by_role["break"].section_lufs >= 6.0
        peak = by_role.get("chorus") or by_role["drop"]
        assert (np.median(peak.bands_db, axis=0) > [-30, -34, -34, -36, -44, -48]).sum() >= 5


def test_the_flawed_demo_shows_its_faults_and_the_other_none(measured):
    song, found = measured["Harbour Stairs"]
    assert found.agreement.joins_as_meant >= found.agreement.joins - 1
    song, found = measured["Paper Engines"]
    value = {s.span.section.name: s.value for s in found.sections}
    assert value["Break"] > value["Verse"] and value["Drop 2"] < value["Drop 1"] + 0.2
    assert found.agreement.joins_as_meant < found.agreement.joins


def test_arranged_energy_predicts_measured(measured):
    from scipy.stats import spearmanr

    pairs = [
        (a.value, m.value) for song, found in measured.values() for a, m in zip(arranged(song).sections, found.sections)
    ]
    assert spearmanr(*zip(*pairs)).statistic >= 0.8


@pytest.mark.parametrize("start", STARTS)
def test_a_new_song_needs_nothing_said(start):
    song = new_song(start=start)
    assert song.bars == 8 and (start == "style" or len(song.layers) == len(STARTS[start][1]))
    assert all(any(p.layer_id == x.id for p in song.sections[0].placements) for x in song.layers)


def test_a_new_song_takes_what_is_said():
    song = new_song("Up", "93.5", "6/8", "F# minor", "band", form_text="intro 4, verse 8, chorus 8 x2")
    assert [(s.name, s.role, s.bars) for s in song.sections] == [
        ("Intro", "intro", 4),
        ("Verse", "verse", 8),
        ("Chorus 1", "chorus", 8),
        ("Chorus 2", "chorus", 8),
    ]
    assert (song.tempo_bpm, str(song.metre), str(song.key), song.school) == (93.5, "6/8", "F♯ minor", "band")


@pytest.mark.parametrize(("fields", "says"), [
    (dict(tempo_bpm="fast"), "is not a tempo"), (dict(tempo_bpm="20"), "20 bpm lies outside 30 to 300"), (dict(metre="4/0"), "4/0"),
    (dict(form_text="verse"), "needs a name and a number of bars"), (dict(form_text="verse 0"), "has no bars"), (dict(title="x" * 10_000), "at most 120"),
])  # fmt: skip
def test_a_new_song_that_cannot_be_made_says_why(fields, says):
    with pytest.raises(InputError, match=says):
        new_song(**fields)


def test_every_sound_has_patterns_to_choose_from():
    for sound in SOUNDS:
        assert library.default_for(sound.key) in library.for_sound(sound.key)


def test_every_format_is_written(tmp_path):
    rendering, song = Rendering(100), small_song()
    for key in FORMATS:
        path, _ = export(song, rendering, key, Options(), tmp_path)
        assert path.name.startswith("small.") and path.stat().st_size > 60
    assert not list(tmp_path.glob("unfinished*"))
    with pytest.raises(InputError, match="has no stems"):
        export(song, rendering, "midi", Options(stems=True), tmp_path)
    with pytest.raises(InputError, match="is not a format"):
        export(song, rendering, "ogg", Options(), tmp_path)


def test_wet_stems_have_one_length_and_add_up_to_the_mix(tmp_path):
    rendering, song = Rendering(100), small_song()
    path, _ = export(song, rendering, "wav", Options(stems=True, bits=24), tmp_path)
    with zipfile.ZipFile(path) as archive:
        assert sorted(archive.namelist()) == [
            "01-round-kick.wav",
            "02-plucked-bass.wav",
            "03-soft-pad.wav",
            "cue-sheet.txt",
        ]
        stems = [decode_audio(archive.read(n))[0] for n in archive.namelist() if n.endswith(".wav")]
    mix = rendering.renderer.render(song)
    assert {s.shape for s in stems} == {mix.shape}
    assert np.abs(sum(stems) - mix).max() < 1e-5, "the limiter was not needed, so the sum is the mix"


def test_bars_are_cut_as_people_count_them(tmp_path):
    rendering, song = Rendering(100), small_song()
    whole = rendering.renderer.render(song)
    for bars in ((3, 4), (9, 16), (1, 1)):
        path, _ = export(song, rendering, "wav", Options(bits=24, bars=bars), tmp_path)
        low, high = (bars[0] - 1) * 88_200, bars[1] * 88_200  # two seconds a bar
        assert np.abs(decode_audio(path.read_bytes())[0] - whole[:, low:high]).max() < 1e-5
    with pytest.raises(InputError, match="Bars 10–20 are not in this song, which has bars 1–16"):
        export(song, rendering, "wav", Options(bars=(10, 20)), tmp_path)


def test_names_are_never_paths():
    assert (
        plain_name("../../etc/passwd") == "etc-passwd"
        and plain_name("Ünter/🎵") == "unter"
        and plain_name("🎵") == "song"
    )


def test_the_energy_report_has_its_stable_shape():
    report = energy_report(small_song(), Rendering(100))
    assert set(report) == {"bars", "sections", "agreement"} and len(report["bars"]) == 16
    assert set(report["bars"][0]) == {"bar", "target", "arranged", "measured", "tension", "terms"}
    assert set(report["sections"][0]) == {"name", "role", "first_bar", "last_bar", "target", "arranged", "measured"}
    assert report["sections"][1]["first_bar"] == 9 and set(report["agreement"]) == {
        "joins_as_meant",
        "joins",
        "mean_distance",
    }


def test_measuring_a_recording_gives_figures_and_silence_gives_none():
    from escalera.formats.audio import encode_audio

    tone = np.repeat(
        np.sin(2 * np.pi * 1000 * np.arange(48_000 * 5) / 48_000)[None].astype(np.float32) * 10 ** (-23 / 20), 2, axis=0
    )
    report = measure_report(encode_audio(tone, 48_000))
    assert (
        report["integrated_lufs"] == pytest.approx(-23, abs=0.1)
        and report["range_lu"] is None
        and report["correlation"] == 1.0
    )
    assert max(report["bands_db"], key=report["bands_db"].get) == "800–3k"
    silent = measure_report(encode_audio(np.zeros((1, 48_000), np.float32), 48_000))
    assert silent["integrated_lufs"] is None and silent["true_peak_dbtp"] is None


def test_only_the_newest_state_is_measured_and_arrives_later(studio):
    import time

    song = small_song()
    assert studio.rendering.measured_later(1, song) is None
    for _ in range(200):
        found = studio.rendering.measured_later(1, song)
        if found:
            break
        time.sleep(0.05)
    assert found.of(ids(song)["Chorus"]).value > found.of(ids(song)["Verse"]).value


def test_a_measurement_depends_on_bars_and_voices_not_only_on_the_sound():
    from escalera.core.edits import EDITS

    rendering, song = Rendering(100), small_song()
    first = rendering.measure(song)
    pad = ids(song)["Soft pad"]
    sung = rendering.measure(EDITS["set_family"](pad, "voices").apply(song))
    chorus = ids(song)["Chorus"]
    assert sung.of(chorus).value > first.of(chorus).value, "the same sound, now a voice"
    halved = EDITS["resize_section"](chorus, 16).apply(EDITS["set_metre"]("2/4", chorus).apply(song))
    assert len(rendering.measure(halved).of(chorus).bars) == 16


def test_the_section_chosen_last_is_made_ready_once_a_start_has_settled():
    rendering, song = Rendering(100), small_song()
    parts = {s.name: rendering.renderer.plan(song, timeline(song).span_of(s.id)).parts for s in song.sections}
    ready = {}
    rendering.may_measure.clear()
    for section in song.sections[::-1]:
        rendering.choose(song, section.id)
    for settled in (False, True):
        ready[settled] = [n for n, found in parts.items() if all(p.key in rendering.renderer.cache for p in found)]
        rendering.may_measure.set()
        rendering._pool.submit(int).result()
    rendering.close()
    assert ready == {False: [], True: [song.sections[0].name]}


def test_the_compiler_of_the_kernels_leaves_memory_and_works_when_it_is_called_again():
    from numba import njit

    assert njit(lambda x: x + 1)(1) == 2
    before = resident_bytes()
    let_compiler_go()
    assert resident_bytes() < before - 20_000_000
    assert njit(lambda x: x + 2)(1) == 3
