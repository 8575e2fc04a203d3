"""Measuring while rendering: the song's own figures from its sections, and only what an edit changed is mixed anew."""

import time

import numpy as np
import pytest

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.errors import RenderStopped
from escalera.meters.loudness import loudness, true_peak_dbtp
from escalera.services.rendering import Rendering
from escalera.sound import mix
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import mix_section
from escalera.sound.walk import SectionWalk
from tests.songs import ids, small_song


def long_song():
    """Six sections of eight bars, no two alike; the limiter works in most of them."""
    song = EDITS["set_tempo"](127.3).apply(small_song())  # no section is a whole number of hundredths of a second
    for name in ("Verse", "Chorus", "Chorus", "Verse"):
        song = EDITS["duplicate_section"](ids(small_song())[name]).apply(song)
    for number, section in enumerate(song.sections):
        song = EDITS["vary"](section.id, ids(song)["Round kick"], level_start_db=-0.5 * number).apply(song)
    return EDITS["set_master"](9.0).apply(song)


def test_figures_of_the_song_from_its_sections_are_those_of_the_whole():
    song, rendering = long_song(), Rendering(100)
    found, audio = rendering.measure(song), Renderer(100).render(song)
    whole = loudness(audio, RATE_HZ)
    assert audio.shape[1] / RATE_HZ > 60 and true_peak_dbtp(audio) > -2.0
    for name in ("integrated_lufs", "max_momentary_lufs", "max_short_term_lufs", "range_lu"):
        assert getattr(found.loudness, name) == pytest.approx(getattr(whole, name), abs=1e-6)
    for name in ("momentary_lufs", "short_term_lufs"):
        assert np.allclose(getattr(found.loudness, name), getattr(whole, name), atol=1e-6)
    assert found.true_peak_dbtp == pytest.approx(true_peak_dbtp(audio), abs=1e-6)
    rendering.close()


def test_after_an_edit_only_what_hears_it_is_mixed_and_measured_as_in_a_fresh_start(monkeypatch):
    song, rendering, mixed = long_song(), Rendering(100), []
    monkeypatch.setattr(mix, "mix_section", lambda plan, *a: mixed.append(plan.key) or mix_section(plan, *a))
    rendering.measure(song)
    assert len(set(mixed)) == len(song.sections)
    changed = EDITS["vary"](song.sections[2].id, song.layers[0].id, level_start_db=-9.0).apply(song)
    rendering.renderer.cache._wholes.clear()
    mixed.clear()
    again = rendering.measure(changed)
    keys = [rendering.renderer.plan(changed, span).key for span in timeline(changed).spans]
    assert keys[2] in mixed and keys[5] not in mixed
    mixed.clear()
    assert rendering.measure(changed).true_peak_dbtp == again.true_peak_dbtp and not mixed
    fresh = Rendering(100)
    expected = fresh.measure(changed)
    assert again.loudness.integrated_lufs == pytest.approx(expected.loudness.integrated_lufs, abs=1e-9)
    assert [s.value for s in again.sections] == pytest.approx([s.value for s in expected.sections], abs=1e-9)
    for each in (rendering, fresh):
        each.close()


@pytest.mark.parametrize(
    ("ends", "indices", "mixed", "held", "kept"),
    [
        ([10, 20, 30, 40], [0, 1, 2, 3], [0, 1, 2, 3], 3, ()),
        ([10, 20, 30, 40], [2], [2], 1, ()),
        ([10, 25, 30, 40], [2], [1, 2], 2, ()),  # its tail is heard
        ([99, 20, 30, 40], [1, 3], [0, 1, 3], 3, ()),  # one that sounds on to the end is held
        ([99, 20, 30, 40], [1, 3], [0, 1, 3], 3, (0,)),  # but for one that can be read again
        ([12, 22, 32, 40], [0, 1, 2, 3], [0, 1, 2, 3], 4, ()),
        ([10, 20, 30, 40], [], [], 0, ()),
    ],
)
def test_sections_on_the_way_are_mixed_once_ahead_and_held_as_long_as_they_are_heard(ends, indices, mixed, held, kept):
    alive, made, told, most = set(), [], [], [0]

    class Mix:
        def __init__(self, index):
            self.index = index
            made.append(index)
            alive.add(index)
            most.append(len(alive))

        def __del__(self):
            alive.discard(self.index)

    def heard(index):
        before = {j for j in mixed if j <= index and (j == index or ends[j] > 10 * index)}
        return {*made} >= before and alive & before == before - {*kept}

    walk = SectionWalk([0, 10, 20, 30, 40], ends, 0, indices)
    assert walk.mixed == mixed
    assert all(walk.go(Mix, heard, 3, told.append, lambda j: j in kept))
    assert sorted(made) == mixed and max(most) <= held and told == [(n + 1) / len(indices) for n in range(len(indices))]


def test_work_that_is_called_off_ends_although_everything_can_be_read_again():
    def mix(index):
        if index == 2:
            raise RenderStopped("A newer state is wanted.")

    walk = SectionWalk([0, 10, 20, 30, 40], [10, 20, 30, 40], 0, range(4))
    with pytest.raises(RenderStopped):
        list(walk.go(mix, lambda index: time.sleep(0.02), 3, lambda share: None, lambda j: True))
