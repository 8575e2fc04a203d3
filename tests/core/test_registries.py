"""Registries: one row each brings the example where it fires and the one where it does not."""

import numpy as np
import pytest

from escalera.core.document.form_text import parse_form
from escalera.core.document.forms import FORMS
from escalera.core.document.lanes import CONTROLS
from escalera.core.document.song import ROLES, Song
from escalera.core.edits import EDITS
from escalera.core.edits.form_layout import song_with_form
from escalera.core.energy.joins import DEVICES as JOIN_DEVICES
from escalera.core.energy.joins import join_devices
from escalera.core.energy.model import arranged
from escalera.core.energy.tension import WORTH as TENSION_DEVICES
from escalera.core.energy.tension import section_tension
from escalera.core.palette.sounds import (
    BY_KEY,
    DRUM_NOTES,
    DRUM_SOUND,
    FAMILIES,
    JOBS,
    PROGRAM_FAMILY,
    SOUNDS,
    sound_for_program,
)
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.sound.mix import Renderer
from tests.songs import ids, small_song

BASE = small_song()
NAME = ids(BASE)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))


def with_layer(song, sound, rows, section, length=3840, **where):
    """The song with one more layer playing rows in a section."""
    song = EDITS["add_layer"](sound, rows=rows, length_ticks=length).apply(song)
    layer = max(x.id for x in song.layers)
    return EDITS["place"](section, layer, song.layer_by_id[layer].pattern_id, **where).apply(song)


LAST_BEAT = 7 * 3840 + 2880
RISER = with_layer(BASE, "noise-riser", [[0, 4 * 3840 - 10, 0, 60, 0, 100]], V, 4 * 3840, phrase=1)
ROLL = with_layer(BASE, "room-snare", [[2880 + 240 * i, 100, 0, 38, 0, 100] for i in range(4)], V)
SILENT_BEAT = BASE
for layer_id in (K, B):
    SILENT_BEAT = EDITS["lift"](V, layer_id, start_ticks=LAST_BEAT, end_ticks=8 * 3840).apply(SILENT_BEAT)
# device at the join from verse to chorus: (a song in which it is there, a song in which it is not)
JOINS = {
    "rise": (RISER, BASE),
    "roll": (ROLL, with_layer(BASE, "room-snare", [[2880, 100, 0, 38, 0, 100]], V)),
    "opening": (EDITS["vary"](V, B, phrase=1, lowpass_start_hz=200, lowpass_end_hz=8000).apply(BASE), EDITS["vary"](V, B, phrase=1, lowpass_start_hz=8000, lowpass_end_hz=200).apply(BASE)),
    "crash": (with_layer(BASE, "wide-crash", [[0, 100, 0, 49, 0, 100]], C, 8 * 3840), with_layer(BASE, "wide-crash", [[3840, 100, 0, 49, 0, 100]], C, 8 * 3840)),
    "pickup": (with_layer(BASE, "glass-bell", [[-480, 200, 0, 80, 0, 90]], C), with_layer(BASE, "glass-bell", [[480, 200, 0, 80, 0, 90]], C)),
    "gap": (SILENT_BEAT, BASE),
    "kick leaves": (EDITS["lift"](C, K).apply(BASE), BASE),
    "kick enters": (EDITS["lift"](V, K).apply(BASE), BASE),
    "nothing": (BASE, RISER),
}  # fmt: skip


@pytest.mark.parametrize("device", JOIN_DEVICES)
def test_a_device_at_a_join_is_found_where_it_is_and_only_there(device):
    there, absent = ([section.core for section in arranged(song).sections] for song in JOINS[device])
    assert device in join_devices(*there)
    assert device not in join_devices(*absent)


HELD = [[0, 3840, 0, 73, 0, 90]]
LOOPS = EDITS["place_new"](V, B, "short", 960, [[0, 200, 2, 0, 0, 90]], phrase=1).apply(BASE)
TENSIONS = {
    "riser": (RISER, BASE),
    "roll": (
        with_layer(
            BASE,
            "room-snare",
            [[240 * i, 100, 0, 38, 0, 100] for i in range(16)],
            V,
            start_ticks=7 * 3840,
            end_ticks=8 * 3840,
        ),
        BASE,
    ),
    "shorter loops": (LOOPS, BASE),
    "gap ahead": (SILENT_BEAT, BASE),
    "opening": (EDITS["add_device"](C, "filter-open").apply(EDITS["toggle_tile"](V, P, 1).apply(BASE)), BASE),
    "lows out": (EDITS["add_device"](C, "beat-out", start_ticks=-3840, length_ticks=3840).apply(BASE), BASE),
    "rising": (EDITS["vary"](V, B, phrase=1, transpose_semitones=5).apply(BASE), BASE),
    "held note": (with_layer(BASE, "soft-pad", HELD, V), with_layer(BASE, "soft-pad", [[0, 3840, 2, 0, 0, 90]], V)),
}


@pytest.mark.parametrize("device", TENSION_DEVICES)
def test_a_device_of_tension_pulls_where_it_is_and_only_there(device):
    there, absent = TENSIONS[device]
    total, amounts = section_tension(there, timeline(there).span_of(V))
    assert amounts[device].max() > 0.3 and total.max() > 0.1
    assert section_tension(absent, timeline(absent).span_of(V))[1][device].max() < 0.05


@pytest.mark.parametrize("control", CONTROLS)
def test_every_control_of_a_layer_is_heard_and_kept_inside_its_range(control):
    p = CONTROLS[control]
    value = {"lowpass_hz": 500, "highpass_hz": 900}.get(control, p.at(0.7))
    song = EDITS["set_control"](P, "duck_db", 6).apply(BASE) if control == "duck_release_beats" else BASE
    changed = EDITS["set_control"](P, control, value).apply(song)
    keys = [[Renderer(1).plan(s, span).key for span in timeline(s).spans] for s in (song, changed)]
    assert keys[0][1] != keys[1][1] and keys[0][0] == keys[1][0], "the pad plays only in the chorus"
    for outside in (p.low - 1, p.high + 1, float("nan")):
        with pytest.raises(EditError, match=p.label):
            EDITS["set_control"](P, control, outside).apply(BASE)


def test_filters_that_would_leave_nothing_are_refused():
    song = EDITS["set_control"](P, "highpass_hz", 2000).apply(BASE)
    with pytest.raises(EditError, match="nothing would sound"):
        EDITS["set_control"](P, "lowpass_hz", 1000).apply(song)


@pytest.mark.parametrize("key", BY_KEY)
def test_a_sound_declares_what_others_ask(key):
    sound = BY_KEY[key]
    assert sound.family in FAMILIES and sound.job in JOBS and sound.hold in ("sustained", "struck")
    assert 0 <= sound.register[0] <= sound.register[1] <= 127 and -30 <= sound.level_db <= 0
    assert sound.is_drum == (sound.family == "drums") == (sound.drum_note > 0)
    assert (sound.attack > 0) == (sound.is_drum or sound.tuned_kick) and sound.promise
    assert 1 <= len(sound.parameters) <= 7 and all(p.low <= p.default <= p.high for p in sound.parameters)
    assert len({s.label for s in SOUNDS}) == len(SOUNDS)


def test_every_program_and_drum_note_has_a_stand_in():
    assert {sound_for_program(p) for p in range(128)} <= set(BY_KEY) and len(PROGRAM_FAMILY) == 16
    assert set(DRUM_NOTES.values()) | {"shaker"} <= set(DRUM_SOUND)


@pytest.mark.parametrize("key", FORMS)
def test_a_form_reads_and_makes_its_sections(key):
    parts = parse_form(FORMS[key].text)
    song = song_with_form(Song(), FORMS[key].text)
    assert song.bars == sum(bars for _, bars in parts) and len(song.sections) == len(parts)
    assert len({s.name for s in song.sections}) == len(parts) and {s.role for s in song.sections} <= set(ROLES)
    assert np.isfinite([s.target.mean for s in song.sections]).all()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "form is empty"),
        ("intro", "Part 1, “intro”"),
        ("intro 8, verse", "Part 2, “verse”"),
        ("verse 2000", "outside 1 to 999"),
    ],
)
def test_a_form_that_cannot_be_read_is_pointed_at(text, says):
    with pytest.raises(EditError, match=says):
        song_with_form(Song(), text)
