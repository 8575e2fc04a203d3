"""Pages of planning over HTTP: every odd input is a sentence, and nothing is lost; exports; prompts become songs."""

import io
from datetime import date, timedelta

import pytest

from tests.planned import SONG, made

TODAY = date.today()


def said(answer):
    return answer.get_data(as_text=True)


@pytest.fixture
def song_id(studio):
    return studio.add_song(made(SONG, ("take_down_feedback", dict(text="0:18 pad too loud"))), "Made")


# address, form, status, what is said
ODD = {
    "a stage that is none": ("/songs/1/plan", dict(kind="set_stage", stage="wrapped"), 422, "is not a stage"),
    "left without a reason": ("/songs/1/plan", dict(kind="set_stage", stage="left"), 422, "Say why it is left"),
    "a due date in the past": ("/songs/1/plan", dict(kind="set_due", what="Cover", on="2001-01-01"), 422, "2001-01-01 has passed"),
    "no day": ("/songs/1/plan", dict(kind="set_release", on="soon"), 422, "is no day"),
    "shares of nobody": ("/songs/1/plan", dict(kind="set_shares", text=""), 422, "Nobody is on the list"),
    "no step of a plan": ("/songs/1/plan", dict(kind="remove_section", section_id="1"), 422, "no step of the plan"),
    "a plan with nothing to undo": ("/songs/1/plan/undo", {}, 422, "nothing to undo"),
    "not on the board": ("/board/1", dict(kind="set_tempo", tempo_bpm="90"), 422, "cannot be done on the board"),
    "a stage of the board": ("/board/1", dict(kind="set_stage", stage="wrapped"), 422, "is not a stage"),
    "a step that is gone": ("/today/steps", dict(song="1", step="x", minutes="30"), 404, "not open any more"),
    "no minutes": ("/today/steps", dict(song="1", step="x", minutes="long"), 422, "Write a whole number"),
    "a step that never ran": ("/today/steps/9", dict(act="done"), 404, "not in the list any more"),
    "put off without a reason": ("/today/skips", dict(song="1", step="x", reason="", until="in a week"), 422, "Say why"),
    "not put off": ("/today/skips/9/back", {}, 404, "offered already"),
    "rest": ("/today/rest", dict(after="often"), 422, "no number of minutes"),
    "an empty prompt": ("/today/prompts", dict(name="x"), 422, "The prompt is empty"),
    "a prompt that is gone": ("/today/prompts/9/forget", {}, 404, "not kept any more"),
    "a template": ("/dates/template", dict(what="Cover", days="soon", stage=""), 422, "is not a number of days"),
    "a set without a name": ("/sets", dict(name=" ", kind="album"), 422, "name of the set is empty"),
    "a set of a kind that is none": ("/sets", dict(name="x", kind="box"), 422, "is not a kind of set"),
    "no file": ("/sets/read", {}, 400, "Choose a file first"),
    "nothing that can be done": ("/sets/1", dict(act="burn"), 422, "nothing that can be done"),
    "a place that is none": ("/sets/1", dict(act="move", entry="1", place="7"), 422, "no place 7"),
    "a gap that is none": ("/sets/1", dict(act="entry", entry="1", gap_s="nan"), 422, "lies outside 0 to 600"),
    "a song that is none": ("/sets/1", dict(act="add", song="99"), 404, "no song 99"),
    "an order of other songs": ("/sets/1", dict(act="order", ids="7,8"), 422, "does not hold the songs"),
    "a set with nothing to redo": ("/sets/1/redo", {}, 422, "nothing to redo"),
}  # fmt: skip


@pytest.mark.parametrize("name", ODD)
def test_odd_input_is_a_sentence_and_nothing_is_lost(client, studio, song_id, name):
    from escalera.core.sets.song_set import with_song

    studio.sets.make("Evening")
    studio.sets.change(1, lambda s: with_song(s, song_id, "Small"))
    before = studio.head(song_id).song, studio.sets.get(1).document
    address, form, status, says = ODD[name]
    answer = client.post(address, data=form)
    assert (answer.status_code, says in said(answer)) == (status, True), said(answer)[:600]
    assert (studio.head(song_id).song, studio.sets.get(1).document) == before


def test_shares_and_names_that_do_not_fit_keep_what_was_typed(client, studio, song_id):
    path = f"/songs/{song_id}/plan"
    for name in ("Mira", "Joris"):
        assert client.post(path, data=dict(kind="add_person", name=name)).status_code == 200
    wrong = client.post(path, data=dict(kind="set_shares", text="Mira 60\nJoris 41"))
    assert "101 %" in said(wrong) and "Joris 41" in said(wrong)
    alike = client.post(path, data=dict(kind="add_person", name="Mirra", roles="<b>mix"))
    assert "looks like Mira" in said(alike) and 'value="Mirra"' in said(alike) and "another person" in said(alike)
    assert client.post(path, data=dict(kind="add_person", name="Mirra", sure="true")).status_code == 200
    assert [p.name for p in studio.head(song_id).song.people] == ["Mira", "Joris", "Mirra"]
    assert "taken back" in said(client.post(f"{path}/undo")) and len(studio.head(song_id).song.people) == 2


def test_a_plan_is_made_and_handed_out_as_a_calendar(client, studio, song_id):
    path, day = f"/songs/{song_id}/plan", TODAY + timedelta(days=20)
    shown = said(client.post(path, data=dict(kind="set_release", on=str(day))))
    assert "Recording done was due on" in shown and "earliest release that keeps every gap" in shown
    found = client.get(f"{path}.ics")
    assert found.mimetype == "text/calendar" and b"SUMMARY:Small: Release" in found.data
    assert b"Small: Release" in client.get("/dates.ics").data and "Small" in said(client.get("/dates"))
    assert "Overdue" in said(client.get("/today?mode=start"))
    client.post("/dates/template", data=dict(what=["Cover", "Out"], days=["9", "0"], stage=["", "released"]))
    client.post(path, data=dict(kind="set_release", on=str(day)))
    assert [d.what for d in studio.head(song_id).song.work.due] == ["Cover", "Out"]


def test_a_prompt_becomes_a_song_that_says_which_rules_it_keeps(client, studio):
    form = {"name": "Kitchen", "words": "drawers", "rule.no kick": "1", "rule.few layers": "1", "value.few layers": "4"}
    assert "Kitchen kept" in said(client.post("/today/prompts", data=form))
    answer = client.post("/today/prompts/song", data=dict(prompt="1"))
    song_id = int(answer.location.rsplit("/", 1)[1])
    assert dict(studio.head(song_id).song.prompt) == {"no kick": "", "few layers": "4"}
    told = said(client.get(f"/songs/{song_id}/checks/brief"))
    assert "At most 4 layers play" in told and "kept: 3 layers play" in told
    assert client.post("/today/prompts/song", data=dict(another="1")).status_code == 302
    assert said(client.get("/today/prompt?another=1")) != said(client.get("/today/prompt?another=2"))


def test_an_empty_shelf_and_a_board_that_finds_nothing_say_what_to_do(client, studio):
    for address, says in (
        ("/today", "No song is on the shelf yet"),
        ("/board", "No song is here yet"),
        ("/dates", "Nothing is due"),
        ("/sets", "No set yet"),
        ("/logbook/statistics", "no songs yet"),
    ):
        assert says in said(client.get(address))
    studio.add_song(SONG, "Made")
    assert "No song has these words" in said(client.get("/board?words=zebra")) and "Small" in said(
        client.get("/board?words=pad c")
    )
    assert "Nothing is archived" in said(client.get("/board?archived=1"))
    assert client.get("/board?sort=loudest").status_code == 200


def test_a_set_goes_out_and_comes_in_as_a_file(client, studio, song_id):
    client.post("/sets", data=dict(name="Evening", kind="live set"))
    assert "added" in said(client.post("/sets/1", data=dict(act="add", song=str(song_id), who="Mira")))
    data = client.get("/sets/1/set.json").data
    assert client.get("/sets/1/set.csv").data.startswith(b"place,title")
    answer = client.post(
        "/sets/read", data=dict(file=(io.BytesIO(data), "set.json")), content_type="multipart/form-data"
    )
    assert answer.location.endswith("/sets/2") and studio.sets.get(2).document == studio.sets.get(1).document
    assert "cannot be read" in said(client.post("/sets/read", data=dict(file=(io.BytesIO(b"{"), "x.json")), content_type="multipart/form-data"))  # fmt: skip
    assert client.get("/sets/1/joins/1.wav").status_code == 404 and client.get("/sets/7").status_code == 404
    client.post("/sets/1/away")
    assert client.get("/sets/1").status_code == 404 and "Bring back" in said(client.get("/sets"))
    assert client.post("/sets/1/back").status_code == 302 and client.get("/sets/1").status_code == 200
