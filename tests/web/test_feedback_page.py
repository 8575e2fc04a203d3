"""Feedback by hand: pasted as it came, seen where it belongs on the stair, taken or not and why, taken back."""

import pytest

from tests.songs import ids, small_song
from tests.web.driving import trouble_of, until

pytestmark = pytest.mark.browser
SONG = small_song()
C = ids(SONG)["Chorus"]
LIST = "Ana:\n0:18 kick too loud\n9:59 too long\nFrom Ben\nChorus: kick louder, please\nverse is lovely"


def test_what_listeners_said_is_taken_down_and_answered(page, server):
    studio = server[1]
    song_id = studio.add_song(SONG, "Small")
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press('"')
    page.wait_for_selector("text=Nothing was said yet.")
    assert not trouble_of(page)
    page.get_by_label("what was said").fill(LIST)
    page.get_by_role("button", name="Take it down").click()
    page.wait_for_selector(".clash-list")
    assert page.get_by_label("what was said").input_value() == "" and not trouble_of(page)
    told = page.locator("#feedback-list").inner_text()
    assert "9:59, which is not in the song" in told and "bar 10 (0:18)" in told
    assert "level, Round kick" in page.locator(".clash-list").inner_text()

    row = page.locator(".remark", has_text="kick too loud")
    row.get_by_role("button", name="Not taken").click()
    page.wait_for_selector("text=Say why it is not taken")
    row.get_by_role("textbox").fill("it is the tune")
    row.get_by_role("button", name="Not taken").click()
    page.wait_for_selector("text=not taken: it is the tune")
    assert page.locator(".clash-list").count() == 0, "what was refused contradicts nobody"
    page.locator(".remark", has_text="too long").get_by_role("combobox").select_option(str(C))
    until(lambda: sum(r.section_id == C for r in studio.head(song_id).song.feedback) == 3)

    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_function("() => window.escalera")
    assert page.locator(".remark-mark").count() == 3
    page.locator("#inspector .remark", has_text="kick louder").get_by_role("button").click()
    until(lambda: {r.state for r in studio.head(song_id).song.feedback} == {"open", "taken", "not taken"})
    page.wait_for_function("() => document.querySelectorAll('.remark-mark').length === 2")
    page.keyboard.press("Control+z")
    until(lambda: sum(r.state == "taken" for r in studio.head(song_id).song.feedback) == 0)
