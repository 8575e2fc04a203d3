"""Counting: rulers either way through glides and metres, questions as people ask them, taps, note values, feels."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.song import Section, Song
from escalera.core.edits import EDITS
from escalera.core.palette.effects import NOTE_VALUES
from escalera.core.reading.song_ruler import song_ruler
from escalera.core.reading.timeline import timeline
from escalera.core.time.feels import FEELS, feels_at
from escalera.core.time.metre import Metre
from escalera.core.time.note_values import USES, VALUES, stretch, value_ms
from escalera.core.time.questions import QUESTIONS, Asked, ask
from escalera.core.time.ruler import UNITS, SteadyRuler, bars_held, length_in, place_at, tick_of, ticks_of_length
from escalera.core.time.tapping import read_taps
from escalera.core.time.tempo import TempoPoint, tempo_map
from escalera.errors import InputError

METRES = st.sampled_from([Metre(4, 4), Metre(3, 4), Metre(6, 8), Metre(7, 8), Metre(5, 4)])


@st.composite
def songs(draw):
    """Two to four sections, each with its own metre changes, tempo steps and glides."""
    sections = []
    for i in range(draw(st.integers(2, 4))):
        bars = draw(st.integers(1, 6))
        metres = tuple((b, draw(METRES)) for b in sorted(draw(st.sets(st.integers(0, bars - 1), max_size=2))))
        ticks = sorted(draw(st.sets(st.sampled_from([0, 480, 1920, 2880]), max_size=3)))
        points = tuple(TempoPoint(t, float(draw(st.integers(40, 240))), draw(st.booleans())) for t in ticks)
        sections.append(Section(i + 1, f"S{i}", bars=bars, phrases=(bars,), metre_changes=metres, tempo_changes=points))
    return Song(
        tempo_bpm=float(draw(st.integers(40, 240))),
        metre=draw(METRES),
        sections=tuple(sections),
        lead_bars=draw(st.integers(0, 1)),
    )


@given(songs(), st.data())
def test_counting_through_glides_and_metres_goes_both_ways(song, data):
    ruler, line = song_ruler(song), timeline(song)
    total = sum(span.length_ticks for span in line.spans)
    tick = data.draw(st.integers(-2000, total + 4000))
    assert ruler.ticks_at(ruler.seconds_at(tick)) == pytest.approx(tick, abs=1e-3)
    place = place_at(ruler, tick)
    bar, start, metre = ruler.bar_at(tick)
    assert ruler.bar_start(bar) == start <= tick < start + metre.bar_ticks == ruler.bar_start(bar + 1)
    assert tick_of(ruler, place.bar, place.beat) + place.in_beat == tick
    length = data.draw(st.integers(1, 9000))
    for unit in UNITS:
        amount = length_in(ruler, length, unit, max(0, tick))
        assert ticks_of_length(ruler, amount, unit, max(0, tick)) == pytest.approx(length, abs=0.01)
    held = bars_held(ruler, length, start)
    assert (
        ticks_of_length(ruler, held.bars, "bars", start)
        + held.beats * ruler.bar_at(ruler.bar_start(bar + held.bars))[2].beat_ticks
        + held.ticks
        == length
    )
    assert place_at(ruler, 0).bar == 1 - song.lead_bars


@given(
    st.lists(st.tuples(st.integers(1, 4000), st.floats(30, 300), st.booleans()), min_size=1, max_size=5),
    st.floats(0, 20_000),
)
def test_a_tempo_map_is_its_own_inverse_and_agrees_with_a_sum_of_small_steps(rows, tick):
    ticks = np.cumsum([0, *(r[0] for r in rows)])[:-1]
    points = tuple(TempoPoint(int(t), bpm, glides) for t, (_, bpm, glides) in zip(ticks, rows))
    tempo = tempo_map(points)
    assert tempo.ticks_at(tempo.seconds_at(np.array([tick])))[0] == pytest.approx(tick, abs=1e-4)
    edges = np.linspace(0, tick, 4001)
    middles = (edges[1:] + edges[:-1]) / 2
    summed = sum(60.0 / 960 / tempo.bpm_at(m) for m in middles) * (tick / 4000)
    assert tempo.seconds_at(np.array([tick]))[0] == pytest.approx(summed, rel=2e-3, abs=1e-6)


def test_a_glide_survives_split_merge_and_resize():
    song = Song(
        tempo_bpm=120.0,
        sections=(Section(1, "A", bars=8, phrases=(8,)), Section(2, "B", bars=2, phrases=(2,))),
        next_id=3,
    )
    song = EDITS["glide_tempo"](1, 60.0).apply(song)
    whole = song_ruler(song)
    split = EDITS["split_section"](1, 3).apply(song)
    merged = EDITS["merge_sections"](1).apply(split)
    for other in (split, merged):
        ruler = song_ruler(other)
        assert [ruler.seconds_at(t) for t in range(0, 30_720, 960)] == pytest.approx(
            [whole.seconds_at(t) for t in range(0, 30_720, 960)], abs=1e-4
        )
    shorter = EDITS["resize_section"](1, 4).apply(song)
    assert song_ruler(shorter).seconds_at(4 * 3840) == pytest.approx(whole.seconds_at(4 * 3840), abs=1e-6)
    assert whole.bpm_at(4 * 3840) == pytest.approx(90.0)


ASKED = Asked(SteadyRuler(120.0), {"these": 4, "those": 2, "Verse": 8})


# ways of asking, and the first row of the answer
WAYS_OF_ASKING = {
    "how long is 16 bars": "16 bars", "how long are 16 bars?": "16 bars", "How long do 8 bars last": "8 bars", "how long does a bar take": "1 bar", "what is the length of 12 bars": "12 bars",
    "16 bars in seconds": "16 bars", "16 bars in minutes and seconds": "16 bars", "3:30 in bars": "106.1", "how many bars is 3:30": "106.1", "how many bars are in 90 seconds": "45 bars",
    "how many bars fit in 3 minutes": "90 bars", "how many bars fit into 3 minutes 30": "105 bars", "how many beats are in 8 bars": "8 bars", "how many beats has a bar": "1 bar", "2 min 15 s in bars": "67 bars, 2 beats",
    "what is at 1:05": "33.3", "what's at 1:05?": "33.3", "where is 1:05": "33.3", "which bar is at 90 seconds": "45 bars", "what bar is at 1:30": "46.1", "where are we at 2:10": "66.1",
    "where is bar 33": "33.1", "when does bar 33 start": "33.1", "when is bar 17": "17.1", "4 bars before bar 33": "bar 29", "four bars after bar 33": "bar 37", "two beats before bar 17": "16.3",
    "the last 8 bars before bar 49": "bar 41", "a dotted eighth in ms": "375.00 ms", "dotted eighth in milliseconds": "375.00 ms", "an eighth triplet in ms": "166.67 ms", "how long is a quarter note": "500.00 ms",
    "what is a sixteenth in ms": "125.00 ms", "1/8 dotted in ms": "375.00 ms", "delay time for a dotted eighth in ms": "375.00 ms", "third beat of bar 12": "12.3", "beat 3 of bar 12": "12.3",
    "the and of 2 in bar 5": "5.2.3", "from bar 9 to bar 24": "bar 9", "how many bars from bar 9 to bar 24": "bar 9", "between bar 9 and bar 24": "bar 9", "how long are bars 9 to 24": "bar 9",
    "from 1:05 to 2:10": "32.5", "how many bars from 1:05 to 2:10": "32.5", "which tempo makes 64 bars last 2:00": "128.00 bpm", "tempo for 100 bars in 3:30": "114.29 bpm",
    "4 times 8 bars": "32 bars", "half of 24 bars": "12 bars", "from bar 17, 8 bars": "bar 17", "the next 8 bars from bar 9": "bar 9", "bar 9 plus 8 bars": "bar 17", "120 bpm to 128": "× 1.0667",
    "please tell me how long is 16 bars": "16 bars", "how long is one beat in seconds": "1 beat", "show me bar 40": "40.1", "two verses and a verse": "24 bars", "at 1:05": "33.3",
}  # fmt: skip


@pytest.mark.parametrize("text", WAYS_OF_ASKING)
def test_a_question_is_understood_in_many_ways(text):
    assert ask(text, ASKED).rows[0][1] == WAYS_OF_ASKING[text]


@pytest.mark.parametrize(
    ("text", "offered"),
    [
        ("how long is it", "how long is 16 bars"),
        ("what happens before bar 9", "4 bars before bar 33"),
        ("which tempo", "which tempo makes 64 bars"),
    ],
)
def test_what_is_not_understood_is_answered_with_the_nearest_that_is(text, offered):
    with pytest.raises(InputError, match=offered):
        ask(text, ASKED)


# the question as people put it, and a row of the answer
@pytest.mark.parametrize(("text", "row", "value"), [
    ("8 bars that end with bar 36", "starts with", "bar 29"), ("8 bars that end with bar 36", "the next is", "bar 37"), ("8 bars from bar 29", "ends with", "bar 36"),
    ("bars 17 to 24", "length", "8 bars"), ("bars 17–24?", "the next is", "bar 25"), ("two of these and four of those", "together", "16 bars"),
    ("2 of verse + 1 of 8 bars", "together", "24 bars"), ("one and five", "beat 5", "2.1 (bar 2, one), tick 3840, 2.000 s"), ("one and five in eighths", "eighth 5", "1.3 (bar 1, three), tick 1920, 1.000 s"),
    ("1, 4 and 7 in sixteenths from bar 2", "sixteenth 7", "2.2.3 (bar 2, two-and), tick 1440, 0.750 s"), ("91 seconds from bar 9", "holds", "45 bars, 2 beats"), ("4+4+2 bars", "seconds", "20"),
    ("120 to 128 bpm", "speed", "× 1.0667"), ("128 to 120 bpm", "pitch, if it only runs faster", "-1.12 semitones"), ("bar 29 beat 3", "seconds", "57.0000"), ("29.3.2", "ticks", "109,680"),
    ("1:05.0", "position", "33.3"), ("tick 12000", "position", "4.1.3"), ("sample 44100", "position", "1.3"),
])  # fmt: skip
def test_a_question_in_the_words_people_use_is_answered(text, row, value):
    assert dict(ask(text, ASKED).rows)[row] == value


@pytest.mark.parametrize(("text", "says"), [
    ("how long is it", "Ask for example"), ("900 to 120 bpm", "900 bpm lies outside 30 to 300"), ("bar 3 beat 9", "Bar 3 has 4 beats, no beat 9"), ("bars 9 to 3", "Write the earlier bar first"),
    ("2 of bridge", "“bridge” has no length here.*Verse"), ("x" * 500, "at most 200 are read"), ("bar 99999999", "beyond 5000"), ("3.2.9", "no 9"), ("0 bars from bar 1", "cannot be counted"), ("1 and 9999", "is not a step"),
])  # fmt: skip
def test_a_question_that_cannot_be_counted_says_what_can(text, says):
    with pytest.raises(InputError, match=says):
        ask(text, ASKED)


def test_every_shape_of_question_answers_its_example():
    for _, answer, example in QUESTIONS:
        assert ask(example, ASKED).rows, answer


@pytest.mark.parametrize(("taps", "within"), [(8, 0.02), (16, 0.01)])
@pytest.mark.parametrize("bpm", [50, 96, 140, 180])
def test_taps_with_jitter_find_the_tempo(taps, within, bpm):
    rng, right, sure = np.random.default_rng(4), 0, 0
    for _ in range(300):
        times = np.sort(5 + np.arange(taps) * 60 / bpm + rng.normal(0, 0.02, taps))
        found = read_taps(times.tolist())
        right += abs(found.bpm / bpm - 1) <= within
        sure += found.low_bpm <= bpm <= found.high_bpm
    assert right >= 0.95 * 300 and sure >= 0.9 * 300, "and the uncertainty shown is honest"


@pytest.mark.parametrize(("times", "bpm"), [
    ([0, 0.5, 1.0, 2.0, 2.5, 3.0], 120), ([0, 0.5, 0.52, 1.0, 1.5], 120), ([0, 0.3, 9, 9.5, 10, 10.5], 120), ([0, 0.5, 1.0, 1.5, 2.18, 2.5, 3.0, 3.5], 120), ([0, 0.25, 0.5, 0.75], 240),
])  # fmt: skip
def test_missed_doubled_late_and_first_taps_do_not_spoil_the_tempo(times, bpm):
    assert read_taps(times).bpm == pytest.approx(bpm, rel=0.02)


def test_half_double_and_round_tempos_are_offered():
    found = read_taps([i * 60 / 127.8 for i in range(9)])
    assert (found.half, found.double) == (63.9, 255.6) and 128 in found.offers
    assert read_taps([0, 1.5, 3.0, 4.5]).half is None


@pytest.mark.parametrize(("times", "says"), [
    ([5], "One tap has no tempo"), ([0, 3600], "The last two taps are 1 hour apart; after 3 seconds"), ([1, 0], "not in the order of time"), ([0, 0.15, 0.3], "outside 30 to 300. Tap every second beat"),
    ([0, float("nan")], "not in the order"), ([0, 2.5, 5], "24 a minute"),
])  # fmt: skip
def test_taps_without_a_tempo_say_why(times, says):
    with pytest.raises(InputError, match=says):
        read_taps(times)


@pytest.mark.parametrize(
    ("name", "ms"), [("1/4", 625.0), ("1/8", 312.5), ("1/8 dotted", 468.75), ("1/8 triplet", 208.333), ("1/1", 2500.0)]
)
def test_note_values_in_milliseconds(name, ms):
    assert value_ms(name, 96) == pytest.approx(ms, abs=0.001)
    assert {v for _, values in USES.values() for v in values} <= set(VALUES) and NOTE_VALUES["1/8 dotted"] == 0.75


def test_a_stretch_and_back_is_nothing():
    ratio, percent, semitones = stretch(120, 150)
    assert (ratio, percent) == (1.25, 80.0) and semitones == pytest.approx(-stretch(150, 120)[2])


def test_feels_have_ranges_that_can_be_played():
    assert all(30 <= f.low_bpm < f.high_bpm <= 300 and f.said for f in FEELS) and len({f.key for f in FEELS}) == len(
        FEELS
    )
    assert feels_at(124)[0].key == "four-on-the-floor" and not feels_at(299)
