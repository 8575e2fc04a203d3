"""Every sound: in tune, clean, silent at its end, and as loud in every band as the palette's table says."""

import numpy as np
import pytest

from escalera.core.palette.parameters import with_setting
from escalera.core.palette.profiles import HOLDS_S, note_energy, pitches_of, width_of
from escalera.core.palette.sounds import BY_KEY, SOUNDS
from escalera.core.theory.pitch import pitch_to_hz
from escalera.sound.probe import notes_of, play_note, play_notes, probe, probe_width
from escalera.sound.voices import VOICES

RATE = 44_100
PITCHED = [s.key for s in SOUNDS if not s.is_drum and s.family not in ("effects", "atmosphere")]
ELSEWHERE = {"release_s", "glide_s", "strum_s"}  # read where notes are placed, not by a kernel


def test_every_sound_of_the_palette_has_a_voice():
    assert set(VOICES) == set(BY_KEY)


@pytest.mark.parametrize("key", BY_KEY)
def test_every_parameter_of_a_sound_is_heard_over_its_whole_range(key):
    """Both ends of every range sound different from each other, stay finite and under twice full scale."""
    sound = BY_KEY[key]
    for p in sound.parameters:
        assert p.key in VOICES[key].model.defaults or p.key in ELSEWHERE, p.key
        chord = notes_of([(0.0, 0.25, sound.centre), (0.2 if sound.mono else 0.0, 0.25, sound.centre + 5)], key)
        ends = [play_notes(key, chord, with_setting((), p, value)) for value in (p.low, p.high)]
        assert all(np.isfinite(a).all() and np.abs(a).max() < 4.0 for a in ends), p.key
        assert ends[0].shape != ends[1].shape or np.abs(ends[0] - ends[1]).max() > 1e-3, p.key


@pytest.mark.parametrize("key", BY_KEY)
def test_a_sound_is_clean_and_ends_in_silence(key):
    audio = play_note(key, BY_KEY[key].centre, 0.5)
    assert np.isfinite(audio).all() and 0.05 < np.abs(audio).max() < 1.2
    assert np.abs(audio[:, -1]).max() == 0.0 and np.abs(audio[:, 0]).max() < 0.02
    assert abs(audio.mean()) < 0.004, "a constant offset"
    assert np.array_equal(audio, play_note(key, BY_KEY[key].centre, 0.5)), "not the same twice"


@pytest.mark.parametrize("key", PITCHED)
def test_a_pitched_sound_is_in_tune_within_a_cent(key):
    """Centre of power round the fundamental, both sides together: detuned voices must lie evenly about the pitch."""
    for pitch in pitches_of(BY_KEY[key]):
        hz = pitch_to_hz(pitch)
        skip = round(0.4 * RATE) if BY_KEY[key].tuned_kick else 0  # a kick falls onto its pitch first
        audio = play_note(key, pitch, 8.0)[:, skip : 8 * RATE].astype(np.float64)
        power = (np.abs(np.fft.rfft(audio * np.hanning(audio.shape[1]), n=1 << 20, axis=1)) ** 2).sum(axis=0)
        cents = 1200 * np.log2(np.maximum(np.fft.rfftfreq(1 << 20, 1 / RATE), 1e-6) / hz)
        near = np.abs(cents) < 45
        assert abs(np.average(cents[near], weights=power[near])) < 1.0, pitch


@pytest.mark.parametrize("key", BY_KEY)
def test_rendered_bands_agree_with_the_palettes_table(key):
    sound = BY_KEY[key]
    low, high = sound.register
    pitches = (low,) if low == high else (low, (low + high) // 2, high)
    for pitch in pitches:
        for hold in HOLDS_S[1:]:
            rendered, table = probe(key, pitch, hold), note_energy(key, np.array([float(pitch)]), np.array([hold]))[0]
            loud = table > table.max() * 10 ** (-3.5)
            assert np.abs(10 * np.log10(rendered[loud] / table[loud])).max() < 3.0, (pitch, hold)
    assert probe_width(key) == pytest.approx(width_of(key), abs=0.05)


@pytest.mark.parametrize("key", BY_KEY)
def test_a_sound_outside_its_range_is_still_safe(key):
    """The lowest and highest MIDI notes and a note of one sample: finite, bounded, silent at the end."""
    for pitch, hold in ((0, 0.3), (127, 0.3), (60, 1 / RATE)):
        audio = play_note(key, pitch, hold)
        assert np.isfinite(audio).all() and np.abs(audio).max() < 3.0 and not audio[:, -1].any(), (pitch, hold)
