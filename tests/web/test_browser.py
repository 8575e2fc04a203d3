"""What a person does, in a real browser: making, moving, toggling, hearing, undoing, bringing in, taking away."""

import re
from pathlib import Path

import mido
import pytest

from escalera.web.drawing import UNIT
from tests.songs import small_song
from tests.web.driving import open_song, settled, until

pytestmark = pytest.mark.browser


def test_a_song_from_one_key_press(page, server):
    page.goto("/")
    page.keyboard.press("n")
    page.wait_for_selector("#stair")
    assert page.locator(".step-name").all_text_contents() == ["Idea"]
    assert page.locator(".tile.full").count() == 24
    page.get_by_role("link", name="Escalera").first.click()
    assert page.get_by_role("link", name="Untitled").count() == 1


def test_a_target_is_dragged_and_moved_by_keys(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    studio = server[1]
    head = studio.head(song_id)
    section = head.song.sections[7]
    tread = page.locator(f"#tread-{section.id}")
    box = tread.bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2 - 2 * UNIT, steps=4)
    page.mouse.up()
    dragged = settled(page, studio, song_id, head.revision_id)
    assert dragged.song.section_by_id[section.id].target.start == pytest.approx(section.target.start + 2.0, abs=0.15)
    page.locator(f"#tread-{section.id}").focus()
    for _ in range(3):
        page.keyboard.press("ArrowDown")
    want = f"{dragged.song.section_by_id[section.id].target.end - 0.3:.1f}"
    page.wait_for_function(  # however the presses were gathered into edits, all three count
        "([id, want]) => !document.querySelector('.htmx-request') && document.getElementById(id).dataset.end === want",
        arg=[f"tread-{section.id}", want],
    )
    until(lambda: f"{studio.head(song_id).song.section_by_id[section.id].target.end:.1f}" == want)
    assert page.evaluate("document.activeElement.id") == f"tread-{section.id}"


def test_tiles_are_toggled_by_click_and_keys_undone_and_redone(page, server):
    song_id = open_song(page, server, "Paper Engines")
    studio = server[1]
    head = studio.head(song_id)
    hats = next(x for x in head.song.layers if x.name == "Closed hats")
    name = f"#t{head.song.sections[4].id}-{hats.id}-0"
    assert "empty" in page.locator(name).get_attribute("class")
    page.locator(name).click()
    first = settled(page, studio, song_id, head.revision_id)
    assert "full" in page.locator(name).get_attribute("class")
    page.keyboard.press("ArrowRight")
    page.keyboard.press(" ")
    second = settled(page, studio, song_id, first.revision_id)
    assert page.locator(name.replace("-0", "-1")).get_attribute("aria-selected") == "true"
    page.keyboard.press("Control+z")
    settled(page, studio, song_id, second.revision_id)
    page.get_by_role("button", name="Undo").click()
    back = settled(page, studio, song_id, first.revision_id)
    assert back.revision_id == head.revision_id and back.song == head.song
    page.wait_for_selector(f"{name}.empty")
    page.get_by_role("button", name="Redo").click()
    assert settled(page, studio, song_id, back.revision_id).song == first.song


def test_quick_clicks_are_queued_and_none_is_lost(page, server):
    song_id = open_song(page, server, "Paper Engines")
    studio = server[1]
    tiles = [t.get_attribute("id") for t in page.locator(".tile.empty").all()[:5]]
    page.evaluate("ids => ids.forEach(id => document.getElementById(id).click())", tiles)
    page.wait_for_function(
        "ids => ids.every(id => !document.getElementById(id).classList.contains('empty'))", arg=tiles
    )
    assert [e.summary.split()[0] for e in studio.history(song_id)[:5]] == ["Placed"] * 5


def test_what_is_played_is_what_was_rendered(page, server):
    """The analyser reads the true samples: sound is there, at the right place and level, and a loop comes round."""
    song_id = open_song(page, server, "Harbour Stairs")
    studio = server[1]
    song = studio.head(song_id).song
    chorus = next(s for s in song.sections if s.name == "Chorus 1")
    page.locator(f"[data-select='section:{chorus.id}'] .step-ground").click(position={"x": 5, "y": 5})
    page.wait_for_function("() => document.getElementById('loop').textContent.includes('Chorus 1')")
    page.keyboard.press("l")
    page.wait_for_function(
        "() => window.escalera.player.playing && window.escalera.player.level() > 0.01", timeout=30_000
    )
    page.wait_for_timeout(900)
    index = song.index_of(chorus.id)
    heard = page.evaluate("""async () => {
      const p = window.escalera.player, a = new Float32Array(2048);
      p.analyser.getFloatTimeDomainData(a);
      return { at: p.position(), rms: Math.sqrt(a.reduce((t, x) => t + x * x, 0) / a.length), bar: document.querySelector('#position b').textContent, gain: p.gain.gain.value };
    }""")
    from escalera.core.reading.timeline import timeline

    line = timeline(song)
    start = line.spans[index].start_seconds
    assert start <= heard["at"] <= start + 4 and heard["bar"].split(".")[0] in ("29", "30")
    audio = studio.rendering.renderer.chunk(song, line, index).mean(axis=0)
    at = int((heard["at"] - start) * 44_100)
    window = audio[max(0, at - 6000) : at + 6000]
    expected = float((window**2).mean() ** 0.5) * heard["gain"]
    assert 0.2 * expected < heard["rms"] < 5 * expected
    assert heard["gain"] <= 10 ** (-12 / 20) + 0.01, "it starts quiet"
    page.evaluate("window.escalera.player.play(window.escalera.player.loop.to - 0.4)")
    page.wait_for_function(
        "() => window.escalera.player.position() < window.escalera.player.loop.from + 2", timeout=8000
    )
    page.keyboard.press(" ")
    page.wait_for_function("() => !window.escalera.player.playing")


def test_an_edit_while_playing_changes_what_sounds_without_stopping(page, server):
    song_id = open_song(page, server, "Paper Engines")
    studio = server[1]
    head = studio.head(song_id)
    page.locator("#loop").click()
    page.wait_for_function(
        "() => window.escalera.player.playing && window.escalera.player.segments.length > 0", timeout=30_000
    )
    before = page.evaluate("window.escalera.player.segments[0].key")
    haze = next(x for x in head.song.layers if x.name == "Haze")
    page.locator(f"#t{head.song.sections[0].id}-{haze.id}-3").click()
    settled(page, studio, song_id, head.revision_id)
    page.wait_for_function(
        "old => window.escalera.player.segments.some(s => s.key !== old && s.index === 0)", arg=before, timeout=45_000
    )
    assert (
        page.evaluate("window.escalera.player.playing && window.escalera.player.loop?.section")
        == head.song.sections[0].id
    )
    assert page.locator("#loop").get_attribute("aria-pressed") == "true", "a loop outlives an edit"


def test_a_wrong_value_is_refused_where_the_user_is_looking(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    before = server[1].head(song_id)
    page.locator(".song-title").click()
    page.get_by_label("Tempo").fill("999")
    page.get_by_label("Tempo").press("Enter")
    page.wait_for_selector("#notice.error")
    assert "999 bpm lies outside 30 to 300" in page.locator("#notice").inner_text()
    assert server[1].head(song_id) == before
    page.keyboard.press("Escape")


def test_the_measured_line_arrives_and_the_inspector_explains(page, server):
    open_song(page, server, "Harbour Stairs")
    page.wait_for_selector("polyline.measured", timeout=60_000)
    page.locator(".tread").nth(3).focus()
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Chorus 1'")
    text = page.locator("#inspector").inner_text()
    assert "against" in text and "drive" in text and re.search(r"\d\.\d = ", text)
    page.locator("#against").select_option(label="Break")
    page.wait_for_function("() => document.querySelector('#inspector').textContent.includes('Against Break')")


def test_a_file_of_another_program_is_worked_on_like_a_native_song(page, server, tmp_path):
    """Format 0 with running bars, markers and a drum channel: tiles toggle, patterns are shared, changes are heard."""
    track = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=500_000), mido.MetaMessage("marker", text="Verse")])
    for bar in range(8):
        if bar == 4:
            track.append(mido.MetaMessage("marker", text="Chorus"))
        for _ in range(4):
            track.append(mido.Message("note_on", note=36, velocity=100, channel=9, time=0))
            track.append(mido.Message("note_on", note=40 + (7 if bar >= 4 else 0), velocity=90, channel=2, time=0))
            track.append(mido.Message("note_on", note=36, velocity=0, channel=9, time=48))
            track.append(mido.Message("note_on", note=40 + (7 if bar >= 4 else 0), velocity=0, channel=2, time=48))
    file = mido.MidiFile(type=0, ticks_per_beat=96, tracks=[track])
    file.save(tmp_path / "theirs.mid")
    page.goto("/import")
    page.get_by_label("File").set_input_files(tmp_path / "theirs.mid")
    page.get_by_role("button", name="Import").click()
    page.wait_for_selector("#report")
    page.get_by_role("button", name="Open the song").click()
    song_id, studio = int(page.url.rsplit("/", 1)[1]), server[1]
    head = studio.head(song_id)
    assert page.locator(".step-name").all_text_contents() == ["Verse", "Chorus"]
    assert len(head.song.patterns) == 3, "four equal bars share a pattern"
    keys = [c.key for c in studio.rendering.chunks(head.song)]
    bass = next(x for x in head.song.layers if not x.sound.is_drum)
    page.locator(f"#t{head.song.sections[1].id}-{bass.id}-0").click()
    lifted = settled(page, studio, song_id, head.revision_id)
    changed = [c.key for c in studio.rendering.chunks(lifted.song)]
    assert changed[1] != keys[1]
    page.locator(f"#t{head.song.sections[1].id}-{bass.id}-0").click()
    filled = settled(page, studio, song_id, lifted.revision_id)
    assert {p.pattern_id for s in filled.song.sections for p in s.placements if p.layer_id == bass.id} <= {
        p.id for p in head.song.patterns
    }
    page.get_by_role("button", name="Play", exact=True).click()
    page.wait_for_function("() => window.escalera.player.level() > 0.003", timeout=30_000)


def test_the_song_is_taken_away_as_files(page, server, tmp_path):
    open_song(page, server, "Harbour Stairs")
    page.get_by_role("link", name="Export").click()
    with page.expect_download() as waiting:
        page.get_by_role("button", name="Export MIDI file").click()
    waiting.value.save_as(tmp_path / "out.mid")
    assert len(mido.MidiFile(tmp_path / "out.mid").tracks) == 1 + sum(
        not x.muted for x in server[1].head(2).song.layers
    )
    with page.expect_download(timeout=60_000) as waiting:
        page.get_by_role("button", name="16 bit WAV").click()
    assert page.locator("#job-wav [download]").is_visible(), "beside the button that was pressed"
    assert Path(waiting.value.path()).read_bytes()[:4] == b"RIFF"


@pytest.mark.parametrize("width", [1024, 1280])
def test_nothing_runs_out_of_the_window(page, server, width):
    page.set_viewport_size({"width": width, "height": 800})
    open_song(page, server, "Harbour Stairs")
    assert page.evaluate(
        "document.documentElement.scrollWidth <= innerWidth && "
        "document.querySelector('.handrail').getBoundingClientRect().bottom <= innerHeight + "
        "1"
    )
    assert page.evaluate(
        "[...document.querySelectorAll('.songbar > *, .rail-row > *')].every(e => "
        "e.getBoundingClientRect().right <= innerWidth)"
    )


def test_a_tile_is_opened_varied_and_its_notes_rewritten(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    studio = server[1]
    head = studio.head(song_id)
    keys = next(x for x in head.song.layers if x.name == "Felt piano")
    verse = next(s for s in head.song.sections if s.name == "Verse 1")
    page.locator(f"#t{verse.id}-{keys.id}-1").click(modifiers=["Shift"])
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Felt piano'")
    page.get_by_label("Keep").fill("0.5")
    page.get_by_role("button", name="Vary").click()
    varied = settled(page, studio, song_id, head.revision_id)
    page.wait_for_selector(f"#t{verse.id}-{keys.id}-1.thin")
    page.get_by_text("Notes of “").click()
    page.get_by_role("textbox", name="Notes").fill("t0:1:0 t1:1:x")
    page.get_by_role("button", name="Write").click()
    page.wait_for_selector("#notice.error")
    assert "Note 2, “t1:1:x”" in page.locator("#notice").inner_text()
    page.get_by_role("textbox", name="Notes").fill("t0:1:0 t2:1:2")
    page.get_by_role("button", name="Write").click()
    written = settled(page, studio, song_id, varied.revision_id)
    placement = next(p for p in written.song.section_by_id[verse.id].placements if p.layer_id == keys.id)
    assert len(written.song.pattern_by_id[placement.pattern_id].pattern) == 2


def test_what_would_help_stays_while_the_measurement_arrives(page, server):
    song_id = open_song(page, server, "Paper Engines")
    studio = server[1]
    head = studio.head(song_id)
    studio.rendering.renderer.cache.clear()
    section = next(s for s in head.song.sections if s.name == "Drop 2")
    page.goto(f"/songs/{song_id}?select=section:{section.id}")
    page.get_by_role("button", name="What would help?").click()
    page.wait_for_selector(".help-row")
    page.wait_for_selector("polyline.measured", timeout=60_000)
    assert page.locator(".help-row").count() == 3
    page.locator(".help-row button").first.click()
    tried = settled(page, studio, song_id, head.revision_id)
    from escalera.core.energy.model import arranged

    assert arranged(tried.song).of(section.id).value > arranged(head.song).of(section.id).value


def test_everything_has_a_key(page, server):
    """Help, loop, lead-in, start, tilting a tread, moving along sections and the wall, history, theme."""
    song_id = open_song(page, server, "Harbour Stairs")
    studio, head = server[1], server[1].head(song_id)
    page.keyboard.press("?")
    assert page.locator("#help").is_visible() and "energy by 0.1" in page.locator("#help").inner_text()
    page.keyboard.press("Escape")
    page.keyboard.press("d")
    assert page.evaluate("document.documentElement.dataset.theme") == "evening"
    verse = head.song.sections[1]
    page.locator(f"#tread-{verse.id}").focus()
    page.keyboard.press("}")
    page.keyboard.press("}")
    tilted = settled(page, studio, song_id, head.revision_id)
    assert tilted.song.section_by_id[verse.id].target.end == pytest.approx(verse.target.end + 0.2, abs=0.01)
    assert tilted.song.section_by_id[verse.id].target.start == verse.target.start
    page.keyboard.press("ArrowRight")
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Lift 1'")
    page.keyboard.press("b")
    two_bars_before = (
        "() => window.escalera.player.playing && document.querySelector('#position b').textContent.startsWith('23.')"
    )
    page.wait_for_function(two_bars_before, timeout=30_000)
    page.keyboard.press("p")
    page.wait_for_function("() => document.querySelector('#position b').textContent.startsWith('25.')")
    page.keyboard.press(" ")
    page.wait_for_function("() => !window.escalera.player.playing")
    page.keyboard.press("Home")
    page.wait_for_function("() => document.querySelector('#position b').textContent === '1.1'")
    page.keyboard.press("h")
    page.wait_for_selector("#history[open] li")
    assert "Target energy of Verse 1" in page.locator("#history").inner_text()
    page.keyboard.press("Escape")
    page.locator(".tile").first.focus()
    page.keyboard.press("End")
    page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.dataset.tile").endswith(":1")


def test_a_section_is_added_split_and_removed_from_the_inspector(page, server):
    song_id = open_song(page, server, "Paper Engines")
    studio, head = server[1], server[1].head(song_id)
    page.get_by_label("New section after it").fill("Bridge")
    page.get_by_role("button", name="Add", exact=True).click()
    added = settled(page, studio, song_id, head.revision_id)
    assert added.song.sections[1].name == "Bridge" and "Bridge" in page.locator("#stair").text_content()
    page.locator(f"#tread-{added.song.sections[1].id}").focus()
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelector('#inspector h2').textContent === 'Bridge'")
    page.get_by_text("Change this section").click()
    page.get_by_label("Split after").fill("3")
    page.get_by_role("button", name="Split").click()
    split = settled(page, studio, song_id, added.revision_id)
    assert [s.bars for s in split.song.sections[1:3]] == [3, 5]
    assert page.get_by_label("Split after").is_visible(), "what was folded open stays open"
    page.get_by_role("button", name="Remove").click()
    assert len(settled(page, studio, song_id, split.revision_id).song.sections) == len(head.song.sections) + 1


def layer_tab(page, name, tab):
    page.locator(".wall-name button", has_text=name).first.click()
    page.wait_for_selector("#inspector [role=tablist]")
    page.locator(f"[data-tab={tab}]").click()


def test_a_sound_is_found_heard_liked_and_taken_by_keys(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    studio, head = server[1], server[1].head(song_id)
    layer_tab(page, "Glass bell", "sound")
    page.locator("#panel-sound [data-sounds]").first.click()
    page.wait_for_selector("#sounds[open] .pick.chosen")
    assert page.evaluate("document.activeElement.closest('.pick').dataset.sound") == "glass-bell"
    page.locator("[data-find]").fill("wooden bar")
    assert page.locator(".pick:visible").count() == 1
    page.keyboard.press("ArrowDown")
    with page.expect_response(lambda r: "/sounds/wood-mallet.wav" in r.url and r.ok):
        page.keyboard.press(" ")
    page.wait_for_selector(".pick.sounding")
    with page.expect_response("**/wood-mallet/favourite"):
        page.keyboard.press("*")
    assert studio.favourites() == {"wood-mallet"}
    page.keyboard.press("Enter")
    after = settled(page, studio, song_id, head.revision_id)
    assert next(x for x in after.song.layers if x.name == "Glass bell").sound_key == "wood-mallet"
    assert not page.locator("#sounds").is_visible()
    page.get_by_role("button", name="Undo").click()
    settled(page, studio, song_id, after.revision_id)


def test_a_measurement_of_an_older_state_never_brings_it_back(page, server):
    studio, held = server[1], []
    song_id = studio.add_song(small_song(), "New")

    def hold(route):
        if held:  # answered by the server itself, so that none is on its way when the page closes
            route.continue_()
            return
        answer = route.fetch()
        if 'id="stair"' not in answer.text():
            route.fulfill(response=answer)
        else:
            held.append((route, answer))

    page.route("**/measured*", hold)
    page.goto(f"/songs/{song_id}")
    page.wait_for_function("() => window.escalera")
    for _ in range(600):
        if held:
            break
        page.wait_for_timeout(50)
    before = studio.head(song_id).revision_id
    page.locator(".tile").first.click()
    after = settled(page, studio, song_id, before).revision_id
    route, answer = held[0]
    route.fulfill(response=answer)
    page.wait_for_timeout(400)
    assert page.locator("#state [name=base]").input_value() == str(after)


def test_a_chain_is_built_set_for_one_section_and_taken_apart(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    studio, head = server[1], server[1].head(song_id)
    layer = next(x for x in head.song.layers if x.name == "Soft pad")
    layer_tab(page, "Soft pad", "chain")
    page.locator("#panel-chain select[name=effect]").select_option("gate")
    page.locator("#panel-chain").get_by_role("button", name="Add").click()
    added = settled(page, studio, song_id, head.revision_id)
    assert page.locator("[data-tab=chain]").get_attribute("aria-selected") == "true", "the tab stays"
    gate = added.song.layer_by_id[layer.id].devices[-1]
    page.locator("#panel-chain form.steps input[type=checkbox]").nth(1).click()
    stepped = settled(page, studio, song_id, added.revision_id)
    assert int(stepped.song.layer_by_id[layer.id].devices[-1].value("steps")) == int(gate.value("steps")) ^ 2
    page.locator("[data-scope=here]").click()
    depth = page.locator(f"#p-layer-{layer.id}-fx-{gate.id}-depth")
    depth.fill("0.5")
    depth.press("Enter")
    treated = settled(page, studio, song_id, stepped.revision_id)
    section = treated.song.sections[0]
    assert [(t.lane, t.value) for t in section.treatments if t.layer_id == layer.id] == [(f"fx.{gate.id}.depth", 0.5)]
    page.get_by_role("button", name="Take Rhythmic gate out").click()
    gone = settled(page, studio, song_id, treated.revision_id)
    assert (
        not [d for d in gone.song.layer_by_id[layer.id].devices if d.id == gate.id]
        and not gone.song.sections[0].treatments
    )


def test_a_curve_is_drawn_by_hand_and_by_keys_and_heard_in_the_document(page, server):
    song_id = open_song(page, server, "Harbour Stairs")
    studio, head = server[1], server[1].head(song_id)
    layer, section = next(x for x in head.song.layers if x.name == "Wide saws"), head.song.sections[3]
    page.locator(f"#tread-{section.id}").focus()
    page.keyboard.press("Enter")
    page.wait_for_function("name => document.querySelector('#inspector h2').textContent === name", arg=section.name)
    layer_tab(page, "Wide saws", "moves")
    lane = f"layer.{layer.id}.lowpass_hz"
    page.locator("[data-new-curve] select[name=lane]").select_option(lane)
    page.locator("[data-new-curve]").get_by_role("button").click()
    started = settled(page, studio, song_id, head.revision_id)

    def points(state):
        return next(c for c in state.song.section_by_id[section.id].curves if c.lane == lane).points

    assert len(points(started)) == 2
    box = page.locator(".curve-plot").bounding_box()
    page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] * 0.75)
    drawn = settled(page, studio, song_id, started.revision_id)
    middle = points(drawn)[1]
    assert len(points(drawn)) == 3 and middle[0] == pytest.approx(section.bars * 3840 / 2, abs=500) and middle[1] < 300
    page.wait_for_selector(".curve-peg.chosen")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowRight")
    moved = settled(page, studio, song_id, drawn.revision_id)
    assert points(moved)[1][1] > middle[1] and points(moved)[1][0] > middle[0]
    page.wait_for_selector(".curve-peg.chosen")
    peg = page.locator(".curve-peg").nth(2).bounding_box()
    page.mouse.move(peg["x"] + 5, peg["y"] + 5)
    page.mouse.down()
    page.mouse.move(peg["x"] + 5, peg["y"] + 45, steps=3)
    page.mouse.up()
    dragged = settled(page, studio, song_id, moved.revision_id)
    assert points(dragged)[2][1] < points(moved)[2][1] / 2
    page.locator("[data-shape]").select_option("wave")
    shaped = settled(page, studio, song_id, dragged.revision_id)
    assert "wave" in [p[2] for p in points(shaped)]
    page.locator(".curve-peg").nth(1).focus()
    page.keyboard.press("Delete")
    fewer = settled(page, studio, song_id, shaped.revision_id)
    assert len(points(fewer)) == 2
