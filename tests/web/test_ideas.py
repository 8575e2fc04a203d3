"""The list of ideas: kept from any page in a moment, heard, offered in the songs where it might fit, brought back in one step."""

import io

import numpy as np
import pytest
import soundfile

from escalera.core.checks import judged
from escalera.core.edits import EDITS
from tests.songs import ids, small_song
from tests.web.driving import said, shown, tree, trouble_of, until
from tests.web.test_arranging import post

SONG = small_song()
V, C, K, B, P = (ids(SONG)[name] for name in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))
BARE = EDITS["set_target"](V, 9, 9).apply(EDITS["lift"](V, B, 1, None, None).apply(SONG))


@pytest.fixture
def song_id(studio):
    return studio.add_song(BARE, "New")


def wav(seconds=2.0, level=0.3, rate=44100):
    target = io.BytesIO()
    soundfile.write(target, level * np.sin(np.arange(int(seconds * rate)) * 0.05), rate, format="WAV")
    return target.getvalue()


def sample(client, data, **fields):
    return client.post("/ideas/sample", data={"file": (io.BytesIO(data), "gulls.wav"), **fields})


def test_ideas_of_every_kind_are_kept_listed_heard_and_let_go(client, studio, song_id):
    assert "is saved" in said(
        client.post("/ideas", data={"text": "Verse: whisper it\nand clap", "source": "Small, Verse"})
    )
    client.post(f"/songs/{song_id}/ideas", data={"section_id": C})
    client.post(f"/songs/{song_id}/ideas", data={"section_id": C, "layer_id": P, "phrase": 1})
    assert "gulls" in said(sample(client, wav(), source="my own, at the quay"))
    kept = studio.ideas.all()
    assert [i.kind for i in kept] == ["sample", "pattern", "section", "text"] and kept[3].text == "and clap"
    page = client.get("/ideas")
    assert (
        all(i.name in said(page) for i in kept)
        and "from Small, Verse" in said(page)
        and "my own, at the quay" in said(page)
    )
    for idea in kept[:3]:
        audio, _ = soundfile.read(io.BytesIO(client.get(f"/ideas/{idea.id}.wav").data))
        assert np.abs(audio).max() > 0.01, idea.kind
    assert client.get(f"/ideas/{kept[3].id}.wav").status_code == 404
    assert studio.head(song_id).song == BARE, "keeping an idea leaves the song as it is"
    for idea in kept:
        assert "was deleted" in said(client.post(f"/ideas/{idea.id}/forget"))
    assert "No ideas yet" in said(client.get("/ideas"))


@pytest.mark.parametrize(("data", "fields", "says"), [
    (wav(), {}, "Say where the recording comes from"), (wav(level=0), {"source": "mine"}, "is silent"), (wav(130, rate=8000), {"source": "mine"}, "lasts longer than 2 minutes"),
    (b"no audio", {"source": "mine"}, "not audio that can be read"), (wav(), {"source": "x" * 999}, "at most 200 fit"),
])  # fmt: skip
def test_a_recording_that_cannot_be_kept_says_why(client, studio, data, fields, says):
    answer = sample(client, data, **fields)
    assert answer.status_code in (400, 422) and says in said(answer) and not studio.ideas.all()


@pytest.mark.parametrize(("path", "fields", "says"), [
    ("/ideas", {"text": "  "}, "is empty"), ("/ideas", {"text": "x" * 10_000}, "at most 4,000 fit"), ("/ideas/99/forget", {}, "deleted already"),
    ("/songs/1/ideas", {"section_id": V, "layer_id": P, "phrase": 0}, "is silent in this phrase"), ("/songs/1/ideas", {"section_id": 99}, "not in this song"),
])  # fmt: skip
def test_an_idea_that_cannot_be_kept_says_why(client, studio, song_id, path, fields, says):
    answer = client.post(path, data=fields, headers={"HX-Request": "true"})
    assert answer.status_code in (400, 404, 422) and says in said(answer) and not studio.ideas.all()


def test_an_idea_is_offered_placed_in_one_step_and_marked(client, studio, song_id):
    client.post(f"/songs/{song_id}/ideas", data={"section_id": C, "layer_id": B, "phrase": 0})
    idea = studio.ideas.all()[0]
    offered = client.get(f"/songs/{song_id}/ideas?section={V}")
    assert idea.name in said(offered) and "Plucked bass is silent here in 1 of 2 phrases" in said(offered)
    assert "An idea that might fit" in said(client.get(f"/songs/{song_id}/ideas/offer?section={V}"))
    assert not client.get(f"/songs/{song_id}/ideas/offer?section=99").data.strip()
    finding = client.get(f"/songs/{song_id}/checks/finding", query_string={"key": f"second half:{C}:0"})
    assert "In the list of ideas" not in said(finding), "Chorus has what it would bring"
    post(client, studio, song_id, kind="place_idea", idea_id=idea.id, section_id=V, place="layer")
    assert len([p for p in studio.head(song_id).song.section_by_id[V].placements if p.layer_id == B]) == 1
    assert studio.ideas.all()[0].placed == "Small, Verse" and studio.history(song_id)[0].summary.startswith("Idea")
    assert idea.name not in said(client.get(f"/songs/{song_id}/ideas")), "what found its place is not offered"
    client.post(f"/ideas/{idea.id}/again")
    assert not studio.ideas.all()[0].placed
    studio.undo(song_id)
    assert studio.head(song_id).song == BARE
    client.post("/ideas", data={"text": "Verse: whisper it"})
    words = studio.ideas.all()[0].id
    refused = post(client, studio, song_id, kind="place_idea", idea_id=words, section_id=V, place="layer")
    assert "is brought in by hand" in said(refused)
    client.post(f"/songs/{song_id}/ideas/{words}/done", data={"section_id": V})
    assert studio.ideas.idea(words) and [i.placed for i in studio.ideas.all() if i.id == words] == ["Small, Verse"]


def test_a_finding_that_something_new_would_answer_names_what_is_parked(client, studio, demos):
    harbour, engines = demos
    verse, bell = (
        next(x.id for x in rows if x.name == name)
        for rows, name in ((harbour.sections, "Verse 2"), (harbour.layers, "Glass bell"))
    )
    home, other = studio.add_song(harbour, "Home"), studio.add_song(engines, "Other")
    client.post(f"/songs/{home}/ideas", data={"section_id": verse, "layer_id": bell, "phrase": 1})
    late = next(f for f in judged(engines).open if f.check == "late chorus")
    answer = client.get(f"/songs/{other}/checks/finding", query_string={"key": late.key})
    assert "Among the ideas: Rising answer on Glass bell might answer it" in said(answer)
    far = next(f for f in judged(engines).open if f.check == "distance")
    assert "In the list of ideas" not in said(
        client.get(f"/songs/{other}/checks/finding", query_string={"key": far.key})
    )


def test_ideas_outlive_a_restart_and_their_song(studio, tmp_path, client, song_id):
    client.post(f"/songs/{song_id}/ideas", data={"section_id": C})
    studio.set_deleted(song_id, True)
    studio.erase(song_id)
    studio.close()
    from escalera.services.studio import Studio

    again = Studio(tmp_path, max_pages=0, cache_mb=50)
    idea = again.ideas.idea(again.ideas.all()[0].id)
    assert idea.song and idea.song.sections[0].name == "Chorus"
    again.close()


def test_coming_back_tells_what_is_undecided_what_waits_and_what_is_next(client, studio, song_id):
    client.post("/ideas", data={"text": "Verse: whisper it"})
    post(client, studio, song_id, kind="add_options", section_id=C, text="no kick; only pad")
    page = client.get(f"/songs/{song_id}/history")
    text = said(page)
    assert "Chorus : 2 options not decided" in text and "Unused ideas: 1 , 1 might fit here : Verse: whisper it" in text
    links = tree(page).xpath("//ol[contains(@class, 'next-steps')]//a/@href")
    assert links[0].endswith("open=checks") and any(link.endswith(f"select=section:{C}&open=options") for link in links)


@pytest.mark.browser
def test_a_thought_is_parked_by_a_key_and_found_again_in_its_place(page, server):
    studio = server[1]
    song_id = studio.add_song(BARE, "Thinking")
    page.goto(f"/songs/{song_id}?select=section:{V}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("y")
    page.keyboard.press("Enter")
    page.wait_for_selector("#jot .trouble >> text=is empty")
    page.keyboard.type("Verse: whisper it")
    page.keyboard.press("Enter")
    page.wait_for_selector("#jot", state="hidden")
    until(lambda: [i.source for i in studio.ideas.all() if i.name == "Verse: whisper it"] == ["Small, Verse"])
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.click("button:text('Save as idea')")
    page.wait_for_selector("#notice >> text=is saved as it is now")
    page.goto(f"/songs/{song_id}?select=section:{V}")
    page.click(f"[data-ideas='{V}']")
    page.wait_for_selector("#arranging[open] .idea-list >> text=Verse: whisper it")
    assert not trouble_of(page)
    page.click("button:text('Mark as used')")
    page.wait_for_selector("#arranging[open] .idea-list >> text=Verse: whisper it", state="detached")
    assert [i.placed for i in studio.ideas.all() if i.name == "Verse: whisper it"] == ["Small, Verse"]
    page.keyboard.press("Escape")
    page.keyboard.press("h")
    page.click(".next-steps a >> nth=0")
    page.wait_for_selector("#arranging[open] #arranging-title")
    shown(page, studio, song_id)


def test_a_file_that_is_too_large_leaves_the_list_where_it_is(client, studio):
    client.application.config["MAX_CONTENT_LENGTH"] = 1000
    answer = client.post(
        "/ideas/sample", data={"file": (io.BytesIO(wav()), "a.wav"), "source": "mine"}, headers={"HX-Request": "true"}
    )
    assert answer.status_code == 413 and "larger than" in said(answer) and answer.headers["HX-Reswap"] == "none"


@pytest.mark.browser
def test_any_two_states_are_compared(page, server):
    studio = server[1]
    song_id = studio.add_song(SONG, "States")
    first = studio.head(song_id).revision_id
    second = studio.edit(song_id, first, EDITS["set_tempo"](100)).head.revision_id
    studio.edit(song_id, second, EDITS["set_tempo"](90))
    page.goto(f"/songs/{song_id}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("h")
    page.click(f"[data-hold='{first}']")
    page.click(f"[data-compare='{second}']")
    page.wait_for_selector("#history-side >> text=tempo: 120 bpm → 100 bpm")
    assert page.locator(f"[data-hold='{first}']").get_attribute("aria-pressed") == "true" and not trouble_of(page)
    page.click(f"[data-hold='{first}']")
    page.click(f"[data-compare='{second}']")
    page.wait_for_selector("#history-side >> text=tempo: 100 bpm → 90 bpm")
