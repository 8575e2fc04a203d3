"""Written notes: pitches come back as they were drawn, edits reach where they say, second voices keep chord and key."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.edits.voice_edits import DEALS
from escalera.core.lines.frame import Frame
from escalera.core.lines.note_encoding import HOWS, WritingContext, encode
from escalera.core.lines.second_voices import INTERVALS, parallel_line
from escalera.core.reading.events import DURATION, PITCH, START, VELOCITY, layer_events
from escalera.core.reading.phrase_notes import line_in, outside, played_in
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import DEGREE, FIXED, TONE, VOICE
from escalera.core.theory.chords import parse_chord
from escalera.core.theory.keys import parse_key
from escalera.core.time.metre import Metre
from escalera.errors import EditError
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))
BAR = 3840


def do(song, kind, *args, **fields):
    return EDITS[kind](*args, **fields).apply(song)


def line(song, section=V, phrase=0, layer=B):
    return line_in(song, timeline(song).span_of(section), phrase, song.layer_by_id[layer])


def sounding(song, section=V, layer=B, phrase=0):
    span = timeline(song).span_of(section)
    low, high = span.phrase_ticks()[phrase]
    table = layer_events(song, span, song.layer_by_id[layer]).table
    inside = table[(table[:, START] >= low) & (table[:, START] < high)]
    return sorted((int(r[START]) - low, int(r[DURATION]), int(r[PITCH]), int(r[VELOCITY])) for r in inside)


def lead(song=SONG):
    """The small song with a bell over it; its id."""
    song = do(song, "add_layer", "glass-bell", rows=None)
    return song, song.layers[-1].id if song.layers[-1].sound_key == "glass-bell" else next(
        x.id for x in song.layers if x.sound_key == "glass-bell"
    )


@pytest.mark.parametrize("how", HOWS)
@pytest.mark.parametrize("chord", ["C", "Am7", "F/A", "Bb", "G7", "Dbmaj7"])
def test_a_pitch_is_written_so_that_it_sounds_as_drawn(how, chord):
    song = do(SONG, "set_chords", chord)
    for family_layer in (B, P):
        for pitch in range(20, 110, 1):
            song_with = do(song, "change_notes", V, family_layer, 0, [[None, None, 480, pitch, 240, 90]], how, True)
            assert pitch in {p for t, _, p, _ in sounding(song_with, V, family_layer) if t == 480}
    kinds = {encode(60, h, parse_chord("C"), WritingContext(parse_key("C major"), 36))[0] for h in HOWS}
    assert kinds == {TONE, DEGREE, FIXED}


def test_notes_are_drawn_moved_stretched_struck_harder_and_taken_out():
    song, bell = lead()
    drawn = do(song, "change_notes", V, bell, 0, [[None, None, 0, 72, 480, 90], [None, None, 960, 77, 240, 70]])
    assert sounding(drawn, V, bell) == [(0, 480, 72, 90), (960, 240, 77, 70)]
    moved = do(drawn, "change_notes", V, bell, 0, [[960, 77, 1200, 76, 960, 110]])
    assert sounding(moved, V, bell) == [(0, 480, 72, 90), (1200, 960, 76, 110)]
    gone = do(moved, "change_notes", V, bell, 0, [[0, 72, None, None, None, None]])
    assert sounding(gone, V, bell) == [(1200, 960, 76, 110)]
    empty = do(gone, "change_notes", V, bell, 0, [[1200, 76, None, None, None, None]])
    assert not sounding(empty, V, bell) and not line(empty, layer=bell).notes
    assert (
        EDITS["change_notes"](V, bell, 0, [[960, 77, None, None, None, None]])
        .summary(drawn)
        .endswith("1 note taken out")
    )


def test_a_change_reaches_every_place_that_plays_the_line_or_only_this_one():
    before = line(SONG)
    assert before.pattern_id and played_in(SONG, before.pattern_id) == ["Verse 2×", "Chorus 2×"]
    everywhere = do(SONG, "change_notes", V, B, 0, [[0, before.notes[0].pitch, 0, before.notes[0].pitch, 200, 50]])
    for section, phrase in ((V, 0), (V, 1), (C, 1)):
        firsts = [n for n in line(everywhere, section, phrase).notes if n.tick % BAR == 0]
        assert len(firsts) == 4 and all((n.duration, n.velocity) == (200, 50) for n in firsts)
    here = do(SONG, "change_notes", V, B, 0, [[0, before.notes[0].pitch, None, None, None, None]], here=True)
    assert len(line(here).notes) == len(before.notes) - 1
    assert line(here, V, 1) == line(SONG, V, 1) and line(here, C, 0) == line(SONG, C, 0)


def test_a_note_moved_over_a_bar_line_of_a_short_pattern_stays_in_its_cycle():
    last = [n for n in line(SONG).notes if n.tick == BAR - 480][0]
    after = do(SONG, "change_notes", V, B, 0, [[last.tick, last.pitch, BAR + 120, last.pitch, 200, 90]])
    ticks = [n.tick for n in line(after).notes]
    assert 120 in ticks and BAR + 120 in ticks and BAR - 480 not in ticks and min(ticks) == 0


def test_levels_and_filters_outlive_writing_out_and_variations_become_notes():
    song = do(SONG, "vary", V, B, 0, keep=0.5, level_start_db=-6.0, level_end_db=-3.0, transpose_semitones=12)
    heard = sounding(song)
    after = do(song, "change_notes", V, B, 0, [[heard[0][0], heard[0][2], heard[0][0], heard[0][2], heard[0][1], 33]])
    assert [n[:3] for n in sounding(after)] == [n[:3] for n in heard] and sounding(after)[0][3] == 33
    (placement,) = line(after).placements
    assert (placement.variation.level_start_db, placement.variation.keep, placement.variation.transpose_semitones) == (
        -6.0,
        1.0,
        0,
    )


@given(st.sampled_from(HOWS), st.sampled_from([B, P]), st.integers(-3, 3))
def test_following_and_staying_sound_the_same_until_the_chords_change(how, layer, shift):
    song = do(SONG, "shift_section", C, shift)
    after = do(song, "anchor_line", C, layer, 0, how)
    assert sounding(after, C, layer) == sounding(song, C, layer)
    moved = do(after, "set_chords", "Dm | Dm | Dm | Dm")
    assert (sounding(moved, C, layer) == sounding(after, C, layer)) == (how == "fixed" or how == "scale")
    assert not any(n.kind == VOICE for n in line(after, C, 0, layer).notes)


def test_semitones_move_chosen_notes_and_keep_what_fits_the_key_following():
    first = line(SONG).notes[0]
    up = do(SONG, "transpose_line", V, B, 0, 2)
    assert [n.pitch for n in line(up).notes] == [n.pitch + 2 for n in line(SONG).notes]
    one = do(SONG, "transpose_line", V, B, 0, 1, [[first.tick, first.pitch]])
    assert [n.pitch for n in line(one).notes][0] == first.pitch + 1 and line(one).notes[0].kind == FIXED
    assert [n.pitch for n in line(one).notes][1:] == [n.pitch for n in line(SONG).notes][1:]


def test_played_notes_are_quantised_by_an_amount_and_come_back_where_they_were_played():
    song, bell = lead()
    played = [[0.03, 0.2, 72, 96], [0.51, 0.1, 74, 80], [7.99, 0.3, 76, 96]]  # at 120: a beat is half a second
    exact = do(song, "record_notes", V, bell, 0, played, 1.0, "1/8")
    assert [(n[0], n[2]) for n in sounding(exact, V, bell)] == [(0, 72), (0, 76), (960, 74)]
    loose = do(song, "record_notes", V, bell, 0, played, 0.5, "1/8")
    assert [n[0] for n in sounding(loose, V, bell)] == pytest.approx([29, 970, 15350], abs=2)
    free = do(do(song, "set_swing", V, 62, "1/8"), "record_notes", V, bell, 0, [[0.31, 0.1, 72, 90]], 0.0)
    assert sounding(free, V, bell)[0][0] == pytest.approx(0.31 * 1920, abs=2), "swing does not bend what was played"
    more = do(exact, "record_notes", V, bell, 0, [[1.0, 0.2, 79, 90]], 1.0, "1/8")
    assert (
        len(sounding(more, V, bell)) == 4
        and len(sounding(do(exact, "record_notes", V, bell, 0, [[1.0, 0.2, 79, 90]], anew=True), V, bell)) == 1
    )
    assert [n[0] for n in sounding(do(loose, "quantise_line", V, bell, 0, 1.0, "1/8"), V, bell)] == [0, 0, 960]


NOTES = st.lists(st.tuples(st.integers(0, 31), st.integers(55, 84)), min_size=1, max_size=10, unique_by=lambda n: n[0])
FRAME = Frame(
    4 * BAR,
    Metre(),
    parse_key("C major"),
    tuple((i * BAR, parse_chord(c)) for i, c in enumerate(("C", "Am", "F", "G7"))),
)


@given(NOTES, st.sampled_from(sorted(INTERVALS)))
def test_a_second_voice_holds_chord_tones_on_the_beats_and_the_key_between(notes, interval):
    notes = [(t * 480, p) for t, p in sorted(notes)]
    found = parallel_line(notes, FRAME, interval)
    up = INTERVALS[interval][1] > 0
    bent = {b.tick: b for b in found.bent}
    for (tick, pitch), voice in zip(notes, found.pitches):
        assert (voice > pitch) == up
        if interval.startswith("octave"):
            assert abs(voice - pitch) == 12
        elif tick % 960 == 0:
            assert voice % 12 in FRAME.chord_at(tick).classes
        else:
            assert voice % 12 in FRAME.key.classes
        if tick in bent:
            assert bent[tick].taken == voice
        elif not interval.startswith("octave") and pitch % 12 in FRAME.key.classes:
            assert abs(FRAME.key.degrees.index(voice % 12) - FRAME.key.degrees.index(pitch % 12)) % 7 in {
                abs(INTERVALS[interval][1]),
                7 - abs(INTERVALS[interval][1]),
            }


def test_a_second_voice_gives_way_to_the_bass():
    line, low = [(960, 60)], [(0, BAR, 52)]  # a third below C is A; under it E would be a minor ninth below F
    assert parallel_line([(2 * BAR, 69)], FRAME, "third-below").pitches == (65,)
    found = parallel_line([(2 * BAR, 69)], FRAME, "third-below", [(2 * BAR, 3 * BAR, 52)])
    assert found.pitches[0] % 12 in {9, 0} and "rubs against the bass" in found.bent[0].why
    assert parallel_line(line, FRAME, "third-below", low) == parallel_line(line, FRAME, "third-below")


def test_a_second_voice_lists_what_it_bends_and_lands_on_another_layer():
    song, bell = lead(do(SONG, "set_chords", "C | C | F | F"))
    song = do(
        song,
        "change_notes",
        V,
        bell,
        0,
        [[None, None, t, p, 400, 90] for t, p in ((0, 76), (480, 74), (960, 74), (2 * BAR, 81))],
    )
    edit = EDITS["second_voice"](V, bell, 0, "third-above")
    after = edit.apply(song)
    made = next(x for x in after.layers if "third above" in x.name)
    assert [n[2] for n in sounding(after, V, made.id)] == [79, 77, 76, 84] and made.pan != after.layer_by_id[bell].pan
    assert "2 notes bent" in edit.summary(song) or "1 note bent" in edit.summary(song)
    onto = do(after, "second_voice", V, bell, 0, "octave-below", onto=made.id)
    assert [n[2] for n in sounding(onto, V, made.id)] == [64, 62, 62, 69] and len(onto.layers) == len(after.layers)


@pytest.mark.parametrize("deal", DEALS)
def test_a_line_dealt_out_is_the_line_again_when_both_are_heard(deal):
    song, bell = lead()
    song = do(song, "change_notes", V, bell, 0, [[None, None, t * 960, 72 + 2 * (t % 5), 400, 90] for t in range(9)])
    notes = [[960, 74], [1920, 76]] if deal == "chosen" else None
    after = do(song, "split_line", V, bell, 0, deal, notes=notes)
    made = next(x for x in after.layers if x.name.endswith("the other part"))
    parts = sounding(after, V, bell), sounding(after, V, made.id)
    assert all(parts) and sorted([*parts[0], *parts[1]]) == sounding(song, V, bell)
    single = do(lead()[0], "change_notes", V, bell, 0, [[None, None, 0, 72, 400, 90]])
    with pytest.raises(EditError, match="would leave one of the two layers empty"):
        do(single, "split_line", V, bell, 0, deal)


def test_notes_outside_the_range_are_counted_and_folded_in():
    song, bell = lead()
    far = do(
        song,
        "change_notes",
        V,
        bell,
        0,
        [[None, None, 0, 40, 400, 90], [None, None, 960, 108, 400, 90], [None, None, 1920, 72, 400, 90]],
    )
    assert outside(line(far, layer=bell), far.layer_by_id[bell]) == (1, 1)
    assert [n[2] for n in sounding(do(far, "fold_line", V, bell, 0), V, bell)] == [76, 96, 72]
    with pytest.raises(EditError, match="Nothing needs to move"):
        do(song, "fold_line", V, bell, 0)


@pytest.mark.parametrize(("kind", "args", "says"), [
    ("change_notes", (V, K, 0, []), "is a drum"), ("change_notes", (V, B, 7, []), "has 2 phrases, no phrase 8"),
    ("change_notes", (V, B, 0, [[5, 60, None, None, None, None]]), "is not there any more"), ("change_notes", (V, B, 0, [[None, None, 99_999, 60, 10, 90]]), "outside the phrase"),
    ("change_notes", (V, B, 0, [[None, None, 0, 200, 10, 90]]), "A pitch of 200 lies outside"), ("record_notes", (V, B, 0, []), "holds no note"),
    ("record_notes", (V, B, 0, [[0, 1, 300, 90]]), "no pitch"), ("anchor_line", (V, P, 0, "fixed"), "is silent"), ("quantise_line", (V, B, 0, 2.0), "An amount of 2"),
    ("second_voice", (V, P, 0, "third-above"), "no line to take"), ("second_voice", (V, B, 0, "ninth"), "is not a interval"), ("second_voice", (V, B, 0, "third-above", B), "plays the line itself"),
])  # fmt: skip
def test_what_cannot_be_written_says_why(kind, args, says):
    with pytest.raises(EditError, match=says):
        do(SONG, kind, *args)


def test_chosen_notes_are_transformed_and_the_rest_stays():
    song, bell = lead()
    song = do(
        song, "change_notes", V, bell, 0, [[None, None, t, p, 400, 90] for t, p in ((0, 72), (960, 76), (1920, 79))]
    )
    after = do(song, "transform_line", V, bell, 0, "octave-up", [[960, 76]])
    assert [n[2] for n in sounding(after, V, bell)] == [72, 88, 79]


def test_makers_that_play_chords_ask_for_them_where_none_are_written():
    bare = replace(SONG, progression=None)
    with pytest.raises(EditError, match="No chord stands under this phrase.*I V vi IV"):
        do(bare, "make_line", V, B, 0, "arpeggio")
    assert np.array_equal(
        [n.tick for n in line(do(bare, "make_line", V, B, 0, "bass-off-beat")).notes][:2], [480, 1440]
    )
