"""Pages, dialogs and panels held against the rules of accessibility, by day and dark, wide and narrow."""

import pytest

from tests.web.driving import open_song, trouble_of

pytestmark = pytest.mark.browser

PLACES = (
    "/", "/new", "/import", "/bin", "/ideas", "/components", "/songs/1", "/songs/1?select=song", "/songs/1?select=mix:0", "/songs/1?select=layer", "/songs/1/handover",
    "/songs/1/harmony", "/songs/1/groove", "/songs/1/bench", "/songs/1/joins", "/songs/2/joins?select=section:9", "/samples", "/songs/1/samples",
)  # fmt: skip
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


@pytest.mark.parametrize(("theme", "width"), [("day", 1280), ("evening", 390)])
def test_pages_are_accessible_by_day_and_dark_wide_and_narrow(page, server, theme, width):
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    page.set_viewport_size({"width": width, "height": 800})
    for address in PLACES:
        page.goto(address.replace("layer", f"layer:0:{server[1].head(1).song.layers[0].id}"))
        page.wait_for_timeout(200)
        assert not trouble_of(page), address
        for other in (width, 1024):
            page.set_viewport_size({"width": other, "height": 800})
            sideways = page.evaluate("document.documentElement.scrollWidth > innerWidth")
            assert not sideways, f"{address} scrolls sideways at {other}"
        page.set_viewport_size({"width": width, "height": 800})


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
        assert not trouble_of(page), key
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
        assert not trouble_of(page), part
    page.locator("#panel-sound [data-sounds]").first.click()
    page.wait_for_selector("#sounds[open] .pick")
    assert not trouble_of(page)
