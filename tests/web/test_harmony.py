"""The harmony page and the counting helper, as fragments and in a real browser."""

import io
import re

import numpy as np
import pytest
import soundfile

from escalera.core.edits import EDITS
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from tests.songs import ids, small_song
from tests.web.driving import open_song, said, settled, tree, trouble_of, until

NAME = ids(small_song())
V, C, P, B = (NAME[n] for n in ("Verse", "Chorus", "Soft pad", "Plucked bass"))


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def post(client, studio, song_id, **fields):
    base = fields.pop("base", studio.head(song_id).revision_id)
    return client.post(f"/songs/{song_id}/harmony/edits", data={"base": base, **fields}, headers={"HX-Request": "true"})


def sounding(song, index=0):
    return [str(c) for c in section_harmony(song, timeline(song).spans[index]).chords]


# fragments --------------------------------------------------------------------------------------------------------


def test_an_edit_on_the_page_changes_the_chords_and_answers_with_the_page(client, studio, song_id):
    answer = post(client, studio, song_id, kind="set_chords", chords="vi | IV", section_id=V, select=f"section:{V}")
    assert answer.status_code == 200 and sounding(studio.head(song_id).song)[:2] == ["Am", "F"]
    page = tree(answer)
    assert [b.text for b in page.xpath("//*[contains(@class,'chord-column')]/b")] == ["Am", "F"] * 4
    assert page.xpath("//input[@id='line']/@value") == ["Am | F"]
    undone = client.post(
        f"/songs/{song_id}/harmony/undo", data={"select": f"section:{V}"}, headers={"HX-Request": "true"}
    )
    assert tree(undone).xpath("//input[@id='line']/@value") == [""], "it follows the song again"


@pytest.mark.parametrize(("place", "field"), [("harmony", "held"), ("groove", "shown")])
def test_an_earlier_state_is_brought_back_on_the_page_itself(client, studio, song_id, place, field):
    first = studio.head(song_id)
    post(client, studio, song_id, kind="set_chords", chords="vi | IV")
    data = {"base": studio.head(song_id).revision_id, "select": f"section:{V}:0:0:0"}
    page = tree(
        client.post(f"/songs/{song_id}/{place}/states/{first.revision_id}", data=data, headers={"HX-Request": "true"})
    )
    assert studio.head(song_id).song.progression == first.song.progression
    assert page.xpath(f"//*[@id='state']/input[@name='{field}']") and not page.xpath("//*[@id='stair']")


@pytest.mark.parametrize(("fields", "says"), [
    (dict(chords="H7 | C"), "Chord 1: “H7”.*Write B7 or Bb7"), (dict(chords=""), "The line is empty"), (dict(chords="C | F | G | C | C | C | C | C | C", section_id=V), "Bar 9 of 9: the section has 8 bars"),
    (dict(kind="set_key", key="H"), "is not a key"), (dict(kind="set_tempo", tempo_bpm=900), "900 bpm lies outside 30 to 300"), (dict(chords="V of nothing"), "“nothing” is not a degree"),
])  # fmt: skip
def test_what_cannot_be_set_says_why_and_changes_nothing(client, studio, song_id, fields, says):
    before = studio.head(song_id).song
    answer = post(client, studio, song_id, **{"kind": "set_chords", **fields})
    assert answer.status_code in (400, 422) and re.search(says, said(answer)) and studio.head(song_id).song == before


def test_a_line_is_read_while_it_is_written(client, song_id):
    answer = client.get(
        f"/songs/{song_id}/harmony/read", query_string={"line": "C | H7 Fm | G", "word": 3, "select": f"section:{V}"}
    )
    text = said(answer)
    assert "C I C E G" in text and "from C minor" in text and "Write B7 or Bb7" in text and "Leads on from G" in text
    assert tree(answer).xpath("//button[@data-offer]/@data-offer") == ["B7", "Bb7"]
    long = client.get(
        f"/songs/{song_id}/harmony/read", query_string={"line": "C " * 2000}, headers={"HX-Request": "true"}
    )
    assert long.status_code == 400 and "at most 2,000 are read" in said(long)


@pytest.mark.parametrize(
    ("pitches", "first"),
    [
        ("60,64,67", "C root position"),
        ("52,60,67", "C/E first inversion"),
        ("43,50", "G5 without third: neither major nor minor"),
        ("60", "Two notes or more"),
    ],
)
def test_played_notes_are_named(client, song_id, pitches, first):
    assert first in said(client.get(f"/songs/{song_id}/harmony/named", query_string={"pitches": pitches}))


def test_held_notes_are_a_table_of_roles(client, song_id):
    answer = client.get(f"/songs/{song_id}/harmony/held", query_string={"select": f"section:{V}", "held": "A F"})
    rows = [[" ".join(c.text_content().split()) for c in row.xpath("./*")] for row in tree(answer).xpath("//tbody/tr")]
    assert rows[1] == ["Am", "root", "flat thirteenth clash: down to E; rests on F as its root"] and len(rows) == 4
    wrong = client.get(f"/songs/{song_id}/harmony/held", query_string={"held": "Q"}, headers={"HX-Request": "true"})
    assert wrong.status_code == 400 and "is not a note name" in said(wrong)


def test_the_key_is_read_and_a_wrong_label_is_pointed_out(client, studio, song_id):
    assert "From chords and notes: C major" in said(client.get(f"/songs/{song_id}/harmony/key"))
    post(client, studio, song_id, kind="set_key", key="F# major", move_chords="false")
    assert "contradicts" in said(client.get(f"/songs/{song_id}/harmony/key"))
    empty = studio.add_song(EDITS["add_section"]("Only", "", 4).apply(type(small_song())()), "New")
    assert "no key to find" in said(client.get(f"/songs/{empty}/harmony/key"))
    assert "No chords yet" in said(client.get(f"/songs/{empty}/harmony"))


def test_a_key_change_is_planned_and_made(client, studio, song_id):
    plan = said(client.get(f"/songs/{song_id}/harmony/plan", query_string={"section_id": C, "semitones": 2}))
    assert (
        "From C major to D major" in plan
        and "Em (iii, then ii)" in plan
        and "a drum without a note of the key: stays" in plan
        and "Dominant: A7" in plan
    )
    assert "shifted by +2 semitones (or played × 1.1225 as fast)" in plan
    post(
        client, studio, song_id, kind="change_key_at", section_id=C, semitones=2, to_the_end="true", approach="dominant"
    )
    song = studio.head(song_id).song
    assert sounding(song)[-1] == "A7" and sounding(song, 1)[:4] == ["D", "Bm", "G", "A"]
    wild = client.get(
        f"/songs/{song_id}/harmony/plan",
        query_string={"section_id": C, "semitones": 99},
        headers={"HX-Request": "true"},
    )
    assert wild.status_code == 422 and "outside −24 to 24" in said(wild)


def _pitch_classes(data):
    """The three strongest pitch classes of a WAV's first second."""
    audio, rate = soundfile.read(io.BytesIO(data))
    mono = audio.mean(axis=1)[:rate]
    power = np.abs(np.fft.rfft(mono * np.hanning(len(mono)), 1 << 17)) ** 2
    hz = np.fft.rfftfreq(1 << 17, 1 / rate)
    found = np.zeros(12)
    for low in range(45, 84):
        near = np.abs(12 * np.log2(np.maximum(hz, 1) / 440) + 69 - low) < 0.3
        found[low % 12] += power[near].sum()
    return set(np.argsort(found)[-3:].tolist())


@pytest.mark.parametrize("hear", ["", P])
def test_chords_are_heard_with_a_layers_sound_or_a_neutral_one(client, song_id, hear):
    answer = client.get(
        f"/songs/{song_id}/harmony/hear.wav", query_string={"line": "Fm | Bb", "hear": hear, "section": V}
    )
    assert answer.mimetype == "audio/wav" and _pitch_classes(answer.data) == {5, 8, 0}
    assert client.get(f"/songs/{song_id}/harmony/hear.wav?line=").status_code == 422
    assert client.get(f"/songs/{song_id}/harmony/hear.wav?line=C&hear=999").status_code == 422
    assert client.get(f"/songs/{song_id}/harmony/note/200.wav").status_code == 400


@pytest.mark.parametrize(("query", "says"), [
    ({"t": "0,0.5,1,1.5,2"}, "120.0 ±"), ({"t": "0"}, "One tap has no tempo"), ({"t": "0,3600"}, "1 hour apart"), ({"t": "x"}, "A tap has no time"),
])  # fmt: skip
def test_taps_are_answered_in_their_place(client, query, says):
    answer = client.get("/count/taps", query_string=query)
    assert answer.status_code == 200 and says in said(answer)


@pytest.mark.parametrize(
    ("q", "says"),
    [
        ("bars 5 to 8", "ends with bar 8"),
        ("2 of Verse and 1 of Chorus", "24 bars"),
        ("two of these", "8 bars"),
        ("hello", "is not a question that can be counted"),
    ],
)
def test_questions_are_answered_in_the_song(client, song_id, q, says):
    assert says in said(client.get("/count/ask", query_string={"song": song_id, "q": q, "these": "4", "those": "8"}))


def test_questions_follow_a_glide(client, studio, song_id):
    post(client, studio, song_id, kind="glide_tempo", section_id=V, to_bpm=60)
    text = said(client.get("/count/ask", query_string={"song": song_id, "q": "bars 1 to 8"}))
    assert "22.181 s" in text, "8 bars from 120 to 60 bpm last 32 ln 2 seconds"
    assert "999" in said(client.get("/count/times?tempo=999", headers={"HX-Request": "true"}))


# in the browser ------------------------------------------------------------------------------------------------------


def open_harmony(page, server, title, select=""):
    song_id = open_song(page, server, title)
    page.goto(f"/songs/{song_id}/harmony?select={select}")
    page.wait_for_function("() => window.escalera && document.querySelector('#ladder-keys button')")
    return song_id


@pytest.mark.browser
def test_a_line_is_typed_corrected_set_heard_and_undone(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    studio = server[1]
    head = studio.head(song_id)
    chorus = head.song.sections[3]
    page.locator(f"#tread-{chorus.id}").focus()
    page.keyboard.press("Enter")
    page.wait_for_function(
        f"() => document.querySelector('#state [name=select]').value.startsWith('section:{chorus.id}')"
    )
    page.keyboard.press("g")
    page.wait_for_function("() => window.escalera && document.querySelector('#ladder-keys button')")
    assert page.locator("#score h1").inner_text() == chorus.name
    page.keyboard.press("e")
    page.keyboard.type("Eb | H7 | Ab")
    page.wait_for_selector("[data-offer='B7']")
    page.keyboard.press("Enter")
    page.wait_for_selector("#notice.error")
    assert (
        page.locator("#line").input_value() == "Eb | H7 | Ab" and studio.head(song_id).revision_id == head.revision_id
    )
    page.locator("[data-offer='Bb7']").click()
    page.wait_for_selector(".words li:nth-child(2) >> text=V7")
    page.locator("#line").focus()
    page.keyboard.press("Enter")
    changed = settled(page, studio, song_id, head.revision_id)
    assert sounding(changed.song, 3)[:3] == ["E♭", "B♭7", "A♭"]
    assert page.locator(".chord-column b").all_text_contents()[:3] == ["E♭", "B♭7", "A♭"]
    with page.expect_response(lambda r: "/audio/" in r.url and r.ok, timeout=60_000):  # what the song plays has changed
        page.locator("#line").evaluate("line => line.blur()")
        page.keyboard.press("p")
    page.wait_for_function("() => window.escalera.player.playing", timeout=30_000)
    page.keyboard.press(" ")
    page.keyboard.press("Control+z")
    back = settled(page, studio, song_id, changed.revision_id)
    assert sounding(back.song, 3) == sounding(head.song, 3)
    page.keyboard.press("h")
    page.locator("#history[open] li.undone [data-state]").first.click()
    assert settled(page, studio, song_id, back.revision_id).song == changed.song
    assert page.locator(".chord-column b").all_text_contents()[:3] == ["E♭", "B♭7", "A♭"]


@pytest.mark.browser
def test_chords_are_picked_from_the_circle_and_from_what_leads_on_and_heard_at_once(page, server):
    song_id = open_harmony(page, server, "Paper Engines", "song")
    with page.expect_response(lambda r: "hear.wav" in r.url and r.ok):
        page.locator(".wedge[data-take-chord='Bm']").click()
    assert page.locator("#line").input_value() == "F#m | D | A | E | Bm"
    page.wait_for_selector("#leads h3 >> text=Leads on from Bm")
    page.locator("#leads [data-take-chord='C#7']").first.click()
    assert page.locator("#line").input_value().endswith("| Bm | C#7")
    with page.expect_response(lambda r: "hear.wav" in r.url and r.ok):
        page.locator(".line-form [data-hear-line]").click()
    page.locator("[data-tab=held]").click()
    page.locator("[data-held] input").fill("C#")
    page.keyboard.press("Enter")
    page.wait_for_selector(".held-table td >> text=fifth")
    assert page.locator("#line").input_value().endswith("| Bm | C#7"), "what is not yet set outlives other answers"
    before = server[1].head(song_id).revision_id
    page.locator("#line").focus()
    page.keyboard.press("Enter")
    assert len(settled(page, server[1], song_id, before).song.progression.changes) == 6


@pytest.mark.browser
def test_letters_play_steps_of_the_key_and_their_chord_is_taken(page, server):
    open_harmony(page, server, "Harbour Stairs", "song")
    page.keyboard.press("k")
    for letter in "adg":
        page.keyboard.down(letter)
    for letter in "adg":
        page.keyboard.up(letter)
    page.wait_for_function("() => document.querySelector('#named [data-first]')?.dataset.takeChord === 'Eb'")
    page.keyboard.press("Enter")
    assert page.locator("#line").input_value().endswith("Abmaj7 | Eb")
    page.keyboard.press("Escape")
    assert page.locator("#keys-on").get_attribute("aria-pressed") == "false"
    page.locator("[data-letter=S]").click()
    page.locator("[data-letter=F]").click()
    page.locator("[data-letter=H]").click()
    page.wait_for_selector("#named [data-first] >> text=Fm")


@pytest.mark.browser
def test_a_voicing_a_push_and_a_key_change_from_the_page(page, server):
    song_id = open_harmony(page, server, "Paper Engines", "song")
    studio = server[1]
    last = studio.head(song_id).song.sections[-2]
    page.locator("#panel-voicing select[name=value]").first.select_option("open")
    until(lambda: any(x.voicing.spread == "open" for x in studio.head(song_id).song.layers))
    page.locator("[data-tab=passes]").click()
    page.locator("select[name=push_ticks]").select_option("480")
    until(lambda: studio.head(song_id).song.push_ticks == 480)
    page.locator("[data-tab=key]").click()
    page.wait_for_selector("#key-reading >> text=From chords and notes")
    page.locator("#key-change select[name=section_id]").select_option(str(last.id))
    page.locator("[data-plan]").click()
    page.wait_for_selector("#plan >> text=follows the chords")
    page.locator("#key-change .btn-ink").click()
    until(lambda: studio.head(song_id).song.section_by_id[last.id].shift_semitones == 2)
    page.wait_for_selector(".section-list .shifted >> text=in G♯ minor")


@pytest.mark.browser
def test_a_tempo_is_tapped_and_set_and_a_question_asked_without_leaving_the_page(page, server):
    song_id = open_song(page, server, "Paper Engines")
    studio = server[1]
    before = studio.head(song_id)
    page.evaluate(
        """() => { let at = 0; for (let i = 0; i < 9; i++) { const e = new KeyboardEvent("keydown", { key: "t", bubbles: true }); Object.defineProperty(e, "timeStamp", { value: 1000 + i * 480 }); document.body.dispatchEvent(e); } }"""
    )
    page.wait_for_selector("#taps >> text=9 taps")
    assert page.locator(".tapped b").inner_text() == "125.0"
    page.locator("#taps .btn-ink").click()
    assert settled(page, studio, song_id, before.revision_id).song.tempo_bpm == 125
    page.locator("#q").fill("8 bars that end with bar 36")
    page.wait_for_selector("#answer >> text=bar 37")
    page.locator("#q").fill("how far")
    page.wait_for_selector("#answer .sentence")
    page.locator("#feel").select_option(label="Waltz, 84–180")
    page.wait_for_selector("#times >> text=At 132 bpm")
    page.keyboard.press("Escape")
    assert page.locator("#count").is_hidden()
    page.keyboard.press("c")
    page.wait_for_function("() => document.activeElement.id === 'q'")
    page.goto("/")
    page.keyboard.press("c")
    page.wait_for_selector("#count >> text=At 120 bpm")


@pytest.mark.browser
@pytest.mark.parametrize("theme", ["day"])
def test_the_harmony_page_and_the_helper_are_accessible_and_fit(page, server, theme):
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    open_harmony(page, server, "Harbour Stairs")
    for tab in ("voicing", "held", "passes", "key"):
        page.locator(f"[data-tab={tab}]").click()
        page.wait_for_timeout(200)
        assert not trouble_of(page), tab
    page.keyboard.press("c")
    page.wait_for_selector("#q")
    assert not trouble_of(page)
    for width in (1024, 1280):
        page.set_viewport_size({"width": width, "height": 800})
        assert page.evaluate(
            "document.documentElement.scrollWidth <= innerWidth && "
            "document.querySelector('.handrail').getBoundingClientRect().bottom <= innerHeight + "
            "1"
        )
