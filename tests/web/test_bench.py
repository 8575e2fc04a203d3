"""The bench, as fragments and in a real browser: lines drawn, made, recorded, judged; drums and lows beside them."""

import json
import re
import time

import pytest

from escalera.core.bench.layer_jobs import jobs
from escalera.core.edits import EDITS
from escalera.core.reading.events import sounding_layers
from escalera.core.reading.phrase_notes import line_in
from escalera.core.reading.timeline import timeline
from escalera.services.starting import WAYS
from tests.songs import ids, small_song
from tests.web.driving import said, tree, trouble_of, until

NAME = ids(small_song())
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def post(client, studio, song_id, select=f"tile:{V}:{B}:0:0", **fields):
    base = studio.head(song_id).revision_id
    return client.post(
        f"/songs/{song_id}/bench/edits", data={"base": base, "select": select, **fields}, headers={"HX-Request": "true"}
    )


def line(song, section=V, layer=B, phrase=0):
    return line_in(song, timeline(song).span_of(section), phrase, song.layer_by_id[layer])


# fragments --------------------------------------------------------------------------------------------------------


def test_a_drawn_note_comes_back_with_readings_energy_and_the_lows(client, studio, song_id):
    here = {"section_id": V, "layer_id": P, "phrase": 0}
    changes = json.dumps([[None, None, 0, 60, 960, 90], [None, None, 960, 65, 480, 90]])
    page = tree(
        post(client, studio, song_id, f"tile:{V}:{P}:0:0", kind="change_notes", changes=changes, how="chord", **here)
    )
    pegs = page.xpath("//*[contains(@class,'peg') and @data-tick]")
    assert [(p.get("data-tick"), p.get("data-pitch"), "open" in p.get("class")) for p in pegs] == [
        ("0", "60", False),
        ("960", "65", True),
    ]
    assert re.search(r"energy \d+\.\d [+-]\d\.\d\d", " ".join(page.xpath("string(//*[@class='energy-note'])").split()))
    text = " ".join(page.xpath("string(//*[@id='side'])").split())
    assert "2 notes, 5 semitones wide" in text and "Chord tones on beats" in text
    assert "lock: together on 16 of 16 kicks" in page.xpath("string(//*[@id='low-said'])")
    assert (
        len(page.xpath("//*[contains(@class,'stroke')]")) == 64
        and len(page.xpath("//*[contains(@class,'lane-hit')]")) == 16
    )


@pytest.mark.parametrize(("fields", "says"), [
    (dict(kind="record_notes", notes="[]", layer_id=B), "holds no note"), (dict(kind="change_notes", changes="x", layer_id=B), "cannot be read"),
    (dict(kind="change_notes", changes="[[1,2,3,4,5,6]]", layer_id=B), "is not there any more"), (dict(kind="hit", drum="gong", tick=0), "is not a drum"),
    (dict(kind="next", next="harp"), "is not among what could come next"), (dict(kind="make_line", maker="arpeggio", layer_id=K), "is a drum"),
])  # fmt: skip
def test_what_cannot_be_done_says_why_and_changes_nothing(client, studio, song_id, fields, says):
    before = studio.head(song_id).song
    answer = post(client, studio, song_id, **{"section_id": V, "phrase": 0, **fields})
    assert answer.status_code in (400, 422) and says in said(answer) and studio.head(song_id).song == before


def test_findings_come_with_remedies_that_mend_them(client, studio, song_id):
    studio.edit(
        song_id,
        studio.head(song_id).revision_id,
        EDITS["change_notes"](V, B, 0, [[None, None, 480, 90, 200, 90]], "fixed", True),
    )
    page = tree(client.get(f"/songs/{song_id}/bench?select=tile:{V}:{B}:0:0"))
    text = page.xpath("string(//*[@id='panel-line'])")
    assert "1 note lies above the range of Plucked bass" in text
    remedy = next(
        json.loads(b.get("data-do")) for b in page.xpath("//button[@data-do]") if "fold_line" in b.get("data-do")
    )
    after = tree(post(client, studio, song_id, **remedy))
    assert "lies above" not in after.xpath("string(//*[@id='panel-line'])")
    from dataclasses import replace

    bare = studio.add_song(replace(small_song(), progression=None), "Bare")
    assert "nobody wrote any" in said(client.get(f"/songs/{bare}/bench?select=tile:{V}:{B}:0:0"))
    long = EDITS["place_new"](
        V, P, "Long", 3840 * 12, [[0, 480, 1, 0, 0, 90]], start_ticks=0, end_ticks=3840 * 8
    ).apply(small_song())
    assert "is 12 bars long; Verse has 8" in said(
        client.get(f"/songs/{studio.add_song(long, 'Long')}/bench?select=tile:{V}:{P}:0:0")
    )


def test_a_remedy_does_what_it_promises(client, studio):
    song = small_song()
    for sound, notes in (
        ("vowel-voice", [(i * 960, 400, 62 + i % 4) for i in range(12)]),
        ("opening-pluck", [(i * 480, 400, 63) for i in range(24)]),
    ):
        song = EDITS["add_layer"](sound).apply(song)
        made = next(x.id for x in song.layers if x.sound_key == sound)
        song = EDITS["change_notes"](V, made, 0, [[None, None, t, p, d, 90] for t, d, p in notes], "scale", True).apply(
            song
        )
    song_id = studio.add_song(song, "Crowd")
    select = f"tile:{V}:{made}:0:0"
    page = tree(client.get(f"/songs/{song_id}/bench?select={select}"))
    rows = page.xpath("//div[contains(@class,'finding')][contains(.,'voice’s register')]//div[@class='help-row']")
    assert len(rows) == 2
    for row in rows:
        promised = int(re.search(r"−(\d+) clash", row.text_content())[1])
        before = next(c.notes for c in jobs(song, timeline(song).span_of(V)).clashes)
        remedy = json.loads(row.xpath(".//button/@data-do")[0])
        after = EDITS[remedy.pop("kind")](**remedy).apply(song)
        left = next((c.notes for c in jobs(after, timeline(after).span_of(V)).clashes if c.layer.id == made), 0)
        assert before - left == promised > 0


def test_a_wrong_bass_in_a_loud_section_is_told_with_the_edit_that_brought_it(client, studio, song_id):
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["add_layer"]("kick-bass"))
    made = next(x.id for x in studio.head(song_id).song.layers if x.sound_key == "kick-bass")
    changes = json.dumps([[None, None, 0, 37, 3000, 100]])
    fields = dict(kind="change_notes", section_id=C, layer_id=made, phrase=0, changes=changes, how="fixed")
    answer = post(client, studio, song_id, f"tile:{C}:{made}:0:0", **fields)
    assert "Kick-bass in Chorus: D♭2 under C: a semitone above the root" in said(answer)
    fixed = post(client, studio, song_id, f"tile:{C}:{made}:0:0", kind="tune_low", section_id=C, layer_id=made)
    assert "semitone above" not in said(fixed) and line(studio.head(song_id).song, C, made).notes[0].pitch == 36


def test_makers_second_voices_and_copies_are_heard_before_they_are_made(client, studio, song_id):
    before = studio.head(song_id).song
    for query in (
        "kind=make_line&maker=bass-walking",
        "kind=second_voice&interval=third-above&onto=0",
        "kind=transform_line&transformation=octave-up",
        "",
    ):
        answer = client.get(
            f"/songs/{song_id}/bench/hear.wav?select=tile:{V}:{B}:0:0&section_id={V}&layer_id={B}&phrase=0&{query}"
        )
        assert answer.status_code == 200 and len(answer.data) > 100_000
    assert studio.head(song_id).song == before
    told = said(client.get(f"/songs/{song_id}/bench/copies?select=tile:{V}:{B}:0:0"))
    assert "an octave up" in told and re.search(r"[+-]\d\.\d\d", told)


def test_listening_to_one_layer_gives_other_sound_and_the_same_song(client, studio, song_id):
    revision = studio.head(song_id).revision_id
    keys = {
        q: client.get(f"/songs/{song_id}/keys/{revision}.json?{q}").json["keys"]
        for q in ("", f"alone={B}", f"off={K}", f"up={B}")
    }
    assert len({k[0] for k in keys.values()}) == 4
    wav = client.get(f"/songs/{song_id}/audio/{revision}/0/{keys[f'alone={B}'][0]}.wav?alone={B}")
    assert wav.status_code == 200 and len(wav.data) > 100_000


# in the browser ---------------------------------------------------------------------------------------------------


def open_bench(page, server, song=None, layer="Plucked bass", section="Verse", phrase=0):
    """The bench of a small song (or a given one) at a layer; the studio and the song's id."""
    studio = server[1]
    song_id = studio.add_song(song or small_song(), "Bench") if not isinstance(song, int) else song
    state = studio.head(song_id).song
    layer_id = next((x.id for x in state.layers if x.name == layer), 0)
    section_id = next(s.id for s in state.sections if s.name == section)
    page.goto(f"/songs/{song_id}/bench?select=tile:{section_id}:{layer_id}:{phrase}:0")
    page.wait_for_selector("#lanes")
    return studio, song_id


def shown(page, studio, song_id):
    """Wait until the page shows the newest state."""
    page.wait_for_function(
        "r => document.querySelector('#state [name=base]').value === r", arg=str(studio.head(song_id).revision_id)
    )


def pegs(page):
    return page.evaluate(
        "[...document.querySelectorAll('#plot .peg:not(.sketch)')].map((p) => "
        "[p.dataset.tick, p.dataset.pitch, p.dataset.ticks, p.dataset.velocity].map(Number))"
    )


def spot(page, tick, pitch):
    """Where on the page a tick and pitch lie on the ladder."""
    return page.evaluate(
        """([tick, pitch]) => { const plot = document.getElementById("plot"), box = plot.getBoundingClientRect();
        const y = JSON.parse(document.getElementById("bench-facts").textContent).rungs.find((r) => r[0] === pitch)[1];
        return [box.left + (box.width * tick) / Number(plot.dataset.length), box.top + y]; }""",
        [tick, pitch],
    )


@pytest.mark.browser
def test_notes_are_drawn_moved_stretched_and_taken_out_by_hand(page, server):
    studio, song_id = open_bench(page, server, layer="Soft pad")
    heard = lambda: [(n.tick, n.pitch, n.duration, n.velocity) for n in line(studio.head(song_id).song, V, P).notes]  # noqa: E731
    x, y = spot(page, 960, 64)
    page.mouse.move(x + 4, y)
    page.mouse.down()
    page.mouse.move(*spot(page, 1920, 64))
    page.mouse.up()
    until(lambda: heard() == [(960, 64, 960, 96)])
    page.wait_for_function("() => document.querySelectorAll('#plot .peg:not(.sketch)').length === 1")
    page.mouse.move(*spot(page, 960, 64))
    page.mouse.down()
    page.mouse.move(*spot(page, 1440, 67))
    assert pegs(page)[0][:2] == [960, 64] and page.locator("#note-said").inner_text().startswith("G4 on beat 2.5")
    page.mouse.up()
    until(lambda: heard() == [(1440, 67, 960, 96)])
    page.wait_for_function("() => document.querySelector('#plot .peg:not(.sketch)').dataset.tick === '1440'")
    x, y = spot(page, 2400, 67)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(spot(page, 2880, 67)[0], y)
    page.mouse.up()
    until(lambda: heard() == [(1440, 67, 1440, 96)])
    page.wait_for_function("() => document.querySelector('#plot .peg:not(.sketch)').dataset.ticks === '1440'")
    assert "chosen" in page.locator("#plot .peg").first.get_attribute("class")
    page.keyboard.press("+")
    until(lambda: heard() == [(1440, 67, 1440, 104)])
    page.wait_for_function("() => document.querySelector('#plot .peg:not(.sketch)').dataset.velocity === '104'")
    page.keyboard.press("Delete")
    until(lambda: not heard())
    page.keyboard.press("Control+z")
    until(lambda: heard() == [(1440, 67, 1440, 104)])


@pytest.mark.browser
def test_the_ladder_the_lanes_and_the_layers_answer_to_keys(page, server):
    studio, song_id = open_bench(page, server, layer="Soft pad")
    song = lambda: studio.head(song_id).song  # noqa: E731
    page.focus("#plot")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowUp")
    assert ": rests" in page.locator("#note-said").inner_text() and page.locator("#ladder-cursor").is_visible()
    page.keyboard.press("Space")
    until(lambda: len(line(song(), V, P).notes) == 1)
    first = line(song(), V, P).notes[0]
    assert first.tick == 240
    shown(page, studio, song_id)
    page.keyboard.press("Shift+ArrowDown")
    until(lambda: line(song(), V, P).notes[0].pitch < first.pitch)
    shown(page, studio, song_id)
    page.keyboard.press(".")
    until(lambda: line(song(), V, P).notes[0].duration == first.duration + 240)
    shown(page, studio, song_id)
    page.keyboard.press("/")
    page.wait_for_selector("#notice >> text=does not slide")
    page.focus("#lanes")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Space")
    page.wait_for_function("() => document.querySelectorAll('.lane-hit').length > 16")
    assert any(x.sound.drum == "snare" for x in song().layers)
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("s")
    assert page.locator("[data-layer].chosen .heard-as").inner_text() == "alone"
    assert page.evaluate("window.escalera.player.listening") == f"alone={P}"
    page.keyboard.press("s")
    page.keyboard.press("m")
    assert page.evaluate("window.escalera.player.listening") == f"off={P}"
    page.keyboard.press("]")
    page.wait_for_function("() => document.querySelector('[data-layer].chosen').textContent.includes('Plucked bass')")
    page.keyboard.press("PageDown")
    page.wait_for_function("() => document.querySelector('[data-phrase].chosen').dataset.phrase === '1'")
    page.keyboard.press("}")
    page.wait_for_function("() => document.querySelector('#bench-section').selectedOptions[0].text === 'Chorus'")
    page.keyboard.press("e")
    page.fill("#chords", "C | Em | F | G7")
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('.ladder-chords').textContent.includes('Em')")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("w")
    page.wait_for_selector("#inspector h2 >> text=Plucked bass")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("w")
    page.wait_for_selector(".bench")
    assert page.evaluate("document.querySelector('#bench-section').selectedOptions[0].text") == "Chorus"
    assert page.locator("[data-layer].chosen").inner_text().startswith("Plucked bass")


@pytest.mark.browser
def test_a_line_is_recorded_from_keys_after_a_count_in_and_an_empty_one_says_so(page, server):
    studio, song_id = open_bench(page, server, layer="Soft pad")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("v")
    page.wait_for_function("() => window.escalera.player.playing")
    assert (
        page.locator("#record").inner_text() == "Stop and keep"
        and page.evaluate("window.escalera.player.counting.length") == 4
    )
    assert page.locator(".rung-names .letter").count() >= 7
    page.wait_for_function("() => window.escalera.player.moment() > 0.9 && window.escalera.player.moment() < 4")
    page.keyboard.down("a")
    page.wait_for_timeout(250)
    page.keyboard.up("a")
    page.keyboard.press("d")
    before = page.evaluate("JSON.parse(document.getElementById('bench-facts').textContent).letters.A")
    page.keyboard.press("Escape")
    until(lambda: len(line(studio.head(song_id).song, V, P).notes) == 2)
    first, second = line(studio.head(song_id).song, V, P).notes
    assert (first.pitch, second.pitch) == (before, before + 4) and first.tick % 240 == 0 and second.tick >= first.tick
    assert first.duration >= 240 and 1440 <= first.tick <= 9000
    shown(page, studio, song_id)
    page.keyboard.press("v")
    page.wait_for_function("() => document.getElementById('record').getAttribute('aria-pressed') === 'true'")
    page.keyboard.press("Escape")
    page.wait_for_selector("#notice >> text=The recording holds no note")
    assert len(line(studio.head(song_id).song, V, P).notes) == 2


@pytest.mark.browser
def test_a_bass_is_made_from_the_kick_heard_and_loops_with_its_neighbours(page, server):
    studio, song_id = open_bench(page, server)
    page.click("[data-tab=make]")
    form = page.locator("form.maker-row", has_text="Locked to the kick")
    form.locator("[data-hear-form]").click()
    page.wait_for_selector(".sounding")
    form.locator("button:text-is('Make')").click()
    until(lambda: [n.tick for n in line(studio.head(song_id).song).notes] == [960 * i for i in range(16)])
    assert {n.tick for n in line(studio.head(song_id).song, phrase=1).notes} == {480 * i for i in range(32)}, (
        "only here"
    )
    page.select_option("#loop-what", "hole")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("l")
    page.wait_for_function("() => window.escalera.player.playing")
    loop = page.evaluate("window.escalera.player.loop")
    assert (loop["from"], loop["to"]) == (0, pytest.approx(20.0)), "no section before; two bars of the one after"
    page.keyboard.press("}")
    page.wait_for_function("() => document.querySelector('#bench-section').selectedOptions[0].text === 'Chorus'")
    page.reload()
    page.wait_for_selector(".bench")
    assert page.evaluate("document.getElementById('loop-what').value") == "hole" and page.evaluate(
        "Boolean(window.escalera.player.loop)"
    )


@pytest.mark.browser
@pytest.mark.parametrize("title", ["Harbour Stairs", "Paper Engines"])
def test_every_line_of_the_demo_songs_opens_on_the_bench_and_can_be_changed(page, server, title):
    studio = server[1]
    song_id = next(card.id for card in studio.shelf() if card.title == title)
    song = studio.head(song_id).song
    for section in song.sections[:4]:
        for layer in [
            x for x in song.layers if any(p.layer_id == x.id for p in section.placements) and not x.sound.is_drum
        ]:
            found = line_in(song, timeline(song).span_of(section.id), 0, layer)
            if found.notes and layer.sound.register[0] < layer.sound.register[1]:
                page.goto(f"/songs/{song_id}/bench?select=tile:{section.id}:{layer.id}:0:0")
                assert pegs(page) == [[n.tick, n.pitch, n.duration, n.velocity] for n in found.notes]
                break
    n = found.notes[0]
    page.locator(f"#plot .peg[data-tick='{n.tick}'][data-pitch='{n.pitch}'] .head").click()
    page.keyboard.press("-")
    until(
        lambda: (
            line_in(studio.head(song_id).song, timeline(studio.head(song_id).song).span_of(section.id), 0, layer)
            .at(n.tick, n.pitch)
            .velocity
            == n.velocity - 8
        )
    )
    page.keyboard.press("Control+z")
    until(lambda: studio.head(song_id).song == song)


@pytest.mark.browser
@pytest.mark.parametrize("way", [w for w in WAYS if w.first], ids=lambda w: w.key)
def test_each_way_in_reaches_a_loop_of_four_layers_in_a_few_key_presses(page, server, way):
    studio, started = server[1], time.monotonic()
    page.goto("/")
    page.keyboard.press(way.digit)
    page.wait_for_selector(".bench")
    page.wait_for_function("() => window.escalera")
    song_id = int(page.url.split("/songs/")[1].split("/")[0])
    layers = lambda: sounding_layers(studio.head(song_id).song, studio.head(song_id).song.sections[0])  # noqa: E731
    assert layers() and page.evaluate("document.querySelector('#bench-section').selectedOptions[0].text") == "Idea"
    while len(layers()) < 4:
        count = len(layers())
        page.keyboard.press("1")
        until(lambda: len(layers()) > count)  # noqa: B023
        shown(page, studio, song_id)
    page.wait_for_function(
        "() => window.escalera.player.playing && window.escalera.player.loop && window.escalera.player.level() > 0"
    )
    assert time.monotonic() - started < 60


@pytest.mark.browser
def test_an_idea_is_caught_from_the_shelf_before_anything_is_named(page, server):
    studio = server[1]
    page.goto("/")
    page.keyboard.press("i")
    page.wait_for_selector("#capture[open]")
    page.keyboard.press("Enter")
    page.wait_for_selector("#notice >> text=Nothing was played yet")
    hand = [(0, 700, k) for k in "adg"] + [(1000, 700, k) for k in "sfh"]  # when, how long in ms, which letter
    arrows = [(t, 50, k) for t, k in ((0, "ArrowDown"), (500, "ArrowUp"), (1000, "ArrowDown"), (1500, "ArrowUp"))]
    page.evaluate(
        """(rows) => { const events = rows.flatMap(([at, long, key]) => [[at, "keydown", key], [at + long, "keyup", key]]).sort((a, b) => a[0] - b[0]);
        for (const [at, type, key] of events) { const event = new KeyboardEvent(type, { key, code: key.length > 1 ? key : `Key${key.toUpperCase()}`, bubbles: true, cancelable: true });
        Object.defineProperty(event, "timeStamp", { value: 5000 + at }); document.body.dispatchEvent(event); } }""",
        [*hand, *arrows],
    )
    assert page.locator("#caught").inner_text() == "Caught: 6 notes, 4 taps."
    page.keyboard.press("Enter")
    page.wait_for_selector(".bench")
    song = studio.head(int(page.url.split("/songs/")[1].split("/")[0])).song
    assert song.title.startswith("Idea of ") and [str(c) for _, c in song.progression.changes][:2] == ["C", "Dm"]
    assert {x.family for x in sounding_layers(song, song.sections[0])} >= {"chords", "drums"}


def test_chords_are_written_as_they_sound_in_a_section_that_is_raised(client, studio):
    song_id = studio.add_song(EDITS["shift_section"](C, 2).apply(small_song()), "Raised")
    page = tree(client.get(f"/songs/{song_id}/bench?select=tile:{C}:{B}:0:0"))
    assert page.xpath("//input[@id='chords']/@value") == ["D | Bm | G | A"]
    post(client, studio, song_id, f"tile:{C}:{B}:0:0", kind="set_chords_here", chords="D | G | D | A7")
    song = studio.head(song_id).song
    assert [str(c) for _, c in song.progression.changes] == ["C", "F", "C", "G7"] and song.section_by_id[
        C
    ].progression is None
    post(client, studio, song_id, f"tile:{C}:{B}:0:0", kind="set_chords_here", chords="Em", here="1")
    song = studio.head(song_id).song
    assert [str(c) for _, c in song.section_by_id[C].progression.changes] == ["Dm"] and len(
        song.progression.changes
    ) == 4


@pytest.mark.browser
@pytest.mark.parametrize("width", [1024, 1280])
def test_the_bench_and_its_panels_are_legible_and_inside_the_window(page, server, width):
    page.set_viewport_size({"width": width, "height": 800})
    song_id = next(card.id for card in server[1].shelf() if card.title == "Harbour Stairs")
    open_bench(page, server, song_id, "Glass bell", "Chorus 2")
    assert page.evaluate(
        "() => document.documentElement.scrollWidth <= innerWidth && "
        "[...document.querySelectorAll('.songbar > *, .rail-row > *')].every((e) => "
        "e.getBoundingClientRect().right <= innerWidth)"
    )
    for tab in ("line", "make", "layers", "tune"):
        page.click(f"[data-tab={tab}]")
        page.wait_for_function("tab => document.getElementById(`panel-${tab}`).textContent.trim().length > 40", arg=tab)
        assert not trouble_of(page), tab
    page.evaluate("() => { document.documentElement.dataset.theme = 'evening'; }")
    assert not trouble_of(page)
