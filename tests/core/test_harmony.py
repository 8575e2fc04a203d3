"""The harmony of a song: chords as text, loops and passes, what comes early, voicings, held notes, key finding and changes."""

import random
from dataclasses import replace
from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.chord_text import parse_chordline, read_chordline, rotated, write_chordline
from escalera.core.edits import EDITS
from escalera.core.reading.events import PITCH, START, layer_events
from escalera.core.reading.key_change import key_change_plan
from escalera.core.reading.key_reading import key_reading, label_note
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.theory.chords import QUALITIES, Chord, parse_chord
from escalera.core.theory.key_finding import find_key, slices_of_chords, slices_of_notes
from escalera.core.theory.keys import Key, parse_key
from escalera.core.theory.note_roles import clashes, held_over, holds_throughout, role_of
from escalera.core.theory.voicings import CLOSE_FROM, INVERSIONS, Voicing, muddy, read_voicing, unclear, voice_path
from escalera.core.time.metre import Metre, parse_metre
from escalera.errors import EditError
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, K, B, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))
EB, BAR = parse_key("Eb major"), 3840


def done(song, kind, **fields):
    return EDITS[kind](**fields).apply(song)


def harmony(song, index=0):
    return section_harmony(song, timeline(song).spans[index])


def changes(song, index=0):
    found = harmony(song, index)
    return [(t / BAR, str(c)) for t, c in zip(found.ticks, found.chords)]


def chords(text, key="C major"):
    return tuple(parse_chord(name, parse_key(key)) for name in text.split())


@pytest.mark.parametrize(("text", "metre", "ticks"), [
    ("Eb | Gm7 | Cm7 | Abmaj7", "4/4", [0, 3840, 7680, 11520]), ("Eb Bb | Cm", "4/4", [0, 1920, 3840]), ("Eb | % | Ab/C Bb | Eb", "4/4", [0, 7680, 9600, 11520]),
    ("I | vi | IV V | I", "3/4", [0, 2880, 5760, 7200, 8640]), ("Eb | <Ab", "4/4", [0, 3360]), ("Eb Ab@4.5 | Bb", "4/4", [0, 3360, 3840]),
    ("Eb Ab Bb | Cm", "6/8", [0, 960, 1920, 2880]), ("Eb vi IV", "4/4", [0, 3840, 7680]), ("<Eb | Ab", "4/4", [-480, 3840]),
])  # fmt: skip
def test_chords_as_text_read_back(text, metre, ticks):
    metre = parse_metre(metre)
    progression = parse_chordline(text, EB, metre)
    assert [t for t, _ in progression.changes] == ticks
    assert parse_chordline(write_chordline(progression, metre), EB, metre) == progression


@pytest.mark.parametrize(("text", "bars", "says", "good"), [
    ("% | C", 0, "repeats the chord before it, and there is none", 1), ("Eb | Q", 0, "Chord 2: “Q” is not a chord", 1), ("| ".join(["C"] * 70), 0, "70 bars of chords", 64),
    ("C | F | G", 2, "Bar 3 of 3: the section has 2 bars. Take 1 out", 2), ("H7 | C", 0, "Chord 1: .*Write B7 or Bb7", 1), ("C@5 | F", 0, "a beat of the bar, 1 to 4", 1),
    ("C@3 F@2 | G", 0, "does not come after", 2),
])  # fmt: skip
def test_a_line_that_cannot_be_read_points_at_the_place_and_keeps_the_rest(text, bars, says, good):
    with pytest.raises(EditError, match=says):
        parse_chordline(text, EB, Metre(), bars)
    line = read_chordline(text, EB, Metre(), bars)
    assert sum(not w.problem for w in line.words) == good and line.problems


@pytest.mark.parametrize("ticks", [0, 1000, 3840, 5000, 7680, 11520])
def test_a_loop_entered_later_sounds_the_same(ticks):
    progression = parse_chordline("Eb | Gm Bb | Cm | Ab", EB, Metre())
    later = rotated(progression, ticks)

    def sounding(p, tick):
        return [c for t, c in p.changes if t <= tick % p.length_ticks][-1]

    for tick in range(0, 2 * progression.length_ticks, 480):
        assert sounding(later, tick) == sounding(progression, tick + ticks)


def test_the_third_pass_and_the_ending_are_their_own():
    song = done(SONG, "set_chords", chords="I | V")
    song = done(song, "vary_chords", on_pass=3, chords="vi | V")
    song = done(song, "vary_chords", on_pass=0, chords="IV | I", section_id=V)
    loop = ["C", "G", "C", "G", "Am", "G", "F", "C"]
    assert [c for _, c in changes(song)] == loop
    assert [c for _, c in changes(song, 1)] == ["C", "G", "C", "G", "Am", "G", "C", "G"], (
        "the chorus has no ending of its own"
    )
    again = done(song, "set_chords", chords="I | IV")
    assert [c for _, c in changes(again, 1)] == ["C", "F", "C", "F", "Am", "G", "C", "F"], (
        "a loop of the same length keeps its passes"
    )
    assert not done(song, "set_chords", chords="I | IV | V").progression.passes
    for bars in (1, 3, 5):
        split = done(song, "split_section", section_id=V, after_bars=bars)
        assert [harmony(split, 0).at(b * BAR).name() for b in range(bars)] == [
            harmony(song).at(b * BAR).name() for b in range(bars)
        ]
        assert [harmony(split, 1).at(b * BAR) for b in range(8 - bars)] == [
            harmony(song).at((b + bars) * BAR) for b in range(8 - bars)
        ]


def test_a_pushed_chord_comes_before_the_barline_even_across_a_join():
    song = done(SONG, "push_chords", push_ticks=480)
    early = 480 / BAR
    assert changes(song)[:3] == [(-early, "C"), (1 - early, "Am"), (2 - early, "F")] and changes(song)[-1] == (
        8 - early,
        "C",
    )
    shifted = done(song, "shift_section", section_id=C, semitones=2)
    assert changes(shifted)[-1] == (8 - early, "D") and changes(shifted, 1)[0] == (-early, "D")
    bass = layer_events(shifted, timeline(shifted).spans[0], shifted.layer_by_id[B]).table
    last = bass[bass[:, START] >= 8 * BAR - 480]
    assert {int(p) % 12 for p in last[:, PITCH]} == {2}, "what follows the harmony plays the early chord"


def test_chords_of_a_shifted_section_are_written_as_they_sound():
    song = done(SONG, "shift_section", section_id=C, semitones=2)
    song = done(song, "set_chords", chords="D | Bm", section_id=C)
    assert [c for _, c in changes(song, 1)][:2] == ["D", "Bm"] and str(
        song.section_by_id[C].progression.changes[0][1]
    ) == "C"


def test_a_song_in_another_key_keeps_every_numeral():
    moved = done(done(SONG, "set_key", key="Eb major"), "set_key", key="C major")
    assert moved.progression == SONG.progression
    assert [c for _, c in changes(done(SONG, "set_key", key="F# major"))][:4] == ["F♯", "D♯m", "B", "C♯"]
    assert done(SONG, "set_key", key="A minor", move_chords=False).progression == SONG.progression


# voicings ---------------------------------------------------------------------------------------------------------


def test_the_least_motion_is_what_trying_every_row_finds():
    row = chords("C Am F G7")
    path = voice_path(row, 3, 62)

    def motion(rows):
        return sum(abs(a - b) for x, y in zip(rows, rows[1:]) for a, b in zip(x, y))

    every = [
        [
            v
            for v in product(range(54, 71), repeat=3)
            if list(v) == sorted(set(v)) and {p % 12 for p in v} == {p % 12 for p in path[i]}
        ]
        for i in range(4)
    ]
    best = dict.fromkeys(every[0], 0)
    for row_of in every[1:]:
        best = {v: min(cost + sum(abs(a - b) for a, b in zip(old, v)) for old, cost in best.items()) for v in row_of}
    assert motion(path) <= min(best.values()) + 2, "no row moves less, but for the pull to the register"


@pytest.mark.parametrize(("style", "holds"), [
    (Voicing(), lambda v, c: {p % 12 for p in v} == c.classes), (Voicing(inversion="third"), lambda v, c: (v[0] - c.root_class) % 12 in (3, 4)),
    (Voicing(inversion="root"), lambda v, c: v[0] % 12 == c.root_class), (Voicing(omit="third"), lambda v, c: not {(p - c.root_class) % 12 for p in v} & {3, 4}),
    (Voicing(double="fifth", voices=4), lambda v, c: [(p - c.root_class) % 12 for p in v].count(7) == 2), (Voicing(spread="wide"), lambda v, c: max(v) - min(v) > 12),
])  # fmt: skip
def test_a_voicing_is_laid_out_as_its_style_says(style, holds):
    row = chords("C Am F G")
    for chord, voicing in zip(row, voice_path(row, style.voices or 3, 62, style)):
        assert holds(voicing, chord), (style, chord, voicing)


@pytest.mark.parametrize(("part", "value", "count", "lowest"), [
    ("voices", "2", 2, None), ("voices", "5", 5, None), ("octave_below", "yes", 4, -12), ("double", "top an octave up", 4, 0), ("omit", "third", 3, None), ("pair", "root and third", 2, None),
])  # fmt: skip
def test_a_layer_plays_its_voicing(part, value, count, lowest):
    def played(song):
        table = layer_events(song, timeline(song).spans[1], song.layer_by_id[P]).table
        return sorted(table[table[:, START] == 0][:, PITCH].tolist())

    found = played(done(SONG, "set_voicing", layer_id=P, part=part, value=value))
    assert len(found) == count and found != played(SONG)
    assert lowest is None or found[0] - played(SONG)[0] == lowest


@pytest.mark.parametrize("quality", QUALITIES)
def test_clear_voicings_have_no_clash_in_any_key_inversion_or_number_of_voices(quality):
    """No minor ninth at all, no semitone below C3, in every key; what there is of mud is no more than without."""
    for root in range(12):
        chord = Chord(root, quality)
        for voices, inversion, centre in product((3, 4, 5), INVERSIONS, (52, 62, 74)):
            style = Voicing(inversion=inversion)
            plain, clear = (voice_path((chord,), voices, centre, s)[0] for s in (style, replace(style, clear=True)))
            gaps = [(b - a, a) for i, a in enumerate(sorted(clear)) for b in sorted(clear)[i + 1 :]]
            clashes = [(d, a) for d, a in gaps if d == 13 or (d == 1 and a < CLOSE_FROM)]
            assert not clashes or unclear(clear, chord) <= unclear(plain, chord), (chord, clear)
            assert len(muddy(clear)) <= len(muddy(plain)) or unclear(clear, chord) < unclear(plain, chord)
            if len(chord.tones) <= 4 and inversion == "least motion":
                assert not clashes, (chord, clear)


@pytest.mark.parametrize(("pair", "chord", "classes"), [
    ("root and fifth", "C", {0, 7}), ("root and third", "Am", {9, 0}), ("root and seventh", "Dm7", {2, 0}), ("third and seventh", "G7", {11, 5}),
    ("fifth and ninth", "Cadd9", {7, 2}), ("root and fifth", "Bdim", {11, 5}), ("third and seventh", "F", {9, 0}), ("fifth and ninth", "C", {7, 0}),
])  # fmt: skip
def test_two_notes_are_the_ones_that_were_chosen(pair, chord, classes):
    found = voice_path((parse_chord(chord),), 2, 62, Voicing(voices=2, pair=pair))[0]
    assert len(found) == 2 and {p % 12 for p in found} == classes


def test_what_a_voicing_lacks_doubles_and_moves_is_read():
    found = read_voicing(parse_chord("Am7"), (45, 57, 60, 64), (43, 55, 60, 64))
    assert (found.missing, found.doubled, found.motion, found.third) == ((10,), (0,), (2, 2, 0, 0), True)
    assert not read_voicing(parse_chord("G"), (43, 50)).third
    assert muddy((36, 40, 43)) and not muddy((48, 55, 64))


# held notes -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("note", "chord", "role", "clash"), [
    (9, "Dm", "fifth", False), (9, "Bb", "major seventh", False), (9, "F", "major third", False), (9, "C", "sixth", False), (9, "C7", "thirteenth", False),
    (2, "Bb", "major third", False), (2, "C", "ninth", False), (5, "C", "fourth", True), (5, "C7", "eleventh", True), (5, "Dm7", "minor third", False),
    (8, "G7", "flat ninth", True), (3, "C7", "sharp ninth", False), (3, "C", "sharp ninth", True), (6, "Csus4", "sharp eleventh", True), (8, "Caug", "augmented fifth", False),
    (0, "D7", "minor seventh", False), (6, "C", "sharp eleventh", False), (8, "Am", "major seventh", False), (11, "Cm7", "major seventh", True), (10, "C", "minor seventh", False), (8, "C", "flat thirteenth", True),
])  # fmt: skip
def test_a_held_note_has_a_role_over_every_chord(note, chord, role, clash):
    found = parse_chord(chord)
    assert (role_of(note, found), clashes(note, found)) == (role, clash)


def test_a_clash_says_where_it_resolves():
    row, key = chords("Dm Bb F C", "D minor"), parse_key("D minor")
    table = held_over([9, 5], row, key)
    assert [[cell.role for cell in cells] for cells in table] == [
        ["fifth", "minor third"],
        ["major seventh", "fifth"],
        ["major third", "root"],
        ["sixth", "fourth"],
    ]
    assert not table[3][0].clash and table[3][1].clash
    assert "down to E" in table[3][1].resolves and "rests on Dm as its minor third" in table[3][1].resolves
    best = holds_throughout(chords("C Am F", "C major"), parse_key("C major"))[0]
    assert (best.note, best.clashes, best.tones) == ("C", 0, 3)


# the key ----------------------------------------------------------------------------------------------------------

NEXT = {
    "major": {"I": "IV V vi ii iii", "ii": "V vii° IV", "iii": "vi IV", "IV": "V I ii", "V": "I vi IV", "vi": "IV ii V iii", "vii°": "I iii"},
    "minor": {"i": "iv V VI III VII v", "ii°": "V v", "III": "VI iv VII", "iv": "V i VII", "V": "i VI", "v": "i VI iv", "VI": "III iv VII ii°", "VII": "III i VI"},
}  # fmt: skip
BORROWED = {"major": "iv bVII bVI bIII V7/ii V7/vi V7/V ii°", "minor": "IV bII I V7/iv V7/III ii"}
ENDINGS = {"major": ("ii IV vi", "V7 I"), "minor": ("ii° iv VI", "V7 i")}
ALL_KEYS = [Key(f, mode) for mode, low in (("major", -6), ("minor", -3)) for f in range(low, low + 12)]


def progression(key, rng, at_home):
    """A row of six to twelve chords from home, one or two of them borrowed, to a full or a half cadence."""
    row = ["i" if key.mode == "minor" else "I"]
    while len(row) < rng.choice((4, 6, 8, 10)):
        row.append(rng.choice(NEXT[key.mode][row[-1]].split()))
    for _ in range(rng.choice((1, 2))):
        row[rng.randrange(1, len(row))] = rng.choice(BORROWED[key.mode].split())
    before, end = ENDINGS[key.mode]
    row += end.split() if at_home else [rng.choice(before.split()), "V"]
    return tuple(parse_chord(word, key) for word in row)


def notes_of(row, rng):
    """The row as notes: voiced chords over a bass, a bar each or two, as (start, end, pitch)."""
    found, at = [], 0
    for chord, voicing in zip(row, voice_path(row, 4, 62)):
        length = rng.choice((1, 1, 1, 2)) * BAR
        found += [(at, at + length, p) for p in (36 + chord.bass_class, *voicing)]
        at += length
    return np.array(found)


def test_the_key_of_480_progressions_with_borrowed_chords_is_found():
    rng, right = random.Random(11), 0
    for key in ALL_KEYS:
        for i in range(20):
            found = find_key(slices_of_notes(notes_of(progression(key, rng, at_home=i % 2 == 0), rng)))
            right += (found.best.tonic_class, found.best.mode) == (key.tonic_class, key.mode)
    assert right / 480 >= 0.95


def test_two_keys_are_given_with_their_margin_and_nothing_for_silence():
    found = find_key(slices_of_chords([(c, 1.0) for c in chords("Am F C G")]))
    assert {found.best, found.second} == {parse_key("A minor"), parse_key("C major")} and found.margin >= 0
    assert find_key([]) is None and find_key(slices_of_notes(np.zeros((0, 3), int))) is None


@pytest.mark.parametrize(("label", "says"), [("C major", ""), ("A minor", "relative"), ("Eb major", "contradicts")])
def test_a_label_that_contradicts_the_content_is_pointed_out(label, says):
    song = done(SONG, "set_chords", chords="C | F | G | C")
    labelled = replace(song, key=parse_key(label))
    noted = label_note(labelled.key, key_reading(labelled))
    assert says in noted and bool(noted) == bool(says)


def test_a_key_change_says_what_every_layer_must_do():
    song = done(SONG, "tune_drum", layer_id=K, note="C")
    tasks = {t.layer.id: t for t in key_change_plan(song, [song.section_by_id[C]], 2)}
    assert "from C1 to D1" in tasks[K].said or "from C2 to D2" in tasks[K].said
    assert "follows the chords" in tasks[B].said and not tasks[B].by_hand
    assert (
        "try it an octave lower" in {t.layer.id: t for t in key_change_plan(song, [song.section_by_id[C]], 22)}[P].said
    )
    after = done(song, "change_key_at", section_id=C, semitones=2)
    kept, tuned = dict(song.layer_by_id[K].settings)["hz"], after.section_by_id[C].treatments[0]
    assert tuned.lane == "sound.hz" and tuned.value == pytest.approx(kept * 2 ** (2 / 12), rel=1e-4)
    untuned = done(SONG, "change_key_at", section_id=C, semitones=2)
    assert not untuned.section_by_id[C].treatments, "a drum that is not tuned stays"


@given(st.integers(-12, 12))
def test_a_tuned_drum_keeps_its_size(semitones):
    song = done(done(SONG, "tune_drum", layer_id=K), "change_key_at", section_id=C, semitones=semitones)
    kept = dict(song.layer_by_id[K].settings)["hz"]
    for treatment in song.section_by_id[C].treatments:
        assert 2 ** (-5.1 / 12) <= treatment.value / kept <= 2 ** (6.1 / 12)
