"""Whole songs from the page: a loop found by words and heard, a song laid out by one key, three ways compared, stand-ins exchanged."""

import re

import pytest

from escalera.services.new_song import new_song
from tests.songs import small_song
from tests.web.driving import shown, trouble_of, until

pytestmark = pytest.mark.browser
HELD = re.compile("/measured|/dynamics/")


def test_a_whole_song_stands_after_one_key_and_is_laid_out_anew_by_keys(page, server):
    studio = server[1]
    page.goto("/")
    page.keyboard.press("5")
    page.wait_for_selector("#stair")
    song_id = int(page.url.split("/songs/")[1].split("?")[0])
    names = page.locator(".step-name").all_text_contents()
    assert names[0] == "Intro" and names[-1] == "Outro" and page.locator(".tile.full").count() > 100
    before = studio.head(song_id).song
    page.keyboard.press("q")
    page.wait_for_selector(".layout-way [data-layout-hear] >> nth=2")
    assert not trouble_of(page)
    assert page.locator(".layout-figures dd").all_text_contents()[0].split() == ["8", "of", "8"]
    page.keyboard.press("2")
    page.locator(".layout-way.chosen .layout-why summary").last.click()
    assert page.locator(".layout-way.chosen .layout-why[open] li").count() >= 8
    page.keyboard.press("3")
    with page.expect_response("**/layout/chords/*.wav*") as sound:
        page.keyboard.press("Space")
    assert sound.value.ok and sound.value.body()[:4] == b"RIFF"
    assert studio.head(song_id).song == before
    page.keyboard.press("Enter")
    until(lambda: studio.head(song_id).song != before)
    assert "chords carry the verses" in studio.history(song_id)[0].summary.lower()
    page.wait_for_function("() => !document.querySelector('#arranging').open")


def test_what_stays_is_ticked_and_one_section_is_laid_out(page, server):
    studio = server[1]
    song_id = studio.add_song(new_song(form="short"), "New")
    song = studio.head(song_id).song
    verse, bass = song.sections[1], next(x for x in song.layers if x.family == "low end")
    page.goto(f"/songs/{song_id}?select=section:{verse.id}")
    page.click(f"[data-layout='{verse.id}']")
    page.wait_for_selector(".layout-way [data-layout-hear] >> nth=2")
    page.click("#layout-wishes summary")
    page.check(f"[name='pin.{bass.id}']")
    page.wait_for_selector(f"#layout-drums [data-do*='pin.{bass.id}']")
    page.locator("#layout-drums [data-do]").click()
    until(lambda: studio.head(song_id).song != song)
    after = studio.head(song_id).song
    assert [s.placements for s in after.sections if s.id != verse.id] == [
        s.placements for s in song.sections if s.id != verse.id
    ]


def test_a_stand_in_is_exchanged_by_a_key_and_kept(page, server):
    studio = server[1]
    song_id = studio.add_song(new_song(form="short"), "New")
    layer = next(x for x in studio.head(song_id).song.layers if x.family == "chords")
    page.goto(f"/songs/{song_id}?select=layer:0:{layer.id}")
    page.wait_for_selector("[data-exchange]")
    page.keyboard.press("x")
    until(lambda: studio.head(song_id).song.layer_by_id[layer.id].sound_key != layer.sound_key)
    shown(page, studio, song_id)
    page.click(".stand-in button:text('Keep it')")
    until(lambda: not studio.head(song_id).song.layer_by_id[layer.id].stand_in)
    page.wait_for_selector(".stand-in", state="detached")


def test_a_loop_is_found_by_words_heard_and_taken(page, server):
    studio = server[1]
    page.goto("/new")
    assert page.locator(".loop").count() >= 20 and not trouble_of(page)
    page.fill("#loop-words", "waltz")
    page.wait_for_function("() => document.querySelectorAll('.loop').length === 1")
    with page.expect_response("**/new/loops/slow-waltz.wav") as sound:
        page.click("[data-hear-loop]")
    assert sound.value.ok
    page.check("[name=start][value=slow-waltz]")
    page.select_option("#form", "short")
    page.fill("#title", "Round and round")
    page.click("button:text('Create the song')")
    page.wait_for_selector("#stair")
    song = studio.head(int(page.url.split("/songs/")[1])).song
    assert str(song.metre) == "3/4" and len(song.sections) == 6 and all(s.placements for s in song.sections)
    page.goto("/new")
    page.fill("#metre", "4/4")
    page.check("[name=start][value=slow-waltz]")
    page.click("button:text('Create the song')")
    page.wait_for_selector(".field-error >> text=Slow waltz is in 3/4")


def test_options_of_neighbours_are_heard_and_taken_in_pairs(page, server):
    studio = server[1]
    song_id = studio.add_song(small_song(), "Small")
    verse, chorus = studio.head(song_id).song.sections
    for section, text in ((verse, "no bass"), (chorus, "no kick\nonly pad")):
        head = studio.head(song_id)
        fields = {"kind": "add_options", "section_id": str(section.id), "text": text}
        studio.command(song_id, head.revision_id, fields)
    page.goto(f"/songs/{song_id}?select=section:{chorus.id}")
    page.keyboard.press("o")
    page.wait_for_selector(".pairs table")
    assert page.locator(".pairs td").count() == 2 * 3
    with page.expect_response("**/options/**") as sound:
        page.locator(".pairs [data-hear-idea]").nth(4).click()
    assert sound.value.ok
    page.locator(".pairs tbody tr").nth(1).locator("td").nth(2).get_by_role("button", name="take").click()
    until(lambda: studio.head(song_id).song.section_by_id[chorus.id].body_name == "only pad")
    assert studio.head(song_id).song.section_by_id[verse.id].body_name == "no bass"


def test_an_effect_works_in_one_section_and_says_what_it_does(page, server):
    studio = server[1]
    song_id = studio.add_song(small_song(), "Small")
    song = studio.head(song_id).song
    verse, kick = song.sections[0], next(x for x in song.layers if x.sound.is_kick)
    page.goto(f"/songs/{song_id}?select=tile:{verse.id}:{kick.id}:0")
    page.goto(f"/songs/{song_id}?select=layer:{verse.id}:{kick.id}")
    page.click("[data-tab='chain']")
    page.select_option("[data-edit='add_effect'] [name=effect]", "compressor")
    page.select_option("[data-edit='add_effect'] [name=section_id]", str(verse.id))
    held, let = [], []
    page.route(HELD, lambda route: route.continue_() if let else held.append(route))
    page.click("[data-edit='add_effect'] button[type=submit]")
    until(lambda: studio.head(song_id).song.section_by_id[verse.id].treatments)
    assert not studio.head(song_id).song.layer_by_id[kick.id].devices[0].on
    shown(page, studio, song_id)  # what is asked for before goes with the panel that it was asked for in
    with page.expect_request("**/dynamics/**"):
        page.click("[hx-get*='/dynamics/']")
    let.append(True)
    *measuring, dynamics = held
    for route in measuring:
        route.continue_()
    page.wait_for_selector("#pending", state="detached")  # the panel is drawn again with what was measured
    dynamics.continue_()
    page.wait_for_selector(".dynamics >> text=crest")


def test_layers_become_one_part_with_a_row_that_opens_and_is_filled_at_once(page, server):
    studio = server[1]
    song_id = studio.add_song(new_song(form="short"), "New")
    song = studio.head(song_id).song
    chords = [x for x in song.layers if x.family == "chords"]
    page.goto(f"/songs/{song_id}?select=layer:0:{chords[0].id}")
    page.click(".group-panel summary")
    page.fill(".group-panel [name=name]", "All the keys")
    page.click(".group-panel button[type=submit]")
    page.wait_for_selector(".group-row >> text=All the keys")
    grouped = [x for x in studio.head(song_id).song.layers if x.group == "All the keys"]
    assert len(grouped) == len(chords) and not trouble_of(page)
    page.locator(".group-tiles .tile.empty, .group-tiles .tile.partial").first.click()
    until(lambda: studio.head(song_id).song.sections != song.sections)
    shown(page, studio, song_id)
    page.click(".group-panel button:text('1 dB softer')")
    until(lambda: studio.head(song_id).song.layer_by_id[chords[1].id].level_db == pytest.approx(chords[1].level_db - 1))
    shown(page, studio, song_id)
    page.click("[data-group]")
    assert page.locator(".in-group:visible").count() == 0
    page.reload()
    page.wait_for_selector(".group-row")
    assert page.locator(".in-group:visible").count() == 0
    page.click("[data-group]")
    assert page.locator(".in-group:visible").count() == len(chords)


def test_what_is_exchanged_while_it_is_pressed_is_pressed(page, server):
    page.goto("/songs/1")
    box = page.locator("a:text('Export')").bounding_box()
    for name, lands in (("Export", True), ("Import", False)):
        page.goto("/songs/1")
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.evaluate(
            "name => { for (const a of document.querySelectorAll('a')) if (a.textContent.trim() === 'Export')"
            " a.outerHTML = a.outerHTML.replace('Export', name); }",
            name,
        )
        page.mouse.up()
        if lands:
            page.wait_for_url("**/handover**")
        else:
            page.wait_for_timeout(300)
            assert page.url.endswith("/songs/1"), "another thing under the pointer is not what was pressed"


def test_a_key_pressed_before_the_scripts_stand_is_not_lost(page, server):
    song_id = server[1].add_song(small_song(), "New")
    waiting = []
    page.route("**/stair.js", lambda route: waiting.append(route))
    with page.expect_request("**/stair.js"):
        page.goto(f"/songs/{song_id}", wait_until="commit")
    page.wait_for_selector("#stair")
    page.keyboard.press("q")
    assert not page.locator("#arranging[open]").count()
    waiting[0].continue_()
    page.wait_for_selector("#arranging[open]")
