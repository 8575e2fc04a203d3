import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.theory.chords import QUALITIES, Chord, parse_chord, roman
from escalera.core.theory.key_finding import find_key
from escalera.core.theory.keys import MODES, parse_key, transpose_key
from escalera.core.theory.pitch import fifths_to_name, name_to_fifths, pitch_name
from escalera.core.theory.voicings import voice_path
from escalera.errors import InputError


@given(st.integers(-15, 19))
def test_a_spelled_name_reads_back(fifths):
    assert name_to_fifths(fifths_to_name(fifths)) == name_to_fifths(fifths_to_name(fifths, ascii_only=True)) == fifths


@pytest.mark.parametrize(
    ("key", "pitch", "name"),
    [
        ("Eb major", 63, "E♭4"),
        ("E major", 63, "D♯4"),
        ("C major", 60, "C4"),
        ("F minor", 68, "A♭4"),
        ("C# major", 72, "B♯4"),
    ],
)
def test_pitches_are_spelled_in_the_key(key, pitch, name):
    assert pitch_name(pitch, parse_key(key).centre_fifths) == name


@pytest.mark.parametrize(
    ("text", "signature"), [("Eb major", -3), ("f# minor", 3), ("Dm", -1), ("D dorian", 0), ("C", 0)]
)
def test_keys_are_read(text, signature):
    assert parse_key(text).signature == signature


@pytest.mark.parametrize(
    ("text", "says"), [("H major", "is not a key"), ("C blue", "the modes are"), ("G# major", "Ab major")]
)
def test_a_key_that_cannot_be_written_says_what_can(text, says):
    with pytest.raises(InputError, match=says):
        parse_key(text)


@given(st.sampled_from(["C major", "F# minor", "Eb major", "A dorian"]), st.integers(-11, 11))
def test_transposing_a_key_up_and_down_is_the_same_pitch_class(text, shift):
    key = parse_key(text)
    assert transpose_key(transpose_key(key, shift), -shift).tonic_class == key.tonic_class


@given(st.integers(-6, 6), st.sampled_from(list(QUALITIES)), st.none() | st.integers(-5, 6))
def test_chord_names_read_back(root, quality, bass):
    chord = Chord(root, quality, bass)
    assert parse_chord(chord.name()) == parse_chord(chord.name(ascii_only=True)) == chord


@pytest.mark.parametrize(("text", "key", "name", "numeral"), [
    ("vi", "Eb major", "Cm", "vi"), ("bVII", "C major", "B♭", "♭VII"), ("V7", "A minor", "E7", "V7"), ("ii", "C major", "Dm", "ii"), ("VI", "F# minor", "D", "VI"),
])  # fmt: skip
def test_roman_numerals_are_read_and_written(text, key, name, numeral):
    chord = parse_chord(text, parse_key(key))
    assert (chord.name(), roman(chord, parse_key(key))) == (name, numeral)


def test_an_unknown_ending_is_named():
    with pytest.raises(InputError, match="“mblue”"):
        parse_chord("Cmblue")


def test_voices_move_little_and_hold_every_tone():
    chords = tuple(parse_chord(name) for name in ("C", "Am", "F", "G7"))
    path = voice_path(chords, 4, 62)
    for chord, voicing in zip(chords, path):
        assert {p % 12 for p in voicing} == chord.classes
    assert max(abs(a - b) for x, y in zip(path, path[1:]) for a, b in zip(x, y)) <= 5


@pytest.mark.parametrize("mode", ["major", "minor"])
@pytest.mark.parametrize("tonic", range(12))
def test_the_key_of_a_scale_with_strong_tonic_is_found(mode, tonic):
    weights = np.zeros(12)
    for step, strength in zip(MODES[mode][0], (3, 1, 2, 1, 2, 1, 0.5)):
        weights[(tonic + step) % 12] = strength
    best, second, margin = find_key(weights)
    assert (best.tonic_class, best.mode) == (tonic, mode) and margin > 0
