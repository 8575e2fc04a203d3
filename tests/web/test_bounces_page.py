"""A mix from elsewhere by hand: brought in, laid over the plan, compared, and seen as the third line of the stair."""

from dataclasses import replace

import numpy as np
import pytest
import soundfile

from escalera.sound.mix import Renderer
from tests.recordings import RATE, loop
from tests.songs import ids, small_song
from tests.web.driving import trouble_of, until

pytestmark = pytest.mark.browser
SONG = small_song()
SONG = replace(SONG, sections=tuple(replace(s, target=replace(s.target, start=9.5, end=9.5)) for s in SONG.sections))
C = ids(SONG)["Chorus"]


@pytest.fixture(scope="module")
def mixes(tmp_path_factory):
    folder, mix = tmp_path_factory.mktemp("mixes"), Renderer(60).render(SONG)
    late = np.pad(np.tanh(1.6 * mix), ((0, 0), (RATE // 2, 0)))
    half = mix[:, : mix.shape[1] // 2]
    for name, audio in (("Rough mix 1", late), ("Rough mix 2", half), ("Something else", loop("drums", 97.0, 12)[0])):
        soundfile.write(folder / f"{name}.flac", audio.T, RATE)
    return folder


def brought(page, studio, song_id, path):
    count = len(studio.bounces.of_song(song_id, SONG))
    page.set_input_files("#mix", str(path))
    until(lambda: len(studio.bounces.of_song(song_id, SONG)) == count + 1)
    until(lambda: studio.bounces.of_song(song_id, SONG)[0].reading or studio.bounces.of_song(song_id, SONG)[0].trouble)
    page.wait_for_function("() => !document.querySelector('.bringing')")


def test_a_mix_lies_over_the_stair(page, server, mixes):
    studio = server[1]
    song_id = studio.add_song(SONG, "Small")
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("Shift+Z")
    page.wait_for_selector("#bounces .empty")
    assert not trouble_of(page)
    brought(page, studio, song_id, mixes / "Rough mix 1.flac")
    assert "Begins 0.500 s in." in page.locator(".bounce-list li.chosen").inner_text()
    assert (
        page.locator(".bounce-table tbody tr").count() == 2
        and page.locator(".bounce-stair polyline.bounce").count() == 1
    )
    page.locator("[data-note] input").fill("drums up")
    page.keyboard.press("Enter")
    until(lambda: studio.bounces.of_song(song_id, SONG)[0].note == "drums up")
    brought(page, studio, song_id, mixes / "Rough mix 2.flac")
    page.locator("[data-choose-bounce]").first.click()
    page.wait_for_function("() => document.querySelector('.bounce-list li.chosen').innerText.includes('Rough mix 2')")
    assert "Bars 9 to 16 are missing." in page.locator(".bounce-list li.chosen").inner_text()
    assert "not there" in page.locator(".bounce-table tbody tr").nth(1).inner_text()
    page.get_by_text("Compare with it").click()
    page.wait_for_selector(".bounce-stair polyline.other-line")
    page.locator(".bounce-findings button").first.click()
    page.wait_for_function("() => document.querySelector('.bounce-answer').innerText.length > 20")
    assert not trouble_of(page)
    brought(page, studio, song_id, mixes / "Something else.flac")
    assert "does not sound like this song" in page.locator(".bounce-list").inner_text()
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_selector("polyline.bounce", state="attached")
    page.goto(f"/songs/{song_id}/bounces")
    page.locator("[data-bounce-act$='/remove']").nth(1).click()  # the half mix goes, the whole one is the newest
    until(lambda: len(studio.bounces.of_song(song_id, SONG)) == 2)
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_selector(".in-the-mix b")
    page.get_by_text("The mix, term by term and band by band").click()
    assert page.locator("#inspector details[open] tbody tr").count() >= 9 + 6 + 2
    assert (
        abs(
            float(page.locator(".in-the-mix b").inner_text())
            - studio.bounces.of_song(song_id, SONG)[1].reading.of(C).energy
        )
        < 0.06
    )
