"""Pages held against the rules of accessibility, by day and dark, wide and narrow: the first of them in both, the others in turn."""

import pytest

from tests.web.driving import trouble_of

pytestmark = pytest.mark.browser

PLACES = (
    "/songs/1", "/songs/1/samples", "/songs/1/voices", "/songs/1/bounces", "/", "/samples", "/new", "/import", "/bin", "/ideas", "/logbook", "/today", "/board", "/sets", "/tasks", "/drills", "/dates", "/logbook/statistics", "/songs/1/plan", "/components", "/songs/1?select=song", "/songs/1?select=mix:0",
    "/songs/1?select=layer", "/songs/1/handover", "/songs/1/feedback", "/songs/1/harmony", "/songs/1/groove", "/songs/1/bench", "/songs/1/joins", "/songs/2/joins?select=section:9",
)  # fmt: skip
IN_BOTH = 4


@pytest.mark.parametrize(("theme", "width"), [("day", 1280), ("evening", 390)])
def test_pages_are_accessible_by_day_and_dark_wide_and_narrow(page, server, theme, width):
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    page.set_viewport_size({"width": width, "height": 800})
    for number, address in enumerate(PLACES):
        if number >= IN_BOTH and number % 2 != (theme == "evening"):
            continue
        page.goto(address.replace("layer", f"layer:0:{server[1].head(1).song.layers[0].id}"))
        page.wait_for_timeout(200)
        assert not trouble_of(page), address
        for other in (width, 1024):
            page.set_viewport_size({"width": other, "height": 800})
            sideways = page.evaluate("document.documentElement.scrollWidth > innerWidth")
            assert not sideways, f"{address} scrolls sideways at {other}"
        page.set_viewport_size({"width": width, "height": 800})
