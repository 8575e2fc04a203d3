"""A morning by hand: open, choose, work with the timer, stop, come back; a song moved on the board; a set put in order."""

from datetime import date

import pytest

from escalera.core.edits.section_edits import ResizeSection
from escalera.core.sets.song_set import with_song
from escalera.formats.project import write_project
from tests.planned import SONG, made
from tests.web.driving import trouble_of, until

pytestmark = pytest.mark.browser
WORKED_ON = made(SONG, ("set_stage", dict(stage="recorded", on="2020-01-01")), ("take_down_feedback", dict(text="0:18 pad too loud")))  # fmt: skip


def test_a_morning_is_begun_worked_through_stopped_and_come_back_to(page, server):
    studio = server[1]
    song_id = studio.add_song(WORKED_ON, "Small")
    page.goto("/today")
    page.keyboard.press("f")
    page.wait_for_selector("[name=mode][value=finish]:checked")
    page.get_by_text("15", exact=True).click()
    page.wait_for_selector(".offer:has-text('Answer what was said')")
    assert not trouble_of(page)
    row = page.locator(".offer", has_text="Answer what was said")
    row.get_by_role("button", name="Begin").click()
    page.wait_for_selector(".running >> text=Answer what was said")
    assert page.locator(".courses i").count() == 15 and "of 15 min" in page.locator(".running-head").inner_text()
    assert page.locator("[data-begin]:not([disabled])").count() == 0, "one step at a time"
    assert not trouble_of(page)

    row.get_by_role("link", name="Answer what was said").click()
    page.wait_for_selector(".timer-chip")
    first = page.locator(".timer-chip .timer-left").inner_text()
    page.wait_for_function("was => document.querySelector('.timer-chip .timer-left').textContent !== was", arg=first)
    page.locator(".remark").get_by_role("button", name="Taken", exact=False).first.click()
    until(lambda: studio.head(song_id).song.feedback[0].state == "taken")

    page.goto("/today")
    page.keyboard.press(" ")
    page.wait_for_selector(".running[data-paused]")
    held = page.locator(".running .timer-left").inner_text()
    page.wait_for_timeout(1300)
    assert page.locator(".running .timer-left").inner_text() == held
    page.keyboard.press("e")
    page.wait_for_selector("text=Answer what was said: done")
    assert page.locator(".running").count() == 0 and page.locator(".timer-chip").count() == 0
    assert studio.today.history()[0].outcome == "done"

    offer = page.locator(".offer").first
    said = offer.locator("h2").inner_text()
    offer.get_by_text("Not now").click()
    offer.get_by_label("why not now").fill("ears are tired")
    offer.get_by_role("button", name="Put off").click()
    page.wait_for_selector(".skipped")
    page.locator(".skipped summary").click()
    assert said in page.locator(".skipped").inner_text() and "ears are tired" in page.locator(".skipped").inner_text()


def test_the_timer_rings_once_when_the_time_is_up(page, server):
    studio = server[1]
    studio.add_song(made(WORKED_ON, ("rename_song", dict(title="Ringing"))), "Small")
    offer = next(o for o in studio.today.told("finish", 15, date.today()).offers)
    running = studio.today.begin(offer.song.song_id, offer.step.key, 15)
    page.clock.install()
    page.goto("/today")
    page.wait_for_selector(".running")
    page.evaluate("() => { for (const e of document.querySelectorAll('[data-timer]')) e.dataset.left = '1'; }")
    page.clock.run_for(3000)
    page.wait_for_function("() => document.body.dataset.rung === '1'")
    assert page.title().startswith("Time is up") and page.locator(".running.over").count() == 1
    assert page.locator(".running .timer-left").inner_text() == "0:00"
    studio.today.end(running.id, "stopped")


def test_a_song_moves_to_its_next_shelf_on_the_board(page, server):
    studio = server[1]
    song_id = studio.add_song(made(SONG, ("rename_song", dict(title="Board song"))), "Small")
    page.goto("/board")
    page.locator(f"[data-song='{song_id}']").click()
    page.wait_for_selector("#board-song >> text=Before it is arranged")
    assert not trouble_of(page)
    page.get_by_label("Stage", exact=True).select_option("left")
    page.get_by_role("button", name="Set the stage").click()
    page.wait_for_selector("text=Say why it is left")
    page.get_by_label("Stage", exact=True).select_option("arranged")
    page.get_by_role("button", name="Set the stage").click()
    page.wait_for_selector(f".stage-shelf:has(h2:has-text('arranged')) [data-song='{song_id}']")
    page.get_by_label("Find on the board").fill("board song")
    page.wait_for_function("() => document.querySelectorAll('.stood').length === 1")
    page.get_by_role("button", name="Archive").click()
    page.wait_for_selector("text=No song has these words")
    assert studio.head(song_id).song.work.archived


def test_a_set_is_filled_moved_by_keys_put_in_order_and_taken_back(page, server):
    studio = server[1]
    titles = ("Left foot", "Right foot", "Both feet", "Landing")
    songs = [studio.add_song(made(SONG, ("rename_song", dict(title=t)), ("set_tempo", dict(tempo_bpm=b))), "Small") for t, b in zip(titles, (80, 170, 84, 160))]  # fmt: skip
    page.goto("/sets")
    page.get_by_label("Name of a new set").fill("Steps")
    page.get_by_role("button", name="New set").click()
    page.wait_for_selector("h1:has-text('Steps')")
    set_id = int(page.url.rsplit("/", 1)[1])
    page.get_by_label("Song", exact=True).select_option(str(songs[0]))
    page.get_by_role("button", name="Add", exact=True).click()
    page.wait_for_selector(".set-title:has-text('Left foot')")
    for song_id, title in zip(songs[1:], titles[1:]):
        studio.sets.change(set_id, lambda s, i=song_id, t=title: with_song(s, i, t))
    page.reload()
    assert page.locator(".set-order > li").count() == 4 and page.locator(".song-join").count() == 3
    assert not trouble_of(page)

    def order():
        return [p.facts.title for p in studio.sets.get(set_id).read.songs]

    page.locator(".set-title").nth(1).focus()
    page.keyboard.press("Alt+ArrowUp")
    until(lambda: order()[0] == "Right foot")
    page.wait_for_function("() => document.activeElement.classList.contains('set-title')")
    page.keyboard.press("Alt+ArrowDown")
    until(lambda: order()[0] == "Left foot")
    with page.expect_response("**/joins/1.wav") as sound:
        page.locator("[data-hear-join]").first.click()
    assert sound.value.ok and sound.value.body()[:4] == b"RIFF"
    page.locator("h1").click()
    page.keyboard.press("o")
    page.wait_for_selector(".order-offer")
    page.locator(".order-offer").first.get_by_role("button").click()
    until(lambda: order() != list(titles))
    page.wait_for_selector("text=another order")
    assert not trouble_of(page)
    page.locator("h1").click()
    page.keyboard.press("Control+z")
    until(lambda: order() == list(titles))


def test_a_task_is_written_worked_on_and_marked(page, server):
    studio = server[1]
    song_id = studio.add_song(made(SONG, ("rename_song", dict(title="Homework"))), "Small")
    page.goto("/tasks")
    page.get_by_label("What is asked").fill(
        "The stair\nVerse has 12 bars. The chorus is the highest (2). It should rain."
    )
    page.get_by_role("button", name="Read it").click()
    page.wait_for_selector("h1:has-text('The stair')")
    assert page.locator(".criteria li").count() == 2 and "It should rain" in page.locator("#task").inner_text()
    assert not trouble_of(page)
    page.get_by_label("Song", exact=True).select_option(str(song_id))
    page.get_by_role("button", name="Take it up").click()
    page.wait_for_selector("#inspector .marks li")
    assert page.locator("#inspector .marks li.broken").count() == 1 and not trouble_of(page)
    page.get_by_role("button", name="What would mend it?").click()
    page.wait_for_selector("#inspector >> text=Make Verse 12 bars long")
    until(lambda: studio.head(song_id).song.hints == (0,))
    with page.expect_response("**/task/*.wav") as sound:
        page.locator("#inspector [data-hear-join]").first.click()
    assert sound.value.ok
    verse = studio.head(song_id).song.sections[0]
    studio.edit(song_id, studio.head(song_id).revision_id, ResizeSection(verse.id, 12))
    page.goto(f"/songs/{song_id}/task")
    page.wait_for_selector("text=100 of 100")
    assert page.locator(".marks li.kept").count() == 2


def test_a_class_is_judged_and_one_of_it_given_other_points(page, server, tmp_path):
    studio = server[1]
    task_id = studio.tasks.write("Verse has 8 bars. Verse ends with bar 10. The chorus is the highest.", "Class")
    for name, song in (
        ("ana.json", SONG),
        ("ben.json", made(SONG, ("resize_section", dict(section_id=SONG.sections[0].id, bars=10)))),
    ):
        (tmp_path / name).write_bytes(write_project(song))
    page.goto(f"/tasks/{task_id}")
    page.locator("[name=file]").set_input_files([tmp_path / "ana.json", tmp_path / "ben.json"])
    page.get_by_role("button", name="Judge").click()
    page.wait_for_selector(".class-table tbody tr:nth-child(2)", timeout=90_000)
    assert page.locator(".met-row").count() == 2 and not trouble_of(page)
    page.get_by_role("link", name="ana.json").click()
    page.wait_for_selector("h2:has-text('By bar')")
    row = page.locator(".marks li", has_text="ends with bar 10")
    row.locator("summary").click()
    row.get_by_label("Points for").fill("30")
    row.get_by_label("Reason for").fill("the pickup counts")
    row.get_by_role("button", name="Set").click()
    page.wait_for_selector("text=set by hand: the pickup counts")
    assert not trouble_of(page) and studio.tasks.submissions(task_id)[0].marks.rows[1].override == 30


@pytest.mark.parametrize("kind", ["louder", "tapped tempo", "layer"])
def test_a_drill_is_done_with_the_keyboard_alone(page, server, kind):
    studio = server[1]
    page.goto("/drills")
    assert not trouble_of(page)
    page.evaluate("() => { for (const box of document.querySelectorAll('[name=kind]')) box.checked = false; }")
    page.locator(f"[name=kind][value='{kind}']").focus()
    page.keyboard.press("Space")
    page.get_by_role("button", name="Begin five minutes").focus()
    page.keyboard.press("Enter")
    page.wait_for_selector("#drill-answer h2")
    assert not trouble_of(page)
    session_id = int(page.url.rsplit("/", 1)[1])
    page.wait_for_function("() => document.readyState === 'complete'")
    for number in range(2):
        question = studio.drills.pose(session_id).question
        page.locator("h2").first.click()
        with page.expect_response("**/drills/sound.wav*") as sound:
            page.keyboard.press("Space")
        assert sound.value.ok
        if question.choices:
            page.keyboard.press(str(question.right + 1))
        else:
            page.keyboard.press("t")
            page.wait_for_selector("text=1 taps")
            page.get_by_label("Your answer").fill(f"{question.number:g}")
            page.get_by_role("button", name="Answer").focus()
            page.keyboard.press("Enter")
        page.wait_for_selector(".drill-told.right")
        assert studio.drills.summary(session_id) == (number + 1, number + 1)
        page.keyboard.press("Enter")
        page.wait_for_selector(".drill-told", state="detached")
        page.wait_for_function(
            "n => document.querySelector('#drill-answer [name=number]').value === n", arg=str(number + 1)
        )
