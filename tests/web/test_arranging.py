"""Arranging on the stair: moves looked at and made, forms laid out from text, tiles in ranges; a loop becomes a song."""

import json
import re
from pathlib import Path

import pytest

from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.core.moves import KINDS, apply_move, find_move
from escalera.services.new_song import new_song
from tests.songs import ids, small_song
from tests.web.driving import said, shown, tree, trouble_of, until

NAME = ids(small_song())
V, C, P, K = (NAME[n] for n in ("Verse", "Chorus", "Soft pad", "Round kick"))


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def post(client, studio, song_id, **fields):
    base = studio.head(song_id).revision_id
    return client.post(
        f"/songs/{song_id}/edits",
        data={"base": base, "select": f"section:{V}:0:0:0", **fields},
        headers={"HX-Request": "true"},
    )


# fragments --------------------------------------------------------------------------------------------------------


def test_moves_are_listed_previewed_and_made_as_one_step(client, studio, song_id):
    page = tree(client.get(f"/songs/{song_id}/moves?section={V}"))
    keys = page.xpath("//*[@class='move-kind']//button/@data-move")
    assert f"bring in:{P}" in keys and len({k.partition(":")[0] for k in keys}) == len(keys) <= len(KINDS)
    shown = said(client.get(f"/songs/{song_id}/moves/preview?section={V}&move=bring in:{P}"))
    song = studio.head(song_id).song
    gain = arranged(apply_move(song, find_move(song, V, f"bring in:{P}"))).of(V).value - arranged(song).of(V).value
    assert f"+{gain:.1f}" in shown and "in: Soft pad" in shown
    pair = f"bring in:{P}|raise:2"
    post(client, studio, song_id, kind="move", section_id=V, move=pair)
    after = studio.head(song_id).song
    assert after.section_by_id[V].shift_semitones == 2 and P in {p.layer_id for p in after.section_by_id[V].placements}
    client.post(f"/songs/{song_id}/undo", headers={"HX-Request": "true"})
    assert studio.head(song_id).song == song


@pytest.mark.parametrize(("fields", "says"), [
    (dict(kind="move", section_id=C, move=f"bring in:{P}"), "“Bring in a layer” does not apply to Chorus"), (dict(kind="move", section_id=V, move="fly"), "does not apply to Verse"),
    (dict(kind="lay_out", text="intro 8, verse"), "Part 2, “verse”, needs a name and a number of bars"), (dict(kind="lay_out", text="intro 0"), "Part 1, “intro 0”, has no bars"),
    (dict(kind="lay_out", text="verse 900, chorus 900"), "1800 bars"), (dict(kind="rename_section", section_id=V, name="Chorus"), "Another section is called “Chorus”"),
    (dict(kind="set_tiles", cells="x"), "cannot be read"), (dict(kind="stretch_section", section_id=V, by_bars="-8"), "at most 7 can be cut"),
])  # fmt: skip
def test_what_does_not_apply_says_why_and_changes_nothing(client, studio, song_id, fields, says):
    before = studio.head(song_id).song
    answer = post(client, studio, song_id, **fields)
    assert answer.status_code in (400, 422) and says in said(answer) and studio.head(song_id).song == before


def test_a_form_is_seen_before_it_is_laid_out_and_compared(client, studio, song_id):
    before = studio.head(song_id).song
    shown = said(
        client.get(
            f"/songs/{song_id}/form/preview",
            query_string={"text": "intro 4, verse 8, pre 4, chorus 8 x2", "fill": "by target"},
        )
    )
    assert (
        "32 bars" in shown
        and "now 16 bars" in shown
        and "gone: Chorus" in shown
        and "Pre-chorus 4 13–16" in shown
        and "was" not in shown
    )
    assert "Part 3" in said(
        client.get(f"/songs/{song_id}/form/preview", query_string={"text": "intro 4, verse 8, pre"})
    )
    compared = said(client.get(f"/songs/{song_id}/form/compare", query_string={"text": "strophic"}))
    assert "this song" in compared and "Strophes" in compared and "in all 16" in compared
    assert studio.head(song_id).song == before
    post(client, studio, song_id, kind="lay_out", text="intro 4, verse 8, chorus 8", fill="by target")
    song = studio.head(song_id).song
    assert [(s.name, s.bars) for s in song.sections] == [("Intro", 4), ("Verse", 8), ("Chorus", 8)]
    assert song.sections[1] == before.section_by_id[V] and song.sections[2] == before.section_by_id[C], (
        "what stays, stays"
    )
    assert {song.layer_by_id[p.layer_id].family for p in song.sections[0].placements} <= {
        "chords",
        "atmosphere",
        "leads",
    }


def test_a_stretched_section_and_a_slip_show_where_they_stand(client, studio, song_id):
    answer = post(client, studio, song_id, kind="stretch_section", section_id=V, by_bars="2", reason="held for tension")
    assert "10 bars (+2)" in said(answer) and "+2 bars on purpose: held for tension" in said(answer)
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["lift"](V, K, None, 5 * 3840 - 960, 10 * 3840))
    page = said(client.get(f"/songs/{song_id}/inspector?select=section:{V}"))
    assert "Round kick ends 1 beat early, beside the end of bar 5" in page
    assert "beat early" not in said(post(client, studio, song_id, kind="mend_slips", section_id=V))


def test_the_word_drop_is_asked_about_once(client, studio):
    song_id = studio.add_song(EDITS["rename_section"](C, "Big drop").apply(small_song()), "Drop")
    assert "Which drop is meant?" in said(client.get(f"/songs/{song_id}/inspector?select=section:{C}"))
    post(client, studio, song_id, kind="say_drop", means="out")
    song = studio.head(song_id).song
    assert song.section_by_id[C].role == "breakdown" and "Which drop" not in said(
        client.get(f"/songs/{song_id}/inspector?select=section:{C}")
    )


def test_the_table_of_moves_is_that_of_the_registry():
    text = Path("docs/moves.md").read_text()
    assert all(f"| {k.label} | {k.touches} | {k.said} |" in text for k in KINDS.values()), (
        "renew docs/moves.md with tools/list_moves.py"
    )
    assert len(re.findall(r"^\| ", text, re.M)) == len(KINDS) + 1


# in the browser ---------------------------------------------------------------------------------------------------


@pytest.mark.browser
def test_a_loop_becomes_an_arrangement_of_six_sections_through_the_interface_alone(page, server):
    studio = server[1]
    song_id = studio.add_song(new_song("From a loop"), "New")
    loop = studio.head(song_id).song
    page.goto(f"/songs/{song_id}")
    page.keyboard.press("f")
    page.wait_for_selector("#arranging[open] #form-text")
    page.fill("#form-text", "intro 8, verse 16, chorus 8, break 8, chorus 16, outro 8")
    page.wait_for_selector(".form-sum >> text=64 bars")
    page.click("#form-edit button:text('Apply')")
    until(lambda: len(studio.head(song_id).song.sections) == 6)
    shown(page, studio, song_id)
    laid = studio.head(song_id).song
    values = {s.span.section.name: s.value for s in arranged(laid).sections}
    assert (
        laid.bars == 64
        and values["Chorus 1"] > values["Verse"] > values["Break"]
        and values["Intro"] < values["Chorus 2"]
    )
    page.locator("[aria-label='Target energy of Outro']").focus()
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Outro'")
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("m")
    page.wait_for_selector("#arranging[open] .move-kind")
    page.locator(".move-kind", has_text="Cut by half").locator("button").click()
    page.wait_for_selector("#move-preview >> text=60 bars instead of 64")
    page.click("#move-preview button:text('Apply')")
    until(lambda: studio.head(song_id).song.bars == 60)
    shown(page, studio, song_id)
    page.keyboard.press("Control+z")
    until(lambda: studio.head(song_id).song == laid)
    shown(page, studio, song_id)
    page.keyboard.press("Control+z")
    until(lambda: studio.head(song_id).song == loop)


@pytest.mark.browser
def test_tiles_are_marked_set_filled_and_copied_by_keys(page, server):
    studio = server[1]
    song_id = studio.add_song(small_song(), "Tiles")
    page.goto(f"/songs/{song_id}")

    def plays(section):
        song = studio.head(song_id).song
        return {song.layer_by_id[p.layer_id].name for p in song.section_by_id[section].placements}

    page.focus(f"#t{V}-{P}-0")
    page.keyboard.press("Shift+ArrowRight")
    assert page.locator(".tile.marked").count() == 2
    page.keyboard.press("Space")
    until(lambda: "Soft pad" in plays(V))
    shown(page, studio, song_id)
    page.keyboard.press("Control+z")
    until(lambda: "Soft pad" not in plays(V))
    shown(page, studio, song_id)
    page.focus(f"#t{V}-{P}-1")
    page.keyboard.press("f")
    until(lambda: "Soft pad" in plays(V))
    shown(page, studio, song_id)
    for name, key in (("Chorus", "Control+c"), ("Verse", "Control+v")):
        page.locator(f"[aria-label='Target energy of {name}']").focus()
        page.keyboard.press("Enter")
        page.wait_for_function("n => document.querySelector('#inspector h2').textContent === n", arg=name)
        page.keyboard.press(key)
    until(lambda: plays(V) == plays(C))
    assert json.loads(page.evaluate("() => JSON.stringify(document.querySelectorAll('.tile.marked').length)")) == 0


@pytest.mark.browser
def test_the_moves_and_the_form_are_legible(page, server):
    song_id = next(card.id for card in server[1].shelf() if card.title == "Paper Engines")
    page.goto(f"/songs/{song_id}")
    for key, selector in (("m", ".move-kind"), ("f", "#form-text")):
        page.keyboard.press(key)
        page.wait_for_selector(f"#arranging[open] {selector}")
        assert not trouble_of(page)
        page.keyboard.press("Escape")
        page.wait_for_function("() => !document.getElementById('arranging').open")
