"""Paths of parameters, curves, treatments and what is refused of them from outside."""

import json

import numpy as np
import pytest

from escalera.core.commands import COMMANDS
from escalera.core.document.codec import from_plain, to_plain
from escalera.core.document.devices import Curve
from escalera.core.document.lanes import (
    CONTROLS,
    Owner,
    lane_label,
    lane_parameter,
    lane_value,
    lanes_of,
    movable,
    with_lane_value,
)
from escalera.core.edits import EDITS
from escalera.core.palette.effects import EFFECTS, NOTE_VALUES, RETURNS
from escalera.core.palette.parameters import Parameter, setting, with_setting
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.events import sounding_layers
from escalera.core.reading.timeline import timeline
from escalera.core.validation.whole import validate
from escalera.errors import EditError, FormatError
from escalera.formats.project import read_project, write_project
from escalera.sound.mix import Renderer
from tests.recordings import plain_sample
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


def everything():
    """The small song with every effect that fits on a layer, a bus and the mix, and something of all the rest."""
    song = SONG
    for effect in EFFECTS:
        for owner in (f"layer.{P}", "bus.chords", "master"):
            if owner.split(".")[0] in effect.where and not (
                owner == f"layer.{P}" and effect.group in ("level", "grit")
            ):
                count = len(
                    {
                        "layer": song.layer_by_id[P].devices,
                        "bus": song.buses[0].devices if song.buses else (),
                        "master": song.master,
                    }[owner.split(".")[0]]
                )
                song = EDITS["add_effect"](owner, effect.key).apply(song) if count < 12 else song
    for kind, fields in (
        ("add_stack", dict(layer_id=K, sound="rim-knock")),
        ("set_recipe", dict(layer_id=P, text="one take, kept")),
        ("set_value", dict(lane="return.echo.feedback", value=0.6)),
        ("set_value", dict(lane="bus.low-end.level_db", value=-3)),
        ("set_value", dict(lane=f"layer.{P}.sound.attack_s", value=0.4)),
        ("set_duck_by", dict(layer_id=P, by=B)),
        (
            "set_curve",
            dict(
                section_id=C,
                lane="master.level_db",
                points=[[0, -6, "wave"], [7680, 0, "steps"], [15360, -2, "hold"]],
                rate_beats=0.5,
            ),
        ),
        ("treat", dict(section_id=C, layer_id=P, lane="send.near", value=-9)),
        ("throw", dict(section_id=C, layer_id=P, start_ticks=0, end_ticks=960)),
        ("switch_effect", dict(owner="master", effect_id=song.master[0].id, on=False)),
    ):
        song = EDITS[kind](**fields).apply(song)
    return song


FULL = everything()
OWNERS = [Owner("layer", P), Owner("bus", 0, "chords"), Owner("master")]


@pytest.mark.parametrize("owner", OWNERS, ids=lambda o: o.scope)
def test_every_lane_of_an_owner_is_read_written_named_and_kept_in_its_range(owner):
    for lane, label in lanes_of(FULL, owner):
        p = movable(FULL, lane)
        assert lane_parameter(FULL, lane) == p and p.low <= lane_value(FULL, lane) <= p.high and label
        value = p.at(0.4)
        if lane.endswith("highpass_hz"):
            value = 30.0
        after = with_lane_value(FULL, lane, value)
        assert lane_value(after, lane) == pytest.approx(value) and lane_label(FULL, lane).count(": ") == 1
        assert with_lane_value(after, lane, lane_value(FULL, lane)) == FULL, "a default leaves nothing behind"
        for outside in (p.low - 1, p.high + 1, float("nan"), float("inf")):
            with pytest.raises(EditError, match="lies outside"):
                with_lane_value(FULL, lane, outside)


def test_shared_spaces_have_lanes_that_stand_still():
    for row in RETURNS:
        for p in row.parameters:
            lane = f"return.{row.key}.{p.key}"
            assert lane_value(SONG, lane) == p.default
            assert lane_value(with_lane_value(SONG, lane, p.low), lane) == p.low
            with pytest.raises(EditError, match="does not move along a curve"):
                movable(SONG, lane)


@pytest.mark.parametrize("lane", ["", "layer", "layer.x.pan", "layer.1.pan", f"layer.{P}", f"layer.{P}.id", f"layer.{P}.fx.1.mix", "bus.tubas.level_db",
                                  "master.pan", "return.cave.decay_s", "return.hall.mix", "drums", f"layer.{P}.sound."])  # fmt: skip
def test_a_path_that_leads_nowhere_is_refused(lane):
    with pytest.raises(EditError):
        lane_parameter(SONG, lane)


def test_parameters_move_along_their_scale():
    log, even = Parameter("a", "A", 20, 20_000, 200, "Hz", "log"), Parameter("b", "B", -1, 1, 0)
    assert log.at(0.5) == pytest.approx(632.5, rel=1e-3) and even.at(0.5) == 0
    for p in (log, even):
        assert [p.share(p.at(s)) for s in (0.0, 0.3, 1.0)] == pytest.approx([0.0, 0.3, 1.0])
    assert (
        setting(with_setting((("a", 300.0),), log, 200), log) == 200 and with_setting((("a", 300.0),), log, 200) == ()
    )
    assert (log.said(12_345), even.said(0.5)) == ("12345 Hz", "0.5")


@pytest.mark.parametrize("shape, expected", [
    ("line", [0, 0.25, 0.5, 0.75]), ("ease", [0, 0.15625, 0.5, 0.84375]), ("hold", [0, 0, 0, 0]),
    ("wave", [0, 1, 0, 1]), ("steps", [0, 1 / 3, 2 / 3, 1]),
])  # fmt: skip
def test_a_curve_has_the_shape_it_is_called_by(shape, expected):
    curve = Curve("x", ((960, 0.0, shape), (4800, 1.0, "line")), 1920 if shape == "wave" else 960)
    at = np.array([960.0, 1920.0, 2880.0, 3840.0])
    assert curve.at(at, Parameter("b", "B", 0, 1, 0)).tolist() == pytest.approx(expected, abs=1e-9)
    assert curve.at(np.array([0.0, 9999.0]), Parameter("b", "B", 0, 1, 0)).tolist() == [0.0, 1.0], (
        "held before and after"
    )


@pytest.mark.parametrize("shape", ["line", "ease", "hold", "wave", "steps"])
@pytest.mark.parametrize("cut", [480, 1500, 3000, 6000])
def test_a_curve_cut_in_two_is_the_same_curve(shape, cut):
    p = Parameter("f", "F", 20, 20_000, 200, "Hz", "log")
    whole = Curve("x", ((0, 100.0, "line"), (960, 400.0, shape), (4800, 6000.0, "line"), (7000, 900.0, "line")), 960)
    left, right = Curve("x", whole.cut(0, cut, p), 960), Curve("x", whole.cut(cut, 7680, p), 960)
    a, b = np.linspace(0, cut - 1, 50), np.linspace(cut, 7679, 50)
    tolerance = 0.35 if shape in ("wave", "steps") else 0.02  # short lines follow waves and steps, in octaves
    assert np.abs(np.log2(left.at(a, p) / whole.at(a, p))).max() < tolerance
    assert np.abs(np.log2(right.at(b - cut, p) / whole.at(b, p))).max() < tolerance


def test_a_treatment_changes_its_section_and_no_other():
    treated = EDITS["treat"](C, B, "lowpass_hz", 400).apply(SONG)
    assert [next(x for x in sounding_layers(treated, s) if x.id == B).lowpass_hz for s in treated.sections] == [
        20_000,
        400,
    ]
    keys = [Renderer(1).chunk_keys(s, timeline(s)) for s in (SONG, treated)]
    assert (
        keys[0][1] != keys[1][1]
        and Renderer(1).plan(SONG, timeline(SONG).spans[0]).key
        == Renderer(1).plan(treated, timeline(treated).spans[0]).key
    )
    assert EDITS["treat"](C, B, "lowpass_hz", 20_000).apply(treated) == SONG, "the usual value is no treatment"
    with pytest.raises(EditError, match="nothing would sound"):
        EDITS["treat"](C, B, "highpass_hz", 900).apply(treated)


def test_what_shapes_a_song_comes_back_from_the_store_and_from_a_project_file():
    patterns = {e.pattern.content_hash: e.pattern for e in FULL.patterns}
    assert from_plain(json.loads(json.dumps(to_plain(FULL))), patterns) == FULL
    assert validate(read_project(write_project(FULL))) == FULL
    printed = EDITS["print_layer"](P, [["notes", "audio", 0]]).apply(FULL)
    assert read_project(write_project(printed)) == FULL, "a project carries the original"


def spoil(change):
    plain = json.loads(write_project(FULL))
    change(plain["song"])
    return json.dumps(plain).encode()


def layer_of(song, key):
    return next(x for x in song["layers"] if x["id"] == key)


@pytest.mark.parametrize("change, says", [
    (lambda s: s["master"][0].update(key="flanger"), "asks for the effect “flanger”"), (lambda s: s.update(next_id=9999) or s["master"].append({"id": 9000, "key": "reverse"}), "does not work on the mix"),
    (lambda s: s["master"][0].update(id=s["layers"][0]["id"]), "the same id"), (lambda s: s["buses"][0].update(family="tubas"), "“tubas” is not a family"),
    (lambda s: s["buses"].append(s["buses"][0] | {"devices": []}), "two buses"), (lambda s: s["returns"].update(cave={}), "“cave” is not known"),
    (lambda s: layer_of(s, P).setdefault("sends", {}).update(cave=-3), "“cave”, which is not known"), (lambda s: layer_of(s, P).setdefault("sends", {}).update(echo=30), "lies outside -60 to 6 dB"),
    (lambda s: s["returns"]["echo"].update(feedback=3), "feedback 3 lies outside 0 to 0.85"), (lambda s: layer_of(s, P)["settings"].update(colour=1), "has no parameter “colour”"),
    (lambda s: layer_of(s, P).update(duck_by=12345), "ducked by no layer"), (lambda s: layer_of(s, K)["stack"][0].update(sound_key="soft-pad"), "stacks a drum"),
    (lambda s: s["sections"][1]["curves"][0].update(lane="layer.999.pan"), "not in this song"), (lambda s: s["sections"][1]["curves"][0]["points"][0].__setitem__(1, 99), "leaves -60 to 24"),
    (lambda s: s["sections"][1]["curves"][0]["points"].reverse(), "not in order"), (lambda s: s["sections"][1]["curves"][0]["points"][0].__setitem__(2, "bounce"), "unknown shape"),
    (lambda s: s["sections"][1]["curves"].append(s["sections"][1]["curves"][0]), "two curves"), (lambda s: s["sections"][1]["treatments"].append({"layer_id": P, "lane": "pan", "value": 7}), "Pan 7 lies outside"),
    (lambda s: s["sections"][1]["treatments"].append({"layer_id": 999, "lane": "pan", "value": 0}), "treats a layer that does not exist"), (lambda s: s["sections"][1]["throws"].append({"layer_id": P, "start_ticks": 0, "end_ticks": 10, "to": "cave", "level_db": 0}), "leads nowhere"),
    (lambda s: s["sections"][1]["throws"].append({"layer_id": P, "start_ticks": 500, "end_ticks": 10}), "out of range"), (lambda s: s["master"][0].update(colour=1), "a field that is not known"),
])  # fmt: skip
def test_a_project_with_impossible_shaping_is_refused_in_a_sentence(change, says):
    with pytest.raises(FormatError, match=says):
        read_project(spoil(change))


def test_effects_are_known_by_what_they_do_and_not_by_their_ids():
    def with_chain(song):
        return EDITS["add_effect"](f"layer.{P}", "gate").apply(song)

    later = with_chain(EDITS["remove_effect"](f"layer.{P}", SONG.next_id).apply(with_chain(SONG)))
    keys = [Renderer(1).chunk_keys(s, timeline(s)) for s in (with_chain(SONG), later)]
    assert later != with_chain(SONG) and keys[0] == keys[1]


def test_the_palette_is_broad_and_every_family_has_a_first_sound():
    families = {
        f: [s for s in SOUNDS if s.family == f]
        for f in ("drums", "low end", "chords", "leads", "voices", "atmosphere", "effects")
    }
    assert min(len(found) for found in families.values()) >= 3 and len(SOUNDS) >= 70
    assert {
        "kick",
        "snare",
        "clap",
        "rim",
        "snap",
        "click",
        "closed hat",
        "open hat",
        "shaker",
        "ride",
        "crash",
        "cowbell",
    } <= {s.drum for s in SOUNDS}
    assert all(c.label for c in CONTROLS.values()) and NOTE_VALUES["1/8 triplet"] == pytest.approx(1 / 3)


@pytest.mark.parametrize(("kind", "fields", "holds"), [
    # into the range of the next sound, and away where that has no such parameter
    ("set_sound", dict(layer_id=B, sound="kick-bass"), lambda curve: {v for _, v, _ in curve.points} == {0.4}),
    ("set_sound", dict(layer_id=B, sound="sub-sine"), lambda curve: curve is None),
    ("play_sample", dict(layer_id=B, sample=plain_sample()), lambda curve: curve is None),
    # the jump at a join, after a point that lies one tick before it
    ("merge_sections", dict(section_id=V), lambda curve: [p[0] for p in curve.points] == [0, 30719, 30720]),
])  # fmt: skip
def test_a_curve_fits_what_takes_the_place_of_its_sound_or_joins_its_section(kind, fields, holds):
    points = [[0, 1.0, "line"], [30719, 2.0, "line"], [30720, 2.0, "line"]]
    song = EDITS["set_curve"](V, f"layer.{B}.sound.sweep_s", points).apply(SONG)
    after = read_project(write_project(COMMANDS[kind](**fields).apply(song)))
    assert holds(next(iter(after.section_by_id[V].curves), None))
