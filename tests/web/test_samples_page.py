"""Samples by hand: files dropped, read, walked along, tried in the loop, laid in, mended, sliced, brought onto chords, exported with a
missing licence."""

import numpy as np
import pytest
import soundfile

from tests.recordings import RATE, loop
from tests.web.driving import open_song, said, trouble_of, until

pytestmark = pytest.mark.browser
FILES = {
    "Plain beat 126.wav": loop("drums", 126.0, 2, beat="four"),
    "Short beat 112.flac": loop("drums", 112.0, 2, beat="back", short_beats=1.0),
    "Pad Cmaj 100.wav": loop("chords", 100.0, 4, key=9, mode="minor"),
}


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("files")
    for name, (audio, _) in FILES.items():
        soundfile.write(folder / name, audio.T, RATE)
    (folder / "broken.wav").write_bytes(b"no sound at all")
    return [folder / name for name in (*FILES, "broken.wav")]


def section_of(studio, song_id, name):
    return next(s for s in studio.head(song_id).song.sections if s.name == name)


def recorded(studio, song_id):
    return [x for x in studio.head(song_id).song.layers if x.clips]


def test_recordings_go_from_a_folder_into_a_song(page, server, files):
    studio = server[1]
    song_id = open_song(page, server, "Paper Engines")
    verse = section_of(studio, song_id, "Verse")
    page.goto(f"/songs/{song_id}?select=section:{verse.id}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("z")
    page.wait_for_selector("#samples")
    assert "No samples yet" in page.locator(".empty").inner_text()
    assert not trouble_of(page)
    page.set_input_files("#files", [str(f) for f in files])
    until(lambda: studio.samples.count() == 3 and len(studio.arrivals.standing().lines) == 4, 60)
    page.wait_for_selector(".sample >> nth=2")
    page.wait_for_function("() => document.querySelector('.came')")
    assert "not audio" in page.locator(".came li").first.inner_text()
    # walking along the wall: the label tells what was read, and where the name is wrong
    page.locator(".sample", has_text="Pad Cmaj").click()
    page.wait_for_function("() => document.querySelector('#side').innerText.includes('Its name says')")
    assert "A minor" in page.locator("#side").inner_text()
    page.wait_for_function("() => [...document.querySelectorAll('[data-lands]')].every(e => e.textContent)")
    with page.expect_response("**/samples/*/*.wav") as alone:
        page.keyboard.press("ArrowRight")
    assert alone.value.ok and alone.value.headers["content-type"] == "audio/wav"
    assert page.locator(".sample.chosen").count() == 1
    # tried in the loop, then laid in
    page.locator(".sample", has_text="Short beat").click()
    page.wait_for_function("() => document.querySelector('#side h2').textContent.includes('Short beat')")
    with page.expect_response("**/samples/*/*/*.wav*"):
        page.locator("#side [data-hear-in]").click()
    page.wait_for_function("() => window.escalera.round() !== ''")
    page.locator("[data-lay] button[type=submit]").click()
    page.wait_for_selector("#clips svg.clip-plot")
    until(lambda: len(recorded(studio, song_id)) == 1)
    assert not trouble_of(page)
    mended(page, studio, song_id)
    sliced(page, studio, song_id)
    made_of(page, studio, song_id)
    page.goto(f"/songs/{song_id}/handover")
    assert "Short beat 112 is not cleared" in page.locator(".warning").inner_text()
    page.goto(f"/songs/{song_id}")
    assert page.locator(".tile .relief").count() >= 4


def mended(page, studio, song_id):
    """A beat short: each offer is heard before one is taken."""
    assert "1 beat short" in page.locator(".mends").first.inner_text()
    with page.expect_response("**/mend.wav*") as heard:
        page.locator("[data-hear-mend='repeat tail']").click()
    assert heard.value.ok
    page.locator(".mend", has_text="Repeat its tail").get_by_text("Take").click()
    until(lambda: len(recorded(studio, song_id)[0].clips) == 2)
    page.wait_for_selector(".slice >> nth=1")


def sliced(page, studio, song_id):
    """Another loop is sliced, a slice muted and moved, and undone."""
    page.locator("#clips").get_by_text("Close").click()
    page.wait_for_function("() => document.querySelector('#clips').hidden")
    page.locator(".sample", has_text="Plain beat").click()
    page.wait_for_function("() => document.querySelector('#side h2').textContent.includes('Plain beat')")
    page.locator("[data-lay] button[type=submit]").click()
    page.get_by_text("Slice by 1/4").click()
    page.wait_for_selector(".slice >> nth=7")
    before = studio.head(song_id).song
    page.locator(".slice >> nth=2").click()
    page.keyboard.press("Delete")
    until(lambda: studio.head(song_id).song != before)
    page.wait_for_function("() => document.querySelectorAll('.slice').length === 7")
    page.keyboard.press("Control+z")
    until(lambda: studio.head(song_id).song == before)
    page.locator("[name='values.semitones']").fill("3")
    page.keyboard.press("Enter")
    until(lambda: any(c.semitones == 3 for x in recorded(studio, song_id) for c in x.clips))


def made_of(page, studio, song_id):
    """A slice put onto a sixteenth of the groove page, a sample stacked on a drum, a stand-in, and what was heard kept."""
    layer = next(x for x in recorded(studio, song_id) if x.name.startswith("Plain"))
    verse = section_of(studio, song_id, "Verse")
    page.goto(f"/songs/{song_id}/groove?select=section:{verse.id}:{layer.id}:0:0")
    board = page.get_by_role("group", name="Slices of Plain beat")
    board.locator("[data-pick]").select_option(index=3)
    board.locator(".slot").nth(2).click()
    board.locator(".slot").nth(2).get_by_text("4").wait_for()
    assert not trouble_of(page)
    page.keyboard.press("p")  # what is heard here is kept on the page of samples
    page.wait_for_function("() => window.escalera.player.heard().some(p => p.seconds > 1.2)")
    page.goto(f"/songs/{song_id}/samples?select=section:{verse.id}:0")
    page.wait_for_selector(".sample")
    count = studio.samples.count()
    page.locator("[data-keep-heard]").click()
    until(lambda: studio.samples.count() == count + 1)
    page.wait_for_function("() => document.querySelector('#side h2').textContent.includes('Heard in')")
    page.locator("#side summary", has_text="More to make of it").click()
    drum = next(x for x in studio.head(song_id).song.layers if x.sound.drum == "kick" and not x.clips)
    page.locator("#side [name=layer_id]").select_option(str(drum.id))
    page.locator("#side form[data-edit=stack_sample] button").click()
    until(lambda: studio.head(song_id).song.layer_by_id[drum.id].recordings)
    page.fill("#find-words", "zither at dawn")
    page.wait_for_selector("[data-want]")
    page.locator("[data-want] button").click()
    until(lambda: any(row.layer_id for row in studio.samples.wanted()))
    assert any(x.stand_in and x.name == "zither at dawn" for x in studio.head(song_id).song.layers)


def test_the_library_stands_alone_too(page, server):
    studio = server[1]
    page.goto("/samples")
    page.wait_for_selector(".sample")
    page.fill("#find-words", "pad")
    page.wait_for_function("() => document.querySelectorAll('.sample').length === 1")
    with page.expect_response("**/samples/side*"):
        page.locator(".sample").click()
    page.wait_for_function("() => document.querySelector('#side h2').textContent.includes('Pad')")
    page.wait_for_timeout(100)
    page.locator("#side summary", has_text="Source and licence").click()
    page.select_option("[data-describe] [name=licence]", "own")
    page.locator("[data-describe] button[type=submit]").click()
    until(lambda: any(c.licence == "own" for c in studio.samples.cards()))
    page.fill("#find-words", "zither at night")
    page.wait_for_selector("[data-want]")
    page.locator("[data-want] button").click()
    until(lambda: studio.samples.wanted())
    assert not trouble_of(page)


def test_pages_of_samples_answer_with_sentences(client, studio):
    assert "No samples yet" in said(client.get("/samples"))
    id = studio.samples.add_audio(
        "<i>Odd</i> name", np.tile(FILES["Plain beat 126.wav"][0], (1, 1)), "here", "own", "tests"
    )
    content = studio.samples.card(id).content
    assert "<i>Odd" not in client.get("/samples").get_data(as_text=True)
    assert client.get(f"/samples/{id}/{content}.wav").data[:4] == b"RIFF"
    (studio.samples.folder / f"{content}.flac").unlink()
    gone = client.get(f"/samples/{id}/{content}.wav")
    assert gone.status_code == 404 and "Bring the file in again" in said(gone)
    for address, status in (
        ("/samples/999/x.wav", 404),
        ("/samples/wall?tempo_low=x", 400),
        ("/samples/arrivals/none", 404),
    ):
        answer = client.get(address)
        assert answer.status_code in (status, 422) and said(answer)
    bad = client.post(f"/samples/{id}/correct", data={"tempo_bpm": "900"})
    assert bad.status_code in (400, 422) and "outside 20 to 400" in said(bad)
