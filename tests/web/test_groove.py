"""The groove page, as fragments and in a real browser: said, tapped, found, drawn, varied."""

import io
import json
import re
from pathlib import Path

import mido
import pytest
import soundfile

from escalera.core.reading.groove_reading import groove_at, phrase_beat
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.spoken_beats import parse_spoken
from escalera.core.time.metre import Metre
from escalera.services.groove_library import alike, feel_of, groove_of_midi, groove_table, midi_of_groove
from escalera.services.library import grooves
from escalera.services.new_song import new_song
from tests.songs import ids, small_song
from tests.web.driving import open_song, said, settled, shown, tree, trouble_of, until

NAME = ids(small_song())
V, C, K = (NAME[n] for n in ("Verse", "Chorus", "Round kick"))
HERE = f"section:{V}:0:0:0"


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def post(client, studio, song_id, path="edits", **fields):
    base = fields.pop("base", studio.head(song_id).revision_id)
    return client.post(
        f"/songs/{song_id}/groove/{path}", data={"base": base, "select": HERE, **fields}, headers={"HX-Request": "true"}
    )


def beat_of(song, section=0, phrase=0):
    return [(h.tick, h.drum) for h in phrase_beat(song, timeline(song).spans[section], phrase).hits]


FOUR = [(0, "kick"), (960, "kick"), (1920, "kick"), (2880, "kick")]


# fragments --------------------------------------------------------------------------------------------------------


def test_a_hit_makes_the_beat_a_groove_wherever_it_plays_and_says_what_it_changed(client, studio, song_id):
    answer = post(client, studio, song_id, kind="hit", drum="snare", tick=960, velocity=110)
    song = studio.head(song_id).song
    assert beat_of(song) == beat_of(song, 1, 1) == sorted([*FOUR, (960, "snare")], key=lambda h: (h[0], h[1] != "kick"))
    page = tree(answer)
    assert (
        page.xpath("//input[@id='spoken']/@value") == ["boom boom+ka boom boom"]
        and len(page.xpath("//*[contains(@class,'groove-dot')]")) == 5
    )
    effect = page.xpath("string(//*[@class='energy-note'])")
    assert re.search(r"energy \d+\.\d \+\d\.\d\d", " ".join(effect.split())), effect
    assert studio.history(song_id)[0].summary.endswith("snare at beat 2 at 110")


@pytest.mark.parametrize(("fields", "says"), [
    (dict(kind="say", spoken="boom zap"), "Bar 1, beat 2: “zap” is not a word"), (dict(kind="say", spoken=""), "Nothing is said yet"), (dict(kind="hit", drum="gong", tick=0), "is not a drum"),
    (dict(kind="hit", drum="kick", tick=99999), "lies outside the beat"), (dict(kind="take_groove", key="none"), "is not in the library"), (dict(kind="tap", taps="0:l,1:h"), "2 taps are too few"),
    (dict(kind="tap", taps="x"), "cannot be read"), (dict(kind="vary_beat", variation="louder"), "is not a variation"), (dict(kind="say", spoken=" | ".join(["boom"] * 5), anew=1), "has 5 bars, longer than the 4 of this place"),
])  # fmt: skip
def test_what_cannot_be_done_says_why_and_changes_nothing(client, studio, song_id, fields, says):
    before = studio.head(song_id).song
    answer = post(client, studio, song_id, **fields)
    assert answer.status_code in (400, 422) and says in said(answer) and studio.head(song_id).song == before


def test_beats_are_said_tapped_found_varied_and_filled(client, studio, song_id):
    post(client, studio, song_id, kind="say", spoken="boom ka boom-boom ka", anew=1)
    assert [h[1] for h in beat_of(studio.head(song_id).song)] == ["kick", "snare", "kick", "kick", "snare"]
    taps = ",".join(f"{t:.3f}:{d}" for t, d in ((0, "l"), (0.5, "h"), (1.0, "l"), (1.5, "h"), (2.0, "l"), (2.5, "h")))
    assert "boom ka boom ka" in said(
        client.get(f"/songs/{song_id}/groove/tapped", query_string={"taps": taps, "select": HERE})
    )
    post(client, studio, song_id, kind="tap", taps=taps)
    assert beat_of(studio.head(song_id).song) == [(0, "kick"), (960, "snare"), (1920, "kick"), (2880, "snare")]
    post(client, studio, song_id, kind="take_groove", key="straight-backbeat")
    song = studio.head(song_id).song
    assert groove_at(song, song.sections[0], 0, 3840).name == "Straight backbeat" and (480, "closed hat") in beat_of(
        song
    )
    post(client, studio, song_id, kind="vary_beat", variation="lead-ride")
    assert (480, "ride") in beat_of(studio.head(song_id).song)
    post(client, studio, song_id, kind="take_fill", key="two-snares", everywhere="1")
    song = studio.head(song_id).song
    assert (3 * 3840 + 2880, "snare") in beat_of(song, 0, 0) and (3 * 3840 + 3360, "snare") in beat_of(song, 0, 1)
    page = said(client.get(f"/songs/{song_id}/groove", query_string={"select": HERE}))
    assert "Phrase 1 ends with Two snares" in page and "Variants, kept together" in page
    again = post(client, studio, song_id, kind="take_fill", key="two-snares")
    assert again.status_code == 422 and "already. Replace it, or play this one over it" in said(again)
    post(client, studio, song_id, kind="remove_fill")
    assert (3 * 3840 + 2880, "snare") not in beat_of(studio.head(song_id).song)
    before = len([h for h in beat_of(studio.head(song_id).song) if h[1] == "kick"])
    page = said(post(client, studio, song_id, kind="drum_density", drum="kick", steps="1"))
    assert len([h for h in beat_of(studio.head(song_id).song) if h[1] == "kick"]) > before and "kick 4 a bar" in page
    post(client, studio, song_id, kind="roll_hits", drum="closed hat", tick="2880", value="1/32", beats="1")
    assert (2880 + 120, "closed hat") in beat_of(studio.head(song_id).song)
    page = said(post(client, studio, song_id, kind="groove_family", everywhere="true"))
    assert "hats open; crash on the one" in page
    asked = {"taps": taps, "select": HERE, "has": "low tom", "from": "9"}
    near = said(client.get(f"/songs/{song_id}/groove/tapped", query_string=asked))
    assert "use" in near and "Your beat stays the start" in near


def test_a_word_is_taught_and_understood(client, studio, song_id):
    heard = client.get(f"/songs/{song_id}/groove/listen", query_string={"spoken": "boom bap", "select": HERE})
    assert "bar 1, beat 2: “bap” is not a word" in said(heard) and tree(heard).xpath(
        "//input[@name='word']/@value"
    ) == ["bap"]
    post(client, studio, song_id, kind="teach_word", word="bap", drum="snare")
    assert "2 hits in 1 bar" in said(
        client.get(f"/songs/{song_id}/groove/listen", query_string={"spoken": "boom bap", "select": HERE})
    )


def test_a_hit_says_what_it_gives(client, studio, song_id):
    text = said(client.get(f"/songs/{song_id}/groove/hit", query_string={"select": HERE, "drum": "kick", "tick": 960}))
    assert re.search(
        r"kick at beat 2, velocity 100: gives the section [+-]\d\.\d\d energy, [+-]\d\.\d\d of it drive", text
    )
    assert (
        client.get(f"/songs/{song_id}/groove/hit", query_string={"select": HERE, "drum": "ride", "tick": 0}).status_code
        == 204
    )


def test_a_drum_track_comes_in_with_its_timing_and_a_groove_goes_out_and_back(client, studio, song_id):
    loose = [(0, 36), (500, 42), (955, 38), (1460, 42), (1925, 36), (2420, 42), (2885, 38), (3380, 42)]
    file = mido.MidiFile(ticks_per_beat=960)
    track = mido.MidiTrack()
    file.tracks.append(track)
    at = 0
    for tick, note in [*loose, (3600, 99)]:
        track.append(mido.Message("note_on", channel=9, note=note, velocity=90, time=tick - at))
        track.append(mido.Message("note_off", channel=9, note=note, time=20))
        at = tick + 20
    out = io.BytesIO()
    file.save(file=out)
    answer = client.post(
        f"/songs/{song_id}/groove/bring",
        data={
            "base": studio.head(song_id).revision_id,
            "select": HERE,
            "file": (io.BytesIO(out.getvalue()), "loop.mid"),
        },
        headers={"HX-Request": "true"},
    )
    assert "Notes 99 are no known drums" in said(answer) and "looseness" in said(answer)
    assert [t for t, _ in beat_of(studio.head(song_id).song)] == [t for t, _ in loose], "nothing is moved"
    back = client.get(f"/songs/{song_id}/groove/groove.mid", query_string={"select": HERE})
    assert groove_of_midi("back.mid", back.data).beat.hits == groove_of_midi("loop.mid", out.getvalue()).beat.hits
    none = client.post(
        f"/songs/{song_id}/groove/bring",
        data={"base": studio.head(song_id).revision_id, "select": HERE, "file": (io.BytesIO(b"x"), "x.mid")},
        headers={"HX-Request": "true"},
    )
    assert none.status_code == 422


def test_a_beat_is_heard_by_itself(client, studio, song_id):
    for query in ({}, {"key": "plain-four"}, {"spoken": "boom ka"}, {"taps": "0:l,0.5:h,1:l,1.5:h"}):
        answer = client.get(f"/songs/{song_id}/groove/hear.wav", query_string={"select": HERE, **query})
        audio, _ = soundfile.read(io.BytesIO(answer.data))
        assert abs(audio).max() > 0.02, query
    assert client.get(f"/songs/{song_id}/groove/hear.wav", query_string={"spoken": ". ."}).status_code == 422


@pytest.mark.parametrize("swing", [0.5, 0.58, 0.66])
def test_swing_and_looseness_of_a_played_groove_are_measured(swing):
    straight = parse_spoken("ts-ts ts-ts ts-ts ts-ts", Metre())
    played = straight.with_hits(
        h.__class__(h.tick if h.tick % 960 == 0 else h.tick - 480 + round(960 * swing), h.drum, h.velocity)
        for h in straight.hits
    )
    found, loose = feel_of(played, 120)
    assert found == pytest.approx(swing, abs=0.005) and loose < 1
    assert groove_of_midi("x.mid", midi_of_groove("x", played, 120)).swing == pytest.approx(swing, abs=0.005)


def test_a_groove_with_a_hit_more_finds_the_groove_it_came_from():
    for entry in list(grooves().values())[::7]:
        if entry.role != "ends":
            odd = entry.beat.with_hits(
                [*entry.beat.hits, entry.beat.hits[0].__class__(entry.beat.metre.beat_ticks // 2, "cowbell", 80)]
            )
            found = alike(odd)
            assert entry.key in [a.key for a in found[:2]] and ("less", "cowbell") in [
                (c.kind, c.drum) for c in found[0].changes
            ]


def test_the_table_of_grooves_in_the_documents_is_true():
    assert Path("docs/grooves.md").read_text("utf-8") == groove_table(), "renew it with tools/list_grooves.py"


# in the browser ------------------------------------------------------------------------------------------------------


def open_groove(page, server, title, section=0):
    song_id = open_song(page, server, title)
    chosen = server[1].head(song_id).song.sections[section]
    page.goto(f"/songs/{song_id}/groove?select=section:{chosen.id}:0:0:0")
    page.wait_for_function("() => window.escalera && document.querySelector('#lane-plot')")
    return song_id


def spoken(page):
    return page.locator("#spoken").input_value()


@pytest.mark.browser
def test_a_beat_is_drawn_by_hand_and_keys_and_the_loop_changes(page, server):
    song_id = open_groove(page, server, "Paper Engines", 3)
    studio = server[1]
    first = studio.head(song_id)
    page.keyboard.press("l")
    page.wait_for_function(
        "() => window.escalera.player.playing && window.escalera.player.segments.length", timeout=60_000
    )
    playing = page.evaluate("window.escalera.player.segments[0].key")
    box = page.locator("#lane-plot").bounding_box()
    snare = next(y for d, y in json.loads(page.locator("#lanes").text_content()) if d == "snare")
    bars = len(page.locator(".groove-label.bar").all())
    page.mouse.click(box["x"] + box["width"] * 7 / (16 * bars), box["y"] + snare)
    drawn = settled(page, studio, song_id, first.revision_id)
    assert (1680, "snare") in [(h.tick, h.drum) for h in phrase_beat(drawn.song, timeline(drawn.song).spans[3], 0).hits]
    page.wait_for_function(
        "old => window.escalera.player.segments.some(s => s.key !== old)", arg=playing, timeout=30_000
    )
    page.wait_for_function("() => document.querySelector('#hit-said').textContent.includes('gives the section')")
    page.keyboard.press(" ") if page.evaluate("document.activeElement.id") != "lane-plot" else page.locator(
        "#play"
    ).click()
    page.locator("#lane-plot").focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("-")
    page.keyboard.press(" ")
    drawn_again = settled(page, studio, song_id, drawn.revision_id)
    assert drawn_again.song != drawn.song and page.evaluate("document.activeElement.id") == "lane-plot"
    page.keyboard.press("Control+z")
    undone = settled(page, studio, song_id, drawn_again.revision_id)
    assert undone.song == drawn.song
    page.keyboard.press("h")
    page.locator("#history[open] li.undone [data-state]").first.click()
    assert settled(page, studio, song_id, undone.revision_id).song == drawn_again.song
    assert page.locator("#lane-plot").is_visible() and not page.locator("#history[open]").count()


@pytest.mark.browser
def test_a_beat_is_said_corrected_varied_and_found(page, server):
    song_id = open_groove(page, server, "Harbour Stairs", 3)
    studio = server[1]
    first = studio.head(song_id)
    page.keyboard.press("s")
    page.locator("#spoken").fill("boom ka boom-zap ka")
    page.wait_for_selector("[data-offer]")
    page.keyboard.press("Enter")
    page.wait_for_selector("#notice.error")
    assert spoken(page) == "boom ka boom-zap ka" and studio.head(song_id).revision_id == first.revision_id
    page.locator("[data-offer='ka']").click()
    page.locator("#spoken").focus()
    page.keyboard.press("Enter")
    second = settled(page, studio, song_id, first.revision_id)
    assert spoken(page) == "boom ka boom-ka ka"
    page.locator("#spoken").evaluate("field => field.blur()")
    page.locator("[data-tab=vary]").click()
    page.locator("[data-do*='crash-one']").click()
    third = settled(page, studio, song_id, second.revision_id)
    assert spoken(page).startswith("boom+pish") and third.song.grooves[-1].variant_of == third.song.grooves[-2].id
    page.wait_for_selector(".variants li:has(.chosen) >> text=crash on the one")
    page.locator("[data-tab=near]").click()
    page.locator(".near-changes button").first.click()
    assert settled(page, studio, song_id, third.revision_id).song != third.song
    page.locator("[data-tab=library]").click()
    page.locator("#find-groove").fill("half time heavy")
    with page.expect_response(lambda r: "hear.wav" in r.url and r.ok):
        page.locator(".library li:not([hidden]) [data-hear-key]").click()
    now = studio.head(song_id).revision_id
    page.locator(".library li:not([hidden]) [data-do]").first.click()
    assert settled(page, studio, song_id, now).song.grooves[-1].name == "Heavy half time"


@pytest.mark.browser
def test_a_beat_is_tapped_and_taken(page, server):
    song_id = open_groove(page, server, "Harbour Stairs", 1)
    studio = server[1]
    before = studio.head(song_id).revision_id
    page.evaluate("""() => { const beat = 60 / 104, at = [0, 1, 2, 2.5, 3, 4, 5, 6, 6.5, 7], pads = "fjffjfjffj";
      at.forEach((t, i) => { const e = new KeyboardEvent("keydown", { key: pads[i], bubbles: true }); Object.defineProperty(e, "timeStamp", { value: 3000 + 1000 * beat * t + 7 * (i % 3) }); document.body.dispatchEvent(e); }); }""")
    page.wait_for_selector("#tapped >> text=boom ka boom-boom ka")
    assert "ms loose on eighths" in page.locator("#tapped").inner_text()
    page.locator("[data-take-taps]").first.click()
    settled(page, studio, song_id, before)
    assert spoken(page) == "boom ka boom-boom ka" and page.locator("#score h1").inner_text() == "Tapped beat"


@pytest.mark.browser
def test_swing_a_pair_and_a_file_from_the_page(page, server, tmp_path):
    song_id = open_groove(page, server, "Paper Engines", 1)
    studio = server[1]
    section = studio.head(song_id).song.sections[1]
    page.locator("[data-tab=timing]").click()
    page.locator("#panel-timing input[name=percent]").first.fill("60")
    page.locator("#panel-timing form .btn-line").first.click()
    until(lambda: [s.ratio for s in studio.head(song_id).song.section_by_id[section.id].swings] == [0.6])
    file = tmp_path / "beat.mid"
    file.write_bytes(midi_of_groove("In", parse_spoken("boom ka boom ka | boom ka boom-boom ka", Metre()), 126))
    page.locator("#bring input[type=file]").set_input_files(str(file))
    page.locator("[data-tab=drum]").click()
    page.locator("form[data-edit=wide_pair] button").click()
    until(lambda: any([p.reason for p in x.stack].count("wide pair") == 2 for x in studio.head(song_id).song.layers))
    shown(page, studio, song_id)
    page.locator("[data-tab=files]").click()
    page.locator("#bring button").click()  # the chosen file outlived the answer to the edit before
    page.wait_for_selector("#notice >> text=the timing was kept")
    assert spoken(page) == "boom ka boom ka | boom ka boom-boom ka"


@pytest.mark.browser
@pytest.mark.parametrize("theme", ["evening"])
def test_the_groove_page_is_accessible_and_fits(page, server, theme):
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    open_groove(page, server, "Harbour Stairs", 3)
    for tab in ("near", "library", "vary", "timing", "drum", "files"):
        page.locator(f"[data-tab={tab}]").click()
        page.wait_for_timeout(150)
        assert not trouble_of(page), tab
    for width in (1024, 1280):
        page.set_viewport_size({"width": width, "height": 800})
        assert page.evaluate(
            "document.documentElement.scrollWidth <= innerWidth && "
            "document.querySelector('.handrail').getBoundingClientRect().bottom <= innerHeight + "
            "1"
        )


def test_the_songs_own_groove_stands_in_the_library_and_is_placed_wherever_drums_play(page, server):
    studio = server[1]
    song_id = studio.add_song(new_song(form="short"), "New")
    song = studio.head(song_id).song
    page.goto(f"/songs/{song_id}/groove?select=section:{song.sections[2].id}:0:0:0")
    page.click("[data-tab='library']")
    own = page.locator(".library li[data-role='own']")
    assert own.count() >= 1 and page.locator(".library li:visible").count() > 20
    page.select_option("[data-groove-filter='has']", "ride")
    page.select_option("[data-groove-filter='role']", "beat")
    shown_drums = page.locator(".library li:visible").evaluate_all("rows => rows.map(r => r.dataset.drums)")
    assert shown_drums and all("ride" in d for d in shown_drums)
    page.select_option("[data-groove-filter='has']", "")
    page.select_option("[data-groove-filter='role']", "own")
    own.first.get_by_role("button", name="song").click()
    until(lambda: studio.head(song_id).song.sections != song.sections)
    assert "wherever drums play" in studio.history(song_id)[0].summary
