"""Loudness against the documents' own vectors and against another implementation."""

import numpy as np
import pyloudnorm
import pytest

from escalera.meters.loudness import PHASES, loudness, true_peak_dbtp

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
        meter.integrated_loudness(audio.T.astype(np.float64)), abs=0.01
    )


@pytest.mark.parametrize("samples", [0, 100, 44_100])
def test_silence_and_scraps_have_defined_answers(samples):
    found = loudness(np.zeros((2, samples), np.float32), 44_100)
    assert found.integrated_lufs == found.max_momentary_lufs == float("-inf")
    assert true_peak_dbtp(np.zeros((2, samples), np.float32)) == float("-inf")


# EBU Tech 3341, table 1: cases 9 to 14, short-term and momentary loudness within 0.1 LU
@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_short_term_loudness_stays_level_and_finds_a_tone_wherever_it_begins(rate):
    level = loudness(sines([(1.34, -20.0), (1.66, -30.0)] * 5, rate), rate)  # case 9
    assert np.abs(level.short_term_lufs + 23.0).max() < 0.1
    for n in range(20):  # case 10
        assert loudness(
            sines([(n * 0.15 + 1e-9, -200.0), (3.0, -23.0), (1.0, -200.0)], rate), rate
        ).max_short_term_lufs == pytest.approx(-23.0, abs=0.1)
        tone = sines([(n * 0.15 + 1e-9, -200.0), (3.0, -38.0 + n), (3.0 - n * 0.15, -200.0)], rate)  # case 11
        assert loudness(tone, rate).max_short_term_lufs == pytest.approx(-38.0 + n, abs=0.1)


@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_momentary_loudness_stays_level_and_finds_a_tone_wherever_it_begins(rate):
    level = loudness(sines([(0.18, -20.0), (0.22, -30.0)] * 25, rate), rate)  # case 12
    assert np.abs(level.momentary_lufs[6:] + 23.0).max() < 0.1
    for n in range(20):  # cases 13 and 14
        assert loudness(
            sines([(n * 0.02 + 1e-9, -200.0), (0.4, -23.0), (1.0, -200.0)], rate), rate
        ).max_momentary_lufs == pytest.approx(-23.0, abs=0.1)
        tone = sines([(n * 0.02 + 1e-9, -200.0), (0.4, -38.0 + n), (0.4 - n * 0.02, -200.0)], rate)
        assert loudness(tone, rate).max_momentary_lufs == pytest.approx(-38.0 + n, abs=0.1)


# EBU Tech 3341, table 1: cases 15 to 19, true peak within +0.2 and -0.4 dB: (samples a period, phase, amplitude, dBTP)
EBU_PEAKS = {
    15: (4, 0.0, 0.5, -6.0),
    16: (4, 45.0, 0.5, -6.0),
    17: (6, 60.0, 0.5, -6.0),
    18: (8, 67.5, 0.5, -6.0),
    19: (4, 45.0, 1.41, 3.0),
}


@pytest.mark.parametrize("case", EBU_PEAKS)
def test_true_peak_of_the_documents_sines(case):
    period, phase, amplitude, expected = EBU_PEAKS[case]
    wave = amplitude * np.sin(2 * np.pi * np.arange(4800) / period + np.radians(phase))
    wave *= np.clip(np.minimum(np.arange(4800), np.arange(4800)[::-1]) / 480, 0, 1)
    found = true_peak_dbtp(np.stack([wave, wave]).astype(np.float32))
    assert -0.4 <= found - expected <= 0.2


@pytest.mark.parametrize("case", [20, 21, 22, 23])
def test_true_peak_of_a_short_burst_wherever_samples_fall(case):
    """A band-limited burst whose true peak is 0 dB, sampled at four offsets a quarter of a sample apart."""
    t = (np.arange(4800) - 2400.37 + (case - 20) / 4) / 6.0
    wave = np.cos(2 * np.pi * t) * np.exp(-((t / 3) ** 2))
    assert -0.4 <= true_peak_dbtp(np.stack([0.4 * wave, wave]).astype(np.float32)) <= 0.2
    assert np.abs(wave).max() < 0.9999 or case == 20


def test_the_peaks_bound_never_hides_a_peak():
    """Quick and exhaustive search agree on noise, on a click among loud music, on a quiet passage's last sample."""
    rng = np.random.default_rng(5)
    for audio in (
        rng.standard_normal(20_000),
        np.r_[0.5 * rng.standard_normal(9000), 1.4, -1.4, 0.3 * rng.standard_normal(9000)],
        np.r_[np.zeros(500), 0.7],
    ):
        signal = audio.astype(np.float32)
        padded = np.pad(signal, 64)
        every = max(np.abs(np.convolve(padded, row[::-1], "same")).max() for row in PHASES)
        assert true_peak_dbtp(signal[None]) == pytest.approx(20 * np.log10(max(every, np.abs(signal).max())), abs=1e-3)
