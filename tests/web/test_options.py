"""Options at a join in the browser: said, saved while playing, heard one after the other without a gap, taken by a key."""

import io

import numpy as np
import pytest
import soundfile

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from tests.songs import ids, small_song
from tests.web.driving import said, shown, tree, trouble_of, until
from tests.web.test_arranging import post

SONG = small_song()
V, C, K, B, P = (ids(SONG)[name] for name in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


@pytest.fixture
def song_id(studio):
    return studio.add_song(SONG, "New")


def piece(client, studio, song_id, body, query="lead=2&bars=4"):
    answer = client.get(f"/songs/{song_id}/options/{studio.head(song_id).revision_id}/{C}/{body}.wav?{query}")
    return answer, soundfile.read(io.BytesIO(answer.data))[0] if answer.status_code == 200 else None


def test_options_are_said_read_and_kept_as_one_step(client, studio, song_id):
    text = "one no kick two half the tempo three only pad"
    read = client.get(f"/songs/{song_id}/options/read", query_string={"section": C, "text": text})
    assert "no kick is possible" in said(read) and tree(read).xpath("//@data-unread") == ["half the tempo"]
    post(client, studio, song_id, kind="add_options", section_id=C, text=text, who="Ana")
    page = client.get(f"/songs/{song_id}/options?section={C}")
    assert tree(page).xpath("//@data-name") == ["as it is", "no kick", "only pad"] and "out: Round kick" in said(page)
    assert "2 options" not in said(page) and "by Ana" in said(page)
    studio.undo(song_id)
    assert studio.head(song_id).song == SONG


def test_a_passage_is_the_join_to_the_sample_at_one_gain(client, studio, song_id):
    post(client, studio, song_id, kind="add_options", section_id=C, text="only pad; no kick")
    bodies = [0, *(p.id for p in studio.head(song_id).song.section_by_id[C].parked)]
    heard = [piece(client, studio, song_id, body) for body in bodies]
    bar = 2 * 44100
    for answer, audio in heard:
        assert len(audio) == 6 * bar and float(answer.headers["X-Lead-S"]) == pytest.approx(4.0)
    leads = [audio[200 : 2 * bar - 4000] for _, audio in heard]
    assert all(np.array_equal(leads[0], lead) for lead in leads), "what leads in is the same before every option"
    levels = [10 * np.log10(np.mean(audio[2 * bar :] ** 2)) for _, audio in heard]
    assert levels[0] - levels[1] > 2, "what is louder stays louder"
    lifts = [float(answer.headers["X-Lift-LU"]) for answer, _ in heard]
    assert lifts[0] > lifts[1] and lifts[0] == max(lifts)
    assert piece(client, studio, song_id, 999)[0].status_code in (400, 422)


@pytest.mark.parametrize(("fields", "says"), [
    (dict(kind="add_options", section_id=C, text="kazoo"), "is not understood"), (dict(kind="add_options", section_id=C, text=" "), "Nothing is written"),
    (dict(kind="add_options", section_id=C, text="no kick", who="x" * 99), "at most 80 fit"), (dict(kind="add_options", section_id=99, text="no kick"), "not in this song"),
    (dict(kind="exchange_body", section_id=C, body_id=3), "not there any more"),
])  # fmt: skip
def test_wrong_options_say_why_and_change_nothing(client, studio, song_id, fields, says):
    answer = post(client, studio, song_id, **fields)
    assert answer.status_code in (400, 422) and says in said(answer) and studio.head(song_id).song == SONG


@pytest.mark.browser
def test_people_in_a_room_hear_options_and_decide_in_one_key(page, server):
    studio = server[1]
    song_id = studio.add_song(SONG, "In a room")
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("s")  # kept as it is, before it is changed
    until(lambda: len(studio.head(song_id).song.section_by_id[C].parked) == 1)
    shown(page, studio, song_id)
    page.keyboard.press("o")
    page.wait_for_selector("#options .option-row:nth-child(2)")
    page.fill("#options-text", "no kick; wobble; only pad")
    page.wait_for_selector("[data-unread]")
    page.fill("form[data-options-again] input[name=who]", "Ana")
    page.click("button:text('Add options')")
    page.wait_for_selector("#options .option-row:nth-child(4)")
    assert page.input_value("#options-text") == "wobble", "what was not understood stays to be said otherwise"
    assert not trouble_of(page)
    page.select_option("#passage-lead", "1")
    page.select_option("#passage-bars", "4")
    page.check("#passage-blind")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("Space")
    page.wait_for_function("() => window.escalera.passage().length === 4")
    pieces = page.evaluate("window.escalera.passage().map(({ body, at, end }) => ({ body, at, end }))")
    assert all(abs(a["end"] - b["at"]) < 1e-6 for a, b in zip(pieces, pieces[1:])), "no gap between options"
    assert sorted(p["body"] for p in pieces) == sorted(
        ["0", *(str(p.id) for p in studio.head(song_id).song.section_by_id[C].parked)]
    )
    assert not page.locator(".option-row").first.is_visible(), "names are hidden while it is blind"
    bare = next(
        i for i, p in enumerate(pieces) if p["body"] == str(studio.head(song_id).song.section_by_id[C].parked[2].id)
    )
    page.fill("#verdict-who", "Ben")
    page.fill("#verdict-reason", "room for the voice")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("ABCD"[bare])
    until(lambda: {p.layer_id for p in studio.head(song_id).song.section_by_id[C].placements} == {P})
    section = studio.head(song_id).song.section_by_id[C]
    assert (
        studio.history(song_id)[0].summary == "Chorus: only pad over as it was, by Ben: heard blind, room for the voice"
    )
    assert len(section.parked) == 3 and all("room for the voice" in p.reason for p in section.parked)
    page.wait_for_selector("#options [data-name='only pad'] >> text=current")


def test_exchanging_is_one_edit_that_keeps_name_target_and_length_of_the_song_in_step(studio, song_id):
    short = EDITS["park_body"](C, "short").apply(
        EDITS["resize_section"](C, 4).apply(EDITS["set_target"](C, 7, 9).apply(SONG))
    )
    long = EDITS["resize_section"](C, 12).apply(short)
    taken = EDITS["exchange_body"](C, long.section_by_id[C].parked[0].id).apply(long)
    assert (taken.section_by_id[C].name, taken.section_by_id[C].target.end, taken.bars) == ("Chorus", 9, 12)
    assert timeline(taken).seconds == pytest.approx(24) and taken.section_by_id[C].parked[0].body.bars == 12


def test_a_layer_says_what_it_is_for_and_what_was_tried_stays_with_its_reason(client, studio, song_id):
    post(client, studio, song_id, kind="set_reason", layer_id=P, reason="it carries the chords")
    answer = post(client, studio, song_id, kind="set_aside", layer_id=B, reason="it hides the kick")
    assert [n.text_content().strip() for n in tree(answer).xpath("//div[@class='wall-name']/button[@data-select]")][
        2
    ] == "Plucked bass"
    page = client.get(f"/songs/{song_id}?select=layer:{C}:{B}")
    assert "Tried and set aside it hides the kick" in said(page) and not tree(page).xpath(
        "//form[@data-edit='set_aside']"
    )
    assert tree(page).xpath("//button[contains(@title, 'it carries the chords')]")
    layers = studio.head(song_id).song
    assert {p.layer_id for p in layers.section_by_id[C].placements} == {K, B, P} and layers.layer_by_id[B].muted
    post(client, studio, song_id, kind="set_muted", layer_id=B, muted="false")
    assert "Tried and set aside" not in said(client.get(f"/songs/{song_id}?select=layer:{C}:{B}"))


def test_an_odd_length_says_why_where_it_stands(client, studio):
    song_id = studio.add_song(EDITS["resize_section"](V, 7).apply(SONG), "Odd")
    page = client.get(f"/songs/{song_id}?select=section:{V}")
    assert tree(page).xpath("//form[@data-edit='set_length_reason']//label")[0].text == "7 bars, because"
    post(client, studio, song_id, kind="set_length_reason", section_id=V, reason="a bar less to move on")
    assert studio.head(song_id).song.section_by_id[V].length_reason == "a bar less to move on"
    post(client, studio, song_id, kind="set_length_reason", section_id=V, reason="")
    assert not studio.head(song_id).song.section_by_id[V].length_reason
    assert not tree(client.get(f"/songs/{song_id}?select=section:{C}")).xpath("//form[@data-edit='set_length_reason']")
