"""The page of balance by hand: a remedy heard and made, one band at once, two passages blind on the beat, a rough mix."""

import pytest

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from tests.songs import ids, small_song
from tests.web.driving import shown, trouble_of, until

pytestmark = pytest.mark.browser
SONG = EDITS["set_tempo"](160).apply(small_song())
NAME = ids(SONG)
V, C, B, P = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad"))
# the pad hides behind a bass that was turned up
COVERED = EDITS["set_control"](B, "level_db", SONG.layer_by_id[B].level_db + 10).apply(SONG)


@pytest.fixture
def balance(page, server):
    studio = server[1]
    song_id = studio.add_song(COVERED, "made")
    page.goto(f"/songs/{song_id}/balance?select=section:{C}:0:0:0")
    page.wait_for_selector(".house .room")
    return page, studio, song_id


def test_a_remedy_is_heard_and_made_and_taken_back(balance):
    page, studio, song_id = balance
    page.wait_for_function("() => !document.querySelector('#found .spin')")
    assert not trouble_of(page) and len(page.content()) < 300_000
    before = studio.head(song_id)
    first = page.locator(".hiding").first
    assert "hides" in first.inner_text()
    first.click()
    page.wait_for_selector(".remedy")
    hear = page.locator(".remedy [data-try]").first
    hear.click()
    page.wait_for_function("() => window.escalera.player.playing && window.escalera.player.listening.includes('tried')")
    page.wait_for_selector(".measured-said")
    assert studio.head(song_id).revision_id == before.revision_id, "what is tried changes nothing"
    page.locator(".remedy [data-do]").first.click()
    until(lambda: studio.head(song_id).revision_id != before.revision_id)
    shown(page, studio, song_id)
    page.wait_for_function("() => !window.escalera.player.listening.includes('tried')")
    section = studio.head(song_id).song.section_by_id[C]
    assert section != before.song.section_by_id[C] or studio.head(song_id).song.layers != before.song.layers
    page.keyboard.press("Control+z")
    until(lambda: studio.head(song_id).song.section_by_id[C] == before.song.section_by_id[C])


def test_what_the_page_asks_for_by_itself_waits_for_what_is_being_written(balance):
    page, _, song_id = balance
    page.wait_for_function("() => !document.querySelector('#found .spin')")
    answers = []
    page.route("**/balance/found", lambda route: route.fulfill(body="all heard", content_type="text/html"))
    page.on("response", lambda r: r.url.endswith("/balance/found") and answers.append(r))
    poll = f'<p hx-get="/songs/{song_id}/balance/found" hx-trigger="load delay:1s" hx-target="#found">on the way</p>'
    page.evaluate(
        "html => { const f = document.getElementById('found'); f.innerHTML = html; htmx.process(f); }",
        f'<input aria-label="why">{poll}',
    )
    page.get_by_label("why", exact=True).fill("as it should")
    while not answers:
        page.wait_for_timeout(100)
    page.wait_for_timeout(100)
    assert page.get_by_label("why", exact=True).input_value() == "as it should"
    page.get_by_label("why", exact=True).blur()
    page.wait_for_selector("#found >> text=all heard")


def test_layers_bands_and_sides_are_heard_by_keys_and_clicks(balance):
    page, studio, song_id = balance
    page.locator(".share-row").first.click()
    page.wait_for_selector(".share-row.chosen")
    name = page.locator(".share-row.chosen span").first.inner_text()
    page.keyboard.press("ArrowDown")
    page.wait_for_function("n => document.querySelector('.share-row.chosen span').textContent !== n", arg=name)
    page.locator("[data-without]").click()
    page.wait_for_function(
        "() => window.escalera.player.playing && window.escalera.player.listening.startsWith('off=')"
    )
    page.locator("[data-band='0']").click()
    page.locator("[data-dim]").click()
    page.wait_for_function("() => window.escalera.player.shaped")
    pressed = page.locator("#side [aria-pressed=true]").all_inner_texts()
    assert {"sub", "Dim", "Without it"} <= set(pressed)
    page.keyboard.press("Escape")
    page.wait_for_function("() => !document.querySelector('.share-row.chosen')")
    page.keyboard.press("ArrowLeft")
    page.wait_for_function(f"() => document.querySelector('#state [name=select]').value === 'section:{V}:0:0:0'")
    for tab, there in (("places", ".spot"), ("rooms", ".figures"), ("levels", ".loud-path")):
        page.locator(f"[data-shown={tab}]").click()
        page.wait_for_selector(there)
        assert not trouble_of(page, "#balance-main")
    page.locator("#dose-form [name=level]").fill("94")
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.getElementById('dose-said').textContent.includes('An estimate')")
    page.locator("#dose-form [name=level]").fill("loud")
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.getElementById('dose-said').textContent.includes('as a number')")
    page.keyboard.press("Escape")


def test_two_passages_change_over_on_the_beat_and_blind(balance):
    page, studio, song_id = balance
    page.locator("#against").select_option(f"section:{V}")
    page.wait_for_selector(".beside-edge", state="attached")
    page.locator("[data-shown=compare]").click()
    page.wait_for_selector("#beside-table")
    rows = page.locator("#beside-table tbody tr").count()
    assert rows >= 15 and not trouble_of(page, "#balance-main")
    page.keyboard.press("1")
    page.wait_for_function(
        "() => document.querySelector('[data-hear-beside=\"0\"]').getAttribute('aria-pressed') === 'true'"
    )
    page.keyboard.press("2")
    page.wait_for_function(
        "() => document.querySelector('[data-hear-beside=\"1\"]').getAttribute('aria-pressed') === 'true'"
    )
    page.locator("[data-blind]").click()
    assert page.locator("[data-hear-beside='0']").inner_text() == "1" and page.locator("#beside-table").is_hidden()
    page.keyboard.press("1")
    page.wait_for_function("() => document.getElementById('beside-said').textContent.includes('Which one')")
    page.locator("[data-blind]").click()
    page.wait_for_function("() => document.getElementById('beside-said').textContent.includes('The first one was')")
    said = page.locator("#beside-said").inner_text()
    assert "Chorus" in said or "Verse" in said
    page.locator("[data-beside-stop]").click()
    assert len(timeline(studio.head(song_id).song).spans) == 2


def test_a_rough_mix_is_heard_and_some_of_it_made(balance):
    page, studio, song_id = balance
    before = studio.head(song_id).song
    page.locator("[data-shown=rough]").click()
    page.wait_for_selector("#rough tbody tr")
    boxes = page.locator("#rough [name=step]")
    page.locator("#rough [data-tick-all]").click()
    assert page.locator("#rough [name=step]:checked").count() == 0
    page.locator("#rough [type=submit]").click()
    page.wait_for_selector("#notice.show")
    wanted = page.locator(f"#rough [value='level_db:{B}']")
    wanted.check()
    page.locator("[data-hear-steps]").first.click()
    page.wait_for_function("() => window.escalera.player.listening.includes('rough_mix')")
    assert boxes.count() >= 2 and studio.head(song_id).song == before
    page.locator("#rough [type=submit]").click()
    until(lambda: studio.head(song_id).song != before)
    after = studio.head(song_id).song
    assert after.layer_by_id[B].level_db < before.layer_by_id[B].level_db
    assert [x for x in after.layers if x.id != B] == [x for x in before.layers if x.id != B]


def test_a_silent_section_and_odd_requests_are_answered(client, studio):
    song = EDITS["add_section"]("Rest", "", 4).apply(EDITS["add_section"]("Nothing", "", 8).apply(SONG))
    song_id = studio.add_song(song, "made")
    rest = song.sections[-1].id
    text = client.get(f"/songs/{song_id}/balance/show?select=section:{rest}:0:0:0").get_data(as_text=True)
    assert "is silent" in text
    text = client.get(
        f"/songs/{song_id}/balance/show?select=section:{C}:0:0:0&against=study:99:0&shown=compare&pair=x:y&layer=zz"
    ).get_data(as_text=True)
    assert "Choose another" in text or "not there" in text or "not kept any more" in text
    for bad in (
        "tried?section_id=1&masked=1&by=2&remedy=x",
        "tried",
        "dose?level=900&minutes=1",
        "rides?layer=99",
        "share?section=9&layer=x",
        f"share?section={C}&layer={song.layers[-1].id}",
    ):
        assert client.get(f"/songs/{song_id}/balance/{bad}").status_code == 200
    assert client.get(f"/songs/{song_id}/balance/beside/0.wav?one=section:{C}&other=nothing").status_code == 400
