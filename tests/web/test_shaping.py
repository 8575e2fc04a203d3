"""The inspector's shaping parts and the sound picker: what is shown, what is asked for, what is refused."""

import io
import json
import wave

import pytest
from lxml import html

from escalera.core.edits import EDITS
from escalera.core.palette.effects import EFFECTS
from escalera.core.palette.sounds import SOUNDS
from tests.songs import ids, small_song

NAME = ids(small_song())
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def post(client, studio, song_id, **fields):
    return client.post(f"/songs/{song_id}/edits", data={"base": studio.head(song_id).revision_id, **fields})


def inspector(client, song_id, select):
    return html.fromstring(client.get(f"/songs/{song_id}/inspector?select={select}").get_data(as_text=True))


def test_a_layer_shows_every_parameter_of_its_sound_strip_spaces_and_chain(client, studio, song_id):
    for effect in ("gate", "echo"):
        assert post(client, studio, song_id, kind="add_effect", owner=f"layer.{P}", effect=effect).status_code == 200
    page = inspector(client, song_id, f"layer:{C}:{P}")
    lanes = page.xpath("//form[@data-edit='set_value']/input[@name='lane']/@value")
    layer = studio.head(song_id).song.layer_by_id[P]
    wanted = {f"layer.{P}.sound.{p.key}" for p in layer.sound.parameters}
    wanted |= {f"layer.{P}.fx.{d.id}.{p.key}" for d in layer.devices for p in d.kind.parameters}
    wanted |= {f"layer.{P}.{key}" for key in ("level_db", "send.shimmer", "duck_db", "octave")}
    assert wanted <= set(lanes) and len(lanes) == len(set(lanes))
    assert len(page.xpath("//form[@data-steps]//input[@type='checkbox']")) == 16
    assert len(page.xpath("//select[@name='effect']//option")) == len([e for e in EFFECTS if "layer" in e.where])
    assert [t.get("data-tab") for t in page.xpath("//*[@role='tab']")] == [
        p.get("data-panel") for p in page.xpath("//*[@role='tabpanel']")
    ]


def test_a_treatment_is_marked_where_it_is_and_only_there(client, studio, song_id):
    post(client, studio, song_id, kind="treat", section_id=C, layer_id=B, lane="level_db", value=-20)
    here, there = (inspector(client, song_id, f"layer:{s}:{B}") for s in (C, V))
    assert here.xpath("//button[@data-untreat]/@data-untreat") == ["level_db"] and not there.xpath(
        "//button[@data-untreat]"
    )
    assert here.xpath(f"string(//*[@id='p-layer-{B}-level_db']/@value)") == "-20"


def test_a_new_curve_starts_where_the_parameter_stands_and_is_drawn(client, studio, song_id):
    lane = f"layer.{P}.lowpass_hz"
    assert post(client, studio, song_id, kind="set_curve", section_id=C, lane=lane).status_code == 200
    points = json.dumps([[0, 300, "wave"], [7680, 6000, "line"]])
    assert (
        post(
            client, studio, song_id, kind="set_curve", section_id=C, lane=lane, points=points, rate_beats="0.5"
        ).status_code
        == 200
    )
    page = inspector(client, song_id, f"layer:{C}:{P}")
    data = json.loads(page.xpath("string(//*[@data-curve]/@data-curve)"))
    assert data["points"] == [[0, 300, "wave"], [7680, 6000, "line"]] and data["rate"] == 0.5 and data["log"]
    assert len(page.xpath("//circle[@data-peg]")) == 2 and not inspector(client, song_id, f"layer:{V}:{P}").xpath(
        "//*[@data-curve]"
    )


@pytest.mark.parametrize("fields, says", [
    (dict(kind="set_curve", section_id=C, lane=f"layer.{P}.lowpass_hz", points="[[0,"), "cannot be read"),
    (dict(kind="set_curve", section_id=C, lane=f"layer.{P}.lowpass_hz", points='[["a", 1]]'), "is [tick, value, shape]"),
    (dict(kind="set_curve", section_id=C, lane=f"layer.{P}.lowpass_hz", points="[[0, NaN]]"), "lies outside"),
    (dict(kind="set_curve", section_id=C, lane="layer.999.pan", points="[[0, 1]]"), "not in this song any more"),
    (dict(kind="set_value", lane=f"layer.{P}.sound.colour", value=1), "has no parameter"),
    (dict(kind="set_value", lane=f"layer.{P}.sound.attack_s", value="nan"), "cannot be used|lies outside"),
    (dict(kind="set_value", lane="return.hall.decay_s", value=99), "Decay 99 s lies outside 0.2 to 6 s"),
    (dict(kind="add_effect", owner="bus.chords", effect="flanger"), "is not a effect|is not an effect|Choose one of"),
    (dict(kind="throw", section_id=C, layer_id=P, at_bar=3, at_beat=1, beats_long=1), "which has bars 9–16"),
    (dict(kind="throw", section_id=C, layer_id=P, at_bar=9, at_beat=9, beats_long=1), "beats 1 to 4"),
    (dict(kind="throw", section_id=C, layer_id=P, at_bar=9, at_beat="x", beats_long=1), "A beat is a number"),
])  # fmt: skip
def test_wrong_values_get_a_plain_sentence_and_change_nothing(client, studio, song_id, fields, says):
    before = studio.head(song_id)
    answer = post(client, studio, song_id, **fields)
    assert answer.status_code == 422 and any(s in answer.get_data(as_text=True) for s in says.split("|"))
    assert studio.head(song_id) == before


def test_a_throw_by_bar_and_beat_lands_there(client, studio, song_id):
    assert (
        post(
            client,
            studio,
            song_id,
            kind="throw",
            section_id=C,
            layer_id=P,
            at_bar=16,
            at_beat=4,
            beats_long=1,
            to="hall",
        ).status_code
        == 200
    )
    throw = studio.head(song_id).song.section_by_id[C].throws[0]
    assert (throw.start_ticks, throw.end_ticks, throw.to) == (7 * 3840 + 2880, 8 * 3840, "hall")


def test_the_mix_shows_spaces_buses_and_the_masters_chain(client, studio, song_id):
    post(client, studio, song_id, kind="add_effect", owner="master", effect="compressor")
    page = inspector(client, song_id, f"mix:{V}")
    lanes = set(page.xpath("//input[@name='lane']/@value"))
    assert {
        "return.echo.feedback",
        "return.shimmer.decay_s",
        "bus.drums.level_db",
        "bus.low-end.level_db",
        "master.level_db",
    } <= lanes
    assert "ceiling of −1 dBTP" in page.text_content()


def test_the_picker_shows_every_sound_and_says_which_are_liked(client, studio, song_id):
    assert client.post(f"/songs/{song_id}/sounds/rain/favourite", data={"liked": "true"}).status_code == 204
    page = html.fromstring(client.get(f"/songs/{song_id}/sounds?layer={P}").get_data(as_text=True))
    assert len(page.xpath("//*[@data-sound]")) == len(SOUNDS)
    assert page.xpath("//*[@data-liked='true']/@data-sound") == ["rain"]
    assert page.xpath("//*[contains(@class,'chosen')]/@data-sound") == ["soft-pad"]
    assert page.xpath("string(//section[1]/h3)") == "chords", "the layer's own family comes first"
    stack = html.fromstring(client.get(f"/songs/{song_id}/sounds?layer={K}&stack=1").get_data(as_text=True))
    assert {s.key for s in SOUNDS if s.is_drum} == set(stack.xpath("//*[@data-sound]/@data-sound"))


def test_sounds_and_layers_are_heard_alone(client, studio, song_id):
    revision = studio.head(song_id).revision_id
    for url in (f"/songs/{song_id}/sounds/glass-bell.wav", f"/songs/{song_id}/alone/{revision}/{C}/{P}.wav"):
        with wave.open(io.BytesIO(client.get(url).data)) as sound:
            assert sound.getnframes() > 100_000 and any(sound.readframes(60_000))
    assert client.get(f"/songs/{song_id}/sounds/gong.wav").status_code == 422
    assert client.get(f"/songs/{song_id}/alone/{revision}/{C}/999.wav").status_code == 422


def test_ducking_is_drawn_against_the_beat_where_it_happens(client, studio, song_id):
    post(client, studio, song_id, kind="set_control", layer_id=P, control="duck_db", value=12)
    page = inspector(client, song_id, f"layer:{C}:{P}")
    points = page.xpath("//svg[@class='duck']/polyline/@points")[0].split()
    heights = [float(p.split(",")[1]) for p in points]
    assert max(heights) == pytest.approx(8 + 20, abs=1) and min(heights) < 9, "12 dB deep, all the way back"
    silent = EDITS["set_muted"](K, True)
    studio.edit(song_id, studio.head(song_id).revision_id, silent)
    assert "silent in this section" in inspector(client, song_id, f"layer:{C}:{P}").text_content()


def test_a_layer_is_printed_and_taken_back_over_the_page(client, studio, song_id):
    assert post(client, studio, song_id, kind="print_layer", layer_id=P).status_code == 200
    assert (
        "Frozen to audio; it sounds in 1 of the 1 section"
        in inspector(client, song_id, f"layer:{C}:{P}").text_content()
    )
    assert post(client, studio, song_id, kind="set_sound", layer_id=P, sound="wide-saws").status_code == 422
    assert post(client, studio, song_id, kind="unprint_layer", layer_id=P).status_code == 200
    assert not studio.head(song_id).song.layer_by_id[P].prints


def test_a_sweep_across_joins_is_made_from_the_page_and_keeps_what_moved_elsewhere(client, studio, song_id):
    lane = f"layer.{B}.lowpass_hz"
    post(client, studio, song_id, kind="set_curve", section_id=V, lane=lane, points="[[0, 5000]]")
    answer = post(client, studio, song_id, kind="sweep", lane=lane, first_bar=7, last_bar=10, start=400, end=1600)
    assert answer.status_code == 200
    first, second = (studio.head(song_id).song.section_by_id[s].curves[0].points for s in (V, C))
    assert first[0] == (0, 5000.0, "line") and first[1][0] == 6 * 3840
    assert first[-1][1] == second[0][1] == pytest.approx(800)
    refused = post(client, studio, song_id, kind="sweep", lane=lane, first_bar=7, last_bar=99, start=400, end=1600)
    assert refused.status_code == 422 and "bars 1–16" in refused.get_data(as_text=True)
