"""A newcomer's first half hour in a real browser, by keys and by mouse alone, and what goes on from page to page."""

import re

import pytest

from tests.web.driving import open_song, shown, until

pytestmark = pytest.mark.browser


def test_a_first_half_hour_by_the_keyboard_alone(page, server):
    """A new song by one key; a layer chosen, heard and placed; sections by arrows; help, moves and export by keys; focus stays near."""
    page.goto("/")
    page.keyboard.press("n")
    page.wait_for_selector("#stair")
    page.wait_for_function("() => window.escalera")
    song_id = int(page.url.rstrip("/").rsplit("/", 1)[1].split("?")[0])
    add = page.locator(".song-tools [data-sounds]")
    add.focus()
    page.keyboard.press("Enter")
    page.wait_for_selector("#sounds[open] [data-find]")
    page.locator("#sounds [data-find]").focus()
    page.keyboard.type("kicks")
    first = page.locator("#sounds .pick:not([hidden]) b").evaluate_all(
        "bs => bs.map(b => [b.closest('.pick').style.order, b.textContent]).sort((a, b) => a[0] - b[0])[0][1]"
    )
    assert "kick" in first.lower(), "plural and singular find the same"
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    page.wait_for_function("() => /^layer:/.test(document.querySelector('#state [name=select]').value)")
    song = server[1].head(song_id).song
    made = max(song.layers, key=lambda x: x.id)
    assert any(p.layer_id == made.id for p in song.sections[0].placements)
    assert page.locator("#inspector h2").inner_text() == made.name
    page.wait_for_function("() => document.activeElement !== document.body")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("ArrowRight")
    if len(song.sections) > 1:
        page.wait_for_function(
            "n => document.querySelector('#inspector h2').textContent === n", arg=song.sections[1].name
        )
    page.keyboard.press(";")
    assert page.evaluate("document.querySelector('#inspector').contains(document.activeElement)")
    page.keyboard.press(";")
    page.keyboard.press("u")
    page.wait_for_function("() => [...document.querySelectorAll('.helps')].some(h => h.textContent.trim())")
    page.keyboard.press("m")
    page.keyboard.press("g")
    page.wait_for_selector("#arranging[open]")
    assert "/harmony" not in page.url, "what is pressed while a dialog is on its way opens nothing later"
    page.keyboard.press("Escape")
    page.keyboard.press("Shift+E")
    page.wait_for_url("**/handover**")


def test_a_first_half_hour_by_the_mouse_alone(page, server):
    """A new song; a sound chosen and placed; a tile emptied; a section looked at; help, a move and the export, all by clicks."""
    page.goto("/")
    page.click("#quick-new button")
    page.wait_for_selector("#stair")
    page.wait_for_function("() => window.escalera")
    song_id = int(page.url.rstrip("/").rsplit("/", 1)[1].split("?")[0])
    before = server[1].head(song_id).song
    page.click(".song-tools [data-sounds]")
    page.locator("#sounds[open] .pick:not([hidden]) button").first.wait_for()
    page.locator("#sounds .pick:not([hidden]) [data-take]").first.click()
    page.wait_for_function("() => /^layer:/.test(document.querySelector('#state [name=select]').value)")
    song = server[1].head(song_id).song
    assert len(song.layers) == len(before.layers) + 1
    page.locator(".tile").first.click()
    page.wait_for_selector(".tile.empty")
    page.locator(".step-ground").first.click(position={"x": 20, "y": 60})
    page.wait_for_function("n => document.querySelector('#inspector h2').textContent === n", arg=song.sections[0].name)
    page.locator("#inspector button:text('What would help?')").click()
    page.wait_for_function("() => [...document.querySelectorAll('.helps')].some(h => h.textContent.trim())")
    page.locator("#inspector button:text('Moves')").click()
    page.wait_for_selector("#arranging[open] .move-row, #arranging[open] .move-kind button")
    page.locator("#arranging [data-move]").first.click()
    page.wait_for_selector("#move-preview [data-do]")
    state = server[1].head(song_id).revision_id
    page.locator("#move-preview [data-do]").first.click()
    until(lambda: server[1].head(song_id).revision_id != state)
    shown(page, server[1], song_id)
    page.locator("button:text('Undo')").click()
    until(lambda: server[1].head(song_id).revision_id == state)
    shown(page, server[1], song_id)
    page.click("a:text('Export')")
    page.wait_for_url("**/handover**")


def test_links_carry_what_is_chosen_and_listening_goes_on(page, server):
    open_song(page, server, "Harbour Stairs")
    page.wait_for_selector("polyline.measured", timeout=60_000)
    page.locator(".tread").nth(5).focus()
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Lift 2'")
    page.locator("#play").click()
    page.wait_for_function(
        "() => window.escalera.player.playing && window.escalera.player.position() > 0.2", timeout=30_000
    )
    page.get_by_role("link", name="drums").click()
    page.wait_for_url("**/groove?select=section:*")
    page.wait_for_function("() => window.escalera?.player.playing", timeout=30_000)
    assert "Lift 2" in page.locator("main").inner_text()
    page.keyboard.press("ArrowRight")
    page.wait_for_function("() => document.querySelector('main').innerText.includes('Chorus 2')")
    page.keyboard.press(" ")
    page.wait_for_function("() => !window.escalera.player.playing")
    page.get_by_role("link", name="bench").click()
    page.wait_for_url("**/bench?select=*")
    page.wait_for_timeout(600)
    assert not page.evaluate("window.escalera.player.playing"), "nothing begins unasked"


def test_the_loop_says_what_it_loops_and_space_pauses_after_a_click(page, server):
    open_song(page, server, "Harbour Stairs")
    page.locator("#loop").click()
    page.wait_for_function("() => window.escalera.player.playing", timeout=30_000)
    looping = page.locator("#loop").inner_text()
    page.locator(".tread").nth(4).focus()
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Verse 2'")
    assert looping.startswith("Looping") and page.locator("#loop").inner_text() == looping
    page.locator("#loop").click()
    page.locator("#loop").click()
    page.keyboard.press(" ")
    page.wait_for_function("() => !window.escalera.player.playing")


def test_a_sign_of_a_join_is_a_button_that_shows_what_carries_it(page, server):
    open_song(page, server, "Harbour Stairs")
    sign = page.get_by_role("button", name=re.compile("^Intro to Verse 1: "))
    sign.focus()
    page.keyboard.press("Enter")
    page.wait_for_selector("#inspector [data-join-said].pointed")
    assert page.locator("#inspector h2").inner_text() == "Verse 1"
