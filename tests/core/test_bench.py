"""What the bench judges: who owns the lows, which bass notes are wrong, which layers get in each other's way, where the tune is."""

import re
from dataclasses import replace

import pytest

from escalera.core.bench.bass_faults import MISTUNED, NOT_IN_CHORD, WRONG_ROOT, bass_faults, entering_faults, judge
from escalera.core.bench.change_warnings import changed_line
from escalera.core.bench.layer_jobs import jobs, rests
from escalera.core.bench.listening import heard, read_listening
from escalera.core.bench.low_end import low_end
from escalera.core.bench.tune_map import tune_map, without_place
from escalera.core.edits import EDITS
from escalera.core.lines.kinship import kinship, steps_of
from escalera.core.moves.line_copies import copies
from escalera.core.reading.events import sounding_layers
from escalera.core.reading.timeline import timeline
from escalera.core.theory.chords import parse_chord
from escalera.core.theory.keys import parse_key
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))
BAR = 3840


def do(song, kind, *args, **fields):
    return EDITS[kind](*args, **fields).apply(song)


def span(song, section=V):
    return timeline(song).span_of(section)


def with_layer(song, sound, notes=(), section=V, how="scale"):
    """A layer with notes (tick, ticks long, pitch) in the first phrase of a section, and its id."""
    before = {x.id for x in song.layers}
    song = do(song, "add_layer", sound)
    made = next(x.id for x in song.layers if x.id not in before)
    if notes:
        song = do(song, "change_notes", section, made, 0, [[None, None, t, p, d, 90] for t, d, p in notes], how, True)
    return song, made


# the low end ------------------------------------------------------------------------------------------------------


def test_every_sixteenth_has_one_owner_or_nobody():
    found = low_end(SONG, span(SONG), 0, BAR)
    assert len(found.steps) == 16 and [s.tick for s in found.steps[:3]] == [0, 240, 480]
    assert (
        found.steps[0].owner == K
        and {s.owner for s in found.steps} <= {0, K, B}
        and sum(found.owned().values()) == pytest.approx(1.0)
    )
    silent = do(do(SONG, "lift", V, K), "lift", V, B)
    assert all(s.owner == 0 for s in low_end(silent, span(silent)).steps)
    alone, sub = with_layer(silent, "sub-sine", [(0, 1920, 36)], how="fixed")
    owners = [s.owner for s in low_end(alone, span(alone), 0, BAR).steps]
    assert owners[:8] == [sub] * 8 and owners[9:] == [0] * 7


def test_ducking_hands_the_lows_to_the_kick_and_ends_the_masking():
    song, sub = with_layer(do(SONG, "lift", V, B), "sub-sine", [(i * 960, 900, 36) for i in range(16)], how="fixed")
    song = do(song, "set_control", sub, "level_db", -7)
    fighting = low_end(song, span(song), 0, 4 * BAR)
    assert fighting.masked and not fighting.locked and "masking" in fighting.said and "duck the bass" in fighting.said
    ducked = do(do(song, "set_control", sub, "duck_db", 14), "set_control", sub, "duck_release_beats", 0.5)
    clear = low_end(ducked, span(ducked), 0, 4 * BAR)
    assert clear.locked and not clear.masked and clear.said.startswith("lock: together on 16 of 16")
    assert clear.steps[0].owner == K and clear.steps[3].owner == sub
    apart = do(SONG, "make_line", V, B, 0, "bass-off-beat")
    assert "answers" in low_end(apart, span(apart), 0, 4 * BAR).said


@pytest.mark.parametrize(("pitch", "chord", "fault"), [
    (36.0, "C", None), (43.0, "C", None), (40.0, "C/E", None), (36.3, "C", (MISTUNED, 30.0)), (35.93, "C", None), (37.0, "C", (WRONG_ROOT, 1.0)),
    (34.0, "C", (WRONG_ROOT, -2.0)), (42.0, "C", (NOT_IN_CHORD, -6.0)), (45.0, "C", (NOT_IN_CHORD, -3.0)),
])  # fmt: skip
def test_bass_notes_are_judged_by_fault(pitch, chord, fault):
    assert judge(pitch, parse_chord(chord)) == fault


def test_faults_of_basses_tuned_drums_and_long_kicks_are_found_and_tuned_in_one_step():
    assert bass_faults(SONG, span(SONG)) == []
    wrong, kick_bass = with_layer(SONG, "kick-bass", [(i * BAR, 900, 37) for i in range(4)], how="fixed")
    faults = [f for f in bass_faults(wrong, span(wrong)) if f.layer_id == kick_bass]
    assert {f.kind for f in faults} == {WRONG_ROOT, NOT_IN_CHORD} and faults[0].said(
        wrong.key
    ) == "D♭2 under C: a semitone above the root"
    assert not bass_faults(do(wrong, "tune_low", V, kick_bass), span(do(wrong, "tune_low", V, kick_bass)))
    flat = do(SONG, "set_control", B, "tune_cents", -30)
    (fault, *_) = bass_faults(flat, span(flat))
    assert (fault.kind, fault.amount) == (MISTUNED, -30.0) and "30 cents flat" in fault.said(flat.key)
    assert do(flat, "tune_low", V, B).layer_by_id[B].tune_cents == 0.0
    tuned = do(do(SONG, "set_chords", "C"), "set_value", f"layer.{K}.sound.hz", 55.0)
    (drum,) = bass_faults(tuned, span(tuned))
    assert drum.layer_id == K and drum.kind == NOT_IN_CHORD and len(drum.ticks) == 32
    assert not bass_faults(do(tuned, "tune_low", V, K), span(do(tuned, "tune_low", V, K)))
    passing = do(SONG, "change_notes", V, B, 0, [[None, None, 240, 38, 120, 90]], "fixed", True)
    assert not bass_faults(passing, span(passing)), "a short step off the beat only passes"


def test_a_wrong_bass_is_told_when_it_enters_a_loud_section_and_only_then():
    quiet, _ = with_layer(do(SONG, "set_target", V, 2, 2), "kick-bass", [(0, 3000, 37)], V, "fixed")
    loud, made = with_layer(SONG, "kick-bass", [(0, 3000, 37)], C, "fixed")
    (entered,) = entering_faults(SONG, loud)
    assert entered[0].section.id == C and entered[1].id == made and entered[2].kind == WRONG_ROOT
    assert entering_faults(loud, do(loud, "rename_layer", made, "Thump")) == []
    quiet = replace(quiet, sections=tuple(replace(s, role="verse") for s in quiet.sections))
    assert all(s.section.id != V or f.kind == WRONG_ROOT for s, _, f in entering_faults(SONG, quiet))


# layers and jobs --------------------------------------------------------------------------------------------------


def sung():
    """A voice that rests in the second half of every bar, a bell that answers, keys over the voice."""
    song, voice = with_layer(
        SONG, "vowel-voice", [(b * BAR + i * 480, 440, 62 + i) for b in range(4) for i in range(4)]
    )
    song, bell = with_layer(
        song, "reed-solo", [(b * BAR + 2400 + i * 480, 300, 72 + i) for b in range(4) for i in range(2)]
    )
    song, keys = with_layer(song, "opening-pluck", [(b * BAR + i * 960, 900, 63) for b in range(4) for i in range(4)])
    return song, voice, bell, keys


def test_the_jobs_view_finds_overlaps_the_voices_room_and_who_answers():
    song, voice, bell, keys = sung()
    found = jobs(song, span(song))
    assert {p.layer.id for p in found.parts} == {voice, bell, keys, B} and found.voice.layer.id == voice
    (clash,) = [c for c in found.clashes if c.layer.id == keys]
    assert (clash.notes, clash.of) == (8, 16) and not any(c.layer.id == bell for c in found.clashes)
    (answer,) = found.answers
    assert (answer.layer.id, answer.to.id, answer.notes) == (bell, voice, 8)
    gap = found.gaps[0]
    assert gap.start == 1880 and gap.end == BAR and "Reed solo" in gap.answered
    gone = do(song, "answer_only", V, keys, 0, voice)
    assert not [c for c in jobs(gone, span(gone)).clashes if c.layer.id == keys]
    twin = do(song, "double_line", bell, "reed-solo")
    assert any({a.layer.sound_key, b.layer.sound_key} == {"reed-solo"} for a, b in jobs(twin, span(twin)).same)
    assert not any({a.layer.id, b.layer.id} == {voice, B} for a, b in found.same)
    assert rests([(0, 100, 60), (500, 600, 60)], 200, 1000) == [(100, 500), (600, 1000)]


def test_what_a_copy_adds_is_what_the_section_gains():
    song, _, bell, _ = sung()
    found = copies(song, span(song), song.layer_by_id[bell])
    assert len(found) == 4 and found == sorted(found, key=lambda c: -c.energy)
    from escalera.core.energy.model import section_energy

    up = next(c for c in found if c.octave == 1)
    after = do(song, "double_line", bell, up.sound, up.octave, up.pan)
    assert up.energy == pytest.approx(section_energy(after, span(after)).value - section_energy(song, span(song)).value)


# the tune ---------------------------------------------------------------------------------------------------------

KEY = parse_key("C major")
TUNE = [(0, 60), (480, 64), (960, 67), (1920, 65), (2400, 62), (2880, 60)]


@pytest.mark.parametrize(("other", "state", "pace"), [
    (TUNE, "whole", 1), ([(t + 3840, p + 12) for t, p in TUNE], "whole", 1), ([(t, {60: 62, 64: 65, 67: 69, 65: 67, 62: 64}[p]) for t, p in TUNE], "whole", 1),
    ([(2 * t, p) for t, p in TUNE], "whole", 2), ([(t // 2, p) for t, p in TUNE], "whole", 0.5), (TUNE[:3], "piece", 1), ([(t, 60) for t, _ in TUNE], "", 1),
    ([(t, 60 + (7 * i) % 12) for i, (t, _) in enumerate(TUNE)], "", 1), (TUNE[:2], "", 1),
])  # fmt: skip
def test_a_tune_is_found_moved_slowed_and_in_pieces(other, state, pace):
    found = kinship(steps_of(TUNE, KEY), steps_of(other, KEY))
    assert found.state == state and (not state or found.pace == pace)


def test_the_map_says_who_foreshadows_who_carries_and_who_takes_over():
    song, bell = with_layer(SONG, "glass-bell", [(t, 400, p + 24) for t, p in TUNE[:3]])
    song, reed = with_layer(song, "reed-solo", [(t, 400, p + 12) for t, p in TUNE], C)
    song = do(song, "change_notes", C, bell, 1, [[None, None, t, p + 24, 400, 90] for t, p in TUNE], "scale", True)
    song = do(song, "set_tune", C, reed, 0)
    found = tune_map(song)
    whats = {layer.id: [c.what for c in row] for layer, row in found.rows}
    assert (
        found.source == (C, reed, 0)
        and whats[bell] == ["foreshadowed", "", "", "handed over"]
        and whats[reed] == ["", "", "whole", ""]
    )
    assert (
        found.said[-1] == "whole in 2 and in pieces in 1 of 4 phrases"
        and "handed over in Chorus to Glass bell" in found.said
    )
    assert tune_map(SONG).source is None and "No line yet" in tune_map(SONG).said[0]
    lost = do(song, "lift", V, bell)
    assert [p.name for p in without_place(lost)] == ["Line of Glass bell"] and not without_place(song)


def test_listening_changes_what_is_heard_and_nothing_that_is_written():
    assert heard(SONG, read_listening()) is SONG
    alone = heard(SONG, read_listening(alone=f"{B}"))
    assert [x.id for x in sounding_layers(alone, alone.section_by_id[C])] == [B]
    off = heard(SONG, read_listening(off=f"{K},x"))
    assert K not in {x.id for x in sounding_layers(off, off.section_by_id[C])} and alone.patterns is SONG.patterns
    up = heard(do(SONG, "set_value", f"layer.{K}.sound.hz", 50.0), read_listening(up=f"{K},{B}"))
    assert dict(up.layer_by_id[K].settings)["hz"] == 100.0 and up.layer_by_id[B].tune_cents == 1200.0


@pytest.mark.parametrize(("transformation", "warns", "harmony"), [
    ("octave-up", "notes lie outside the range of Plucked bass", False), ("shorter", "", False), ("step-up", "of its beats are on chord tones, 100 % before", True),
    ("reverse", "it wanders", False),
])  # fmt: skip
def test_a_change_of_a_line_is_foretold_with_its_warnings_and_its_harmony(transformation, warns, harmony):
    song = small_song()
    verse, bass = ids(song)["Verse"], ids(song)["Plucked bass"]
    rows = [[None, None, 960 * i, p, 900, 90] for i, p in enumerate((36, 40, 43, 48))]
    song = EDITS["transform_line"](verse, bass, 0, "second-half").apply(song)
    song = EDITS["change_notes"](verse, bass, 0, rows, "scale", True).apply(song)
    steps = 3 if transformation == "octave-up" else 1
    after = song
    for _ in range(steps):
        after = EDITS["transform_line"](verse, bass, 0, transformation).apply(after)
    found = changed_line(song, after, verse, bass, 0)
    assert (warns in " ".join(found.warnings)) if warns else not found.warnings
    assert bool(found.harmony) == harmony
    assert all(re.fullmatch(r"bar \d+: .+ over .+", said) for said in found.harmony)
