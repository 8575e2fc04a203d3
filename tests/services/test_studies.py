"""Studies through the studio: kept by content, read with what was corrected, heard in pieces, cut, built on, held beside a song."""

import io
import json

import numpy as np
import pytest
import soundfile

from escalera.core.study import corrections
from escalera.core.study.heard_track import Given
from escalera.errors import InputError, NotFound
from escalera.services.finished_tracks import Recipe, finished_track
from escalera.services.studies import log_of, reader_of, study_report
from escalera.services.study_building import build_on, compare_with, cut_bars, own_wav
from escalera.services.study_hearing import piece_wav
from escalera.services.study_reading import hear, study
from tests.recordings import RATE
from tests.songs import ids, small_song


@pytest.fixture(scope="module")
def track():
    """A finished track of 50 s, of which nothing was fitted."""
    return finished_track(Recipe("Quay", "bedroom-pulse", "Intro 4, Verse 8, Chorus 8", 96.0))


@pytest.fixture
def kept(studio, track):
    sample = studio.samples.add_audio("Quay", track[0], "somebody", "unknown", "")
    study_id = studio.studies.add(studio.samples.card(sample).content, "Quay")
    studio.studies.read(study_id)
    return study_id


def test_a_track_is_read_once_and_anew_with_corrections(studio, kept, track):
    found = studio.studies.get(kept)
    reading, truth = found.needed(), track[1]
    assert found.fresh and reading.tempo_bpm == pytest.approx(96.0, rel=0.01)
    assert reading.bar_s(0) == pytest.approx(truth.bars_s[0], abs=0.06)
    assert len(reading.bars) == reading.bar_count and sum(s.bars for s in reading.sections) == reading.bar_count
    energy = [np.mean([b.energy for b in reading.bars[low:high]]) for low, high in ((0, 4), (4, 12), (12, 20))]
    assert energy[2] == max(energy)
    assert studio.studies.add(found.content, "again") == kept  # the same content is the same study
    studio.studies.correct(kept, lambda s: corrections.tempo_times(s.needed(), s.given, 2.0))
    assert not studio.studies.get(kept).fresh
    studio.studies.read(kept)
    double = studio.studies.get(kept).needed()
    assert double.tempo_bpm == pytest.approx(2 * reading.tempo_bpm, rel=0.01)
    assert double.bar_s(0) == pytest.approx(reading.bar_s(0), abs=0.05)
    studio.studies.correct(kept, lambda s: corrections.chords_written(s.needed(), s.given, 4, 4, "Am | G"))
    studio.studies.read(kept)
    written = studio.studies.get(kept).needed()
    assert [(c.chord, c.confidence, c.by_hand) for c in written.chords_of(5)] == [("G", 1.0, True)]


def test_the_report_has_null_for_what_cannot_be_read(track, monkeypatch):
    audio = track[0]
    good = study_report(study(lambda low, count: audio[:, low : low + count], Given()))
    assert good["metre"] == "4/4" and len(good["chords"]) > 4 and good["sections"][0]["first_bar"] == 1
    noise = (0.05 * np.random.default_rng(1).standard_normal((2, 8 * RATE))).astype(np.float32)
    bad = study_report(study(lambda low, count: noise[:, low : low + count], Given()))
    assert [bad[k] for k in ("tempo_bpm", "metre", "first_downbeat_s", "key")] == [None] * 4 and bad["beats_s"] == bad[
        "bars"
    ] == []
    assert "Tap along" in bad["said"][0] and json.loads(json.dumps(bad)) == bad
    monkeypatch.setattr("escalera.services.study_reading.LONGEST_S", 20.0)
    for seconds in (1.0, 40.0):
        with pytest.raises(InputError, match=r"minutes|needs"):
            blank = np.zeros((1, RATE * 10), np.float32)
            left = [round(seconds * RATE)]

            def read(low, count, blank=blank, left=left):
                return blank[:, : max(0, min(count, left[0] - low))]

            hear(read)


def test_pieces_are_slower_at_pitch_higher_or_parts_that_add_up(studio, kept):
    content = studio.studies.get(kept).content

    def piece(speed=1.0, octave=False, part="all"):
        found, rate = soundfile.read(
            io.BytesIO(piece_wav(content, -14.0, 20.0, 23.0, speed, octave, part)), always_2d=True
        )
        return found.T, rate

    whole, rate = piece()
    assert rate == RATE and whole.shape[1] == 3 * RATE + round(0.012 * RATE)
    assert piece(0.5)[0].shape[1] == pytest.approx(2 * 3 * RATE, abs=800)
    assert np.abs(whole).max() <= 0.9

    def middle(audio):
        power = np.abs(np.fft.rfft(audio.mean(axis=0))) ** 2
        return float(
            np.exp((power * np.log(np.maximum(np.fft.rfftfreq(audio.shape[1], 1 / RATE), 20))).sum() / power.sum())
        )

    assert middle(piece(octave=True)[0]) > 1.3 * middle(whole) and middle(piece(0.5)[0]) < 1.25 * middle(whole)
    held, struck = piece(part="held")[0], piece(part="struck")[0]
    assert float(((held + struck - whole) ** 2).mean()) < 0.02 * float((whole**2).mean())

    def peaky(audio):  # of the loudest hundredths against all
        level = (audio[:, : 3 * RATE].mean(axis=0) ** 2).reshape(300, -1).mean(axis=1)
        return float(np.percentile(level, 98) / level.mean())

    assert peaky(struck) > 1.3 * peaky(held)
    for wrong in ((5.0, 4.0, 1.0, "all"), (0.0, 60.0, 1.0, "all"), (0.0, 2.0, 3.0, "all"), (0.0, 2.0, 1.0, "drums")):
        with pytest.raises(InputError):
            piece_wav(content, None, wrong[0], wrong[1], wrong[2], False, wrong[3])
    with pytest.raises(NotFound):
        piece_wav("0" * 40, None, 0.0, 1.0, 1.0, False, "all")


def test_built_on_cut_out_and_laid_beside(studio, kept):
    song_id, _ = build_on(studio, kept, "", True)
    song = studio.head(song_id).song
    reading = studio.studies.get(kept).needed()
    assert [s.bars for s in song.sections] == [s.bars for s in reading.sections] and not song.layers
    studio.studies.note(kept, lambda b: b.with_note("A breath before the chorus", "trick", 30.0))
    assert [s.id for s in studio.studies.learned(song_id)] == [kept]
    assert any("Trick (bar 12): A breath" in x for x in log_of(studio.studies.get(kept)))
    own = small_song()
    own_id = studio.add_song(own, "Small")
    _, section_id = build_on(studio, kept, "", True, own_id, len(reading.sections) - 1)
    made = studio.head(own_id).song.section_by_id[section_id]
    assert made.bars == reading.sections[-1].bars and len(studio.head(own_id).song.sections) == len(own.sections) + 1
    assert studio.head(own_id).song.layers == own.layers
    before = {c.id for c in studio.samples.cards()}
    name = cut_bars(studio, kept, 4, 2)
    card = next(c for c in studio.samples.cards() if c.id not in before)
    assert card.name == name == "Quay, bars 5 to 6" and card.licence == "unknown" and card.source == "somebody"
    assert card.seconds == pytest.approx(reading.bar_s(6) - reading.bar_s(4), abs=0.001)
    with pytest.raises(InputError):
        cut_bars(studio, kept, 900, 2)
    chorus = ids(own)["Chorus"]
    found = compare_with(studio, studio.studies.get(kept), len(reading.sections) - 1, own, chorus)
    assert {r.name for r in found.rows} >= {"drive", "loudness", "30–90 Hz"} and len(found.rows) == 15
    loud = next(r for r in found.rows if r.name == "loudness")
    assert abs(loud.lacks) < 0.25  # compared at matched loudness
    audio, _ = soundfile.read(io.BytesIO(own_wav(studio, own, chorus)), always_2d=True)
    assert np.abs(audio).max() <= 0.9


def test_a_study_outlives_a_restart_and_its_audio_is_kept_for_it(studio, kept, tmp_path):
    from escalera.services.studio import Studio

    found = studio.studies.get(kept)
    studio.samples.remove(studio.samples.by_content(found.content))
    assert (studio.folder / "samples" / f"{found.content}.flac").exists() and studio.samples.sweep() == 0
    assert reader_of(found.content)(0, 10).shape == (2, 10)
    again = Studio(tmp_path, max_pages=0, cache_mb=50)
    try:
        assert again.studies.get(kept).needed() == found.reading
    finally:
        again.close()
    assert studio.studies.remove(kept) == "Quay"
    with pytest.raises(NotFound):
        studio.studies.get(kept)
