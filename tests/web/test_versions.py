"""Versions and history: states kept by name, compared, heard in both, chosen blind with the verdict in the history."""

import pytest

from escalera.core.checks import judged
from escalera.core.edits import EDITS
from escalera.core.moves.differences import section_changes, song_changes
from tests.songs import ids, small_song
from tests.web.driving import said, tree, trouble_of, until

SONG = small_song()
V, C, P, K = (ids(SONG)[name] for name in ("Verse", "Chorus", "Soft pad", "Round kick"))


def do(song, *steps):
    for kind, *fields in steps:
        song = EDITS[kind](*fields).apply(song)
    return song


@pytest.mark.parametrize(("steps", "whole", "parts"), [
    ([], [], []),
    ([("set_tempo", 128)], ["tempo: 120 bpm → 128 bpm"], []),
    ([("set_control", K, "level_db", -14.0)], ["Round kick: level −9 dB → −14 dB"], []),
    ([("resize_section", V, 12)], ["length: 16 bars → 20 bars"], ["Verse: length 8 bars → 12 bars"]),
    ([("remove_section", C)], ["length: 16 bars → 8 bars"], ["Chorus: gone"]),
    ([("lift", V, K, None, None, None)], [], ["Verse: out: Round kick"]),
    ([("rename_section", V, "Opening")], [], ["Opening: name Verse → Opening"]),
    ([("set_target", V, 2.0, 3.0)], [], ["Verse: target energy"]),
    ([("remove_layer", P)], ["layer Soft pad gone"], ["out: Soft pad"]),
])  # fmt: skip
def test_what_differs_is_said_and_nothing_else(steps, whole, parts):
    after = do(SONG, *steps)
    told = [f"{c.name}: {'; '.join(c.what)}" for c in section_changes(SONG, after)]
    assert [w for w in whole if w not in song_changes(SONG, after)] == [] and len(song_changes(SONG, after)) == len(
        whole
    )
    assert all(any(p in line for line in told) for p in parts) and bool(told) >= bool(parts)
    if not steps:
        assert told == []


@pytest.fixture
def song_id(studio):
    return studio.add_song(SONG, "New")


def first_and_now(studio, song_id):
    first = studio.head(song_id).revision_id
    studio.edit(song_id, first, EDITS["lift"](V, K))
    return first, studio.head(song_id).revision_id


def keep(client, song_id, revision, name, reason=""):
    return client.post(f"/songs/{song_id}/versions", data={"revision": revision, "name": name, "reason": reason})


def test_a_state_is_kept_by_name_found_again_and_brought_back(client, studio, song_id):
    first, now = first_and_now(studio, song_id)
    page = keep(client, song_id, first, "with the kick", "for the band")
    assert page.status_code == 200 and "with the kick" in said(page) and "for the band" in said(page)
    assert studio.head(song_id).revision_id == now, "naming a state is no edit"
    shown = said(client.get(f"/songs/{song_id}/compare?from={first}"))
    assert "with the kick" in shown and "out: Round kick" in shown
    client.post(
        f"/songs/{song_id}/states/{first}", data={"base": now, "select": "song"}, headers={"HX-Request": "true"}
    )
    assert studio.head(song_id).song.sections == SONG.sections
    assert "with the kick" in studio.history(song_id)[0].summary
    version = studio.versions.of(song_id)[0]
    assert "is deleted" in said(client.post(f"/songs/{song_id}/versions/{version.id}/forget"))
    assert studio.versions.of(song_id) == [] and studio.state(song_id, first) == SONG
    again = client.post(f"/songs/{song_id}/versions/{version.id}/forget", headers={"HX-Request": "true"})
    assert again.status_code == 404 and "deleted already" in said(again)


@pytest.mark.parametrize(("name", "reason", "says"), [
    ("With the Kick", "", "is kept already"), ("main", "", "is kept already"), (" ", "", "empty"), ("x" * 80, "", "at most 60"), ("new", "y" * 10_000, "at most 300"),
])  # fmt: skip
def test_a_wrong_name_or_reason_is_said_beside_the_list(client, studio, song_id, name, reason, says):
    first, _ = first_and_now(studio, song_id)
    keep(client, song_id, first, "with the kick")
    answer = keep(client, song_id, first, name, reason)
    assert answer.status_code in (400, 422) and says in said(answer)
    assert [v.name for v in studio.versions.of(song_id)] == ["with the kick"]


def test_coming_back_one_sees_where_it_stands(client, studio, song_id):
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["set_brief"]({"length": "3:30"}))
    shown, found = said(client.get(f"/songs/{song_id}/history")), judged(studio.head(song_id).song).open
    assert f"{len(found)} findings are open" in shown and f"the weightiest: {found[0].said}" in shown
    assert "Last: Brief: length" in shown and "Brief: 3:30 is wanted, 0:32 is there" in shown


def test_a_blind_choice_does_not_tell_and_leaves_its_verdict(client, studio, song_id):
    first, now = first_and_now(studio, song_id)
    keep(client, song_id, first, "with the kick")
    seen = set()
    for _ in range(30):
        page = client.get(f"/songs/{song_id}/blind?from={first}&to={now}&section={V}")
        assert "with the kick" not in said(page)
        urls = tree(page).xpath("//@data-hear-url")
        assert [tree(page).xpath("//@data-state")[i] in url for i, url in enumerate(urls)] == [True, True]
        seen.add(urls[0])
    assert len(seen) == 2, "the order is drawn by lot"
    sounds = [client.get(url) for url in sorted(seen)]
    assert all(s.mimetype == "audio/wav" and s.data[:4] == b"RIFF" for s in sounds) and sounds[0].data != sounds[1].data
    form = {"base": now, "select": "song", "other": first, "section": V, "who": "Mo", "reason": "room for the voice"}
    client.post(f"/songs/{song_id}/states/{now}", data=form, headers={"HX-Request": "true"})
    assert (
        studio.history(song_id)[0].summary == "Chosen blind in Verse, by Mo: now over with the kick: room for the voice"
    )
    assert studio.head(song_id).song == studio.state(song_id, now)
    stale = client.post(f"/songs/{song_id}/states/{first}", data=form, headers={"HX-Request": "true"})
    assert stale.status_code == 409 and "changed in the meantime" in said(stale)
    assert studio.head(song_id).song == studio.state(song_id, now)


@pytest.mark.browser
def test_versions_are_kept_compared_and_chosen_in_the_history(page, server):
    studio = server[1]
    song_id = studio.add_song(SONG, "New")
    page.goto(f"/songs/{song_id}")
    page.keyboard.press("h")
    page.wait_for_selector("#history[open] [name=name]")
    page.fill("#history [name=name]", "with the kick")
    page.keyboard.press("Enter")
    page.wait_for_selector(".version-row >> text=with the kick")
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["lift"](V, K))
    page.reload()
    page.keyboard.press("h")
    page.click(".version-row [data-compare]")
    page.wait_for_selector("#history-side >> text=out: Round kick")
    assert not trouble_of(page)
    page.click("[data-blind]")
    page.wait_for_selector("#blind")
    page.fill("#blind [name=reason]", "it drives")
    with page.expect_response("**/hear/**") as answer:
        page.click("#blind [data-hear-url] >> nth=1")
    assert answer.value.ok
    page.click("#blind button:text('Choose the first')")
    until(lambda: studio.history(song_id)[0].summary.endswith("it drives"))
    page.wait_for_selector("#history:not([open])", state="attached")


def test_the_record_is_taken_away_with_reasons_verdicts_and_what_was_used(client, studio, song_id):
    steps = (
        ("set_brief", dict(lines={"length": "3:30"})),
        ("set_reason", dict(layer_id=P, reason="it carries the chords")),
        ("set_aside", dict(layer_id=K, reason="too heavy")),
        ("park_body", dict(section_id=C, name="barer", who="Ana")),
        ("set_length_reason", dict(section_id=V, reason="by feel")),
        ("hold_layer", dict(layer_id=P, sent_by="the cellist")),
        ("add_effect", dict(owner="master", effect="compressor")),
        ("set_control", dict(layer_id=P, control="send.echo", value=-12)),
    )
    for kind, fields in steps:
        studio.edit(song_id, studio.head(song_id).revision_id, EDITS[kind](**fields))
    studio.versions.keep(song_id, studio.head(song_id).revision_id, "first light", "it breathes")
    answer = client.post(f"/songs/{song_id}/record.md")
    text = answer.get_data(as_text=True)
    assert answer.mimetype == "text/markdown" and "small-record.md" in answer.headers["Content-Disposition"]
    for line in (
        "- length: 3:30",
        "- Not met: 3:30 is wanted",
        "- Soft pad: it carries the chords Sent by the cellist; it stays as it is.",
        "- Round kick: too heavy",
        "- Verse, 8 bars: by feel",
        "- Chorus: barer (by Ana), not decided",
        "- first light: it breathes",
        "- Soft pad: Soft pad, into the echo",
        "- The mix: Compressor",
        "## Open",
        "## Next",
    ):
        assert line in text, line
    assert text.index("Every step") < text.index("Option of Chorus saved: barer, by Ana") and "## Accepted" not in text


def test_what_was_sent_is_refused_to_be_changed_on_the_page(client, studio, song_id):
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["hold_layer"](P, "the cellist"))
    before = studio.head(song_id)
    assert "sent by the cellist, stays as it is" in said(client.get(f"/songs/{song_id}?select=layer:{C}:{P}"))
    fields = {"base": before.revision_id, "select": "", "kind": "set_sound", "layer_id": P, "sound": "wide-saws"}
    answer = client.post(f"/songs/{song_id}/edits", data=fields, headers={"HX-Request": "true"})
    assert answer.status_code in (400, 422) and "was sent by the cellist and is pinned" in said(answer)
    assert studio.head(song_id).revision_id == before.revision_id
    fields |= {"kind": "hold_layer", "sent_by": ""}
    assert client.post(f"/songs/{song_id}/edits", data=fields, headers={"HX-Request": "true"}).status_code == 200
    assert not studio.head(song_id).song.layer_by_id[P].sent_by
