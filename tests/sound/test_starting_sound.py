"""Starting loops as they sound: near the spectrum of their style, wide, alive, and with little for the limiter to do."""

import numpy as np
import pytest

from escalera.core.bench.mix_balance import OCTAVES_HZ, SPECTRA, balancing, target_bands
from escalera.core.bench.mix_places import PLACES, loudness_at_zero, whole_section
from escalera.core.bench.seats import seats
from escalera.core.edits import EDITS
from escalera.core.energy.features import band_powers
from escalera.core.energy.model import arranged
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.timeline import timeline
from escalera.services.new_song import add_layer_edit
from escalera.services.starting_loops import song_of, starting_loops
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

FRAME = 16_384
RENDERER = Renderer(150)


def octaves_db(audio):
    """Mean power of every octave, in dB; shape (channels, octaves)."""
    frames = np.lib.stride_tricks.sliding_window_view(audio, FRAME, axis=1)[:, :: FRAME // 2] * np.hanning(FRAME)
    power = np.square(np.abs(np.fft.rfft(frames, axis=2))).mean(axis=1)
    hz = np.fft.rfftfreq(FRAME, 1 / RATE_HZ)
    bands = [power[:, (hz >= c / 2**0.5) & (hz < c * 2**0.5)].sum(axis=1) for c in OCTAVES_HZ]
    return 10 * np.log10(np.array(bands).T + 1e-12)


def off_its_style(song, audio):
    """How far every octave lies from the spectrum of the song's style, in dB, by its middle; up to where only air is."""
    level = octaves_db(audio).mean(axis=0)
    whole = 10 * np.log10((10 ** (level / 10)).sum())
    far = dict(zip(OCTAVES_HZ, np.round(level - whole - SPECTRA[song.school], 1)))
    return {hz: db for hz, db in far.items() if hz < 12_000}


@pytest.mark.parametrize("key", list(starting_loops()))
def test_a_starting_loop_is_balanced_wide_and_alive(key):
    song, _ = song_of(key)
    line = timeline(song)
    audio = RENDERER.before_master(song, line, 0, line.samples(RATE_HZ)[-1])
    far = off_its_style(song, audio)
    assert all(abs(db) <= 3.0 for db in far.values()), far
    middle, side = octaves_db(np.stack((audio[0] + audio[1], audio[0] - audio[1])) / 2)
    assert (side - middle)[3:7].min() > -10.0, "500 Hz to 4 kHz"
    assert 0.3 <= np.corrcoef(audio)[0, 1] <= 0.83
    crest = 20 * np.log10(np.abs(audio).max() / np.sqrt(np.square(audio).mean()))
    assert 11 <= crest <= 18.5 and np.abs(audio).max() < 10 ** (2.0 / 20), "the limiter takes less than 3 dB"


def test_the_clean_demo_song_has_the_spectrum_of_its_style_and_lies_on_its_stair_and_the_faulty_one_does_not(demos):
    clean = demos[0]
    line = timeline(clean)
    far = off_its_style(clean, RENDERER.before_master(clean, line, 0, line.samples(RATE_HZ)[-1]))
    assert all(abs(db) <= 3.0 for db in far.values()), far
    off = [{s.span.section.name: s.value - s.span.section.target.mean for s in arranged(x).sections} for x in demos]
    assert max(map(abs, off[0].values())) <= 0.8 and off[1]["Break"] > 2.0


@pytest.mark.parametrize("sound", [s for s in SOUNDS if s.family != "effects"], ids=lambda s: s.key)
def test_a_sound_that_is_added_stands_at_its_jobs_level_and_is_heard(sound):
    song, _ = song_of("plain-start")
    after = add_layer_edit(sound.key).apply(song)
    seat = next(s for s in seats(after) if s.layer.id not in song.layer_by_id)
    section = after.sections[0]
    own = loudness_at_zero(after, section, seat.layer, whole_section(after, section, seat.layer))
    rest = [s for s in seats(song) if s.part not in ("place",)]
    mix = np.median(
        [
            loudness_at_zero(song, section, s.layer, whole_section(song, section, s.layer))
            + s.layer.level_db
            - PLACES[s.part].level_db
            for s in rest
        ]
    )
    assert abs(own + seat.layer.level_db - PLACES[seat.part].level_db - mix) <= 2.0 or seat.layer.level_db == 6.0
    placed = EDITS["place"](section.id, seat.layer.id, seat.layer.pattern_id).apply(after)
    assert abs(arranged(placed).sections[0].without.get(seat.layer.id, 1.0)) > 0.0


def test_what_leads_lies_over_what_follows_it_and_the_lows_are_owned():
    assert 3.0 <= PLACES["lead voice"].level_db - PLACES["harmony"].level_db <= 6.0
    song, _ = song_of("warehouse-four")
    sub, bass = (next(s.layer for s in seats(song) if s.part == part) for part in ("sub", "bass"))
    assert sub.highpass_hz < 30 < bass.highpass_hz and sub.duck_db > bass.duck_db > 0


@pytest.mark.parametrize("school", list(SPECTRA))
def test_a_style_has_a_shelf_of_lows_without_a_hole_and_falls_from_there(school):
    spectrum = np.array(SPECTRA[school])
    assert target_bands(school).sum() == pytest.approx(1.0) and spectrum[1:3].min() > spectrum[0] - 6
    assert (np.diff(spectrum[4:]) < 0).all()


def test_balancing_moves_a_thin_mix_toward_its_style():
    song, _ = song_of("night-drive")
    for layer in song.layers:
        if layer.family == "low end":
            song = EDITS["set_control"](layer.id, "level_db", layer.level_db - 9).apply(song)
    row, span = list(seats(song)), timeline(song).spans[0]
    found = balancing(song, span, row)
    powers = band_powers(song, span, [s.layer for s in row], np.array([0.0, span.length_seconds]))[:, 0, :]
    gains = 10 ** (np.array([found[s.layer.id] for s in row]) / 10)
    far = []
    for total in (powers.sum(axis=0), gains @ powers):
        far.append(np.abs(10 * np.log10(total / total.sum() / target_bands(song.school)))[:2].max())
    assert far[1] < 0.7 * far[0] and max(abs(x) for x in found.values()) <= 6.0
