"""Renews docs/screenshots from the demo songs. Usage: .venv/bin/python -m tools.take_pictures"""

import tempfile
import threading
from pathlib import Path

from playwright.sync_api import Page, sync_playwright
from waitress.server import create_server

from escalera.services.demo import seed_demo
from escalera.services.demo_recorded import seed_recorded
from escalera.services.demo_sung import seed_sung
from escalera.services.demo_year import seed_year
from escalera.services.finished_tracks import add_finished_track
from escalera.services.job_kinds import STUDY
from escalera.services.stand_in_mix import add_stand_in
from escalera.services.studio import Studio
from escalera.web import create_app
from tests.chromium import chromium

OUT = Path("docs/screenshots")


def choose(page: Page, name: str) -> None:
    """Choose a section by its name, and wait for the measurement."""
    page.wait_for_selector("polyline.measured", timeout=60_000)
    page.locator(f"[aria-label='Target energy of {name}']").focus()
    page.keyboard.press("Enter")
    page.wait_for_function("name => document.querySelector('#inspector h2').textContent === name", arg=name)
    page.evaluate("document.activeElement.blur()")
    page.mouse.move(640, 715)


def study(page: Page, studio: Studio) -> None:
    """A made-up track taken apart, a note pinned to it, its first chorus chosen."""
    study_id = add_finished_track(studio, 0)
    studio.studies.read(study_id)
    if (job := studio.at_work(STUDY)) is not None:  # nobody works here but this
        studio.jobs.stop(job.id)
    studio.studies.note(study_id, lambda b: b.with_note("The low end waits for the chorus", "trick", 37.5))
    page.goto(f"/studies/{study_id}?chosen=2")
    page.wait_for_selector("#study .stone")
    page.mouse.move(640, 790)
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "study.png")


def judge(page: Page, studio: Studio, song_id: int) -> None:
    """A finding with its mends."""
    page.goto(f"/songs/{song_id}")
    page.wait_for_selector("polyline.measured", timeout=60_000)
    page.keyboard.press("k")
    page.locator("[data-finding]").first.click()
    page.locator("#move-preview .move-row").first.click()
    page.wait_for_selector("#mend-preview table")
    page.mouse.move(640, 790)
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "checks.png")


def options(page: Page, song_id: int, section_id: int) -> None:
    """Options of a section while one of them is heard."""
    page.goto(f"/songs/{song_id}?select=section:{section_id}")
    page.wait_for_selector("polyline.measured", timeout=60_000)
    page.keyboard.press("o")
    page.wait_for_selector("#options .option-row")
    page.fill("#options-text", "half time and no crash; as in Verse 1")
    page.wait_for_selector(".read-options li")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("Space")
    page.wait_for_function("() => window.escalera.passage().length > 1", timeout=30_000)
    page.wait_for_timeout(5500)
    page.mouse.move(640, 790)
    page.screenshot(path=OUT / "options.png")


def every_day(page: Page, studio: Studio) -> None:
    """A year of work: Today with a step that runs, the board with a song chosen, an album."""
    seed_year(studio)
    studio.index.read_all(lambda share: None, lambda: True)
    page.goto("/today")
    page.keyboard.press("2")
    page.wait_for_selector(".running")
    page.screenshot(path=OUT / "today.png")
    page.goto("/board")
    page.locator(".stood", has_text="Rust Parade").click()
    page.wait_for_selector("#board-song h3")
    page.screenshot(path=OUT / "board.png")
    page.goto("/sets")
    page.get_by_role("link", name="Salt, Rain, Rust").click()
    page.wait_for_selector(".set-order")
    page.screenshot(path=OUT / "set.png")
    page.goto("/tasks/1")
    page.wait_for_selector(".class-table")
    page.screenshot(path=OUT / "task.png")
    page.goto("/drills")
    page.wait_for_selector(".drill-line")
    page.screenshot(path=OUT / "drills.png")


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    studio = Studio(Path(tempfile.mkdtemp()), cache_mb=900)
    seed_demo(studio)
    seed_recorded(studio)
    seed_sung(studio)
    studio.samples.add_own()
    ids = {card.title: card.id for card in studio.shelf()}
    good, flawed, quay, lanterns = (ids[t] for t in ("Harbour Stairs", "Paper Engines", "Tin Quay", "Low Lanterns"))
    song = studio.head(good).song
    section = next(s.id for s in song.sections if s.name == "Lift 1")
    server = create_server(create_app(studio), host="127.0.0.1", port=0, threads=4)
    threading.Thread(target=server.run, daemon=True).start()
    base = f"http://127.0.0.1:{server.effective_port}"
    with sync_playwright() as driver:
        browser = chromium(driver)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, base_url=base)

        def shot(name: str, address: str, section_name: str = "") -> None:
            page.goto(address)
            page.wait_for_timeout(500)
            if section_name:
                choose(page, section_name)
                page.wait_for_timeout(300)
            page.screenshot(path=OUT / f"{name}.png")

        shot("shelf", "/")
        shot("stair", f"/songs/{good}", "Chorus 1")
        chorus = next(s.id for s in song.sections if s.name == "Chorus 3")
        tin = studio.head(quay).song
        chorus_there = next(s.id for s in tin.sections if s.name == "Chorus 1")
        page.goto(f"/songs/{quay}/samples?select=section:{chorus_there}")
        page.wait_for_function(
            "() => [...document.querySelectorAll('[data-lands]')].every(e => e.textContent)", timeout=60_000
        )
        page.locator(".sample", has_text="Room kit 104 chorus").click()
        page.wait_for_timeout(500)
        page.screenshot(path=OUT / "samples.png")
        studio.bounces.read(add_stand_in(studio, quay, tin), tin)
        chorus_sung = next(s.id for s in studio.head(lanterns).song.sections if s.name == "Chorus 1")
        shot("voices", f"/songs/{lanterns}/voices?select=section:{chorus_sung}:0:0:0")
        drop = next(s.id for s in studio.head(flawed).song.sections if s.name == "Drop 2")
        page.goto(f"/songs/{flawed}/balance?select=section:{drop}:0:0:0")
        page.wait_for_function(
            "() => document.querySelector('.house') && !document.querySelector('#found .spin')", timeout=90_000
        )
        page.locator(".hiding", has_text="of Hook").first.click()
        page.wait_for_selector(".remedy")
        page.wait_for_timeout(300)
        page.screenshot(path=OUT / "balance.png")
        shot("harmony", f"/songs/{good}/harmony?select=section:{section}")
        page.goto(f"/songs/{good}/joins?select=section:{chorus}:0:0:0")
        page.wait_for_selector("#contrast .band", timeout=60_000)
        page.wait_for_timeout(300)
        page.screenshot(path=OUT / "joins.png")
        first = next(s.id for s in song.sections if s.name == "Chorus 1")
        shot("groove", f"/songs/{good}/groove?select=section:{first}:0:1:0")
        page.goto(f"/songs/{good}")
        page.wait_for_selector("polyline.measured", timeout=60_000)
        page.keyboard.press("q")
        page.wait_for_selector(".layout-way [data-layout-hear] >> nth=2", timeout=60_000)
        page.keyboard.press("2")
        page.wait_for_timeout(300)
        page.screenshot(path=OUT / "layout.png")
        bell = next(x.id for x in song.layers if x.name == "Glass bell")
        shot("bench", f"/songs/{good}/bench?select=tile:{first}:{bell}:0:0")
        study(page, studio)
        judge(page, studio, flawed)
        options(page, good, first)
        shot("handover", f"/songs/{good}/handover")
        every_day(page, studio)
        browser.close()
    server.close()
    studio.close()


if __name__ == "__main__":
    main()
