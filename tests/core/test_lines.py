"""Lines: makers stay in chord and range, transformations keep their laws, readings tell the truth of made lines."""

from dataclasses import replace
from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.lines.frame import Frame
from escalera.core.lines.line_reading import contour, hook_in_words, read_line
from escalera.core.lines.makers import MAKERS, make_line
from escalera.core.lines.transformations import TRANSFORMATIONS, transform
from escalera.core.reading.events import PITCH, START, layer_events
from escalera.core.reading.phrase_frames import line_reading, phrase_frame
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import DEGREE, FIXED, TONE, Pattern
from escalera.core.theory.chords import parse_chord
from escalera.core.theory.keys import parse_key
from escalera.core.theory.note_roles import clashes
from escalera.core.theory.voicings import place_class, root_position
from escalera.core.time.metre import Metre
from escalera.errors import EditError
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, B, P = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad"))
CHORDS = tuple((i * 3840, parse_chord(c)) for i, c in enumerate(("Am", "F", "C", "G7")))
FRAME = Frame(4 * 3840, Metre(), parse_key("A minor"), CHORDS, (0, 1920, 2400), ((0, 960), (3840, 4800)))
SPOTS = [c.choices for m in MAKERS.values() for c in m.controls]


def made(song, maker, options=None, layer=B):
    return EDITS["make_line"](V, layer, 0, maker, options).apply(song)


@pytest.mark.parametrize("key", MAKERS)
def test_a_makers_notes_lie_in_the_chord_or_the_key_and_in_the_stretch(key):
    maker = MAKERS[key]
    for control in (*maker.controls, None):
        for choice in control.choices if control else ("",):
            options = {control.key: choice} if control else {}
            line = make_line(FRAME, key, options)
            assert line.length_ticks == FRAME.length_ticks and len(line) and (line.rows[:, 0] >= 0).all()
            assert (line.rows[:, 0] + line.rows[:, 1] <= FRAME.length_ticks).all()
            assert make_line(FRAME, key, options) == line, "the same choices, the same line"
    song = EDITS["set_chords"]("C | Am | F | G").apply(SONG)
    layer = P if maker.family == "chords" else B
    if key == "fills-gaps":
        return
    after = made(song, key, layer=layer)
    span = timeline(after).span_of(V)
    table = layer_events(after, span, after.layer_by_id[layer]).table
    low, high = after.layer_by_id[layer].register_low, after.layer_by_id[layer].sound.register[1]
    frame = phrase_frame(after, span, 0)
    inside = table[table[:, START] < 4 * 3840]
    assert len(inside) and all(
        int(p) % 12 in frame.key.classes | frame.chord_at(int(t)).classes for t, p in inside[:, [START, PITCH]]
    )
    assert (inside[:, PITCH] >= low - 14).all() and (inside[:, PITCH] <= high + 24).all()


@pytest.mark.parametrize(
    ("maker", "says"), [("bass-kick", "finds nothing to play here"), ("fills-gaps", "finds nothing to play here")]
)
def test_a_maker_that_leans_on_nothing_says_what_to_do(maker, says):
    with pytest.raises(EditError, match=says):
        make_line(replace(FRAME, kicks=(), other=()), maker, {})
    with pytest.raises(EditError, match="is not a order|is not a"):
        make_line(FRAME, "arpeggio", {"order": "sideways"})


def test_bass_follows_the_kick_and_answers_fall_into_the_gaps():
    assert make_line(FRAME, "bass-kick", {}).rows[:, 0].tolist() == [0, 1920, 2400]
    answers = make_line(FRAME, "fills-gaps", {}).rows
    assert all(not (a <= t < b) for t in answers[:, 0] for a, b in FRAME.other)
    walk = make_line(FRAME, "bass-walking", {}).rows
    assert (
        len(walk) == 16 and [int(r[2]) for r in walk[3::4]] == [DEGREE] * 4 and {int(r[2]) for r in walk[:3]} == {TONE}
    )


def test_one_gap_is_answered_alone():
    every = make_line(FRAME, "fills-gaps", {}).rows[:, 0].tolist()
    gaps = FRAME.gaps(FRAME.metre.beat_ticks)
    for words, (start, end) in (("first gap", gaps[0]), ("last gap", gaps[-1])):
        alone = make_line(FRAME, "fills-gaps", {"gap": words}).rows[:, 0].tolist()
        assert alone == [t for t in every if start <= t < end] != every


def test_what_is_held_is_chopped_and_strokes_off_the_beat_are_muted():
    held = Pattern(3840, [(0, 3800, DEGREE, 0, 0, 90), (0, 3800, DEGREE, 2, 0, 90)])
    chopped = transform(held, "chop").rows
    assert (
        sorted(set(chopped[:, 0].tolist())) == [0, 480, 720, 1200, 1440, 1920, 2400, 2640, 3120, 3360]
        and chopped[:, 1].max() == 200
    )
    strokes = Pattern(3840, [(0, 400, TONE, 0, 0, 100), (480, 400, TONE, 0, 0, 100)])
    assert transform(strokes, "mute").rows[:, [1, 5]].tolist() == [[400, 100], [90, 55]]
    busy = Pattern(3840, [(t, 200, DEGREE, t // 240 % 5, 0, 90) for t in range(0, 3840, 240)])
    assert len(transform(busy, "contrast")) == 8 and len(transform(held, "contrast")) == 4


NOTE = st.tuples(
    st.integers(0, 30),
    st.integers(1, 4),
    st.sampled_from([DEGREE, TONE, FIXED]),
    st.integers(0, 6),
    st.integers(-1, 1),
    st.integers(30, 120),
)


@given(st.lists(NOTE, min_size=1, max_size=12))
def test_laws_of_transformations(notes):
    rows = [
        (t * 120, min(d * 120, 3840 - t * 120), k, v + (50 if k == FIXED else 0), o, vel)
        for t, d, k, v, o, vel in notes
    ]
    line = Pattern(3840, rows)

    def twice(a, b):
        return TRANSFORMATIONS[b].change(TRANSFORMATIONS[a].change(line))

    assert twice("reverse", "reverse") == line
    assert twice("step-up", "step-down") == line and twice("octave-down", "octave-up") == line
    assert twice("augment", "double-time") == line
    assert sorted(TRANSFORMATIONS["invert"].change(line).rows[:, 0].tolist()) == sorted(line.rows[:, 0].tolist())
    halves = [TRANSFORMATIONS[k].change(line) for k in ("first-half", "second-half")]
    assert sum(map(len, halves)) == len(line)


@pytest.mark.parametrize("key", TRANSFORMATIONS)
def test_a_transformation_changes_a_line_or_says_that_it_would_not(key):
    line = Pattern(
        3840,
        [
            (0, 480, DEGREE, 2, 0, 90),
            (960, 240, DEGREE, 4, 0, 90),
            (2000, 480, TONE, 1, 0, 90),
            (3000, 240, TONE, 2, 0, 70),
        ],
    )
    assert transform(line, key) != line
    with pytest.raises(EditError, match="empty|as it is"):
        transform(
            Pattern(3840, [(0, 30, 3, 0, 0, 1)])
            if key not in ("second-half",)
            else Pattern(3840, [(0, 30, 3, 0, 0, 1)]),
            "second-half",
        )


@pytest.mark.parametrize(
    ("pitches", "shape"),
    [
        ((60, 62, 64, 65, 67, 72), "rises"),
        ((72, 70, 67, 65, 62, 60), "falls"),
        ((60, 64, 72, 72, 64, 60), "arch"),
        ((72, 66, 60, 60, 66, 72), "valley"),
        ((60, 60, 61, 60), "level"),
        ((60, 67, 60, 67, 60, 67), "wave"),
    ],
)
def test_contours_are_named(pitches, shape):
    assert contour(pitches) == shape


def test_a_line_of_thirds_and_sevenths_reads_so():
    song = EDITS["set_chords"]("Cmaj7 | Am7 | Fmaj7 | G7").apply(SONG)
    telling = made(song, "third-seventh")
    roots = made(song, "bass-eighths")
    span = timeline(telling).span_of(V)
    read = line_reading(telling, span, 0, telling.layer_by_id[B])
    plain = line_reading(roots, timeline(roots).span_of(V), 0, roots.layer_by_id[B])
    assert read.telling_share == 1.0 and read.chord_share == 1.0
    assert (
        plain.telling_share == 0.0
        and plain.chord_share == 1.0
        and plain.repeats == 1.0
        and plain.longest_rest_beats < 0.2
    )
    assert line_reading(SONG, timeline(SONG).span_of(V), 0, SONG.layer_by_id[P]) is None


def test_range_leaps_repeats_and_rests_are_counted_and_said():
    bar = [(0, 480, 60), (960, 480, 67), (1920, 480, 64)]
    table = np.array([(t + 3840 * b, d, p + (2 if b == 2 else 0)) for b in range(4) for t, d, p in bar])
    found = read_line(table, FRAME, (55, 68))
    assert (found.low, found.high, found.outside, found.leaps, found.repeats) == (60, 69, 1, 5, 1.0)
    assert found.changed == pytest.approx(1 / 3) and found.longest_rest_beats == 1.5
    told = hook_in_words(found)
    assert all(helps for helps, sentence in told if "repeat a rhythm" in sentence or "longest rest" in sentence)
    assert any("9 semitones" in s for _, s in told)
    assert any(
        not helps and "does not breathe" in s for helps, s in hook_in_words(replace(found, longest_rest_beats=0.1))
    )


def test_a_phrase_of_odd_length_begins_its_line_at_its_start():
    song = EDITS["set_phrases"](V, "5+3").apply(SONG)
    after = EDITS["make_line"](V, B, 1, "bass-held").apply(song)
    table = layer_events(after, timeline(after).span_of(V), after.layer_by_id[B]).table
    assert [t for t in table[:, START].tolist() if t >= 5 * 3840] == [5 * 3840, 6 * 3840, 7 * 3840]


REGISTER = (48, 84)


def read(key, options, frame, register=REGISTER):
    """The reading of a line as it sounds from a register."""
    rows = make_line(frame, key, options).rows
    tonic = place_class(frame.key.tonic_class, 60)
    table = []
    for start, duration, kind, value, octave, _ in rows.tolist():
        if kind == DEGREE:
            pitch = tonic + 12 * (value // 7) + frame.key.degrees[value % 7]
        else:
            tones = root_position(frame.chord_at(start), register[0])
            pitch = tones[value % len(tones)] + 12 * (value // len(tones))
        table.append((start, duration, pitch + 12 * octave))
    return read_line(np.array(table, np.int64), frame, register)


LOOPS = ("C Am F G", "C G Am F", "Am F C G", "Dm G C C", "Em C G D")
KEYS = ("C major", "C major", "A minor", "C major", "G major")


def frames():
    for loop, key in zip(LOOPS, KEYS):
        for metre in (Metre(), Metre(3, 4), Metre(6, 8)):
            chords = tuple((i * metre.bar_ticks, parse_chord(c, parse_key(key))) for i, c in enumerate(loop.split()))
            yield Frame(4 * metre.bar_ticks, metre, parse_key(key), chords, (0, metre.bar_ticks // 2))


@pytest.mark.parametrize("seed", "123456789")
def test_a_sung_line_meets_the_readings_it_is_judged_by(seed):
    right = []
    for frame, wanted in product(frames(), ("arch", "rises", "falls")):
        found = read("sung-line", {"seed": seed, "contour": wanted}, frame)
        told = hook_in_words(found, "sung")
        assert found.leaps <= max(2, found.notes // 3) and found.range_semitones <= 14
        assert found.longest_rest_beats >= 0.3 and sum(helps for helps, _ in told) >= 4, (told, frame.metre)
        right.append((found.contour == wanted, found.chord_share))
    contours, shares = np.array(right, float).T
    assert contours.mean() >= 0.6 and shares.mean() >= 0.8


def test_endings_say_whether_more_is_to_come_and_hooks_live_by_their_rhythm():
    frame = next(frames())
    for key in ("sung-line", "motif-thrice"):
        last = {e: make_line(frame, key, {"ending": e}).rows[-1, 3] % 7 for e in ("more", "once more", "over")}
        assert last["over"] == 0 and last["more"] != 0
    hook = read("one-note-hook", {}, frame)
    assert hook.range_semitones <= 2 and sum(helps for helps, _ in hook_in_words(hook)) >= 4


def test_leaps_are_judged_by_kind():
    frame = next(frames())
    leaping = read_line(np.array([(480 * i, 400, 60 + 9 * (i % 2)) for i in range(20)], np.int64), frame, REGISTER)
    helped = {
        kind: sum(helps for helps, _ in hook_in_words(leaping, kind)) / len(hook_in_words(leaping, kind))
        for kind in ("sung", "figure")
    }
    assert helped["sung"] <= 0.5 < helped["figure"], "nineteen leaps are no tune, and may be a figure"


def test_basses_have_ghosts_and_approaches_and_long_ones_last_until_the_next_kick():
    frame = next(frames())
    rows = make_line(frame, "bass-sixteenths", {"busy": "many"}).rows
    assert (rows[:, 5] < 50).sum() >= 8 and (rows[1:, 0] >= rows[:-1, 0] + rows[:-1, 1]).all()
    assert {3840 - 240, 7680 - 240} <= set(rows[:, 0].tolist()), "a step into the next chord"
    long, sliding = (make_line(frame, "bass-kick-long", {"join": j}).rows for j in ("until the next", "sliding"))
    assert (long[0, 0] + long[0, 1] < long[1, 0]) and sliding[0, 0] + sliding[0, 1] > sliding[1, 0]


def test_a_held_note_clashes_least_or_most_and_is_released():
    frame = next(frames())
    least, most = (make_line(frame, "pedal", {"note": n}).rows for n in ("least clashes", "most tension"))

    def rubs(rows):
        return sum(
            clashes((frame.key.tonic_class + frame.key.degrees[v % 7]) % 12, frame.chord_at(int(t)))
            for t, v in rows[:, [0, 3]]
        )

    assert len(least) == 1 and rubs(least) == 0 and rubs(most) >= 1
    assert not clashes((frame.key.degrees[int(most[-1, 3]) % 7]) % 12, frame.chord_at(frame.length_ticks - 1))


def test_scattered_arpeggios_are_scattered_anew():
    rows = make_line(FRAME, "arpeggio", {"order": "scattered", "value": "1/16"}).rows
    turns = [tuple(rows[i : i + 3, 3]) for i in range(0, 15, 3)]
    assert len(set(turns)) > 1
