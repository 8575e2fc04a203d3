"""Dialogs and panels held against the rules of accessibility, by day and dark, wide and narrow."""

import pytest

from tests.web.driving import open_song, trouble_of

pytestmark = pytest.mark.browser

DIALOGS = {
    "m": "#arranging",
    "k": "#arranging",
    "f": "#arranging",
    "o": "#arranging",
    "h": "#history",
    "?": "#help",
    "y": "#jot",
    "c": "#count",
}


@pytest.mark.parametrize(("theme", "width"), [("evening", 390)])
def test_dialogs_are_accessible(page, server, theme, width):
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    page.set_viewport_size({"width": width, "height": 800})
    open_song(page, server, "Harbour Stairs")
    for key, dialog in DIALOGS.items():
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press(key)
        page.wait_for_selector(f"{dialog}:not([hidden])", state="attached")
        page.wait_for_function(
            "d => { const e = document.querySelector(d); return e.open || (e.tagName !== 'DIALOG' && !e.hidden) || e.matches(':popover-open') || e.offsetParent; }",
            arg=dialog,
        )
        assert not trouble_of(page, dialog), key
        page.keyboard.press("Escape")
        page.wait_for_function("() => !document.querySelector('dialog:modal')")


@pytest.mark.parametrize("theme", ["day"])
def test_every_part_of_a_layers_inspector_is_accessible(page, server, theme):
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    song_id = open_song(page, server, "Harbour Stairs")
    song = server[1].head(song_id).song
    voice = next(x for x in song.layers if x.name == "Guide voice")
    section = next(s for s in song.sections if s.name == "Lift 3")
    page.goto(f"/songs/{song_id}?select=layer:{section.id}:{voice.id}")
    for part in ("chain", "place", "moves", "record", "sound"):
        page.locator(f"[data-tab={part}]").click()
        assert not trouble_of(page, "#inspector"), part
    page.locator("#panel-sound [data-sounds]").first.click()
    page.wait_for_selector("#sounds[open] .pick")
    assert not trouble_of(page, "#sounds")
