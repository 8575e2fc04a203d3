"""The sound bank: an instrument more where it is installed, a stand-in and a plain word where it is not."""

from pathlib import Path

import numpy as np
import pytest

from escalera.core.edits import EDITS
from escalera.core.palette.bank import NAMES, bank_program
from escalera.core.palette.sounds import BY_KEY, SOUNDS, played_by
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from escalera.formats.project import read_project, write_project
from escalera.sound import bank_player as sound_bank
from escalera.sound.instruments import patch
from escalera.sound.mix import Renderer
from tests.songs import ids, small_song

SONG = small_song()
P = ids(SONG)["Soft pad"]
WITH_CELLO = EDITS["set_sound"](P, "bank-42").apply(SONG)


class Sines:
    """Stands in for a synthesizer with a SoundFont: sines at the pitch asked for."""

    def __init__(self):
        self.pitch, self.bend, self.program, self.sounding, self.at = 60, 0, -1, False, 0

    def sfload(self, path):
        return 7 if path.endswith(".sf2") else -1

    def delete(self):
        self.at = -1

    def program_select(self, channel, font, bank_number, program):
        assert (channel, font, bank_number) == (0, 7, 0)
        self.program = program

    def pitch_bend(self, channel, bend):
        assert -8192 <= bend <= 8191
        self.bend = bend / 4096

    def noteon(self, channel, pitch, velocity):
        self.pitch, self.sounding = pitch, True

    def noteoff(self, channel, pitch):
        self.sounding = False

    def read(self, count):
        t = (self.at + np.arange(count)) / 44_100
        self.at += count
        wave = 0.3 * np.sin(2 * np.pi * 440 * 2 ** ((self.pitch + self.bend - 69) / 12) * t) * self.sounding
        return np.stack((wave, wave)).astype(np.float32)


@pytest.fixture
def installed():
    patch.cache_clear()
    made = []
    sound_bank._bank[:] = [sound_bank.Bank(Path("small.sf2"), lambda: made.append(Sines()) or made[-1], Sines.read)]
    yield made
    sound_bank._bank[:] = [None]
    patch.cache_clear()


def test_there_is_a_stand_in_for_every_program_and_for_nothing_else():
    assert len(NAMES) == 128 and all(played_by(f"bank-{i}") in {s.key for s in SOUNDS} for i in range(128))
    assert BY_KEY["bank-42"].label == "Cello" and "bank-42" in BY_KEY and "bank-42" not in list(BY_KEY)
    assert [bank_program(k) for k in ("bank-128", "bank-x", "bank-07", "rain")] == [None] * 4
    with pytest.raises(EditError, match="is not a sound"):
        EDITS["set_sound"](P, "bank-128").apply(SONG)


def test_without_a_bank_the_stand_in_plays_and_nothing_is_missing():
    stand_in = EDITS["set_sound"](P, played_by("bank-42")).apply(SONG)
    assert np.array_equal(Renderer(60).render(WITH_CELLO), Renderer(60).render(stand_in))
    assert validate(read_project(write_project(WITH_CELLO))).layer_by_id[P].sound_key == "bank-42"


def test_with_a_bank_its_instrument_is_heard_at_the_notes_pitch(installed):
    without = EDITS["set_muted"](P, True).apply(WITH_CELLO)
    difference = Renderer(60).render(WITH_CELLO)[:, : 32 * 22_050] - Renderer(60).render(without)[:, : 32 * 22_050]
    assert not np.abs(difference).max() or installed[-1].program == 42
    assert installed[-1].program == 42


@pytest.mark.parametrize(
    ("sound", "tuning_hz"), [("bank-42", 440), ("bank-42", 432), ("tone-organ", 432), ("gliding-bass", 450)]
)
def test_a_song_is_heard_in_its_tuning(installed, sound, tuning_hz):
    song = EDITS["set_tuning"](tuning_hz).apply(EDITS["set_sound"](P, sound).apply(SONG))
    for name in ("Round kick", "Plucked bass"):
        song = EDITS["set_muted"](ids(SONG)[name], True).apply(song)
    audio = Renderer(60).render(song)[0, 32 * 22_050 : 34 * 22_050]
    spectrum = np.abs(np.fft.rfft(audio * np.hanning(len(audio)), 1 << 18))
    hz = np.argmax(spectrum) * 44_100 / (1 << 18)
    off = 12 * np.log2(hz / (261.63 * tuning_hz / 440)) % 12
    assert min(abs(off - s) for s in (0, 4, 7, 12)) < 0.1, "a note of C major"


def test_the_picker_offers_the_bank_only_where_it_is(client, studio, installed):
    song_id = studio.add_song(SONG, "New")
    assert client.get(f"/songs/{song_id}/sounds").get_data(as_text=True).count('data-sound="bank-') == 128
    sound_bank._bank[:] = [None]
    assert 'data-sound="bank-' not in client.get(f"/songs/{song_id}/sounds").get_data(as_text=True)


@pytest.mark.parametrize("content", [None, b"no soundfont"])
def test_a_missing_or_broken_bank_is_passed_over(tmp_path, monkeypatch, content):
    file = tmp_path / "bank.sf2"
    if content is not None:
        file.write_bytes(content)
    monkeypatch.setenv("ESCALERA_SOUNDFONT", str(file))
    assert sound_bank.open_bank() is None
