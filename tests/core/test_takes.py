"""Takes against the melody and each other, comps that cover what they should, stacks, harmonies, sorting, polish."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.codec import from_plain, to_plain
from escalera.core.document.singing import NoteTuning, Polish, SungAt
from escalera.core.document.song import Groove
from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.core.joins.as_played import played
from escalera.core.reading.events import layer_events
from escalera.core.reading.section_harmony import section_harmony, section_key
from escalera.core.reading.timeline import timeline
from escalera.core.theory.chords import parse_chord
from escalera.core.validation.whole import validate
from escalera.core.voices.comp import CompPart, comp_of, covered, laid_over, sung_layer, takes_of
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import melody_of
from escalera.core.voices.next_voice import next_voices
from escalera.core.voices.polish_plan import polished_notes
from escalera.core.voices.sorting import sort_take
from escalera.core.voices.take_judgement import NEAR_ENOUGH, TOO_ALIKE, TOO_FAR, judge_take, likeness
from escalera.core.voices.voice_stack import chorus_over_verse, gaps_of, singer_range
from escalera.core.voices.word_places import words_laid
from escalera.errors import EditError
from escalera.formats.project import read_project, write_project
from tests.singing import FIRST, GUIDED, HALF, SECOND, TAKEN, TIED, C, V, a_take, pieces, states

SPAN = timeline(TAKEN).span_of(V)


def taken(**how):
    song = EDITS["add_take"](**a_take(TAKEN, content="d" * 32, **how)).apply(TAKEN)
    return song, song.takes[-1]


def test_a_take_is_judged_note_by_note():
    song, take = taken(late_s=0.03, cents=-18)
    found = judge_take(take, melody_of(song, SPAN), SPAN)
    assert (found.late_ms, found.cents, found.missed) == pytest.approx((30, -18, 0), abs=0.2)
    assert found.said() == "18 cents low, 30 ms late" and len(found.notes) == 24
    low = replace(take, notes=a_take(TAKEN, cents=-1200)["take"]["notes"])
    assert judge_take(low, melody_of(song, SPAN), SPAN).notes[0].octave == -1, "an octave lower is the same melody"
    part = judge_take(replace(take, low_ticks=0, high_ticks=7680), melody_of(song, SPAN), SPAN)
    assert len(part.notes) == 6 and judge_take(replace(take, notes=""), melody_of(song, SPAN), SPAN).missed == 24


@pytest.mark.parametrize(
    ("late_s", "cents", "verdict"),
    [(0.012, 8, NEAR_ENOUGH), (0.0, 0, TOO_ALIKE), (0.002, 1, TOO_ALIKE), (0.06, 5, TOO_FAR), (0.01, 45, TOO_FAR)],
)
def test_a_double_is_near_enough_too_alike_or_too_far(late_s, cents, verdict):
    song, take = taken(late_s=late_s, cents=cents)
    assert likeness(song.take_by_id[FIRST], take).verdict == verdict


# take 0 leaves a hole
STEP = st.tuples(st.sampled_from((0, FIRST, SECOND)), st.integers(0, 16), st.integers(1, 16))


@given(st.lists(STEP, min_size=1, max_size=8), st.booleans())
def test_comps_cover_what_they_should_and_survive_files(steps, breaths):
    """Whatever is chosen in whatever order, every stretch plays the take that was chosen for it last; seams move into breaths only."""
    song, wanted = TAKEN, {(0, 2 * HALF): FIRST}
    unit = 2 * HALF // 16
    plain: tuple[CompPart, ...] = (CompPart(0, 2 * HALF, FIRST),)
    for take_id, first, length in steps:
        low, high = min(first, 15) * unit, min(16, min(first, 15) + length) * unit
        song = EDITS["comp"](V, "lead", take_id, low, high, "breaths" if breaths else "exact").apply(song)
        plain = laid_over(plain, CompPart(low, high, take_id))
    found = pieces(song)
    assert all(a.high <= b.low for a, b in zip(found, found[1:])) and validate(song) and wanted
    if not breaths:
        assert [(p.take_id, p.low, p.high) for p in found] == [(p.take_id, p.low, p.high) for p in plain]
        assert covered(found) == covered(plain)
    notes = {e.pattern.content_hash: e.pattern for e in song.patterns}
    assert from_plain(to_plain(song), notes) == song
    layer = sung_layer(song, "lead")
    if layer is not None:
        assert (
            len(layer_events(song, timeline(song).span_of(V), layer).table) == len(found) == len({p.low for p in found})
        )
        assert len(layer.clips) == len(found), "clips that nothing plays are gone"
    assert {t.id for t in song.takes} == {FIRST, SECOND}


def test_another_comp_leaves_the_patterns_that_grooves_are_made_of():
    pattern_id = sung_layer(TAKEN, "lead").pattern_id
    beat = Groove(TAKEN.next_id, "Beat", parts=(("kick", pattern_id),))
    song = replace(TAKEN, grooves=(beat,), next_id=TAKEN.next_id + 1)
    assert validate(EDITS["comp"](V, "lead", SECOND, 0, HALF, "exact").apply(song)).pattern_by_id[pattern_id]


def test_a_seam_lies_in_a_breath_near_it():
    breath = SPAN.seconds_at(melody_of(TAKEN, SPAN)[2].end) + 0.15
    wish = melody_of(TAKEN, SPAN)[3].start - 200
    song = EDITS["comp"](V, "lead", SECOND, wish, 2 * HALF).apply(TAKEN)
    assert SPAN.seconds_at(pieces(song)[0].high) == pytest.approx(breath, abs=0.03)
    first, second = sung_layer(song, "lead").clips
    assert first.end_s - (2 + SPAN.seconds_at(pieces(song)[0].high)) == pytest.approx(0.012, abs=1e-4), (
        "sounds on while the next fades in"
    )
    assert first.fade_out_ms == second.fade_in_ms == 12


def test_comps_of_a_shifted_section_sound_as_they_were_sung_and_a_copy_plays_them_too():
    song = EDITS["shift_section"](V, 3).apply(GUIDED)
    song = EDITS["add_take"](**a_take(song)).apply(song)
    assert sung_layer(song, "lead").clips[0].semitones == -3
    song = EDITS["duplicate_section"](V).apply(song)
    copy = next(s for s in song.sections if s.id not in (V, C))
    assert comp_of(song, copy, "lead") == pieces(song) and states(song, copy.id)["lead"] == "sung"


def test_the_guide_falls_silent_where_somebody_sings_and_a_voice_without_takes_has_no_layer():
    guide = next(x for x in TAKEN.layers if x.name == "Guide voice")
    assert [(t.layer_id, t.value) for t in TAKEN.section_by_id[V].treatments] == [(guide.id, -60.0)]
    assert not TAKEN.section_by_id[C].treatments and melody_of(TAKEN, SPAN), "its notes stay, to be compared with"
    song = EDITS["remove_take"](FIRST).apply(TAKEN)
    assert sung_layer(song, "lead") is None and [t.id for t in song.takes] == [SECOND]


def test_harmonies_stay_in_key_and_chord_and_name_where_a_strict_parallel_would_not():
    span = timeline(GUIDED).span_of(C)
    harmony = section_harmony(GUIDED, span)
    for part, side in (("third above left", 1), ("fourth below left", -1), ("sixth below left", -1)):
        found = voice_line(GUIDED, span, part)
        lead = melody_of(GUIDED, span)
        assert all(0 < side * (n.pitch - m.pitch) < 12 for n, m in zip(found.notes, lead))
        on_beats = [n for n in found.notes if n.start % 960 == 0]
        assert all(n.pitch % 12 in harmony.at(n.start).classes for n in on_beats)
        assert all(
            c.strict % 12 not in harmony.at(c.tick).classes for c in found.clashes if c.why.startswith("no tone")
        )
    left, right = (voice_line(GUIDED, span, f"oohs {side}").notes for side in ("left", "right"))
    assert all(n.pitch % 12 in harmony.at(n.start).classes for n in (*left, *right)) and left != right
    lead = melody_of(GUIDED, span)
    answers = voice_line(GUIDED, span, "answer").notes
    assert answers and all(not (a.start < m.end and m.start < a.end) for a in answers for m in lead), "only in the gaps"
    assert gaps_of(GUIDED, span) and chorus_over_verse(GUIDED)[0] == 5


@pytest.mark.parametrize(("part", "octaves", "sings"), [("lead", 0, "lead"), ("third above left", 0, "third above left"), ("fourth below left", 0, "fourth below left"), ("sixth below left", 0, "sixth below left"), ("lead", 1, "octave above"), ("lead", -1, "octave below"), ("oohs left", 0, "oohs left")])  # fmt: skip
def test_a_recording_is_sorted_by_what_it_sings(part, octaves, sings):
    span = timeline(GUIDED).span_of(V)
    notes = voice_line(GUIDED, span, part).notes
    sung = [
        SungAt(
            3.7 + span.seconds_at(n.start) + 0.01 * (i % 3), 3.7 + span.seconds_at(n.end), n.pitch + 12 * octaves + 0.1
        )
        for i, n in enumerate(notes)
    ]
    found = sort_take(GUIDED, span, sung)
    assert found.part == sings
    if sings != "oohs left":
        assert found.zero_s == pytest.approx(3.7, abs=0.03) and found.share > 0.9
    assert (
        sort_take(GUIDED, span, [SungAt(0.3 * i, 0.3 * i + 0.1, 40 + 7 * i % 13) for i in range(9)]).part == "ad libs"
    )


def test_polish_moves_every_note_by_its_share():
    song, take = taken(late_s=0.04, cents=24)
    half = polished_notes(song, SPAN, take, Polish(tune=0.5, timing=1.0))
    assert {(n.cents, round(n.later_s, 3)) for n in half} == {(-12.0, -0.04)}
    assert all(n.cents == n.later_s == 0 for n in polished_notes(song, SPAN, take, Polish(breaths_db=-12)))
    single = polished_notes(song, SPAN, take, Polish(tune=0.5, by_note=(NoteTuning(1, 1.0), NoteTuning(2, 0.0))))
    assert [n.cents / half[0].cents for n in single[:4]] == pytest.approx([1, 2, 0, 1], abs=0.05)
    with pytest.raises(EditError, match="was sent by Ana"):
        pinned = EDITS["set_take"](take.id, {"sent_by": "Ana"}).apply(song)
        EDITS["polish_take"](take.id, {"tune": 1}, {}).apply(pinned)


def test_what_comes_next_is_offered_until_it_is_done():
    offered = [n.label for n in next_voices(TAKEN, SPAN)]
    assert offered[0] == "Take 2 as double left" and "Second melody as answer" in offered
    song = EDITS["use_as_double"](SECOND, "double left").apply(TAKEN)
    assert "Take 2 as double left" not in [n.label for n in next_voices(song, timeline(song).span_of(V))]
    assert next_voices(GUIDED, timeline(GUIDED).span_of(V))[0].command["kind"] == "sing_take"
    assert singer_range(TAKEN).source == "read from takes" and singer_range(GUIDED) is None


# what may be done to a song with voices, in any order: kind and fields; sections and takes are counted among those there are
DOINGS = [
    ("comp", dict(section_id="s", part="lead", take_id="t", low_ticks=3840, high_ticks=15360)), ("comp", dict(section_id="s", part="lead", take_id=0, low_ticks=0, high_ticks=7680)),
    ("use_as_double", dict(take_id="t", part="double right")), ("remove_take", dict(take_id="t")), ("set_take", dict(take_id="t", values={"aside": True})),
    ("set_lyric", dict(section_id="s", text="low by the sea\ncarry me", anew=True)), ("choose_lyric", dict(section_id="s", number=0)), ("tie_moment", dict(section_id="s", word=1, what="stop")), ("tie_moment", dict(section_id="s", word=2, what="chord", chord="bVII", beats=3.0)),
    ("fill_nonsense", dict(section_id="s")), ("simulate_voice", dict(section_id="s", part="third above left")), ("drop_voice", dict(section_id="s", part="third above left")),
    ("want_voice", dict(section_id="s", part="oohs left")), ("take_to_line", dict(take_id="t", amount=1.0)),
    ("split_section", dict(section_id="s", after_bars=3)), ("merge_sections", dict(section_id="s")), ("duplicate_section", dict(section_id="s")), ("remove_section", dict(section_id="s")),
    ("resize_section", dict(section_id="s", bars=5)), ("shift_section", dict(section_id="s", semitones=2)), ("set_tempo", dict(tempo_bpm=93.0)), ("park_body", dict(section_id="s", name="beside")),
    ("set_metre", dict(metre="3/4")), ("set_key", dict(key="D minor")),
]  # fmt: skip


@given(st.lists(st.tuples(st.integers(0, len(DOINGS) - 1), st.integers(0, 3)), max_size=9))
def test_whatever_is_done_every_take_and_word_survives_files_and_sounds(rows):
    song = EDITS["tie_moment"](V, 1, "beat-out").apply(TAKEN)
    for number, which in rows:
        kind, fields = DOINGS[number]
        here, take = (
            song.sections[which % len(song.sections)].id,
            song.takes[which % len(song.takes)].id if song.takes else 0,
        )
        values = {k: here if v == "s" else take if v == "t" else v for k, v in fields.items()}
        before = song
        try:
            song = EDITS[kind](**values).apply(song)
        except EditError:
            continue
        assert validate(song) and len({t.id for t in song.takes}) == len(song.takes)
        if kind not in ("remove_take", "add_take"):
            assert {t.content for t in song.takes} == {t.content for t in before.takes}, "no take goes by itself"
    back = read_project(write_project(song))
    assert (back.takes, back.divided) == (song.takes, song.divided)
    assert [(s.lyrics, s.moments, s.wanted) for s in back.sections] == [
        (s.lyrics, s.moments, s.wanted) for s in song.sections
    ]
    assert arranged(song).sections and all(
        p.take_id in song.take_by_id for s in song.sections for p in comp_of(song, s, "lead") if p.take_id
    )


def test_words_and_takes_go_with_their_half_and_come_together_again():
    song = EDITS["set_lyric"](V, "home by sea\ncarry me\nhome by sea\ncarry us").apply(
        EDITS["tie_moment"](V, 4, "stop").apply(TAKEN)
    )
    song = EDITS["tie_moment"](V, 7, "beat-out").apply(song)
    cut = EDITS["split_section"](V, 2).apply(song)
    first, second = cut.sections[:2]
    assert (first.lyrics[0].lines, second.lyrics[0].lines) == ("home by sea\ncarry me", "home by sea\ncarry us")
    assert [m.word for m in first.moments] == [4] and [m.word for m in second.moments] == [2]
    assert [len(comp_of(cut, s, "lead")) for s in (first, second)] == [1, 1]
    there = timeline(cut).span_of(second.id)
    later = [t for t in cut.takes if t.section_id == second.id]
    assert len(later) == 2 and judge_take(later[0], melody_of(cut, there), there).late_ms == pytest.approx(0, abs=1)
    swapped = EDITS["comp"](second.id, "lead", later[1].id, 0, there.length_ticks, "exact").apply(cut)
    assert [p.take_id for p in comp_of(swapped, swapped.sections[1], "lead")] == [later[1].id]
    again = EDITS["merge_sections"](V).apply(cut)
    assert (
        again.section_by_id[V].lyrics == song.section_by_id[V].lyrics
        and again.section_by_id[V].moments == song.section_by_id[V].moments
    )
    assert [(t.content, t.low_ticks, t.high_ticks) for t in again.takes] == [
        (t.content, 0, 2 * HALF) for t in song.takes
    ]
    copy = next(s for s in EDITS["duplicate_section"](V).apply(song).sections if s.id not in (V, C))
    assert [t.id for t in takes_of(EDITS["duplicate_section"](V).apply(song), copy, "lead")] == [FIRST, SECOND]


def test_a_chord_tied_to_a_word_sounds_there_and_moves_with_the_word_and_the_key():
    def heard(song):
        span = timeline(played(song)).span_of(V)
        harmony = section_harmony(played(song), span)
        return [(t, str(harmony.at(t))) for t in (tick(song) - 1, tick(song), tick(song) + 1919, tick(song) + 1920)]

    def tick(song):
        return words_laid(song, timeline(song).span_of(V)).word_ticks(song.section_by_id[V].moments[0].word)[0]

    stood = [
        str(section_harmony(GUIDED, timeline(GUIDED).span_of(V)).at(t)) for t in (tick(TIED) - 1, tick(TIED) + 1920)
    ]
    song = EDITS["tie_moment"](V, 2, "chord", beats=2, chord="bVI").apply(GUIDED)
    sixth = str(parse_chord("bVI", song.key))
    assert [c for _, c in heard(song)] == [stood[0], sixth, sixth, stood[1]] and sixth not in stood
    later = EDITS["set_lyric"](V, "we went home by sea\ncarry me").apply(song)
    assert later.section_by_id[V].moments[0].word == 4 and tick(later) > tick(song)
    assert [c for _, c in heard(later)][1:3] == [sixth, sixth]
    moved = EDITS["set_key"]("D minor" if song.key.is_minor else "D").apply(song)
    assert heard(moved)[1][1] == str(parse_chord("bVI", moved.key)) != sixth
    up = EDITS["shift_section"](V, 2).apply(song)
    assert heard(up)[1][1] == str(parse_chord("bVI", section_key(up, up.section_by_id[V])))
    with pytest.raises(EditError, match="No chord was named"):
        EDITS["tie_moment"](V, 2, "chord").apply(GUIDED)
    with pytest.raises(EditError, match="is not a chord"):
        EDITS["tie_moment"](V, 2, "chord", chord="so what").apply(GUIDED)
