"""Balance against rendered sound: what is heard against what goes when a layer is taken out, planted faults found and mended, remedies kept."""

import json
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from scipy.stats import spearmanr

from escalera.core.balance.balance_checks import HeardFacts, heard_findings, heard_mends
from escalera.core.balance.masking import LOUDNESS_POWER, excitation, weights
from escalera.core.balance.remedies import pair_of, remedies, with_candidate
from escalera.core.balance.section_heard import mono_loss_db
from escalera.core.balance.thirds import THIRDS_HZ, by_floor
from escalera.core.checks import judged
from escalera.core.document.song import Song
from escalera.core.edits import EDITS
from escalera.core.energy.terms import decibels
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError, InputError, NotFound
from escalera.meters.third_octaves import third_octaves
from escalera.services.balance import edits_of, heard_so_far, known, levels_of, measured_remedy, share_of, tried
from escalera.services.balance_report import balance_of_file, balance_report, recording_report
from escalera.services.comparing import choices, compared, passage_of, passage_wav
from escalera.services.demo import demo_songs
from escalera.services.rendering import Rendering
from escalera.services.section_hearing import loud_of, section_heard
from escalera.sound.master import limit
from tests.songs import ids, small_song

RATE = 44_100
SONG = small_song()
NAME = ids(SONG)
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))
HARBOUR, ENGINES = demo_songs()


def named(song, name):
    return next(x.id for x in (*song.sections, *song.layers) if x.name == name)


@pytest.fixture(scope="module")
def rendering():
    opened = Rendering(900)
    yield opened
    opened.close()


def test_powers_by_third_octave_are_those_of_the_sound():
    t = np.arange(3 * RATE) / RATE
    found = third_octaves(np.stack([0.5 * np.sin(2 * np.pi * 1000 * t), np.zeros_like(t)]).astype(np.float32))
    mean = found.total.mean(axis=0)
    assert mean.sum() == pytest.approx(0.0625, rel=0.03) and THIRDS_HZ[mean.argmax()] == pytest.approx(1000, rel=0.01)
    assert decibels(mean[[10, 20]]).max() < decibels(mean.max()) - 50 and not found.cross.any()
    white = np.random.default_rng(3).normal(0, 0.1, (2, 4 * RATE)).astype(np.float32)
    levels = third_octaves(white)
    assert mono_loss_db(levels) == pytest.approx(-3.0, abs=0.1) and levels.total.mean(axis=0).sum() == pytest.approx(
        0.01 * 19_980 / 22_050, rel=0.02
    )
    assert np.diff(decibels(levels.total.mean(axis=0)))[10:-1].mean() == pytest.approx(1.0, abs=0.1), (
        "white noise rises a decibel a third"
    )


def test_the_limiter_is_said_as_it_works():
    t = np.arange(6 * RATE) / RATE
    loud = np.stack([1.6 * np.sin(2 * np.pi * 220 * t)] * 2).astype(np.float32)
    kept = loud.copy()
    limit(kept)
    found = loud_of(loud, kept)
    want = 20 * np.log10(np.abs(kept).max() / 1.6)
    assert found.limiter_db == pytest.approx(want, abs=0.05) and found.headroom_db == pytest.approx(
        -1 - 20 * np.log10(1.6), abs=0.05
    )
    quiet = loud_of(0.1 * loud, 0.1 * loud)
    assert quiet.limiter_db == 0.0 and loud_of(0 * loud, 0 * loud).integrated_lufs is None


def test_shares_agree_with_what_goes_when_a_layer_is_taken_out(rendering):
    """By ranks: the share of a layer’s own loudness that leaves the rendered mix when it is turned off; it goes on ducking others, so that they stay as they are."""
    found = []
    for song, names in ((HARBOUR, ("Lift 1", "Lift 2")), (ENGINES, ("Build 2",))):
        line = timeline(song)
        for name in names:
            heard = section_heard(rendering, song, named(song, name))
            index = song.index_of(heard.section_id)
            low, high = line.samples(RATE)[index : index + 2]
            whole = excitation(heard.total.total) ** LOUDNESS_POWER
            for layer in heard.sounding:
                off = song.with_layer(replace(song.layer_by_id[layer.id], level_db=-60.0))
                rest = third_octaves(rendering.renderer.before_master(off, timeline(off), low, high))
                counted = weights(layer.levels) > 0
                gone = ((whole - excitation(rest.total) ** LOUDNESS_POWER) * counted).sum()
                own = (excitation(layer.levels.total) ** LOUDNESS_POWER * counted).sum()
                found.append((heard.hearing.shares[layer.id], gone / own))
    shares, gone = np.array(found).T
    assert len(found) >= 25 and spearmanr(shares, gone).statistic >= 0.8


def test_the_parts_of_a_section_add_up_to_what_is_measured(rendering):
    heard = section_heard(rendering, SONG, C)
    off = decibels(heard.floors().sum(axis=0)) - heard.floor_db()
    loud = by_floor(heard.total.total.mean(axis=0)) > 1e-7
    assert np.abs(off[loud]).max() < 1.5 and heard.hearing.shares.keys() == {x.id for x in heard.sounding}
    louder = EDITS["set_control"](P, "level_db", SONG.layer_by_id[P].level_db + 6).apply(SONG)
    after = section_heard(rendering, louder, C)
    assert decibels(after.layer(P).mean.sum()) - decibels(heard.layer(P).mean.sum()) == pytest.approx(6.0, abs=0.01)
    assert after.layer(B).mean == pytest.approx(heard.layer(B).mean)


def test_planted_faults_of_the_demo_are_found_and_mended(rendering):
    drop = named(ENGINES, "Drop 2")

    def found(song):
        return HeardFacts(song, [section_heard(rendering, song, drop)])

    facts = found(ENGINES)
    told = {f.check: f for f in heard_findings(facts)}
    assert told["masked hook"].layer_id == named(ENGINES, "Hook") and told["low sides"].layer_id == named(
        ENGINES, "Engine bass"
    )
    assert "two subs" in {f.check for f in judged(ENGINES).open if drop in f.place}
    for finding in told.values():
        first = heard_mends(facts, finding)[0]
        assert finding.key not in {f.key for f in heard_findings(found(with_candidate(ENGINES, first)))}, first.label


def test_how_much_of_a_layer_is_heard_is_said_with_a_remedy_that_brings_it_forward(rendering):
    quiet = EDITS["set_control"](P, "level_db", -34.0).apply(SONG)
    plain, found = share_of(rendering, SONG, C, P), share_of(rendering, quiet, C, P)
    assert not plain.barely and not plain.remedies and found.barely and found.share < plain.share
    assert found.hiding is not None and found.remedies
    after = with_candidate(quiet, found.remedies[0].candidate)
    assert share_of(rendering, after, C, P).share > found.share + 0.02
    assert share_of(rendering, SONG, V, P) is None, "silent there"


def test_remedies_do_what_they_foretell(rendering):
    section = named(HARBOUR, "Lift 1")
    heard = section_heard(rendering, HARBOUR, section)
    off = []
    for hiding in heard.hidings[:4]:
        pair = pair_of(HARBOUR, heard, hiding.masked, hiding.by)
        for remedy in remedies(pair)[:3]:
            fields = {
                "section_id": str(section),
                "masked": str(hiding.masked),
                "by": str(hiding.by),
                "remedy": remedy.key,
            }
            measured = measured_remedy(rendering, HARBOUR, fields)
            off.append((remedy.masked_points - measured.masked_points, remedy.by_points - measured.by_points))
            text = "unmask;" + ";".join(f"{k}={v}" for k, v in fields.items())
            assert tried(rendering, HARBOUR, text) == with_candidate(HARBOUR, remedy.candidate)
            assert edits_of(rendering, HARBOUR, "unmask", fields)[1] == remedy.label
    assert len(off) >= 8 and np.median(np.abs(off)) < 1.0 and np.abs(off).max() < 5.0
    assert (
        tried(rendering, HARBOUR, "unmask;section_id=9999;masked=x")
        == HARBOUR
        == tried(rendering, HARBOUR, "no such thing")
    )
    with pytest.raises(EscaleraError):
        measured_remedy(rendering, HARBOUR, {"section_id": str(section), "masked": "1", "by": "2", "remedy": "dip:3"})


def test_sections_are_heard_as_time_allows_and_found_again(rendering):
    fresh = EDITS["set_tempo"](99).apply(SONG)
    assert not known(rendering, fresh, V) and heard_so_far(rendering, fresh, 0).sections == []
    some = heard_so_far(rendering, fresh, 1e-9)
    assert len(some.sections) == 1 and not some.whole and known(rendering, fresh, V)
    assert heard_so_far(rendering, fresh, 60).whole and len(levels_of(rendering, fresh)) == 2


def test_odd_songs_are_answered(rendering, tmp_path):
    assert balance_report(rendering, Song()) == {"sections": []}
    bare = replace(SONG, sections=EDITS["add_section"]("Nothing", "", 2).apply(SONG).sections[-1:])
    told = balance_report(rendering, bare, bare.sections[-1].id)["sections"][0]
    assert told["integrated_lufs"] is None is told["limiter_db"] is told["correlation"] and told["layers"] == []
    one = EDITS["remove_layer"](B).apply(EDITS["remove_layer"](P).apply(SONG))
    alone = balance_report(rendering, one, V)["sections"][0]
    assert (
        alone["layers"][0]["audible"] == pytest.approx(1.0, abs=0.02)
        and alone["low_owner"] == {"Round kick": 1.0}
        and not alone["masking"]
    )
    soundfile.write(tmp_path / "mono.wav", np.sin(np.arange(RATE * 2) / 20) * 0.2, 48_000)
    mono = balance_of_file(tmp_path / "mono.wav")["sections"][0]
    assert mono["correlation"] == 1.0 and mono["mono_loss_db"] == 0.0 and mono["integrated_lufs"] < -10
    silent = recording_report(tmp_path / "quiet.wav", np.zeros((2, RATE), np.float32))["sections"][0]
    assert silent["integrated_lufs"] is None is silent["mono_loss_db"]
    assert json.loads(json.dumps(told)) == told


def test_two_passages_come_at_one_loudness(studio):
    song_id = studio.add_song(SONG, "New")
    head = studio.head(song_id)
    studio.versions.keep(song_id, head.revision_id, "first")
    both = compared(SONG, passage_of(studio, head, f"section:{V}"), passage_of(studio, head, f"section:{C}"))
    lufs = [x + g for x, g in zip(both.lufs, both.gains_db)]
    assert (
        lufs[0] == pytest.approx(lufs[1], abs=0.01)
        and max(p + g for p, g in zip(both.peaks_dbtp, both.gains_db)) <= -0.99
    )
    assert len(both.one.beats_s) == both.one.audio.shape[1] // (RATE // 2) + 1 and {r.unit for r in both.rows} == {
        "points",
        "dB",
    }
    assert passage_wav(both.one, both.gains_db[0])[:4] == b"RIFF"
    assert [key for key, _, _ in choices(studio, head)][:2] == [f"section:{V}", f"section:{C}"]
    for key in ("section:x", "planet:1", "section:1:2:3", "bounce:1", ""):
        with pytest.raises(InputError):
            passage_of(studio, head, key)
    for key in ("bounce:77:1", "study:77:0", "version:77:1"):
        with pytest.raises(NotFound):
            passage_of(studio, head, key)
    bare = EDITS["add_section"]("Rest", "", 8).apply(EDITS["add_section"]("Nothing", "", 8).apply(SONG))
    other = studio.add_song(bare, "Bare")
    with pytest.raises(InputError, match="is silent"):
        compared(
            bare,
            passage_of(studio, studio.head(other), f"section:{V}"),
            passage_of(studio, studio.head(other), f"section:{bare.sections[-1].id}"),
        )
