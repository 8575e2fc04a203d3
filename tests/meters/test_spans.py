"""Synthetic truth for the meters: known bands, known onsets, known width."""

import numpy as np
import pytest

from escalera.core.energy.stats import BAND_CENTRES_HZ, INDEX
from escalera.meters.onsets import count_onsets
from escalera.meters.span_meters import measure_spans

RATE = 44_100


def sine(hz, seconds=1.0, peak=0.5):
    return (peak * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)).astype(np.float32)


def stereo(wave):
    return np.stack([wave, wave])


@pytest.mark.parametrize("band", range(6))
def test_a_sine_lies_in_its_band_with_its_power(band):
    stats = measure_spans(stereo(sine(BAND_CENTRES_HZ[band])), RATE, np.array([0, RATE])).stats[0]
    assert stats[band] == pytest.approx(0.125, rel=0.12)
    assert np.delete(stats[:6], band).max() < 0.002


def test_spans_do_not_leak():
    audio = stereo(np.concatenate([sine(500), np.zeros(RATE, np.float32)]))
    meters = measure_spans(audio, RATE, np.array([0, RATE, 2 * RATE]))
    assert meters.stats[1, :6].sum() < 1e-9 and meters.lufs[1] < meters.lufs[0] - 30


def test_width_is_decorrelation_not_imbalance():
    rng = np.random.default_rng(1)
    a, b = (rng.standard_normal((2, 2 * RATE)) * 0.1).astype(np.float32)
    cases = {"mono": stereo(a), "hard left": np.stack([a, a * 0]), "two noises": np.stack([a, b])}
    side = {}
    for name, audio in cases.items():
        stats = measure_spans(audio, RATE, np.array([0, 2 * RATE])).stats[0]
        side[name] = stats[INDEX["side"]] / stats[INDEX["above_150"]]
    assert side["mono"] < 0.01 and side["hard left"] < 0.02 and side["two noises"] > 0.3


@pytest.mark.parametrize(("hits", "expected"), [(8, 8), (0, 0), (16, 16)])
def test_kicks_are_counted(hits, expected):
    from escalera.sound.probe import play_note

    audio = np.zeros((2, 4 * RATE), np.float32)
    kick = play_note("round-kick", 36, 0.1)[:, : RATE // 5]
    for i in range(hits):
        at = 2000 + i * (4 * RATE - 12_000) // max(1, hits)
        audio[:, at : at + kick.shape[1]] += kick * 0.5
    assert count_onsets(audio, RATE, np.array([0, 4 * RATE]))["kicks"][0] == pytest.approx(expected, abs=1)
