"""Handing over and getting back by hand: a pack for somebody, what is not ready, two changed stems laid beside the song and taken."""

import zipfile

import numpy as np
import pytest
import soundfile

from escalera.core.reading.timeline import timeline
from escalera.services.packing import checked_manifest
from tests.songs import ids, small_song
from tests.web.driving import trouble_of, until

pytestmark = pytest.mark.browser
SONG = small_song()
RATE = 44_100
NAME = ids(SONG)


@pytest.fixture(scope="module")
def changed(server, tmp_path_factory):
    """Two of the song's stems, as somebody sends them back: the bass louder in the chorus, the pad backwards."""
    folder, renderer, line = tmp_path_factory.mktemp("stems"), server[1].rendering.renderer, timeline(SONG)
    end, chorus = line.samples(RATE)[-1], line.samples(RATE)[1]
    for name, change in (
        ("Plucked bass", lambda x: 2.0 * x),
        ("Soft pad", lambda x: np.hstack((x[:, : 4 * RATE], x[:, : 4 * RATE - 1 : -1]))),
    ):
        audio = renderer.before_master(SONG, line, 0, end, frozenset((NAME[name],)), False).copy()
        audio[:, chorus:] = change(audio[:, chorus:])
        soundfile.write(folder / f"{name.lower()} v2.wav", audio.T, RATE, subtype="FLOAT")
    return sorted(folder.iterdir())


def test_a_song_is_handed_over_and_two_changed_stems_are_taken_back(page, server, changed, tmp_path):
    studio = server[1]
    song_id = studio.add_song(SONG, "Small")
    page.goto(f"/songs/{song_id}/handover")
    assert not trouble_of(page) and "do not say what they are there for" in page.locator(".ready-list").inner_text()
    page.get_by_role("button", name="Listen to the stems").click()
    page.wait_for_selector("text=3 stems were listened to: none is silent, breaks off or would clip.")

    page.select_option("#receiver", "drummer")
    page.get_by_text("What goes into it").click()
    ticked = page.locator("[name=part]:checked").evaluate_all("all => all.map(x => x.value)")
    assert ticked == ["midi", "mix", "no-drums", "chords", "cues"]
    page.locator("[value=no-drums]").uncheck()
    page.get_by_role("button", name="Make the pack").click()
    with page.expect_download() as download:
        page.locator("#job-pack").get_by_role("link", name="Save").click()
    download.value.save_as(tmp_path / "pack.zip")
    names = zipfile.ZipFile(tmp_path / "pack.zip").namelist()
    assert not checked_manifest(tmp_path / "pack.zip", thorough=True) and "sheets/chords.html" in names
    assert "small-mix.wav" in names and "small-no-drums.wav" not in names

    page.set_input_files("#returned-form [name=file]", [str(p) for p in changed])
    page.get_by_role("button", name="Lay it beside the song").click()
    page.wait_for_selector(".returned-list")
    rows = page.locator(".returned-row").all_inner_texts()
    assert "Plucked bass" in rows[0] and "Chorus: +6.0 dB" in rows[0] and "Verse" not in rows[0]
    assert "Soft pad" in rows[1] and "Chorus: plays otherwise" in rows[1]
    assert page.locator(".returned-wave").count() == 2 and "Round kick" in page.locator("#came-back").inner_text()
    assert not trouble_of(page) and studio.head(song_id).song == SONG, "nothing is taken yet"
    page.get_by_label("take plucked bass v2.wav", exact=False).select_option("layer")
    page.get_by_label("take soft pad v2.wav").select_option("sections")
    page.fill("[name=who]", "Ana")
    page.get_by_role("button", name="Take what is chosen").click()
    page.wait_for_selector("#taken-back .said")
    song = studio.head(song_id).song
    recorded = [x for x in song.layers if x.clips]
    assert [x.sent_by for x in recorded] == ["Ana", "Ana"] and song.layer_by_id[NAME["Plucked bass"]].muted
    assert not song.layer_by_id[NAME["Soft pad"]].muted
    page.locator("#taken-back").get_by_role("link").click()
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("Control+z")
    until(lambda: studio.head(song_id).song == SONG)
