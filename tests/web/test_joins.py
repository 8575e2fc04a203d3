"""The page of joins, as fragments and in a real browser: devices, builds, the passage heard while it changes, the table of cues."""

import csv
import io

import numpy as np
import pytest
import soundfile

from escalera.core.edits import EDITS
from escalera.core.energy.join_reading import read_join
from escalera.core.reading.timeline import timeline
from escalera.formats.midi_read import read_midi
from escalera.formats.midi_write import write_midi
from escalera.formats.wav_cues import read_wav_cues
from escalera.services.demo import demo_songs
from escalera.services.exporting import Options, export
from escalera.services.importing import import_midi
from escalera.services.join_service import contrast_of, joins_report
from tests.songs import ids, small_song
from tests.web.driving import said, tree, trouble_of, until

NAME = ids(small_song())
V, C = NAME["Verse"], NAME["Chorus"]
HERE = f"section:{C}:0:0:0"


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def post(client, studio, song_id, path="edits", **fields):
    base = studio.head(song_id).revision_id
    return client.post(
        f"/songs/{song_id}/joins/{path}", data={"base": base, "select": HERE, **fields}, headers={"HX-Request": "true"}
    )


def devices(studio, song_id):
    return [(d.kind, d.start_ticks, d.length_ticks) for d in studio.head(song_id).song.section_by_id[C].devices]


def test_a_device_is_added_in_words_chosen_and_undone(client, studio, song_id):
    page = tree(
        post(
            client,
            studio,
            song_id,
            kind="add_device",
            section_id=C,
            device="roll",
            start="-2 bars",
            length="1 bar 2 beats",
        )
    )
    assert devices(studio, song_id) == [("roll", -7680, 5760)]
    assert page.xpath("//g[contains(@class,'placed') and contains(@class,'chosen')]/@aria-label")[0].startswith(
        "Roll on Room snare, from 8 beats before"
    )
    assert page.xpath("//input[@name='start']/@value") == ["-2 bars"] and page.xpath(
        "//input[@name='length']/@value"
    ) == ["6"]
    refused = post(client, studio, song_id, kind="add_device", section_id=C, device="gap", start="soon")
    assert refused.status_code == 422 and "is not a distance" in said(refused)
    post(client, studio, song_id, "undo")
    assert devices(studio, song_id) == []


def test_a_song_of_one_section_has_no_join_and_says_what_to_do(client, studio):
    alone = studio.add_song(EDITS["remove_section"](C).apply(small_song()), "New")
    assert "No join yet" in said(client.get(f"/songs/{alone}/joins"))
    assert "no join to hear" in said(
        client.get(f"/songs/{alone}/joins/{studio.head(alone).revision_id}/{V}.wav", headers={"HX-Request": "true"})
    )


def test_the_passage_is_the_song_about_the_one_and_is_keyed_by_its_sound(client, studio, song_id):
    def passage(**values):
        answer = client.get(f"/songs/{song_id}/joins/{studio.head(song_id).revision_id}/{C}.wav", query_string=values)
        audio, rate = soundfile.read(io.BytesIO(answer.data), dtype="float32")
        assert rate == 44100
        return answer.headers["X-Key"], float(answer.headers["X-Lead-S"]), audio.T

    key, lead, plain = passage(before=4, after=2)
    assert lead == 8.0 and plain.shape[1] == 12 * 44100
    song = studio.head(song_id).song
    whole = studio.rendering.renderer.chunk(song, timeline(song), 0)
    assert np.abs(whole[:, -4 * 44100 : -44100] - plain[:, 4 * 44100 : 7 * 44100]).max() < 1e-4, (
        "the same sound as in the song"
    )
    post(client, studio, song_id, kind="add_device", section_id=C, device="gap")
    gone, _, silent = passage(before=4, after=2)
    assert gone != key and np.abs(silent[:, round(7.5 * 44100) : 8 * 44100]).max() == 0.0
    device = studio.head(song_id).song.section_by_id[C].devices[0].id
    assert passage(before=4, after=2, without=device)[0] == key == passage(before=4, after=2, without=0)[0]


def test_contrast_is_what_the_sound_does(studio, song_id):
    song = EDITS["add_device"](C, "gap").apply(studio.head(song_id).song)
    quieter = EDITS["treat"](V, NAME["Plucked bass"], "level_db", -40).apply(
        EDITS["lift"](V, NAME["Round kick"]).apply(song)
    )
    loud, soft = (contrast_of(studio.rendering, s, 1)["30–90"][0] for s in (song, quieter))
    assert abs(loud) < 6 < soft
    assert "30–90 Hz" in said_of(joins_report(studio.rendering, quieter))


def said_of(report):
    row = report["joins"][0]
    assert set(row) == {"from", "to", "bar", "devices", "gap_beats", "tension_peak", "contrast_db"}
    assert (row["from"], row["to"], row["bar"], row["gap_beats"], row["tension_peak"]) == (
        "Verse",
        "Chorus",
        9,
        1.0,
        "8.4",
    )
    assert row["devices"] == [{"kind": "gap", "start": "8.4", "end": "9.1", "placed": True}]
    return ", ".join(f"{band} Hz" for band in row["contrast_db"])


def test_the_table_goes_out_harmless_and_markers_come_back(client, studio, song_id, tmp_path):
    post(client, studio, song_id, kind="add_device", section_id=C, device="riser")
    studio.command(
        song_id, studio.head(song_id).revision_id, {"kind": "rename_section", "section_id": str(C), "name": "=1+1"}
    )
    song = studio.head(song_id).song
    rows = list(csv.reader(io.StringIO(client.get(f"/songs/{song_id}/joins/cues.csv").get_data(as_text=True))))
    assert rows[1] == ["Verse", "'=1+1", "Riser", "lifts", "Tone riser", "yes", "7.1", "9.1", "0:12.000", "0:16.000"]
    midi = write_midi(song)
    assert [name for _, name in read_midi(midi).cues] == ["Riser into =1+1"]
    assert [s.name for s in import_midi(midi, "again").song.sections] == ["Verse", "=1+1"], "a cue is no section"
    path, _ = export(song, studio.rendering, "wav", Options(), tmp_path)
    assert read_wav_cues(path) == [(0, "Verse"), (12 * 44100, "Riser into =1+1"), (16 * 44100, "=1+1")]
    assert soundfile.info(path).frames > 32 * 44100, "and it is still a file that others read"


def test_found_devices_are_placed_and_written_back(client, studio):
    song_id = studio.add_song(demo_songs()[0], "New")
    song = studio.head(song_id).song
    chorus = next(s for s in song.sections if s.name == "Chorus 1")
    index = song.index_of(chorus.id)
    before = {(c.kind, c.start_ticks) for c in read_join(song, index).carriers}
    rise = next(c for c in read_join(song, index).carriers if c.kind == "riser")
    post(client, studio, song_id, kind="place_found", section_id=chorus.id, device="riser", layer_id=rise.layer_id)
    placed = studio.head(song_id).song
    assert {(c.kind, c.start_ticks) for c in read_join(placed, index).carriers} == before
    device = placed.section_by_id[chorus.id].devices[0]
    post(client, studio, song_id, kind="write_device", section_id=chorus.id, device_id=device.id)
    written = studio.head(song_id).song
    assert (
        not written.section_by_id[chorus.id].devices
        and {(c.kind, c.start_ticks) for c in read_join(written, index).carriers} == before
    )


# in a browser ---------------------------------------------------------------------------------------------------------------


def base(page):
    return page.evaluate("Number(document.querySelector('#state [name=base]').value)")


def after(page, act):
    old = base(page)
    act()
    page.wait_for_function("old => Number(document.querySelector('#state [name=base]').value) !== old", arg=old)


@pytest.mark.browser
def test_a_build_is_designed_from_nothing_and_heard(page, server):
    studio = server[1]
    song_id = studio.add_song(small_song(), "New")
    page.goto(f"/songs/{song_id}?select=section:{C}")
    page.wait_for_function("() => window.escalera")
    page.keyboard.press("j")
    page.wait_for_url("**/joins**")
    page.wait_for_selector("#join-plot")
    page.get_by_text("Build into it").click()
    page.get_by_label("Plucked bass").first.check()
    page.locator(".build-form [name=shape]").select_option("late")
    page.locator(".build-form [name=gap]").fill("1")
    page.get_by_label("a roll that follows the tension").check()
    after(page, lambda: page.get_by_role("button", name="Build", exact=True).click())
    build = studio.head(song_id).song.section_by_id[C].build
    assert (build.bars, build.shape, build.gap_ticks, build.keeps) == (4, "late", 960, (NAME["Plucked bass"],))
    assert page.locator(".build-stage").count() >= 3 and "Silence of 1 beat before" in page.inner_text(".verdict")
    page.keyboard.press("l")
    page.wait_for_function("() => window.escalera.join()")
    heard = page.evaluate("window.escalera.join()")
    after(page, lambda: page.get_by_role("button", name="Impact", exact=True).click())
    page.wait_for_function("old => window.escalera.join() && window.escalera.join() !== old", arg=heard)
    page.get_by_role("button", name="Looping this join").click()
    assert page.evaluate("window.escalera.join()") == ""


@pytest.mark.browser
def test_devices_are_nudged_by_keys_and_by_hand_and_keep_the_focus(page, server):
    studio = server[1]
    song_id = studio.add_song(small_song(), "New")
    page.goto(f"/songs/{song_id}/joins?select={HERE}")
    after(page, lambda: page.get_by_role("button", name="Riser", exact=True).click())
    device = lambda: studio.head(song_id).song.section_by_id[C].devices[0]  # noqa: E731
    stone = f"#device-{device().id}"
    page.locator(stone).focus()
    for key, start, length in (
        ("ArrowLeft", -7920, 7680),
        ("Shift+ArrowRight", -6960, 7680),
        ("Control+ArrowLeft", -6961, 7680),
        ("[", -6961, 7440),
    ):
        after(page, lambda key=key: page.keyboard.press(key))
        assert (device().start_ticks, device().length_ticks) == (start, length), key
        assert page.evaluate("document.activeElement.id") == stone[1:]
    box = page.locator(f"{stone} .device-line").bounding_box()

    def drag():
        page.mouse.move(box["x"] + 60, box["y"] + 12)
        page.mouse.down()
        page.mouse.move(box["x"] + 30, box["y"] + 12, steps=4)
        page.mouse.up()

    after(page, drag)
    assert device().start_ticks < -6961 and device().length_ticks == 7440
    page.locator(stone).focus()
    after(page, lambda: page.keyboard.press("Delete"))
    until(lambda: page.evaluate("document.activeElement.closest('#add-device') !== null"))
    assert not trouble_of(page)
