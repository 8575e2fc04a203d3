"""Markers in WAV files: written, read, and read out of files that are broken."""

import io

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from escalera.formats.wav_cues import read_wav_cues, write_wav_cues


def wav(path, frames=1000):
    soundfile.write(path, np.zeros((frames, 2), np.float32), 44100, subtype="PCM_16")
    return path


@given(st.lists(st.tuples(st.integers(0, 2**31), st.text(max_size=40)), max_size=20))
def test_markers_come_back_in_order_with_clean_names(tmp_path_factory, rows):
    path = wav(tmp_path_factory.mktemp("cues") / "a.wav")
    write_wav_cues(path, rows)
    found = read_wav_cues(path)
    assert [at for at, _ in found] == sorted(at for at, _ in rows)
    assert all("\n" not in name and "\0" not in name for _, name in found)
    audio, rate = soundfile.read(io.BytesIO(path.read_bytes()))
    assert audio.shape == (1000, 2) and rate == 44100


@pytest.mark.parametrize("cut", [0, 13, 40, 4050, 4060, 4080])
def test_a_file_that_ends_early_has_the_markers_that_are_whole(tmp_path, cut):
    path = wav(tmp_path / "a.wav")
    write_wav_cues(path, [(10, "one"), (500, "two")])
    path.write_bytes(path.read_bytes()[:cut])
    assert set(read_wav_cues(path)) <= {(10, "one"), (500, "two"), (10, ""), (500, "")}
