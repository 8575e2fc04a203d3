"""Every sound: in tune, clean, silent at its end, and as loud in every band as the palette's table says."""

import numpy as np
import pytest

from escalera.core.palette.profiles import HOLDS_S, note_energy, pitches_of, width_of
from escalera.core.palette.sounds import BY_KEY, SOUNDS
from escalera.core.theory.pitch import pitch_to_hz
from escalera.sound.probe import play_note, probe, probe_width
from escalera.sound.voices import VOICES

RATE = 44_100
PITCHED = [s.key for s in SOUNDS if not s.is_drum and not s.rise]


def test_every_sound_of_the_palette_has_a_voice():
    assert set(VOICES) == set(BY_KEY)


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
        audio = play_note(key, pitch, 8.0)[:, : 8 * RATE].astype(np.float64)
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
