"""One row a kind of edit: where it applies, what it leads to, and where it is refused with a plain sentence."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.checks import run_checks
from escalera.core.commands import COMMANDS as EDITS
from escalera.core.document.carriers import Build, JoinDevice
from escalera.core.document.codec import from_plain, to_plain
from escalera.core.document.lanes import lane_parameter
from escalera.core.document.target import Target, Turn
from escalera.core.edits.tile_edits import Vary
from escalera.core.energy.model import arranged
from escalera.core.reading.events import PITCH, START, layer_events, sounding_layers
from escalera.core.reading.groove_reading import groove_beat, used_in
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.core.validation.whole import validate
from escalera.errors import EditError, InputError
from escalera.formats.project import read_project, write_project
from tests.grooved import ROWS as GROOVED_ROWS
from tests.planned import ROWS as PLANNED_ROWS
from tests.recordings import plain_sample
from tests.singing import ROWS as SUNG_ROWS
from tests.songs import HATS, KICK, edits_for, ids, small_song

SONG = small_song()
I = ids(SONG)  # noqa: E741
V, C, K, B, P = I["Verse"], I["Chorus"], I["Round kick"], I["Plucked bass"], I["Soft pad"]


FOUND_LAYER = SONG.next_id + 1


def section(song, key):
    return song.section_by_id[key]


def carriers(song):
    return section(song, C).devices


def starts(song, section_id, layer_id):
    span = timeline(song).span_of(section_id)
    return layer_events(song, span, song.layer_by_id[layer_id]).table[:, START].tolist()


def shaped_song():
    """The small song with an effect, a stacked sound, a curve, a treatment, a throw and a print."""
    song = SONG
    for kind, fields in (
        ("add_effect", dict(owner=f"layer.{P}", effect="low-pass")),
        ("add_effect", dict(owner=f"layer.{P}", effect="echo")),
        ("add_effect", dict(owner="bus.chords", effect="compressor")),
        ("add_stack", dict(layer_id=K, sound="dry-click")),
        (
            "set_curve",
            dict(section_id=C, lane=f"layer.{P}.lowpass_hz", points=[[0, 300, "ease"], [15360, 9000, "line"]]),
        ),
        ("treat", dict(section_id=C, layer_id=B, lane="level_db", value=-20)),
        ("throw", dict(section_id=C, layer_id=P, start_ticks=2880, end_ticks=3840)),
        ("print_layer", dict(layer_id=B, prints=[["notes", "audio", 0]])),
    ):
        song = EDITS[kind](**fields).apply(song)
    return song


SHAPED = shaped_song()
FX, ECHO = (d.id for d in SHAPED.layer_by_id[P].devices)
CLICK = SHAPED.layer_by_id[K].stack[0].id
CUTOFF = f"layer.{P}.lowpass_hz"


# a bass that is mistuned, with one note far above its range
FAULTY = EDITS["set_control"](B, "tune_cents", 40).apply(
    EDITS["change_notes"](V, B, 0, [[None, None, 480, 90, 200, 90]], "fixed", True).apply(SONG)
)
ON_FAULTY = {"fold_line", "tune_low"}
ON_PARKED = {"exchange_body", "exchange_pair", "keep_body", "forget_body"}
MEANT = EDITS["accept_finding"]("level:1:0", "by feel").apply(SONG)
SAID = EDITS["take_down_feedback"]("Chorus: too long", "Ben").apply(SONG)
PARKED = EDITS["lift"](V, K, None, None, None).apply(EDITS["park_body"](V, "with the kick", "Ana").apply(SONG))
WITH_KICK = PARKED.section_by_id[V].parked[0].id
GROUPED = EDITS["group_layers"]([K, B], "Low").apply(SONG)
ON_GROUPED = {"move_group", "mute_group", "treat_group", "toggle_group", "balance_group"}
SLIPPED = EDITS["lift"](V, K, None, 5 * 3840 - 960, 8 * 3840).apply(SONG)  # the kick ends a beat early


def layer(song, key):
    return song.layer_by_id[key]


def curve(song, section_id, lane=CUTOFF):
    return next((c.points for c in section(song, section_id).curves if c.lane == lane), None)


GROOVED = EDITS["add_groove"](
    "Beat", 3840, [[0, "kick", 100], [2880, "kick", 80], [960, "snare", 100]], section_id=V
).apply(SONG)
G = GROOVED.grooves[0].id
ON_GROOVED = {
    "place_groove",
    "set_groove",
    "say_groove",
    "set_hit",
    "stretch_groove",
    "vary_groove",
    "time_groove",
    "rename_groove",
    "remove_groove",
}


def layer_of_drum(song, drum):
    return next(x.id for x in song.layers if x.sound.drum == drum)


FOUND = run_checks(SONG)[0].key
# kinds that need more than the small song
ON_SHAPED = {"remove_effect", "move_effect", "switch_effect", "set_stack", "set_stack_value", "remove_stack", "clear_curve",
             "copy_curve", "untreat", "remove_throw", "unprint_layer"}  # fmt: skip


SAMPLE = plain_sample()
LAID = EDITS["lay_sample"](SAMPLE, V).apply(SONG)
R = max(x.id for x in LAID.layers if x.clips)
SHORT = EDITS["lay_sample"](plain_sample(name="Short beat", short_beats=1.0), V).apply(SONG)
S = max(x.id for x in SHORT.layers if x.clips)
ON_LAID = {
    "set_clip",
    "slice_clip",
    "exchange_sample",
    "tune_clip",
    "play_speed",
    "mute_kicks",
    "lead_in",
    "renew_sample",
}
LATE = EDITS["set_clip"](R, 0, {"start_s": 0.02}).apply(LAID)  # every stroke comes 20 ms before its sixteenth
SLICED = EDITS["slice_clip"](R, 0, "1/4").apply(LAID)
SP = SLICED.layer_by_id[R].pattern_id
ON_SLICED = {"put_slice", "change_slice", "turn_slice", "rekey_slices", "play_slice"}
RINGING = EDITS["add_effect"](f"layer.{P}", "resonators").apply(SONG)
RESONATOR = RINGING.layer_by_id[P].devices[0].id
BY_ONSETS = EDITS["slice_clip"](R).apply(LAID)
QUIET = EDITS["set_clip"](R, 2, {"gain_db": -15.0}).apply(SLICED)
HIT = {**plain_sample(name="Knock", bars=1), "kind": "hit", "seconds": 0.3, "tempo_bpm": 0.0}
FAMILY = [{"part": part, "sample": plain_sample(name=part, bars=bars)} for part, bars in (("verse", 2), ("fill", 1))]


def slices(song):
    return song.pattern_by_id[SP].pattern.to_list()


def clips(song, layer_id):
    return layer(song, layer_id).clips


# kind: (fields, what holds afterwards), (fields that are refused, what is said)
ROWS = {
"hit": ((dict(section_id=V, phrase=0, drum="snare", tick=960), lambda s: starts(s, V, layer_of_drum(s, "snare"))[:2] == [960, 4800]), (dict(section_id=V, phrase=5, drum="snare", tick=0), "has 2 phrases, no phrase 6")),
    "say": ((dict(section_id=V, phrase=0, spoken="boom . boom-boom ."), lambda s: starts(s, V, K)[:4] == [0, 1920, 2400, 3840]), (dict(section_id=V, phrase=0, spoken="boom zap"), "is not a word")),
    "tap": ((dict(section_id=V, phrase=0, taps="0:l,0.5:h,1:l,1.5:h,2:l"), lambda s: s.grooves[0].name == "Tapped beat" and 960 in starts(s, V, layer_of_drum(s, "snare"))), (dict(section_id=V, phrase=0, taps="0:q"), "taps cannot be read")),
    "take_beat": ((dict(section_id=V, phrase=0, name="Taken", length_ticks=3840, hits=[[0, "kick", 100], [1920, "kick", 90]]), lambda s: starts(s, V, K)[:3] == [0, 1920, 3840]), (dict(section_id=V, phrase=0, name="Taken", length_ticks=3840, hits=[]), "The beat is empty")),
    "vary_beat": ((dict(section_id=V, phrase=0, variation="crash-one"), lambda s: len(s.grooves) == 2 and s.grooves[1].variant_of == s.grooves[0].id), (dict(section_id=V, phrase=0, variation="louder"), "is not a variation")),
    "set_chords_here": ((dict(section_id=V, chords="Dm | G", here=True), lambda s: [str(c) for _, c in section(s, V).progression.changes] == ["Dm", "G"]), (dict(section_id=V, chords="C | Xy"), "Xy.*is not a chord")),
    "set_pattern_text": ((dict(pattern_id=I["pattern of Round kick"], layer_id=K, notes="0 1.5", length=4), lambda s: starts(s, V, K)[:3] == [0, 1440, 3840]), (dict(pattern_id=0, layer_id=K, notes="0", length=4), "Pattern 0 is not")),
    "move": ((dict(section_id=V, move="no kick|crash"), lambda s: not starts(s, V, K) and "crash" in [x.sound.drum for x in s.layers]), (dict(section_id=V, move="ride"), "does not apply")),
    "add_options": ((dict(section_id=V, text="one: no drums, two: only bass"), lambda s: [p.name for p in section(s, V).parked] == ["no drums", "only bass"]), (dict(section_id=V, text="louder birds"), "“birds” is no layer")),
    "accept_as_found": ((dict(key=FOUND, reason="by feel"), lambda s: s.accepted[0][1] and s.accepted[0][2] == "by feel"), (dict(key="no such", reason="x"), "has gone")),
    "fit_scale": ((dict(), lambda s: s.scale.gain is not None), None),
        "rename_song": ((dict(title=" New  name "), lambda s: s.title == "New name"), (dict(title="x" * 10_000), "10,000 characters; at most 120")),
    "set_tempo": ((dict(tempo_bpm=90), lambda s: timeline(s).seconds == pytest.approx(16 * 4 * 60 / 90)), (dict(tempo_bpm=500), "500 bpm lies outside 30 to 300")),
    "set_metre": ((dict(metre="3/4"), lambda s: section_bar_ticks(s.sections[0], s.metre)[-1] == 8 * 2880), (dict(metre="4/0"), "4/0 is not a time signature")),
    "set_key": ((dict(key="D major"), lambda s: s.progression.changes[0][1].name() == "D"), (dict(key="H"), "is not a key")),
    "set_chords": ((dict(chords="vi | IV", section_id=V), lambda s: [str(c) for _, c in section(s, V).progression.changes] == ["Am", "F"]), (dict(chords="C | Xy"), "Xy.*is not a chord")),
    "vary_chords": ((dict(on_pass=0, chords="IV | V | I | I"), lambda s: [str(section_harmony(s, timeline(s).spans[0]).at(b * 3840)) for b in range(4, 8)] == ["F", "G", "C", "C"]), (dict(on_pass=2, chords="IV"), "has 1 bars, and the loop has 4")),
    "stretch_chords": ((dict(bars=8, section_id=V), lambda s: section(s, V).progression.length_ticks == 8 * 3840), (dict(bars=9, section_id=V), "outside 1 to 8 bars")),
    "push_chords": ((dict(push_ticks=480), lambda s: section_harmony(s, timeline(s).spans[0]).ticks[1] == 3840 - 480), (dict(push_ticks=7), "is not offered")),
    "set_tuning": ((dict(tuning_hz=432, capo_fret=3), lambda s: (s.tuning_hz, s.tuned_down, s.capo_fret) == (432, 0, 3)), (dict(tuning_hz=300), "300 Hz lies outside 415 to 466.2")),
    "tune_drum": ((dict(layer_id=K, note="G"), lambda s: dict(layer(s, K).settings)["hz"] == pytest.approx(48.999, abs=0.01)), (dict(layer_id=P), "has no pitch that can be tuned")),
    "set_voicing": ((dict(layer_id=P, part="voices", value="2"), lambda s: len(starts(s, V, P)) == 2 * len(starts(SONG, V, P)) // 3), (dict(layer_id=P, part="spread", value="huge"), "is not a spread")),
    "change_key_at": ((dict(section_id=C, semitones=2, approach="common chord"), lambda s: [str(c) for c in section_harmony(s, timeline(s).spans[0]).chords[-2:]] == ["Em", "A7"] and section(s, C).shift_semitones == 2), (dict(section_id=V, semitones=2, approach="dominant"), "first section has none before it")),
    "glide_tempo": ((dict(section_id=V, to_bpm=60), lambda s: timeline(s).spans[0].length_seconds == pytest.approx(8 * 4 * 60 * np.log(2) / 60)), (dict(section_id=V, to_bpm=60, start_ticks=5, end_ticks=5), "Choose bars inside it")),
    "add_groove": ((dict(name="Beat", length_ticks=3840, hits=[[0, "kick", 100], [960, "snare", 90]], section_id=V, phrase=1), lambda s: [g.name for g in s.grooves] == ["Beat"] and 960 + 4 * 3840 in starts(s, V, layer_of_drum(s, "snare")) and max(starts(s, V, K)) == 7 * 3840), (dict(name="Beat", length_ticks=3840, hits=[]), "The beat is empty")),
    "place_groove": ((dict(groove_id=G, section_id=C, where="song"), lambda s: starts(s, C, K)[:3] == [0, 2880, 3840] == starts(s, V, K)[:3]), (dict(groove_id=999, section_id=C), "Groove 999 is not")),
    "adopt_groove": ((dict(section_id=V, phrase=0, name="Taken"), lambda s: len(used_in(s, s.grooves[-1])) == 4 and starts(s, C, K) == starts(SONG, C, K)), (dict(section_id=V, phrase=9), "has 2 phrases, no phrase 10")),
    "set_groove": ((dict(groove_id=G, length_ticks=7680, hits=[[0, "kick", 100], [3840, "clap", 90]]), lambda s: starts(s, V, K)[:3] == [0, 7680, 15360] and "clap" in [x.sound.drum for x in s.layers]), (dict(groove_id=G, length_ticks=3840, hits=[[5000, "kick", 100]]), "lies outside the beat")),
    "say_groove": ((dict(groove_id=G, spoken="boom . boom-boom ."), lambda s: starts(s, V, K)[:4] == [0, 1920, 2400, 3840]), (dict(groove_id=G, spoken="boom zap"), "Bar 1, beat 2: “zap” is not a word")),
    "set_hit": ((dict(groove_id=G, drum="kick", tick=480, velocity=70), lambda s: starts(s, V, K)[:3] == [0, 480, 2880]), (dict(groove_id=G, drum="gong", tick=0), "is not a drum")),
    "stretch_groove": ((dict(groove_id=G, bars=2), lambda s: groove_beat(s, s.grooves[0]).bars == 2 and starts(s, V, K) == starts(GROOVED, V, K)), (dict(groove_id=G, bars=17), "17 bars lies outside 1 to 16")),
    "vary_groove": ((dict(groove_id=G, variation="crash-one", section_id=V, phrase=0), lambda s: s.grooves[1].variant_of == G and "crash" in [x.sound.drum for x in s.layers]), (dict(groove_id=G, variation="louder"), "is not a variation")),
    "time_groove": ((dict(groove_id=G, humanise_ms=15, seed=3), lambda s: starts(s, V, K) != starts(GROOVED, V, K)), (dict(groove_id=G, grid="1/8"), "as it is")),
    "rename_groove": ((dict(groove_id=G, name="Main"), lambda s: s.grooves[0].name == "Main"), (dict(groove_id=G, name=""), "name")),
    "remove_groove": ((dict(groove_id=G), lambda s: not s.grooves and not starts(s, V, K)), (dict(groove_id=5000), "not in this song")),
    "set_swing": ((dict(section_id=C, percent=62, subdivision="1/8"), lambda s: 595 in [t % 960 for t in starts(s, C, B)] and starts(s, V, B) == starts(SONG, V, B)), (dict(section_id=C, percent=80), "80 % lies outside 50 to 75")),
    "teach_word": ((dict(word="Bap", drum="snare"), lambda s: s.words == (("bap", "snare"),)), (dict(word="a+b", drum="kick"), "cannot be a word")),
    "make_line": ((dict(section_id=V, layer_id=B, phrase=1, maker="bass-off-beat"), lambda s: starts(s, V, B)[-1] == 8 * 3840 - 480 and starts(s, V, B)[:8] == starts(SONG, V, B)[:8] and 4 * 3840 + 480 in starts(s, V, B) and 4 * 3840 not in starts(s, V, B)), (dict(section_id=V, layer_id=K, phrase=0, maker="arpeggio"), "is a drum, and lines have pitches")),
    "transform_line": ((dict(section_id=C, layer_id=B, phrase=0, transformation="thin"), lambda s: len(starts(s, C, B)) == 4 * 4 + 4 * 8), (dict(section_id=V, layer_id=P, phrase=0, transformation="thin"), "is silent in this phrase")),
    "double_line": ((dict(layer_id=B, sound="sub-sine", octave=-1), lambda s: starts(s, C, next(x.id for x in s.layers if x.sound_key == "sub-sine")) == starts(s, C, B)), (dict(layer_id=B, sound="tin-hat"), "is a drum and plays no line")),
    "set_school": ((dict(school="dance"), lambda s: s.school == "dance"), (dict(school="jazz"), "is not a style")),
    "set_switch": ((dict(switch="repeats", value="same"), lambda s: s.switches == (("repeats", "same"),)), (dict(switch="repeats", value="never"), "Choose one of: change, same")),
    "set_scale": ((dict(gain=1.5, offset=-0.5), lambda s: s.scale.gain == 1.5), (dict(gain=float("nan")), "outside 0.1 to 100")),
    "set_life": ((dict(percent=60), lambda s: s.life == 0.6), (dict(percent=160), "160 % lies outside 0 to 100 %")),
    "set_master": ((dict(gain_db=-3), lambda s: s.master_gain_db == -3), (dict(gain_db=60), "60 dB lies outside")),
    "set_notes": ((dict(notes="hm"), lambda s: s.notes == "hm"), (dict(notes="x" * 10_001), "at most 10,000")),
    "add_section": ((dict(name="Verse", bars=4, after_id=V), lambda s: [x.name for x in s.sections] == ["Verse", "Verse 2", "Chorus"]), (dict(name="Long", bars=1000), "1000 bars lies outside 1 to 999")),
    "remove_section": ((dict(section_id=V), lambda s: len(s.sections) == 1), (dict(section_id=999), "Section 999 is not in this song")),
    "move_section": ((dict(section_id=C, by=-1), lambda s: s.sections[0].id == C), (dict(section_id=V, by=-1), "cannot move past the start")),
    "confirm_reading": ((dict(), lambda s: not any(x.guessed for x in s.sections) and not s.chords_read), None),
    "move_boundary": ((dict(section_id=C, by_bars=-2), lambda s: [(x.id, x.name, x.bars) for x in s.sections] == [(V, "Verse", 6), (C, "Chorus", 10)] and len(starts(s, C, K)) > len(starts(SONG, C, K))), (dict(section_id=V, by_bars=1), "is the first section")),
    "split_section": ((dict(section_id=V, after_bars=3), lambda s: [x.bars for x in s.sections] == [3, 5, 8]), (dict(section_id=V, after_bars=8), "outside 1 to 7 bars")),
    "merge_sections": ((dict(section_id=V), lambda s: s.sections[0].bars == 16 and starts(s, V, P)[0] == 8 * 3840), (dict(section_id=C), "is the last section")),
    "duplicate_section": ((dict(section_id=V), lambda s: s.sections[1].name == "Verse 2" and starts(s, s.sections[1].id, K) == starts(s, V, K)), (dict(section_id=0), "not in this song")),
    "resize_section": ((dict(section_id=V, bars=10), lambda s: section(s, V).phrases == (4, 4, 2) and starts(s, V, K)[-1] == 9 * 3840 + 2880), (dict(section_id=V, bars=0), "outside 1 to 999")),
    "rename_section": ((dict(section_id=V, name="<b>A"), lambda s: section(s, V).name == "<b>A"), (dict(section_id=V, name="Chorus"), "Another section is called")),
    "set_role": ((dict(section_id=V, role="break"), lambda s: section(s, V).role == "break"), (dict(section_id=V, role="peak"), "is not a role")),
    "set_phrases": ((dict(section_id=V, phrases="2+6"), lambda s: section(s, V).phrases == (2, 6)), (dict(section_id=V, phrases="4+3"), "makes 7 bars, but Verse has 8")),
    "set_target": ((dict(section_id=V, start=3, end=5), lambda s: section(s, V).target == Target(3, 5)), (dict(section_id=V, start=11), "outside 0 to 10")),
    "add_device": ((dict(section_id=C, device="gap"), lambda s: [(d.kind, d.start_ticks, d.length_ticks) for d in section(s, C).devices] == [("gap", -960, 960)]), (dict(section_id=V, device="gap"), "Nothing lies before Verse")),
    "set_device": ((dict(section_id=C, device_id=99, start_ticks=-1920), lambda s: carriers(s)[0].start_ticks == -1920), (dict(section_id=C, device_id=1, length_ticks=5), "Device 1 is not at the join")),
    "nudge_device": ((dict(section_id=C, device_id=99, by_ticks=-240, edge="start"), lambda s: (carriers(s)[0].start_ticks, carriers(s)[0].length_ticks) == (-1200, 1200)), (dict(section_id=C, device_id=99, by_ticks=960, edge="start"), "A length of 0 ticks")),
    "set_device_value": ((dict(section_id=C, device_id=99, parameter="tails", value=1), lambda s: carriers(s)[0].chosen("tails") == "ring"), (dict(section_id=C, device_id=99, parameter="depth", value=1), "has no parameter")),
    "remove_device": ((dict(section_id=C, device_id=99), lambda s: carriers(s) == ()), (dict(section_id=C, device_id=98), "Device 98 is not")),
    "park_device": ((dict(section_id=C, device_id=99), lambda s: carriers(s)[0].parked), (dict(section_id=V, device_id=99), "Device 99 is not")),
    "copy_join": ((dict(section_id=C, from_section_id=C), lambda s: [d.kind for d in carriers(s)] == ["gap"] and carriers(s)[0].id != 99), (dict(section_id=C, from_section_id=V), "Nothing was placed at the join into Verse")),
    "set_build": ((dict(section_id=C, bars=4, shape="late", loops_ticks=[3840, 960], rolls=True), lambda s: section(s, C).build.roll_layer_id == max(x.id for x in s.layers)), (dict(section_id=C, bars=9), "does not fit into Verse")),
    "remove_build": ((dict(section_id=C), lambda s: section(s, C).build is None), (dict(section_id=V), "Nothing builds into Verse")),
    "place_found": ((dict(section_id=C, device="crash", layer_id=FOUND_LAYER), lambda s: [d.kind for d in carriers(s)] == ["crash"] and starts(s, C, FOUND_LAYER) == [3840]), (dict(section_id=C, device="riser"), "is found at the join")),
    "write_device": ((dict(section_id=C, device_id=99), lambda s: carriers(s) == () and max(starts(s, V, K)) == 29760 - 960 and "master.level_db" in {c.lane for c in section(s, V).curves}), (dict(section_id=C, device_id=98), "Device 98 is not")),
    "target_by_phrase": ((dict(section_id=V, energies="8 3 - 5,5"), lambda s: section(s, V).target == Target(8, 5.5, turns=(Turn(0.5, 8), Turn(0.5, 3)))), (dict(section_id=V, energies="8 8 3"), "and 3 numbers were read")),
    "lift_phrase_target": ((dict(section_id=V, phrase=1, by=2), lambda s: section(s, V).target.at(0.6) == pytest.approx(section(SONG, V).target.at(0.6) + 2) and section(s, V).target.at(0.4) == section(SONG, V).target.at(0.4)), (dict(section_id=V, phrase=2, by=1), "lies outside 0 to 1")),
    "shift_section": ((dict(section_id=C, semitones=2), lambda s: starts(s, C, K) == starts(SONG, C, K)), (dict(section_id=C, semitones=40), "outside -24 to 24")),
    "add_layer": ((dict(sound="tin-hat", rows=HATS, length_ticks=3840), lambda s: [x.sound_key for x in s.layers][1] == "tin-hat"), (dict(sound="gong"), "is not a sound")),
    "remove_layer": ((dict(layer_id=P), lambda s: all(p.layer_id != P for x in s.sections for p in x.placements)), (dict(layer_id=0), "Layer 0 is not")),
    "rename_layer": ((dict(layer_id=K, name="Thud"), lambda s: s.layer_by_id[K].name == "Thud"), (dict(layer_id=K, name="Soft pad"), "Soft pad 2")),
    "move_layer": ((dict(layer_id=K, by=1), lambda s: s.layers[1].id == K), (dict(layer_id=K, by=-1), "already at the top")),
    "set_sound": ((dict(layer_id=P, sound="wide-saws"), lambda s: s.layer_by_id[P].sound_key == "wide-saws"), (dict(layer_id=P, sound=""), "is not a sound")),
    "set_control": ((dict(layer_id=P, control="pan", value=-0.5), lambda s: s.layer_by_id[P].pan == -0.5), (dict(layer_id=P, control="pan", value=float("nan")), "outside -1 to 1")),
    "set_muted": ((dict(layer_id=P, muted=True), lambda s: s.layer_by_id[P].muted), (dict(layer_id=0, muted=True), "not in this song")),
    "set_family": ((dict(layer_id=P, family="atmosphere"), lambda s: s.layer_by_id[P].family == "atmosphere"), (dict(layer_id=P, family="horns"), "is not a family")),
    "toggle_tile": ((dict(section_id=V, layer_id=K, phrase=1), lambda s: max(starts(s, V, K)) < 4 * 3840), (dict(section_id=V, layer_id=K, phrase=7), "has 2 phrases, no phrase 8")),
    "place": ((dict(section_id=V, layer_id=P, pattern_id=I["pattern of Soft pad"], phrase=0), lambda s: len(starts(s, V, P)) == 12), (dict(section_id=V, layer_id=P, pattern_id=0), "Pattern 0 is not")),
    "place_new": ((dict(section_id=V, layer_id=K, name="Half", length_ticks=7680, rows=KICK[:1]), lambda s: starts(s, V, K) == [0, 7680, 15360, 23040]), (dict(section_id=V, layer_id=K, name="Bad", length_ticks=100, rows=[[500, 1, 0, 36, 0, 1]]), "starts outside the pattern")),
    "lift": ((dict(section_id=C, layer_id=K, start_ticks=960, end_ticks=1920), lambda s: 960 not in starts(s, C, K) and 1920 in starts(s, C, K)), (dict(section_id=C, layer_id=K, start_ticks=5, end_ticks=5), "do not lie in Chorus")),
    "vary": ((dict(section_id=V, layer_id=K, keep=0.5), lambda s: starts(s, V, K)[:2] == [0, 1920]), (dict(section_id=V, layer_id=P), "is silent, so there is nothing to vary")),
    "set_pattern": ((dict(pattern_id=I["pattern of Round kick"], length_ticks=3840, rows=KICK[:2]), lambda s: len(starts(s, V, K)) == 16), (dict(pattern_id=I["pattern of Round kick"], length_ticks=3840, rows=[[0, 1, 0, 300, 0, 1]]), "outside −127 to 127")),
    "set_value": ((dict(lane=f"layer.{P}.sound.attack_s", value=0.5), lambda s: layer(s, P).settings == (("attack_s", 0.5),)), (dict(lane=f"layer.{P}.sound.attack_s", value=float("nan")), "Attack nan s lies outside")),
    "add_effect": ((dict(owner="bus.low-end", effect="drive"), lambda s: s.buses[0].devices[0].key == "drive"), (dict(owner="master", effect="reverse"), "works on layer only")),
    "remove_effect": ((dict(owner=f"layer.{P}", effect_id=FX), lambda s: [d.id for d in layer(s, P).devices] == [ECHO]), (dict(owner=f"layer.{P}", effect_id=1), "not in the chain any more")),
    "move_effect": ((dict(owner=f"layer.{P}", effect_id=ECHO, by=-1), lambda s: [d.id for d in layer(s, P).devices] == [ECHO, FX]), (dict(owner=f"layer.{P}", effect_id=FX, by=-1), "already at the start")),
    "switch_effect": ((dict(owner=f"layer.{P}", effect_id=FX, on=False), lambda s: not layer(s, P).devices[0].on), (dict(owner="layer.999", effect_id=FX, on=False), "not in this song")),
    "set_duck_by": ((dict(layer_id=P, by=-1), lambda s: layer(s, P).duck_by == -1), (dict(layer_id=P, by=P), "cannot be ducked by itself")),
    "set_recipe": ((dict(layer_id=P, text="two takes"), lambda s: layer(s, P).recipe == "two takes"), (dict(layer_id=P, text="x" * 4001), "at most 4,000")),
    "add_stack": ((dict(layer_id=K, sound="rim-knock"), lambda s: layer(s, K).stack[0].sound_key == "rim-knock"), (dict(layer_id=K, sound="soft-pad"), "do not stack")),
    "set_stack": ((dict(layer_id=K, part_id=CLICK, level_db=-3, offset_ms=2, inverted=True, reason="knock"), lambda s: (layer(s, K).stack[0].inverted, layer(s, K).stack[0].reason) == (True, "knock")), (dict(layer_id=K, part_id=CLICK, offset_ms=500), "500 ms lies outside 0 to 100")),
    "wide_pair": ((dict(layer_id=K, sound="dry-click"), lambda s: [(p.pan, p.offset_ms) for p in layer(s, K).stack] == [(-0.85, 0), (0.85, 11)]), (dict(layer_id=K, sound="soft-pad"), "do not stack")),
    "set_stack_value": ((dict(layer_id=K, part_id=CLICK, parameter="tick", value=0.3), lambda s: layer(s, K).stack[0].settings == (("tick", 0.3),)), (dict(layer_id=K, part_id=CLICK, parameter="colour", value=1), "is not a parameter")),
    "remove_stack": ((dict(layer_id=K, part_id=CLICK), lambda s: not layer(s, K).stack), (dict(layer_id=P, part_id=CLICK), "not stacked on Soft pad")),
    "set_curve": ((dict(section_id=C, lane=CUTOFF, points=[[0, 400, "line"], [960, 800, "hold"]]), lambda s: curve(s, C) == ((0, 400.0, "line"), (960, 800.0, "hold"))), (dict(section_id=C, lane=CUTOFF, points=[[0, 5, "line"]]), "Low-pass 5 Hz lies outside")),
    "clear_curve": ((dict(section_id=C, lane=CUTOFF), lambda s: curve(s, C) is None), (dict(section_id=C, lane=f"layer.{P}.octave"), "does not move along a curve")),
    "copy_curve": ((dict(section_id=C, lane=CUTOFF, to_id=V), lambda s: curve(s, V) == curve(s, C)), (dict(section_id=V, lane=CUTOFF, to_id=C), "Nothing moves there in Verse")),
    "sweep": ((dict(lane=CUTOFF, first_bar=7, last_bar=10, start=400, end=1600), lambda s: curve(s, V)[-1][1] == curve(s, C)[0][1] == pytest.approx(800)), (dict(lane=CUTOFF, first_bar=7, last_bar=40, start=400, end=1600), "bars 1–16")),
    "treat": ((dict(section_id=C, layer_id=P, lane="send.hall", value=-6), lambda s: sounding(s, C, P).send_db("hall") == -6 and layer(s, P).send_db("hall") == -60), (dict(section_id=C, layer_id=P, lane="octave", value=1), "same in the whole song")),
    "untreat": ((dict(section_id=C, layer_id=B), lambda s: not section(s, C).treatments), (dict(section_id=C, layer_id=99), "Layer 99 is not")),
    "throw": ((dict(section_id=C, layer_id=P, start_ticks=0, end_ticks=960, to="hall"), lambda s: section(s, C).throws[0].to == "hall"), (dict(section_id=C, layer_id=P, start_ticks=0, end_ticks=960, to="cave"), "not a shared space")),
    "remove_throw": ((dict(section_id=C, layer_id=P, start_ticks=2880), lambda s: not section(s, C).throws), (dict(section_id=C, layer_id=P, start_ticks=1), "not there any more")),
    "change_notes": ((dict(section_id=V, layer_id=P, phrase=0, changes=[[None, None, 960, 60, 480, 90]]), lambda s: starts(s, V, P) == [960]), (dict(section_id=V, layer_id=P, phrase=0, changes=[[0]]), "cannot be read")),
    "anchor_line": ((dict(section_id=V, layer_id=B, phrase=0, how="fixed"), lambda s: starts(s, V, B) == starts(SONG, V, B)), (dict(section_id=V, layer_id=B, phrase=0, how="sideways"), "is not a way of writing notes")),
    "transpose_line": ((dict(section_id=V, layer_id=B, phrase=1, semitones=5), lambda s: len(s.patterns) == len(SONG.patterns) + 1), (dict(section_id=V, layer_id=B, phrase=1, semitones=40), "Moving by 40")),
    "quantise_line": ((dict(section_id=V, layer_id=B, phrase=0, grid="1/4"), lambda s: {t % 960 for t in starts(s, V, B)[:16]} == {0}), (dict(section_id=V, layer_id=B, phrase=0, grid="1/5"), "is not a step")),
    "record_notes": ((dict(section_id=V, layer_id=P, phrase=0, notes=[[0.5, 0.2, 60, 90]]), lambda s: starts(s, V, P) == [960]), (dict(section_id=V, layer_id=P, phrase=0, notes=[["x", 1, 2, 3]]), "cannot be read")),
    "second_voice": ((dict(section_id=V, layer_id=B, phrase=0, interval="octave-above"), lambda s: len(s.layers) == 4), (dict(section_id=V, layer_id=B, phrase=0, interval="third-above", sound="tin-hat"), "is a drum and plays no line")),
    "split_line": ((dict(section_id=V, layer_id=B, phrase=0, deal="in-turn"), lambda s: len(starts(s, V, B)) == 16 + 32), (dict(section_id=V, layer_id=B, phrase=0, deal="chosen"), "would leave one of the two layers empty")),
    "answer_only": ((dict(section_id=C, layer_id=B, phrase=0, other_id=K), lambda s: len(starts(s, C, B)) == 4 * 4 + 4 * 8), (dict(section_id=C, layer_id=B, phrase=0, other_id=P), "is never silent here")),
    "fold_line": ((dict(section_id=V, layer_id=B, phrase=0), lambda s: len(starts(s, V, B)) == 65 and s.next_id > FAULTY.next_id), (dict(section_id=V, layer_id=P, phrase=0), "Nothing needs to move")),
    "tune_low": ((dict(section_id=V, layer_id=B), lambda s: layer(s, B).tune_cents == 0), (dict(section_id=V, layer_id=P), "is in tune with the chords")),
    "set_tune": ((dict(section_id=V, layer_id=B, phrase=1), lambda s: s.tune == (V, B, 1)), (dict(section_id=V, layer_id=P, phrase=0), "needs at least 3")),
    "stretch_section": ((dict(section_id=V, by_bars=2, reason="held for tension"), lambda s: (section(s, V).bars, section(s, V).phrases, section(s, V).stretched, section(s, V).length_reason) == (10, (4, 6), 2, "held for tension")), (dict(section_id=V, by_bars=-8), "at most 7 can be cut")),
    "set_length_reason": ((dict(section_id=V, reason="by feel"), lambda s: section(s, V).length_reason == "by feel"), (dict(section_id=V, reason="x" * 300), "at most 200 fit")),
    "mend_slips": ((dict(section_id=V), lambda s: section(s, V).placements[0].end_ticks == 5 * 3840), (dict(section_id=C), "Nothing in Chorus starts or ends")),
    "lay_out": ((dict(text="intro 4, verse 8, chorus 8 x2"), lambda s: [(x.name, x.bars) for x in s.sections] == [("Intro", 4), ("Verse", 8), ("Chorus 1", 8), ("Chorus 2", 8)]), (dict(text="intro 4, verse"), "Part 2, “verse”, needs a name")),
    "arrange": ((dict(stance="drums"), lambda s: [x.id for x in s.sections] == [V, C] and s.sections != SONG.sections), (dict(stance="loud"), "is not a way of laying out")),
    "group_layers": ((dict(layer_ids=[K, B], name="Bottom"), lambda s: [x.group for x in s.layers if x.group] == ["Bottom", "Bottom"]), (dict(layer_ids=[K], name="Alone"), "two layers or more")),
    "move_group": ((dict(group="Low", control="level_db", by=-3), lambda s: [layer(s, x).level_db - layer(GROUPED, x).level_db for x in (K, B)] == [-3, -3]), (dict(group="Low", control="level_db", by=99), "99 dB lies outside")),
    "mute_group": ((dict(group="Low"), lambda s: layer(s, K).muted and layer(s, B).muted and not layer(s, P).muted), (dict(group="High"), "no group called “High”")),
    "treat_group": ((dict(group="Low", section_id=C, by_db=2), lambda s: len(section(s, C).treatments) == 2), (dict(group="Low", section_id=C, by_db=99), "99 dB lies outside")),
    "toggle_group": ((dict(group="Low", section_id=C, phrase=0), lambda s: {p.layer_id for p in section(s, C).placements if p.start_ticks == 0} == {P}), (dict(group="Low", section_id=C, phrase=9), "no phrase 10")),
    "balance_group": ((dict(group="Low"), lambda s: layer(s, K).level_db != layer(GROUPED, K).level_db or layer(s, B).level_db != layer(GROUPED, B).level_db), (dict(group="High"), "no group called")),
    "exchange_sound": ((dict(layer_id=P), lambda s: layer(s, P).sound_key != layer(SONG, P).sound_key and starts(s, V, P) == starts(SONG, V, P)), (dict(layer_id=99), "not in this song any more")),
    "keep_stand_in": ((dict(layer_id=P, stands_in=True), lambda s: layer(s, P).stand_in), (dict(layer_id=99), "not in this song any more")),
    "lay_sample": ((dict(sample=SAMPLE, section_id=V), lambda s: s.samples[0].name == "Known beat" and starts(s, V, R) == [0, 7680, 15360, 23040] and clips(s, R)[0].beats == 8), (dict(sample={**SAMPLE, "seconds": -3}), "seconds “-3” cannot be used")),
    "set_clip": ((dict(layer_id=R, number=0, values={"semitones": "3", "reversed": "true"}), lambda s: (clips(s, R)[0].semitones, clips(s, R)[0].reversed) == (3.0, True)), (dict(layer_id=R, number=0, values={"start_s": "9"}), "begin at 9 s and end at")),
    "slice_clip": ((dict(layer_id=R, at="1/8"), lambda s: len(clips(s, R)) == 17 and starts(s, V, R)[:3] == [0, 480, 960]), (dict(layer_id=R, ticks=[99_999]), "outside the clip")),
    "mend_clip": ((dict(layer_id=S, way="repeat tail"), lambda s: starts(s, V, S)[:3] == [0, 6720, 7680] and clips(s, S)[1].beats == 1), (dict(layer_id=S, way="trim more"), "is not a way of mending")),
    "exchange_sample": ((dict(layer_id=R, sample=plain_sample(tempo=100.0, bars=1, name="Other")), lambda s: [x.name for x in s.samples] == ["Other"] and starts(s, V, R)[:2] == [0, 3840] and layer(s, R).name == "Other"), (dict(layer_id=P, sample=SAMPLE), "plays no recording")),
    "change_slice": ((dict(layer_id=R, pattern_id=SP, index=0, change="later"), lambda s: [r[3] for r in slices(s)][:3] == [2, 1, 3]), (dict(layer_id=R, pattern_id=SP, index=50, change="mute"), "slices 1 to 8, no slice 51")),
    "put_slice": ((dict(layer_id=R, pattern_id=SP, tick=480, number=3), lambda s: [r[:4] for r in slices(s)][:3] == [[0, 480, 4, 1], [480, 480, 4, 3], [960, 960, 4, 2]]), (dict(layer_id=R, pattern_id=SP, tick=99_999), "outside the pattern")),
    "turn_slice": ((dict(layer_id=R, pattern_id=SP, index=1, semitones=5, reverse=True), lambda s: (clips(s, R)[-1].semitones, clips(s, R)[-1].reversed, slices(s)[1][3]) == (5.0, True, 9)), (dict(layer_id=R, pattern_id=SP, index=1, semitones=40), "at most 24 up or down")),
    "rekey_slices": ((dict(layer_id=R, pattern_id=SP, section_id=V, pitches=[61.0, 0, 0, 0, 0, 0, 0, 0]), lambda s: abs(clips(s, R)[-1].semitones) == 1.0 and slices(s)[1][3] == 2), (dict(layer_id=R, pattern_id=SP, section_id=V, pitches=[60.0]), "have changed in the meantime")),
    "quantise_slices": ((dict(layer_id=R, pattern_id=SP, grid_ticks=240), lambda s: all(r[0] % 240 == 0 for r in slices(s)) and len(slices(s)) == len(slices(BY_ONSETS)) > 10), (dict(layer_id=R, pattern_id=SP, grid_ticks=7), "no grid that is offered")),
    "mute_kicks": ((dict(layer_id=R), lambda s: 0 not in starts(s, V, R) and len(starts(s, V, R)) > 20), (dict(layer_id=P), "plays no recording")),
    "lead_in": ((dict(layer_id=R, section_id=C), lambda s: (clips(s, R)[-1].reversed, clips(s, R)[-1].beats, starts(s, V, R)[-1]) == (True, 2, 8 * 3840 - 1920)), (dict(layer_id=R, section_id=V), "Nothing lies before")),
    "play_slice": ((dict(layer_id=R, number=2, section_id=V, pitch=45.2), lambda s: (s.layers[-1].sound_key, s.layers[-1].clips[0].root, s.layers[-1].clips[0].semitones) == ("recorded-note", 45, -0.2) or [(x.clips[0].root, x.clips[0].semitones) for x in s.layers if x.sound_key == "recorded-note"] == [(45, -0.2)]), (dict(layer_id=R, number=99, section_id=V), "no clip 100")),
    "play_speed": ((dict(layer_id=R, times=2.0), lambda s: starts(s, V, R) == [0, 15360] and clips(s, R)[0].beats == 16), (dict(layer_id=R, times=3.0), "Choose half or double")),
    "tune_clip": ((dict(layer_id=R, semitones=-2), lambda s: clips(s, R)[0].semitones == pytest.approx(-2, abs=0.6)), (dict(layer_id=R, semitones=-99), "cannot be used")),
    "stack_sample": ((dict(layer_id=K, sample=HIT), lambda s: [(p.sound_key, p.clip.fit, p.clip.root) for p in layer(s, K).stack] == [("recorded-kick", "alone", layer(s, K).sound.drum_note)]), (dict(layer_id=99, sample=HIT), "not in this song any more")),
    "play_sample": ((dict(layer_id=P, sample=SAMPLE), lambda s: layer(s, P).sound_key == "recorded-part" and starts(s, C, P)[:2] == [0, 7680]), (dict(layer_id=K, sample={**HIT, "seconds": 0.001}), "at least 0.005 s")),
    "renew_sample": ((dict(sample={**SAMPLE, "tempo_bpm": 80.0}), lambda s: s.samples[0].tempo_bpm == 80.0 and clips(s, R)[0].beats == 10.75), (dict(sample=HIT | {"content": "f" * 32}), "not used in this song")),
    "match_gain": ((dict(layer_id=R, number=2), lambda s: -6 < clips(s, R)[2].gain_db < 12), (dict(layer_id=R, number=0), "no neighbour that sounds")),
    "borrow_fill": ((dict(layer_id=S, sample=SAMPLE), lambda s: starts(s, V, S)[:3] == [0, 6720, 7680] and clips(s, S)[1].sample == SAMPLE["content"] and clips(s, S)[1].beats == 1), (dict(layer_id=P, sample=SAMPLE), "plays no recording")),
    "follow_timing": ((dict(layer_id=R, section_id=V), lambda s: starts(s, V, K)[:3] == [-21, 935, 1900] and starts(s, C, K) == starts(LATE, C, K)), (dict(layer_id=R, section_id=V, amount=2.0), "outside 0 to 1")),
    "add_stand_in": ((dict(sound="soft-pad", name="Rain on glass", section_id=V, length_ticks=3840, rows=[[0, 3840, 2, 0, 0, 90]]), lambda s: [(x.name, x.stand_in) for x in s.layers if x.stand_in] == [("Rain on glass", True)]), (dict(sound="no-sound", name="x", section_id=V, length_ticks=3840, rows=[]), "no-sound")),
    "lay_family": ((dict(name="room kit", members=FAMILY), lambda s: [len(x.clips) for x in s.layers if x.name == "Room kit"] == [2] and all(starts(s, x, s.next_id and max(y.id for y in s.layers if y.clips))[-1] % 3840 == 0 for x in (V, C))), (dict(name="x", members=[{"part": "solo"}]), "one of verse, alternate")),
    "tune_resonators": ((dict(layer_id=P, device_id=RESONATOR, section_id=C), lambda s: len(section(s, C).curves) == len(section(RINGING, C).curves) + 4), (dict(layer_id=P, device_id=999), "no such resonators")),
    "say_drop": ((dict(means="peak"), lambda s: s.drop_means == "peak"), (dict(means="both"), "is not a meaning of drop")),
    "set_tiles": ((dict(cells=[[V, P, 0], [V, P, 1]]), lambda s: len({p.layer_id for p in section(s, V).placements}) == 3), (dict(cells=[[C, P, 0]]), "already sound")),
    "copy_tiles": ((dict(from_id=C, to_id=V), lambda s: starts(s, V, P) == starts(SONG, C, P)), (dict(from_id=V, to_id=V), "already plays what it plays")),
    "accept_finding": ((dict(key="verse rises:1:0", reason="it stays low on purpose", facts="(0.0,)"), lambda s: s.accepted == (("verse rises:1:0", "(0.0,)", "it stays low on purpose"),)), (dict(key="x", reason="y" * 10_000), "at most 300 fit")),
    "set_brief": ((dict(lines={"length": "3:30", "feel": " leaning  back "}), lambda s: s.brief == (("length", "3:30"), ("feel", "leaning back"))), (dict(lines={"due": "soon"}), "“soon” is no day")),
    "reopen_finding": ((dict(key="level:1:0"), lambda s: s.accepted == ()), (dict(key="peak:2"), "was not accepted")),
    "set_reason": ((dict(layer_id=P, reason="it carries the chords"), lambda s: layer(s, P).reason == "it carries the chords"), (dict(layer_id=P, reason="x" * 10_000), "at most 300 fit")),
    "set_aside": ((dict(layer_id=P, reason="too sweet"), lambda s: layer(s, P).muted and layer(s, P).aside == "too sweet" and not layer(EDITS["set_muted"](P, False).apply(s), P).aside), (dict(layer_id=P, reason=" "), "reason is empty")),
    "hold_layer": ((dict(layer_id=P, sent_by="the cellist"), lambda s: layer(s, P).sent_by == "the cellist"), (dict(layer_id=P, sent_by="x" * 99), "at most 80 fit")),
    "park_body": ((dict(section_id=V, name="first try"), lambda s: [p.name for p in section(s, V).parked] == ["first try"] and arranged(s).of(V).value == arranged(SONG).of(V).value), (dict(section_id=V, name="x" * 99), "at most 80 fit")),
    "exchange_body": ((dict(section_id=V, body_id=WITH_KICK, who="Ben", reason="it walks"), lambda s: starts(s, V, K) == starts(SONG, V, K) and [(p.name, p.reason) for p in section(s, V).parked] == [("as it was", "passed over for with the kick, by Ben: it walks")]), (dict(section_id=V, body_id=4), "is not there any more")),
    "exchange_pair": ((dict(section_id=C, before_id=WITH_KICK), lambda s: starts(s, V, K) == starts(SONG, V, K) and section(s, C) == section(SONG, C)), (dict(section_id=V, before_id=WITH_KICK), "of the section before it")),
    "keep_body": ((dict(section_id=V, reason="barer"), lambda s: not starts(s, V, K) and section(s, V).parked[0].reason == "passed over for as it was: barer"), (dict(section_id=C), "no options to choose between")),
    "forget_body": ((dict(section_id=V, body_id=WITH_KICK), lambda s: not section(s, V).parked), (dict(section_id=C, body_id=WITH_KICK), "is not there any more")),
    "take_down_feedback": ((dict(text="0:18 pad too loud", who="Ana"), lambda s: [(r.who, r.section_id, r.bar, r.said) for r in s.feedback] == [("Ana", C, 2, "pad too loud")]), (dict(text=" \n "), "Nothing was said")),
    "set_feedback": ((dict(remark_id=SAID.feedback[0].id, state="not taken", reason="it is the tune"), lambda s: (s.feedback[0].state, s.feedback[0].reason) == ("not taken", "it is the tune")), (dict(remark_id=SAID.feedback[0].id, state="not taken"), "Say why")),
    "place_feedback": ((dict(remark_id=SAID.feedback[0].id, section_id=V, bar=3), lambda s: (s.feedback[0].section_id, s.feedback[0].bar) == (V, 3)), (dict(remark_id=SAID.feedback[0].id, section_id=V, bar=9), "there are 8")),
    "remove_feedback": ((dict(remark_id=SAID.feedback[0].id), lambda s: not s.feedback), (dict(remark_id=9999), "not there any more")),
    "print_layer": ((dict(layer_id=P, prints=[["a", "b", 5]]), lambda s: layer(s, P).prints[0].offset == 5), (dict(layer_id=P, prints=[]), "plays nothing yet")),
    "unprint_layer": ((dict(layer_id=B), lambda s: not layer(s, B).prints), (dict(layer_id=P), "is not printed")),
}  # fmt: skip


def sounding(song, section_id, layer_id):
    return next(x for x in sounding_layers(song, section(song, section_id)) if x.id == layer_id)


WITH_SONGS = SUNG_ROWS | PLANNED_ROWS | GROOVED_ROWS
ROWS |= {kind: row[1:] for kind, row in WITH_SONGS.items()}


def test_every_kind_of_edit_has_a_row():
    assert set(ROWS) == set(EDITS)


GUESSED = replace(SONG, chords_read=True, sections=tuple(replace(s, guessed=True) for s in SONG.sections))
CARRIED = (
    EDITS["set_build"](C, 2)
    .apply(SONG)
    .with_section(replace(section(SONG, C), devices=(JoinDevice(99, "gap", -960, 960),), build=Build(2)))
)
CARRIED = replace(CARRIED, next_id=200)
CRASHED = EDITS["add_layer"](
    "wide-crash", rows=[[0, 960, 0, 49, 0, 100], [3840, 960, 0, 49, 0, 100]], length_ticks=7680 * 4, section_id=C
).apply(SONG)
ON_CARRIED = {
    "write_device",
    "set_device",
    "nudge_device",
    "set_device_value",
    "remove_device",
    "park_device",
    "copy_join",
    "remove_build",
}
BASES = [({"set_feedback", "place_feedback", "remove_feedback"}, SAID), ({"tune_resonators"}, RINGING), (ON_CARRIED, CARRIED), (ON_SHAPED, SHAPED), (ON_GROOVED, GROOVED), (ON_FAULTY, FAULTY), ({"mend_slips"}, SLIPPED), ({"reopen_finding"}, MEANT), ({"place_found"}, CRASHED), (ON_PARKED, PARKED), (ON_GROUPED, GROUPED), ({"confirm_reading"}, GUESSED), (ON_LAID, LAID), ({"follow_timing"}, LATE), ({"match_gain"}, QUIET), ({"borrow_fill"}, SHORT), ({"mend_clip"}, SHORT), (ON_SLICED, SLICED), ({"quantise_slices"}, BY_ONSETS)]  # fmt: skip


def base_of(kind):
    """The song that a kind's example needs."""
    if kind in WITH_SONGS:
        return WITH_SONGS[kind][0]
    return next((song for kinds, song in BASES if kind in kinds), SONG)


@pytest.mark.parametrize("kind", ROWS)
def test_an_edit_does_what_it_says_and_refuses_the_rest(kind):
    (fields, holds), refused = ROWS[kind]
    edit, song = EDITS[kind](**fields), base_of(kind)
    after = edit.apply(song)
    assert holds(after)
    assert after != song and small_song() == SONG and shaped_song() == SHAPED
    assert 3 < len(edit.summary(song)) < 300
    assert EDITS[kind].__doc__.strip().endswith(".")
    if refused:
        with pytest.raises(InputError, match=refused[1]):
            EDITS[kind](**refused[0]).apply(song)


@pytest.mark.parametrize("kind, fields", [
    ("set_sound", dict(layer_id=B, sound="sub-sine")), ("set_value", dict(lane=f"layer.{B}.sound.sub", value=0.1)),
    ("add_effect", dict(owner=f"layer.{B}", effect="drive")), ("treat", dict(section_id=C, layer_id=B, lane="sound.sub", value=0.1)),
    ("set_control", dict(layer_id=B, control="lowpass_hz", value=900)), ("add_stack", dict(layer_id=B, sound="sub-sine")),
])  # fmt: skip
def test_a_printed_layers_sound_is_frozen_until_the_print_is_taken_back(kind, fields):
    with pytest.raises(EditError, match="Plucked bass is printed"):
        EDITS[kind](**fields).apply(SHAPED)
    assert EDITS["set_control"](B, "level_db", -12).apply(SHAPED), "its level stays free"
    assert EDITS[kind](**fields).apply(EDITS["unprint_layer"](B).apply(SHAPED))


def test_what_names_a_removed_layer_goes_with_it():
    song = EDITS["set_duck_by"](B, P).apply(SHAPED)
    after = validate(EDITS["remove_layer"](P).apply(song))
    assert curve(after, C) is None and not section(after, C).throws and layer(after, B).duck_by == 0
    assert section(after, C).treatments == section(SHAPED, C).treatments


@pytest.mark.parametrize("bars", [2, 5])
def test_curves_throws_and_treatments_survive_split_and_merge(bars):
    split = EDITS["split_section"](C, bars).apply(SHAPED)
    right = split.sections[2]
    spec, whole = lane_parameter(SHAPED, CUTOFF), section(SHAPED, C).curves[0]
    assert right.curves[0].one(0, spec) == pytest.approx(whole.one(bars * 3840, spec), rel=1e-6)
    merged = EDITS["merge_sections"](C).apply(split)
    at = np.linspace(0, 8 * 3840 - 1, 40)
    assert np.allclose(np.log(section(merged, C).curves[0].at(at, spec)), np.log(whole.at(at, spec)), atol=0.02)
    assert (
        section(merged, C).throws == section(SHAPED, C).throws
        and section(merged, C).treatments == section(SHAPED, C).treatments
    )


def test_one_bar_of_a_phrase_is_emptied_and_filled_again():
    def bar(number):
        return EDITS["toggle_tile"](V, K, 0, number)

    emptied = bar(1).apply(SONG)
    assert [t // 3840 for t in sorted(set(starts(SONG, V, K)) - set(starts(emptied, V, K)))] == [1] * 4
    assert bar(1).summary(SONG).startswith("Lifted") and bar(1).summary(SONG).endswith("bar 2")
    assert starts(bar(1).apply(emptied), V, K) == starts(SONG, V, K)
    alone = bar(2).apply(EDITS["lift"](V, K, 0).apply(SONG))
    assert {t // 3840 for t in starts(alone, V, K) if t < 4 * 3840} == {2}
    with pytest.raises(InputError, match="Bar of phrase 1 4 lies outside"):
        bar(4).apply(SONG)


def test_the_last_section_stays():
    alone = EDITS["remove_section"](V).apply(SONG)
    with pytest.raises(EditError, match="only section"):
        EDITS["remove_section"](C).apply(alone)


@settings(max_examples=12)
@given(st.data())
def test_any_row_of_edits_keeps_the_song_whole(data):
    song, seen = SONG, {x.id for x in SONG.sections} | {x.id for x in SONG.layers}
    for _ in range(6):
        edit = data.draw(edits_for(song))
        try:
            after = edit.apply(song)
        except EditError:
            continue
        validate(after)
        assert after.next_id >= song.next_id
        fresh = {x.id for x in after.sections} - {x.id for x in song.sections}
        assert not fresh & seen, "an id came back"
        seen |= fresh
        assert sum(x.bars for x in after.sections) == timeline(after).bars == after.bars
        plain = to_plain(after)
        patterns = {e.pattern.content_hash: e.pattern for e in after.patterns}
        assert from_plain(plain, patterns) == after
        song = after
    bare = replace(song, layers=tuple(replace(x, prints=()) for x in song.layers))
    assert read_project(write_project(song)) == bare, "a file holds all but prints"


@given(st.integers(1, 7), st.floats(0, 10), st.floats(0, 10))
def test_split_and_merge_leave_what_sounds(bars, start, end):
    song = EDITS["set_target"](V, start, end).apply(SONG)
    song = replace(
        song,
        sections=(
            EDITS["vary"](V, K, level_end_db=-12.0, lowpass_end_hz=900.0).apply(song).sections[0],
            song.sections[1],
        ),
    )
    split = EDITS["split_section"](V, bars).apply(song)
    merged = EDITS["merge_sections"](V).apply(split)
    assert merged.sections[0].bars == 8
    for layer in (K, B):
        assert starts(merged, V, layer) == starts(song, V, layer)
    ends = section_bar_ticks(split.sections[0], split.metre)[-1]
    assert starts(split, split.sections[1].id, B) == [t - ends for t in starts(song, V, B) if t >= ends]


def test_curves_keep_their_values_when_a_placement_is_cut():
    song = Vary(V, K, level_start_db=0.0, level_end_db=-8.0).apply(SONG)
    after = EDITS["lift"](V, K, phrase=1).apply(song)
    (kept,) = [p for p in section(after, V).placements if p.layer_id == K]
    assert (kept.variation.level_start_db, kept.variation.level_end_db) == (0.0, -4.0)


def test_following_notes_move_with_key_and_section_and_drums_stay():
    span = timeline(SONG).span_of(C)
    shifted = EDITS["shift_section"](C, 2).apply(SONG)
    there = timeline(shifted).span_of(C)
    for layer_id, by in ((K, 0), (B, 2)):
        before, after = (
            layer_events(s, x, s.layer_by_id[layer_id]).table[:, PITCH] for s, x in ((SONG, span), (shifted, there))
        )
        assert ((after - before) % 12 == by).all()


def test_a_following_bass_plays_the_chords_roots():
    span = timeline(SONG).span_of(V)
    pitches = layer_events(SONG, span, SONG.layer_by_id[B]).table[:, PITCH].reshape(-1, 8)[:4, 0] % 12
    assert pitches.tolist() == [0, 9, 5, 7]


def test_a_closed_hat_ends_an_open_one_and_pickups_come_early(song):
    from escalera.core.edits.layer_edits import AddLayer
    from escalera.core.edits.tile_edits import Place

    for sound, rows in (
        ("open-tin-hat", [[480, 2000, 0, 46, 0, 90]]),
        ("tin-hat", [[960, 120, 0, 42, 0, 90]]),
        ("glass-bell", [[-480, 240, 0, 72, 0, 90]]),
    ):
        song = AddLayer(sound, rows=rows, length_ticks=3840).apply(song)
        layer = song.layers[[x.sound_key for x in song.layers].index(sound)]
        song = Place(C, layer.id, layer.pattern_id).apply(song)
    span = timeline(song).span_of(C)
    table = {x.sound_key: layer_events(song, span, x).table for x in song.layers}
    assert table["open-tin-hat"][0].tolist()[:2] == [480, 480]
    assert table["glass-bell"][0, START] == -480 and len(table["glass-bell"]) == 8
