"""Loudness against the documents' own vectors and against another implementation."""

import numpy as np
import pyloudnorm
import pytest

from escalera.meters.loudness import loudness, true_peak_dbtp

pytestmark = pytest.mark.filterwarnings("ignore::UserWarning")


def sines(parts, rate, hz=1000.0):
    """Stereo sine, in phase, through (seconds, peak dBFS) parts."""
    total = round(sum(s for s, _ in parts) * rate)
    gain = np.concatenate([np.full(round(s * rate), 10 ** (db / 20)) for s, db in parts])[:total]
    wave = np.sin(2 * np.pi * hz * np.arange(len(gain)) / rate) * gain
    return np.stack([wave, wave]).astype(np.float32)


# EBU Tech 3341, table 1: cases 1 to 5, integrated loudness within 0.1 LU
EBU_3341 = {
    1: ([(20, -23.0)], -23.0),
    2: ([(20, -33.0)], -33.0),
    3: ([(10, -36.0), (60, -23.0), (10, -36.0)], -23.0),
    4: ([(10, -72.0), (10, -36.0), (60, -23.0), (10, -36.0), (10, -72.0)], -23.0),
    5: ([(20, -26.0), (20.1, -20.0), (20, -26.0)], -23.0),
}


@pytest.mark.parametrize("rate", [44_100, 48_000])
@pytest.mark.parametrize("case", EBU_3341)
def test_integrated_loudness_of_the_documents_signals(case, rate):
    parts, expected = EBU_3341[case]
    found = loudness(sines(parts, rate), rate)
    assert found.integrated_lufs == pytest.approx(expected, abs=0.1)
    if case == 1:
        assert [found.max_momentary_lufs, found.max_short_term_lufs] == pytest.approx([-23.0, -23.0], abs=0.1)


# EBU Tech 3342, cases 1 to 4: loudness range within 1 LU
EBU_3342 = {1: ([(20, -20.0), (20, -30.0)], 10.0), 2: ([(20, -20.0), (20, -15.0)], 5.0), 3: ([(20, -40.0), (20, -20.0)], 20.0),
            4: ([(20, -50.0), (20, -35.0), (20, -20.0), (20, -35.0), (20, -50.0)], 15.0)}  # fmt: skip


@pytest.mark.parametrize("case", EBU_3342)
def test_loudness_range_of_the_documents_signals(case):
    parts, expected = EBU_3342[case]
    audio = sines([*parts, *parts] if case < 4 else parts, 48_000)
    assert loudness(audio, 48_000).range_lu == pytest.approx(expected, abs=1.0)


def test_range_is_not_given_below_a_minute():
    assert loudness(sines([(20, -20)], 44_100), 44_100).range_lu is None


@pytest.mark.parametrize("kind", ["noise", "bursts", "quiet"])
def test_agrees_with_another_implementation(kind):
    rng = np.random.default_rng(4)
    audio = rng.standard_normal((2, 48_000 * 12)).astype(np.float32) * 0.1
    if kind == "bursts":
        audio *= np.repeat(rng.uniform(0, 1, 24), 24_000).astype(np.float32)
    if kind == "quiet":
        audio *= 0.002
    meter = pyloudnorm.Meter(48_000, filter_class="DeMan")
    assert loudness(audio, 48_000).integrated_lufs == pytest.approx(
        meter.integrated_loudness(audio.T.astype(np.float64)), abs=0.02
    )


@pytest.mark.parametrize("samples", [0, 100, 44_100])
def test_silence_and_scraps_have_defined_answers(samples):
    found = loudness(np.zeros((2, samples), np.float32), 44_100)
    assert found.integrated_lufs == found.max_momentary_lufs == float("-inf")
    assert true_peak_dbtp(np.zeros((2, samples), np.float32)) == float("-inf")


def test_true_peak_finds_what_lies_between_samples():
    # a quarter of the rate at 45 degrees: every sample is 3 dB under the true peak (the idea of Tech 3341, case 16)
    t = np.arange(4800)
    wave = (0.5 * np.sin(np.pi / 2 * t + np.pi / 4)).astype(np.float32)
    assert 20 * np.log10(np.abs(wave).max()) == pytest.approx(-9.03, abs=0.01)
    assert true_peak_dbtp(np.stack([wave, wave])) == pytest.approx(-6.0, abs=0.2)
