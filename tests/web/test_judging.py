"""Judgement on the stair: findings with reasons and mends, what is meant, and a flawed song mended by previews alone."""

from pathlib import Path

import pytest

from escalera.core.checks import CHECKS, grouped, judged
from escalera.core.checks.fixes import mends
from escalera.core.edits import EDITS
from escalera.core.energy.explain import arranged_agreement
from escalera.core.energy.model import arranged
from escalera.core.moves import apply_move
from tests.songs import ids, small_song
from tests.web.driving import said, shown, tree, trouble_of, until
from tests.web.test_arranging import post

V, C = (ids(small_song())[name] for name in ("Verse", "Chorus"))
ODD = EDITS["resize_section"](V, 7).apply(small_song())
KEY = f"length:{V}:0"


@pytest.fixture
def song_id(studio):
    return studio.add_song(ODD, "Odd")


def test_a_finding_is_marked_on_the_stair_listed_and_explained(client, studio, song_id):
    found = judged(ODD).open
    marks = tree(client.get(f"/songs/{song_id}/checks/count"))
    assert f"{len(grouped(found))} findings" in marks.text_content()
    here = [f for f in found if f.place[:1] == (V,)]
    mark = marks.xpath(f"//button[@data-checks='{V}']")[0]
    assert mark.text == str(len(here)) and CHECKS["length"].title in mark.get("title")
    listed = tree(client.get(f"/songs/{song_id}/checks")).xpath("//@data-finding")
    assert listed == [f.key for group in grouped(found) for f in group] and KEY in listed
    own = tree(client.get(f"/songs/{song_id}/checks?section={V}")).xpath("//@data-finding")
    assert KEY in own and set(own) == {f.key for f in found if V in f.place}
    one = client.get(f"/songs/{song_id}/checks/finding", query_string={"key": KEY})
    assert CHECKS["length"].reason in said(one) and "Verse has 7 bars." in said(one)
    assert "1 bar more, on a held chord fixes it" in said(one)
    weak = client.get(f"/songs/{song_id}/checks/finding", query_string={"key": f"distance:{C}:0"})
    assert tree(weak).xpath("//button[@data-move]") and "lessens it" in said(weak)


def test_mends_settle_what_they_say_and_never_leave_the_song_worse(demos):
    flawed = next(s for s in demos if s.title == "Paper Engines")
    tried = ((f, mends(flawed, f)) for f in judged(flawed).open)
    finding, rows = next((f, found) for f, found in tried if found and found[0].settles)
    assert rows and rows[0].settles and len(rows) == len({m.move.key for m in rows})
    for mend in rows:
        after = judged(apply_move(flawed, mend.move)).open
        assert (finding.key not in {f.key for f in after}) == mend.settles
        assert mend.others == len(after) - len(judged(flawed).open) + mend.settles
        assert sum(f.weight for f in after) < sum(f.weight for f in judged(flawed).open)


def test_what_is_meant_is_kept_shown_and_taken_up_again(client, studio, song_id):
    post(client, studio, song_id, kind="accept_as_found", key=KEY, reason="cut short to move on")
    page = client.get(f"/songs/{song_id}/checks")
    assert "1 accepted" in said(page) and "cut short to move on" in said(page)
    assert KEY not in tree(page).xpath("//@data-finding")
    assert "cut short to move on" in studio.history(song_id)[0].summary
    post(client, studio, song_id, kind="reopen_finding", key=KEY)
    assert studio.head(song_id).song == ODD


@pytest.mark.parametrize(("fields", "says"), [
    (dict(kind="accept_as_found", key="length:999:0", reason="x"), "This finding has gone"),
    (dict(kind="accept_as_found", key=KEY, reason="x" * 10_000), "300"),
    (dict(kind="accept_as_found", key=KEY, reason="  "), "reason"),
    (dict(kind="reopen_finding", key=KEY), "was not accepted"),
])  # fmt: skip
def test_wrong_judgement_says_why_and_changes_nothing(client, studio, song_id, fields, says):
    answer = post(client, studio, song_id, **fields)
    assert answer.status_code in (400, 422) and says in said(answer) and studio.head(song_id).song == ODD


def test_a_finding_that_has_gone_is_said_plainly_when_asked_for(client, song_id):
    answer = client.get(f"/songs/{song_id}/checks/finding?key=nothing", headers={"HX-Request": "true"})
    assert answer.status_code in (400, 422) and "This finding has gone" in said(answer)


def test_the_table_of_checks_is_that_of_the_registry():
    text = Path("docs/checks.md").read_text()
    assert all(f"| {c.title} |" in text and c.reason in text for c in CHECKS.values()), (
        "renew docs/checks.md with tools/list_checks.py"
    )


@pytest.mark.browser
def test_the_flawed_song_is_mended_by_previews_alone(page, server, demos):
    studio = server[1]
    song_id = studio.add_song(next(s for s in demos if s.title == "Paper Engines"), "To mend")
    first = judged(studio.head(song_id).song).open
    page.goto(f"/songs/{song_id}")
    page.keyboard.press("k")
    page.wait_for_selector("#arranging[open] [data-finding]")
    assert not trouble_of(page)
    left_alone: set[str] = set()  # what no move settles is asked about once
    for _ in range(12):
        song, wanted = studio.head(song_id).song, None
        for finding in (f for f in judged(song).open if f.key not in left_alone):
            tried = mends(song, finding)
            if tried and tried[0].settles:
                wanted = finding
                break
            left_alone.add(finding.key)
        if wanted is None:
            break
        page.evaluate("document.querySelectorAll('.finding-more').forEach(d => (d.open = true))")
        page.locator(f"[data-finding='{wanted.key}']").first.click()
        page.click("#mend-preview button:text('Apply')")  # the best mend is looked at without being asked for
        until(lambda before=song: studio.head(song_id).song != before)
        shown(page, studio, song_id)
        left = len(grouped(judged(studio.head(song_id).song).open))
        page.wait_for_selector(f"#arranging-title >> text={left} open")
    song = studio.head(song_id).song
    found = arranged_agreement(arranged(song))
    assert found.joins_as_meant == found.joins == 7
    assert len(judged(song).open) <= len(first) // 3
    assert not {"distance", "join", "carried"} & {f.check for f in judged(song).open}


@pytest.mark.browser
def test_a_brief_is_written_refused_without_loss_and_answered(page, server):
    studio = server[1]
    song_id = studio.add_song(small_song(), "Briefed")
    page.goto(f"/songs/{song_id}?select=song")
    page.click("[data-brief]")
    page.fill("#brief-instruments", "felt piano")
    page.select_option("#brief-tempo_class", "slow")
    page.fill("#brief-due", "soon")
    page.keyboard.press("Enter")
    page.wait_for_selector("#brief .trouble >> text=is no day")
    assert page.input_value("#brief-instruments") == "felt piano" and not studio.head(song_id).song.brief
    page.fill("#brief-due", "")
    page.keyboard.press("Enter")
    page.wait_for_selector(".implied >> text=the song has 120")
    assert not trouble_of(page)
    page.click(".implied button:text('Set 80 bpm')")
    page.wait_for_selector(".implied >> text=the song has 80")
    assert studio.head(song_id).song.tempo_bpm == 80
    assert studio.head(song_id).song.brief == (("tempo_class", "slow"), ("instruments", "felt piano"))


@pytest.mark.browser
def test_what_is_refused_while_a_dialog_is_open_is_seen_above_it(page, server):
    studio = server[1]
    song_id = studio.add_song(ODD, "Two windows")
    page.goto(f"/songs/{song_id}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("k")
    page.wait_for_selector(f"[data-finding='{KEY}']")
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["resize_section"](V, 8))  # in another window
    page.click(f"[data-finding='{KEY}']")
    page.wait_for_selector("#notice:popover-open >> text=This finding has gone")
    assert page.locator("#move-preview").text_content().strip(), "its place keeps what it showed"
    page.keyboard.press("Escape")
    page.click("#notice button:text('Close')")
    page.wait_for_selector("#notice:popover-open", state="detached")
