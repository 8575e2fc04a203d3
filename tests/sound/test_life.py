"""Life: what hands vary, and what stays: the same song sounds the same, kick and bass stay together, prints and tuned kicks hold still."""

from dataclasses import replace

import numpy as np
import pytest

from escalera.core.document.devices import Print
from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.core.reading.timeline import timeline
from escalera.services.starting_loops import song_of
from escalera.sound.life import dice, is_alive
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ, schedule
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
ALIVE = EDITS["set_life"](100).apply(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


def notes(song, layer_id, index=1):
    return schedule(song, timeline(song).spans[index], song.layer_by_id[layer_id])


@pytest.mark.parametrize("layer_id", [K, B, P])
def test_notes_vary_a_little_and_the_same_way_each_time(layer_id):
    still, live, again = (
        notes(SONG, layer_id),
        notes(ALIVE, layer_id),
        notes(EDITS["set_life"](100).apply(SONG), layer_id),
    )
    shift = live.start - still.start
    assert 0 < np.abs(shift).max() <= 0.010 * RATE_HZ and (live.start == again.start).all()
    assert (
        len(set(live.velocity.tolist())) > len(set(still.velocity.tolist()))
        and np.abs(live.velocity - still.velocity).max() < 30
    )
    assert (live.velocity == again.velocity).all() and (
        notes(EDITS["set_life"](0).apply(ALIVE), layer_id).start == still.start
    ).all()


def test_kick_and_bass_share_one_timing_and_chords_stay_chords():
    kick, bass = notes(ALIVE, K).start, notes(ALIVE, B).start
    plain_kick, plain_bass = notes(SONG, K).start, notes(SONG, B).start
    shared = np.intersect1d(plain_kick, plain_bass)
    at = {int(p): int(s) for p, s in zip(plain_kick, kick)}
    assert len(shared) >= 16 and all(at[int(p)] == int(s) for p, s in zip(plain_bass, bass) if int(p) in at)
    pad = notes(ALIVE, P).start
    assert len(np.unique(pad)) == len(np.unique(notes(SONG, P).start))


def test_what_is_printed_or_repeats_exactly_holds_still():
    pad = SONG.layer_by_id[P]
    assert is_alive(pad) and not is_alive(replace(pad, prints=(Print("a", "b", 0),)))
    assert not is_alive(replace(pad, sound_key="kick-bass", family="low end")) and not is_alive(
        replace(pad, sound_key="rain", family="atmosphere")
    )


def test_energy_and_what_is_written_do_not_change_and_bars_are_no_copies_any_more():
    assert arranged(ALIVE).sections[1].value == arranged(SONG).sections[1].value
    alike = []
    for life in (0.0, 0.7):
        song, _ = song_of("loose-funk")
        song = replace(song, life=life)
        line = timeline(song)
        audio = Renderer(100).before_master(song, line, 0, line.samples(RATE_HZ)[-1])
        half = audio.shape[1] // 2
        alike.append(np.corrcoef(audio[0, :half], audio[0, half : 2 * half])[0, 1])
    assert alike[1] < 0.93 and alike[1] < alike[0] - 0.03


def test_dice_are_fair_and_differ_by_hand():
    ticks = np.arange(0, 96_000, 240)
    a, b = dice(1, ticks), dice(2, ticks)
    assert abs(a.mean()) < 0.08 and -1 <= a.min() < -0.7 < 0.7 < a.max() <= 1 and abs(np.corrcoef(a, b)[0, 1]) < 0.2
