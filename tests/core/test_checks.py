"""Every check: a song in which it fires, and one in which it is silent; findings rank, and rest on figures."""

from dataclasses import replace
from datetime import date

import pytest

from escalera.core.checks import CHECKS, facts_text, grouped, judged, run_checks
from escalera.core.checks.fixes import mends
from escalera.core.document.forms import FORMS
from escalera.core.document.schools import SCHOOLS
from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.core.moves import KINDS, apply_move
from escalera.core.reading.brief import read_brief
from escalera.core.time.tempo import TempoPoint
from escalera.core.validation.whole import validate
from escalera.errors import EditError, FormatError
from escalera.services.demo import demo_songs
from escalera.services.new_song import new_song
from tests.singing import CHECK_ROWS
from tests.songs import HATS, ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))
HARBOUR, ENGINES = demo_songs()


def do(song, *steps):
    for kind, *args in steps:
        song = EDITS[kind](*args).apply(song)
    return song


def named(song, name):
    return next(s.id for s in song.sections if s.name == name)


def layer_named(song, name):
    return next(x.id for x in song.layers if x.name == name)


def layered(song, sound, maker, section=C, **options):
    """The song with a layer more that plays a made line in a section."""
    song = do(song, ("add_layer", sound))
    made = max(x.id for x in song.layers if x.sound_key == sound)
    for phrase in range(len(song.section_by_id[section].phrases)):
        song = do(song, ("make_line", section, made, phrase, maker, options))
    return song


def thick():
    song = SONG
    for sound in ("tine-keys", "felt-piano", "bowed-strings", "warm-brass", "tone-organ"):
        song = layered(song, sound, "pad")
    return song


def crowd():
    song = SONG
    for _ in range(11):
        song = do(song, ("double_line", P, "soft-pad"))
    return song


def wanted_as_it_is():
    values = {s.span.section.id: round(s.value, 1) for s in arranged(SONG).sections}
    return do(SONG, *(("set_target", i, min(10, v)) for i, v in values.items()))


def fighting():
    song = do(SONG, ("lift", V, B), ("add_layer", "sub-sine"))
    sub = max(x.id for x in song.layers)
    notes = [[None, None, i * 960, 36, 900, 90] for i in range(16)]
    return do(song, ("change_notes", V, sub, 0, notes, "fixed", True), ("set_control", sub, "level_db", -7))


def climbing():
    song = do(SONG, ("lift", V, K), ("lift", V, B), ("toggle_tile", V, P, 0))
    for _ in range(2):
        song = do(song, ("duplicate_section", V, song.sections[-1].id))
        song = do(song, ("duplicate_section", C, song.sections[-1].id))
    return song


BREAK = do(SONG, ("add_section", "Break", "", 8, V))
BRIDGED = layered(
    do(SONG, ("add_section", "Bridge", "", 8)),
    "glass-bell",
    "call-answer",
    max(s.id for s in do(SONG, ("add_section", "Bridge", "", 8)).sections),
)
STRIPPED = do(SONG, ("lift", C, K), ("lift", C, B))
DULL = do(
    SONG,
    ("add_layer", "tin-hat", "", "", "", "", 3840, HATS),
    ("add_layer", "rim-knock", "", "", "", "", 3840, [[0, 120, 0, 37, 0, 90]]),
)
DULL = do(
    DULL,
    *(("place", C, x.id, x.pattern_id) for x in DULL.layers if x.sound_key in ("tin-hat", "rim-knock")),
    ("lift", C, P),
)
DULL = layered(DULL, "plucked-lead", "third-seventh")


BLURRED = do(
    HARBOUR,
    ("set_control", layer_named(HARBOUR, "Sub sine"), "duck_db", 0),
    ("untreat", named(HARBOUR, "Chorus 3"), layer_named(HARBOUR, "Sub sine"), "duck_db"),
)


def again(section, *steps):
    """The song with a section once more at its end, and steps that are given the new section's id."""
    song = do(SONG, ("duplicate_section", section, SONG.sections[-1].id))
    made = max(s.id for s in song.sections)
    return do(song, *((kind, made, *args) for kind, *args in steps))


def beaten(*steps):
    song = do(
        SONG, ("add_layer", "room-snare", "", "", "", "", 3840, [[960, 120, 0, 38, 0, 100], [2880, 120, 0, 38, 0, 100]])
    )
    snare = next(x for x in song.layers if x.sound_key == "room-snare")
    song = do(song, ("place", C, snare.id, snare.pattern_id), ("duplicate_section", C))
    made = max(s.id for s in song.sections)
    return do(song, *((kind, made, snare.id, *args) for kind, *args in steps))


def faster(song):
    section = song.sections[-1]
    return song.with_section(replace(section, tempo_changes=(TempoPoint(0, song.tempo_bpm * 1.1),)))


def varied(layer, **changes):
    return EDITS["vary"](C, layer, **changes).apply(SONG)


def joined(kind, **more):
    return EDITS["add_device"](C, kind, **more).apply(SONG)


TWICE = (HARBOUR, ("copy_join", named(HARBOUR, "Chorus 1"), named(HARBOUR, "Chorus 2")), ("lift", named(HARBOUR, "Lift 1"), layer_named(HARBOUR, "Rise")))  # fmt: skip
DROPPED = do(SONG, ("set_role", C, "drop"), ("lift", C, K, 0), ("lift", C, B, 0))
TUNED = do(SONG, ("add_layer", "glass-bell", "Bell", "", "", "", 3840, [[0, 400, 0, 72, 0, 90]], V))
PULSE = do(joined("riser"), ("add_layer", "pulse-riser"))


# check: (song in which it fires, song in which it is silent)
def briefed(song=None, **lines):
    return do(song or SONG, ("set_brief", lines))


ROWS = {
    "brief length": (briefed(length="3:30"), briefed(length="0:32")), "brief bars": (briefed(length="12:00", bars="40"), briefed(length="0:32", bars="16")),
    "brief tempo_class": (briefed(tempo_class="slow"), briefed(tempo_class="brisk")), "brief instruments": (briefed(instruments="Kicks, zither"), briefed(instruments="plucked bass, kicks")),
    "brief harmony": (briefed(harmony="rich"), briefed(harmony="plain")),
    "peak": (STRIPPED, SONG), "break": (do(BREAK, ("copy_tiles", V, named(BREAK, "Break"))), BREAK), "verse": (STRIPPED, HARBOUR), "verse rises": (SONG, do(SONG, ("toggle_tile", V, P, 1))),
    "alike": (do(SONG, ("lift", C, P)), SONG), "level": (do(SONG, ("resize_section", V, 40)), SONG), "early peak": (ENGINES, HARBOUR), "late chorus": (ENGINES, HARBOUR),
    "distance": (ENGINES, wanted_as_it_is()), "join": (do(SONG, ("set_target", V, 9), ("set_target", C, 1)), HARBOUR), "repeats": (do(SONG, ("duplicate_section", C)), SONG),
    "builds alike": (do(*TWICE), HARBOUR),
    "device overruns": (joined("riser", start_ticks=-40 * 960, length_ticks=40 * 960), joined("riser")),
    "risers overlap": (do(PULSE, ("add_device", C, "riser", -8 * 960, 8 * 960, max(x.id for x in PULSE.layers))), joined("riser")),
    "roll too late": (joined("roll", start_ticks=-4 * 960, length_ticks=5 * 960), joined("roll")),
    "tail cut": (do(TUNED, ("add_device", C, "echo-throw"), ("add_device", C, "gap")), do(TUNED, ("add_device", C, "echo-throw"), ("add_device", C, "gap", None, None, 0, {"tails": 1}))),
    "gap filled": (do(SONG, ("set_control", B, "send.hall", 0.0), ("add_device", C, "gap", None, None, 0, {"tails": 1})), do(SONG, ("set_control", B, "send.hall", 0.0), ("add_device", C, "gap"))),
    "weak one": (do(SONG, ("copy_tiles", V, C)), joined("crash")), "low end late": (DROPPED, do(SONG, ("set_role", C, "drop"))),
    "shape": (do(SONG, ("target_by_phrase", V, "2 8")), SONG), "second half": (SONG, HARBOUR), "foreign": (BRIDGED, SONG), "no sub": (STRIPPED, SONG), "two subs": (BLURRED, do(SONG, ("lift", V, B), ("lift", C, B))), "kick and bass": (fighting(), SONG),
    "bass note": (do(SONG, ("change_notes", C, B, 0, [[None, None, 0, 37, 1900, 100]], "fixed", True)), SONG), "low middle": (thick(), SONG), "verse room": (HARBOUR, SONG), "same job": (do(HARBOUR, ("set_control", layer_named(HARBOUR, "Bowed strings"), "octave", 0)), HARBOUR),
    "many layers": (crowd(), SONG), "used once": (do(BREAK, ("lift", C, P, 0)), SONG), "never": (do(SONG, ("add_layer", "glass-bell")), SONG), "reason": (do(HARBOUR, ("set_reason", layer_named(HARBOUR, "Wide saws"), "")), HARBOUR),
    "names": (do(SONG, ("rename_section", V, "Section 2")), SONG), "nothing kept": (ENGINES, HARBOUR), "central": (DULL, HARBOUR), "length": (do(SONG, ("resize_section", V, 7)), SONG),
    "intro": (do(SONG, ("lay_out", "intro 16, verse 8")), SONG), "hook late": (HARBOUR, SONG), "many new": (ENGINES, SONG), "nothing new": (ENGINES, HARBOUR), "carried": (ENGINES, climbing()),
    "same device": (climbing(), SONG), "no space": (ENGINES, SONG), "key change": (do(HARBOUR, ("set_chords", "Ab | Bb | Cm7 | Bbsus4", named(HARBOUR, "Lift 3"))), HARBOUR), "ending": (do(HARBOUR, ("remove_section", named(HARBOUR, "Outro"))), HARBOUR),
    "unarranged": (do(new_song(start="loop"), ("lay_out", "verse 8, chorus 8, break 8, chorus 8", 0, "full")), HARBOUR), "lost": (again(V, ("lift", K)), again(V)), "backbeat": (beaten(("lift", 1)), beaten()), "silent bar": (do(SONG, *(("toggle_tile", V, x, 0, 1) for x in (K, B))), do(SONG, *(("toggle_tile", V, x, 1, 3) for x in (K, B)))),
    "muted": (do(SONG, ("set_muted", B, True)), do(SONG, ("set_muted", P, True))), "wrong notes": (varied(P, transpose_semitones=1), varied(P, transpose_semitones=12)),
    "held clash": (do(SONG, ("change_notes", C, B, 0, [[None, None, t, 61, 3800, 100] for t in (0, 3840)], "fixed", True)), do(SONG, ("change_notes", C, B, 0, [[None, None, 0, 60, 3800, 100]], "fixed", True))),
    "balance": (do(SONG, ("set_control", K, "level_db", SONG.layer_by_id[K].sound.level_db + 12)), SONG), "tempo jump": (faster(again(V)), again(V)),
    "kick alone": (again(C, ("lift", B)), again(V, ("lift", B))), "high bass": (varied(B, transpose_semitones=24), varied(B, transpose_semitones=12)),
    "slip": (do(SONG, ("lift", V, K, None, 5 * 3840 - 960, 8 * 3840)), SONG), "drop": (ENGINES, do(ENGINES, ("say_drop", "peak"))),
}  # fmt: skip
ROWS |= CHECK_ROWS


def test_every_check_has_a_row_a_reason_and_moves_that_exist():
    assert set(ROWS) == set(CHECKS) and len(CHECKS) >= 35
    for each in CHECKS.values():
        assert each.reason.endswith(".") and set(each.mends) <= set(KINDS), each.id


@pytest.mark.parametrize("check", ROWS)
def test_a_check_fires_where_it_should_and_is_silent_where_it_should(check):
    fires, silent = ROWS[check]
    found = [f for f in run_checks(fires) if f.check == check]
    assert found and all(f.said.endswith((".", "?")) and f.weight > 0 for f in found)
    assert all(i in fires.section_by_id for f in found for i in f.place)
    assert all(f.layer_id in fires.layer_by_id for f in found if f.layer_id)
    assert not [f.said for f in run_checks(silent) if f.check == check]


def test_findings_are_ranked_and_named_apart():
    found = run_checks(ENGINES)
    assert [f.weight for f in found] == sorted((f.weight for f in found), reverse=True)
    assert len({(f.key, f.facts) for f in found}) == len(found)
    assert found[0].weight > 2.4 and any(f.check == "distance" and f.said.startswith("Break has") for f in found)


def test_strictness_and_switches_decide_what_is_told():
    told = {f.check for f in run_checks(do(ENGINES, ("set_school", "weather")))}
    assert "no space" not in told and "no space" in {f.check for f in run_checks(ENGINES)}
    same = do(SONG, ("duplicate_section", C), ("set_switch", "repeats", "same"))
    assert "repeats" not in {f.check for f in run_checks(same)}


@pytest.mark.parametrize(("lines", "says", "met"), [
    ({"length": "12:00", "bars": "40"}, "contradicts itself: 12:00 in 40 bars of 4/4 would be 13 bpm; 30 to 300", False),
    ({"length": "4:00", "bars": "80", "tempo_class": "fast"}, "would be 80 bpm, which is not fast", False),
    ({"length": "0:40", "bars": "16"}, "would be 96 bpm", False), ({"length": "0:42"}, "0:32 is there: about 5 bars more", False),
    ({"due": "2026-03-01"}, "It is due tomorrow", None), ({"due": "2026-02-27"}, "has passed", None), ({"due": "2026-03-10"}, "10 days are left", None),
    ({"instruments": "glass bells"}, "glass bells: no layer", False), ({"feel": "late"}, "", None),
    ({"job": "song for a voice"}, "usually judged as “Song and voice”: The voice leads", None), ({"job": "own track"}, "", None),
])  # fmt: skip
def test_a_brief_says_what_it_implies_and_where_it_contradicts_itself(lines, says, met):
    read = read_brief(briefed(**lines), date(2026, 2, 28))
    found = [each for each in read if says in each.said and each.met is met]
    assert bool(found) == bool(says) and (says or not read)
    for label, offer in (each.offer for each in found if each.offer):
        assert label and offer["kind"] in EDITS


def test_a_finding_about_the_whole_song_is_mended_in_one_of_its_sections():
    song = briefed(length="0:40")
    rows = mends(song, next(f for f in judged(song).open if f.check == "brief length"))
    best = rows[0]
    assert best.settles and "hold on:4" in best.move.key
    assert not [f for f in judged(apply_move(song, best.move)).open if f.check == "brief length"]
    far = briefed(length="1:30")
    assert all(not m.settles for m in mends(far, next(f for f in judged(far).open if f.check == "brief length")))
    assert not mends(
        briefed(tempo_class="slow"),
        next(f for f in judged(briefed(tempo_class="slow")).open if f.check == "brief tempo_class"),
    )


@pytest.mark.parametrize(("line", "says"), [
    ({"length": "3 min"}, "is no length"), ({"length": "0:00"}, "is no length"), ({"bars": "0"}, "is no number of bars"), ({"due": "2026-02-30"}, "is no day"),
    ({"tempo_class": "presto"}, "is no choice"), ({"mood": "x"}, "is no line of a brief"), ({"feel": "x" * 10_000}, "at most 300 fit"),
])  # fmt: skip
def test_a_brief_that_cannot_be_read_is_refused(line, says):
    with pytest.raises(EditError, match=says):
        briefed(**line)


def test_what_lies_well_below_the_voice_leaves_it_room():
    quiet = HARBOUR
    for name in ("Felt piano", "Tine keys"):
        quiet = do(quiet, ("set_control", layer_named(quiet, name), "level_db", -30))
    assert "verse room" not in {f.check for f in run_checks(quiet)}
    loud = next(f for f in run_checks(HARBOUR) if f.check == "verse room")
    assert "in its bands they are 2 dB above it" in loud.said


def test_what_is_meant_is_kept_with_its_reason_and_comes_back_when_the_figures_change():
    song = do(SONG, ("resize_section", V, 7))
    finding = next(f for f in judged(song).open if f.check == "length")
    song = do(song, ("accept_finding", finding.key, "cut short to move on", facts_text(finding)))
    assert finding not in judged(song).open and (finding, "cut short to move on") in judged(song).accepted
    longer = do(song, ("resize_section", V, 6))
    assert "length" in {f.check for f in judged(longer).open} and not judged(longer).accepted
    back = do(song, ("reopen_finding", finding.key))
    assert finding in judged(back).open


def test_a_brief_from_a_file_is_read_as_strictly_and_long_figures_are_accepted_too():
    with pytest.raises(FormatError, match="is no day"):
        validate(replace(SONG, brief=(("due", "soon"),)))
    song = briefed(instruments=", ".join(f"zither {i}" for i in range(20)))
    finding = next(f for f in judged(song).open if f.check == "brief instruments")
    assert len(repr(finding.facts)) > 400
    assert finding not in judged(do(song, ("accept_finding", finding.key, "later", facts_text(finding)))).open


def test_the_demo_songs_are_judged_as_their_makers_meant():
    assert not judged(HARBOUR).open and len(judged(HARBOUR).accepted) == 3
    flaws = {f.check for f in judged(ENGINES).open}
    assert flaws >= {"distance", "carried", "early peak", "late chorus", "verse", "no space", "nothing kept"}


@pytest.mark.parametrize("school", SCHOOLS)
def test_a_fresh_song_of_any_form_has_five_causes_of_findings_at_most(school):
    counts = {
        form: len(grouped(judged(new_song(school=school, form=form)).open))
        for form in list(FORMS)[list(SCHOOLS).index(school) % 2 :: 2]
    }
    assert max(counts.values()) <= 5, counts
