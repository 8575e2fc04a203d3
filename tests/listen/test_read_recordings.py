"""What is read of recordings is held against truth: sixty loops that nothing was fitted on, pitches, onsets, names that are wrong."""

import numpy as np
import pytest

from escalera.core.samples.said_names import contradictions, said_by
from escalera.core.theory.keys import key_text, parse_key
from escalera.listen.whole_reading import read_recording
from tests.recordings import LOOPS, RATE, hat, hz, kick, loop, put, snare, tone


def heard(audio, rate=RATE):
    audio = np.atleast_2d(audio).astype(np.float32)
    return read_recording([audio], rate, len(audio))


@pytest.fixture(scope="module")
def judged():
    found = []
    for kind, tempo, bars, options in LOOPS:
        audio, truth = loop(kind, tempo, bars, **options)
        found.append((truth, heard(audio)))
    return found


def times(truth, reading):
    """1 where the tempo is right, a half or 2 where it is counted so, 0 where it is wrong."""
    ratio = (reading.tempo_bpm or 0) / truth["tempo"]
    return next((q for q in (1, 0.5, 2) if abs(ratio / q - 1) < 0.01), 0)


def test_tempo_and_bars_are_right_on_95_of_100(judged):
    counted = [times(t, r) for t, r in judged]
    assert len(judged) == 60
    assert sum(q > 0 for q in counted) >= 57
    assert sum(q == 1 for q in counted) >= 51, "half or double, counted apart"
    bars = [
        q and r.bars == t["bars"] * q and abs(r.remainder_beats - t["remainder"] * q) < 0.05
        for q, (t, r) in zip(counted, judged)
    ]
    assert sum(map(bool, bars)) >= 57
    off = [r.tempo_bpm / t["tempo"] / q - 1 for q, (t, r) in zip(counted, judged) if q and not t["remainder"]]
    assert np.median(np.abs(off)) < 1e-4  # a whole loop's length gives it exactly


def test_tuning_is_right_within_5_cents_and_drums_have_no_key(judged):
    tonal = [(t, r) for t, r in judged if t["kind"] != "drums"]
    close = [r.tuning_cents is not None and abs(r.tuning_cents - t["cents"]) < 5 for t, r in tonal]
    assert sum(close) >= 0.95 * len(tonal)
    assert not [r.key for t, r in judged if t["kind"] == "drums" and r.key and r.key_confidence > 0.35]


def test_keys_that_it_is_sure_of_are_mostly_right(judged):
    """Weak where drums and a kick's own pitch lie under the chords: what is unsure is said to be, and moves nothing."""
    sure = [(t, r) for t, r in judged if t["key"] and r.key and r.key_confidence >= 0.6]
    right = [parse_key(r.key).classes == parse_key(t["key"]).classes for t, r in sure]
    assert len(sure) >= 8 and sum(right) >= 0.75 * len(right)


@pytest.mark.parametrize("pitch", [28, 31.07, 33, 36.5, 45, 57, 69.31, 81])
def test_a_settled_pitch_is_right_within_5_cents(pitch):
    sound = tone(pitch, 1.4, ring=1.6) if pitch > 40 else kick_bass(pitch)
    reading = heard(0.5 * sound)
    assert reading.kind == "hit" and reading.tempo_bpm is None
    assert abs(1200 * np.log2(reading.pitch_hz / hz(pitch))) < 5


def kick_bass(pitch):
    """A long kick that falls onto its pitch."""
    t = np.arange(int(1.6 * RATE)) / RATE
    return np.sin(2 * np.pi * np.cumsum(hz(pitch) * (1 + 4 * np.exp(-t * 60))) / RATE) * np.exp(-t * 1.4)


def test_onsets_are_found_where_they_are():
    rng, places = np.random.default_rng(5), [0.0, 0.5, 1.0131, 1.4987, 2.0, 2.5033, 3.007]
    audio = np.zeros(4 * RATE)
    for place, make in zip(places, (kick, snare, hat, kick, snare, hat, kick)):
        put(audio, place, make(rng), 0.5)
    found = heard(audio).onsets
    assert [round(o.at_s, 3) for o in found] == pytest.approx(places, abs=0.002)
    assert [o.zone for o in found] == ["low", "middle", "high", "low", "middle", "high", "low"]


KIND_ROWS = {
    "a kick alone": (lambda: kick(np.random.default_rng(1)), "hit"),
    "two bars of a beat": (lambda: loop("drums", 112, 2)[0], "loop"),
    "noise that swells": (lambda: 0.1 * np.random.default_rng(2).standard_normal(6 * RATE) * (1 + 0.3 * np.sin(np.arange(6 * RATE) / 9000)), "texture"),
    "three minutes": (lambda: np.tile(loop("both", 112, 4)[0], 22), "long piece"),
}  # fmt: skip


@pytest.mark.parametrize("name", KIND_ROWS)
def test_kinds_are_told_apart(name):
    make, kind = KIND_ROWS[name]
    assert heard(0.7 * make()).kind == kind


def test_reading_in_blocks_gives_what_reading_whole_gives():
    audio = np.tile(loop("both", 118, 4)[0], 4).astype(np.float32)
    pieces = [audio[:, i : i + 70_001] for i in range(0, audio.shape[1], 70_001)]
    whole, parts = read_recording([audio], RATE, 1), read_recording(pieces, RATE, 1)
    assert (parts.tempo_bpm, parts.bars, parts.key) == (whole.tempo_bpm, whole.bars, whole.key)
    assert parts.integrated_lufs == pytest.approx(whole.integrated_lufs, abs=0.1)


@pytest.mark.parametrize("audio", [np.zeros((1, 0)), np.zeros((2, 5000)), np.full((1, 9000), 1e-9)])
def test_nothing_is_invented_of_silence(audio):
    reading = read_recording([audio.astype(np.float32)], RATE, len(audio))
    assert (reading.tempo_bpm, reading.key, reading.pitch_hz, reading.bars) == (None, None, None, None)
    assert reading.said


NAMES = {
    "Break_174bpm.wav": (174.0, None), "Keys 98 F#m": (98.0, "F# minor"), "loop_Am_120": (120.0, "A minor"), "Bright chords 128 Bb": (128.0, "Bb major"),
    "A walk in the rain": (None, None), "Kick 2": (None, None), "Strings Eb min": (None, "Eb minor"), "take 44100 24bit": (None, None),
}  # fmt: skip


@pytest.mark.parametrize("name", NAMES)
def test_what_a_name_says(name):
    said = said_by(name)
    assert (said.tempo_bpm, said.key and key_text(said.key)) == NAMES[name]


WRONG = {  # how it is made, a name that is right and one that is not, what is said of the second
    "half tempo": (lambda: loop("drums", 126, 2)[0], "Beat 126", "Beat 63", "half of it"),
    "another tempo": (lambda: loop("drums", 126, 2, beat="four")[0], "Beat 126 bpm", "Beat 98 bpm", "onsets recur"),
    "relative key": (lambda: loop("chords", 100, 4, key=9, mode="minor")[0], "Pad Am", "Pad C maj", "share all their notes"),
    "another note": (lambda: kick_bass(29), "Kick F", "Kick G", "below that"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_name_that_is_wrong_is_contradicted_and_one_that_is_right_is_not(name):
    make, right, wrong, said = WRONG[name]
    reading = heard(0.5 * make())
    assert not contradictions(reading, right)
    found = contradictions(reading, wrong)
    assert len(found) == 1 and said in found[0].decides
