"""A study by hand: a track is brought in, read, heard, corrected, noted down, built on, and held beside a section of one's own."""

import numpy as np
import pytest
import soundfile

from escalera.services.finished_tracks import Recipe, finished_track
from tests.recordings import RATE, loop
from tests.songs import ids, small_song
from tests.web.driving import trouble_of, until

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def tracks(tmp_path_factory):
    folder = tmp_path_factory.mktemp("tracks")
    audio, _, _ = finished_track(Recipe("Ferry Lane", "plain-start", "Intro 4, Verse 8, Chorus 8", 118.0))
    soundfile.write(folder / "Ferry Lane.flac", audio.T, RATE)
    noise = 0.1 * np.random.default_rng(5).standard_normal((8 * RATE, 2))
    soundfile.write(folder / "Waterfall.flac", noise, RATE)
    return folder


def brought(page, studio, path):
    page.goto("/studies")
    page.set_input_files("#track", str(path))
    until(lambda: any(s.name == path.stem and (s.reading or s.trouble) for s in studio.studies.all()), 60)
    return next(s.id for s in studio.studies.all() if s.name == path.stem)


def test_a_track_is_taken_apart_and_built_on(page, server, tracks):
    studio = server[1]
    study_id = brought(page, studio, tracks / "Ferry Lane.flac")
    page.wait_for_function("() => !document.querySelector('.bringing')")
    page.get_by_role("link", name="Ferry Lane").click()
    page.wait_for_selector("#study .stone")
    assert not trouble_of(page) and len(page.content()) < 400_000
    facts = page.locator(".study-facts").inner_text()
    assert "118.0 bpm" in facts and "4/4" in facts and "C major" in facts
    count = page.locator(".stone-name").count()
    assert count == len(studio.studies.get(study_id).reading.sections) >= 2
    page.keyboard.press("ArrowRight")
    page.wait_for_function("() => document.querySelector('.stone-name.chosen').dataset.section === '1'")
    assert "changed:" in page.locator(".section-says").inner_text()
    # a section is named and split, a chord corrected where it stands
    page.locator("[data-correct-form=name] input[name=name]").fill("Strophe")
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('.stone-name.chosen b').textContent === 'Strophe'")
    page.locator("[data-bar]").nth(2).click(position={"x": 6, "y": 6})
    page.wait_for_function("() => document.querySelector('.close-bar.chosen')")
    page.keyboard.press("s")
    page.wait_for_function("n => document.querySelectorAll('.stone-name').length === n", arg=count + 1)
    edge = page.locator(".stone-edge").first.bounding_box()
    first = studio.studies.get(study_id).reading.sections[1].first_bar
    page.mouse.move(edge["x"] + 5, edge["y"] + 20)
    page.mouse.down()
    page.mouse.move(
        edge["x"] + 5 - 3 * page.locator("#stone-box").bounding_box()["width"] / 23, edge["y"] + 20, steps=4
    )
    page.mouse.up()
    until(lambda: studio.studies.get(study_id).reading.sections[1].first_bar < first)
    page.wait_for_function("() => !document.querySelector('#study-head .bringing')")
    page.locator(".close-chord").first.click()
    page.locator(".chord-box").fill("Em7")
    page.keyboard.press("Enter")
    until(lambda: any(c.chord == "Em7" and c.by_hand for c in studio.studies.get(study_id).reading.chords))
    page.wait_for_function("() => document.querySelector('.close-chord.by-hand')")
    # a wrong one is a sentence, and nothing is lost
    page.locator("#chord-line").fill("C | Hx")
    page.locator(".chord-row button").click()
    page.wait_for_selector("#notice.show")
    assert "Hx" in page.locator("#notice").inner_text() and len(studio.studies.get(study_id).given.chords) == 1
    # own words
    page.keyboard.press("Escape")
    page.locator("#note-text").fill("The chorus waits a bar")
    page.locator("[data-note-form=note] button").click()
    page.wait_for_function("() => document.querySelector('.notes li')")
    page.locator("[data-note-form=instrument] input").fill("Tambourine")
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('.instruments li')")
    page.locator("[data-instrument]").select_option("missing")
    until(lambda: studio.studies.get(study_id).notebook.instruments[0].state == "missing")
    page.get_by_role("button", name="Build on this").click()
    page.locator("#build-form [name=title]").fill("On Ferry Lane")
    page.locator("#build-form").get_by_role("button", name="Build").click()
    page.wait_for_url("**/songs/*")
    song = studio.head(int(page.url.rsplit("/", 1)[1].split("?")[0])).song
    assert song.title == "On Ferry Lane" and [s.bars for s in song.sections] == [
        s.bars for s in studio.studies.get(study_id).reading.sections
    ]
    assert not trouble_of(page)


def test_it_is_heard_slower_in_a_band_and_beside_my_own(page, server, tracks):
    studio = server[1]
    study_id = next((s.id for s in studio.studies.all() if s.name == "Ferry Lane"), None) or brought(
        page, studio, tracks / "Ferry Lane.flac"
    )
    song = small_song()
    song_id = studio.add_song(song, "Small")
    page.goto(f"/studies/{study_id}")
    page.wait_for_selector("#study .stone")
    playing = "window.escalera.player.playing"
    page.keyboard.press("ArrowRight")
    page.wait_for_function("() => document.querySelector('.stone-name.chosen').dataset.section === '1'")
    page.keyboard.press(" ")
    until(lambda: page.evaluate(playing))
    for key in ("3", "]", "m", "u", "k", "h"):
        page.keyboard.press(key)
    until(lambda: page.evaluate("window.escalera.player.running.length"))
    assert page.evaluate(
        "[window.escalera.player.how.speed, window.escalera.player.band, window.escalera.player.side, window.escalera.player.how.octave, window.escalera.player.how.part]"
    ) == [0.5, 0, "left", 1, "held"]
    assert page.locator("[data-speed][aria-pressed=true]").inner_text() == "Half"
    before = page.evaluate("window.escalera.player.position()")
    until(lambda: page.evaluate("window.escalera.player.position()") > before + 0.1)
    page.keyboard.press("1")
    page.keyboard.press("l")
    assert page.locator("#study-loop").get_attribute("aria-pressed") == "true"
    page.locator("#rebuild summary").click()
    page.locator("#beside-form select").select_option(str(song_id))
    page.locator("#beside-form button").click()
    page.wait_for_selector("#switch")
    page.locator("#beside-section select").select_option(str(ids(song)["Chorus"]))
    page.wait_for_function(
        f"() => document.querySelector('#switch')?.dataset.own.includes('/{ids(song)['Chorus']}.wav')"
    )
    assert page.locator("#beside tbody tr").count() == 15
    page.locator("#switch").click()
    page.wait_for_function("() => document.querySelector('#switch').textContent === 'Hear the track'")
    until(lambda: not page.evaluate(playing))
    page.keyboard.press("x")
    page.wait_for_function("() => document.querySelector('#switch').textContent === 'Hear mine'")
    until(lambda: page.evaluate(playing))
    page.keyboard.press(" ")
    until(lambda: not page.evaluate(playing))
    assert not trouble_of(page)


def test_what_keeps_no_beat_says_so_and_is_still_heard(page, server, tracks):
    study_id = brought(page, server[1], tracks / "Waterfall.flac")
    page.goto(f"/studies/{study_id}")
    page.wait_for_selector("#study-head .doubting")
    assert "No steady beat is kept" in page.locator("#study-head").inner_text()
    assert page.locator(".stone-wave").count() == 1 and page.locator(".stone-line").count() == 1
    page.keyboard.press(" ")
    until(lambda: page.evaluate("window.escalera.player.playing"))
    page.keyboard.press("-")
    page.wait_for_selector("#notice.show")
    assert "Tap along first" in page.locator("#notice").inner_text()
    page.keyboard.press(" ")


def test_stems_become_a_song(page, server, tmp_path):
    for name, kind in (("Drums", "drums"), ("Keys", "chords")):
        audio = np.atleast_2d(loop(kind, 100.0, 8, key=9, mode="minor")[0])
        soundfile.write(tmp_path / f"{name}.flac", 0.5 * audio.T, RATE)
    page.goto("/studies")
    page.locator("#kit-tempo").fill("100")
    page.set_input_files("#stems", [str(tmp_path / f"{name}.flac") for name in ("Drums", "Keys")])
    page.wait_for_selector(".kit-said a", timeout=60_000)
    assert not trouble_of(page)
    page.locator(".kit-said a").click()
    page.wait_for_selector("#stair")
    song = server[1].head(int(page.url.rsplit("/", 1)[1])).song
    assert song.tempo_bpm == 100.0 and {x.family for x in song.layers} == {"drums", "chords"}
    assert page.locator("#wall .tile, .wall .tile, [data-layer]").count() > 0
