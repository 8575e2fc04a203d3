"""Theory against published tables and laws: spelling, keys, chords, where they come from, what leads on."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.theory.chords import QUALITIES, Chord, parse_chord, roman
from escalera.core.theory.continuations import leads_on, passing, pivots
from escalera.core.theory.keys import MODES, Key, parse_key, transpose_key
from escalera.core.theory.mode_change import in_key
from escalera.core.theory.naming import inversion, name_chord
from escalera.core.theory.origin import origin, triads
from escalera.core.theory.pitch import fifths_to_name, name_to_fifths
from escalera.errors import ChordError, InputError

KEYS = [Key(f, mode) for mode, low, high in (("major", -6, 5), ("minor", -3, 8)) for f in range(low, high + 1)]


@given(st.integers(-15, 19))
def test_a_spelled_name_reads_back(fifths):
    assert name_to_fifths(fifths_to_name(fifths)) == name_to_fifths(fifths_to_name(fifths, ascii_only=True)) == fifths


@pytest.mark.parametrize(("key", "pitch", "name"), [
    ("Eb major", 63, "E♭4"), ("E major", 63, "D♯4"), ("C major", 60, "C4"), ("F minor", 68, "A♭4"), ("C# major", 72, "B♯4"),
    ("D minor", 61, "C♯4"), ("Gb major", 71, "C♭5"), ("A harmonic minor", 68, "G♯4"), ("F lydian", 71, "B4"), ("Gb major", 62, "D4"), ("C# major", 74, "D5"), ("E phrygian dominant", 68, "G♯4"),
])  # fmt: skip
def test_pitches_are_spelled_in_the_key(key, pitch, name):
    assert parse_key(key).pitch_name(pitch) == name


# the scales as textbooks print them
@pytest.mark.parametrize(("key", "notes"), [
    ("C major", "C D E F G A B"), ("D dorian", "D E F G A B C"), ("E phrygian", "E F G A B C D"), ("F lydian", "F G A B C D E"),
    ("G mixolydian", "G A B C D E F"), ("A minor", "A B C D E F G"), ("B locrian", "B C D E F G A"), ("A harmonic minor", "A B C D E F G♯"),
    ("A melodic minor", "A B C D E F♯ G♯"), ("E phrygian dominant", "E F G♯ A B C D"), ("G# altered", "G♯ A B C D E F♯"),
    ("D lydian dominant", "D E F♯ G♯ A B C"), ("F# minor", "F♯ G♯ A B C♯ D E"), ("Eb minor", "E♭ F G♭ A♭ B♭ C♭ D♭"),
])  # fmt: skip
def test_scales_are_the_textbooks(key, notes):
    assert " ".join(fifths_to_name(f) for f in parse_key(key).scale_fifths) == notes


@pytest.mark.parametrize("mode", MODES)
@pytest.mark.parametrize("tonic", range(-4, 5))
def test_every_mode_has_a_letter_a_degree(mode, tonic):
    key = Key(tonic, mode)
    assert len({fifths_to_name(f)[0] for f in key.scale_fifths}) == 7 == len(key.classes)


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


@given(st.sampled_from(KEYS), st.integers(-11, 11))
def test_transposing_a_key_up_and_down_is_the_same_pitch_class(key, shift):
    assert transpose_key(transpose_key(key, shift), -shift).tonic_class == key.tonic_class


@given(st.integers(-6, 6), st.sampled_from(list(QUALITIES)), st.none() | st.integers(-5, 6), st.integers(-7, 7))
def test_chord_names_read_back_and_moving_back_is_identity(root, quality, bass, moved):
    chord = Chord(root, quality, bass)
    assert parse_chord(chord.name()) == parse_chord(chord.name(ascii_only=True)) == chord
    assert chord.moved(moved).moved(-moved) == chord


# name: its tones as lead sheets spell them
@pytest.mark.parametrize(("name", "notes"), [
    ("Eb", "E♭ G B♭"), ("F#m", "F♯ A C♯"), ("Bdim7", "B D F A♭"), ("Caug", "C E G♯"), ("Gsus4", "G C D"), ("D7", "D F♯ A C"),
    ("Abmaj7", "A♭ C E♭ G"), ("Cm7b5", "C E♭ G♭ B♭"), ("Am6", "A C E F♯"), ("C69", "C E G A D"), ("E7#9", "E G♯ B D F♯♯"),
    ("Bb13", "B♭ D A♭ C G"), ("D/F#", "D F♯ A"), ("C/Bb", "B♭ C E G"), ("G5", "G D"), ("Dbadd9", "D♭ F A♭ E♭"), ("F7#5", "F A C♯ E♭"),
])  # fmt: skip
def test_chord_tones_are_spelled_on_the_letters_of_the_name(name, notes):
    assert " ".join(parse_chord(name).note_names) == notes


@pytest.mark.parametrize(("text", "key", "name", "numeral"), [
    ("vi", "Eb major", "Cm", "vi"), ("bVII", "C major", "B♭", "♭VII"), ("V7", "A minor", "E7", "V7"), ("ii", "C major", "Dm", "ii"), ("VI", "F# minor", "D", "VI"),
    ("viiø7", "Bb major", "Am7b5", "viiø7"), ("V7/ii", "C major", "A7", "VI7"), ("V of vi", "F major", "A", "III"), ("vii°", "D minor", "C♯dim", "vii°"),
    ("IV", "D dorian", "G", "IV"), ("bII", "E major", "F", "♭II"), ("i", "C melodic minor", "Cm", "i"),
])  # fmt: skip
def test_roman_numerals_are_read_and_written(text, key, name, numeral):
    chord = parse_chord(text, parse_key(key))
    assert (chord.name(), roman(chord, parse_key(key))) == (name, numeral)


@given(
    st.sampled_from(KEYS),
    st.sampled_from(("", "b", "#", "bb")),
    st.sampled_from(["I", "II", "iii", "IV", "V7", "vi", "VII", "vii°", "V7/bII", "bVI/bVI", "IV/bV", "#iv°/VII"]),
)
def test_what_a_numeral_means_in_a_key_survives_as_a_name_and_as_a_numeral(key, sign, numeral):
    chord = parse_chord(sign + numeral, key)
    assert parse_chord(chord.name(ascii_only=True)) == parse_chord(chord.name()) == chord
    assert parse_chord(roman(chord, key), key) == chord


@pytest.mark.parametrize(("text", "says", "offers"), [
    ("Cmblue", "“mblue” is not known", ("Cm", "Cm6", "Cm7")), ("H7", "Write B7 or Bb7", ("B7", "Bb7")), ("V of nothing", "“nothing” is not a degree", ("V/ii", "V/vi")),
    ("C/H", "after the slash is not a note", ()), ("x", "is not a chord", ()),
])  # fmt: skip
def test_a_chord_that_cannot_be_read_is_named_with_what_could_be_meant(text, says, offers):
    with pytest.raises(ChordError, match=says) as caught:
        parse_chord(text, parse_key("C major"))
    assert caught.value.offers == offers


def _positions(chord):
    """The chord's pitches in root position and every inversion."""
    pitches = sorted(48 + chord.root_class + t for t in chord.tones)
    for _ in pitches:
        yield tuple(pitches)
        pitches = [*pitches[1:], pitches[0] + 12 * -(-(pitches[-1] - pitches[0]) // 12)]


# the three symmetrical names stand for several chords with the same tones
SYMMETRICAL = {"aug", "dim7", "7b5"}


@pytest.mark.parametrize("quality", QUALITIES)
def test_every_chord_in_every_inversion_and_key_is_among_the_first_three(quality):
    for key in KEYS:
        for degree in range(7):
            chord = Chord(key.scale_fifths[degree], quality)
            for number, pitches in enumerate(_positions(chord)):
                found = name_chord(pitches, key)[: 4 if quality == "dim7" else 3]
                assert any(r.chord.root_class == chord.root_class and r.chord.quality == quality for r in found), (
                    chord,
                    pitches,
                    [r.name for r in found],
                )
                if number == 0 and quality in ("", "m", "7", "maj7", "dim", "sus4", "5", "9", "m9", "maj9", "add9"):
                    assert found[0].chord.quality == quality and inversion(found[0].chord) == 0


@pytest.mark.parametrize(("pitches", "key", "first", "remark"), [
    ((43, 50), "C major", "G5", "without third: neither major nor minor"), ((51, 55, 58), "C minor", "E♭", ""), ((51, 55, 58), "B major", "D♯", ""),
    ((54, 57, 62), "G major", "D/F♯", ""), ((46, 60, 64, 67), "F major", "C7/B♭", ""), ((48, 58, 64), "F major", "C7(no5)", "without fifth"),
    ((45, 53, 57, 60), "C major", "F/A", ""), ((60,), "C major", None, ""), ((60, 61, 62, 63, 64, 65), "C major", None, ""),
])  # fmt: skip
def test_notes_are_named_as_the_key_spells_them(pitches, key, first, remark):
    found = name_chord(pitches, parse_key(key))
    assert (found[0].name, found[0].remark) == (first, remark) if first else not found


@pytest.mark.parametrize(("key", "three"), [
    ("C major", "C Dm Em F G Am Bdim"), ("A minor", "Am Bdim C Dm Em F G"),
    ("A harmonic minor", "Am Bdim Caug Dm E F G♯dim"), ("D dorian", "Dm Em F G Am Bdim C"),
])  # fmt: skip
def test_the_chords_on_the_degrees(key, three):
    assert " ".join(map(str, triads(parse_key(key)))) == three


# chord in C major or A minor: where it comes from
@pytest.mark.parametrize(("name", "key", "said"), [
    ("F", "C major", "in C major"), ("Fm", "C major", "from C minor"), ("Bb", "C major", "from C minor"), ("Db", "C major", "from C phrygian"),
    ("D7", "C major", "V7 of V, leads to G"), ("E", "C major", "V of vi, leads to Am"), ("C7", "C major", "V7 of IV, leads to F"), ("Ebm", "C major", "outside C major"),
    ("E7", "A minor", "with the raised seventh"), ("D", "A minor", "V of VII, leads to G"), ("A", "A minor", "V of iv, leads to Dm"), ("Bb", "A minor", "from A phrygian"),
])  # fmt: skip
def test_a_chord_is_named_by_where_it_comes_from(name, key, said):
    assert said in origin(parse_chord(name), parse_key(key)).said


@pytest.mark.parametrize(
    ("before", "key", "first"),
    [("G7", "C major", "C"), ("E7", "A minor", "Am"), ("Dm", "C major", "G7"), (None, "F minor", "Fm")],
)
def test_what_leads_on_best_is_what_the_textbooks_say(before, key, first):
    found = leads_on(parse_chord(before) if before else None, parse_key(key))
    assert first in [str(lead.chord) for lead in found[:2]]
    assert len({lead.chord for lead in found}) == len(found) and all(lead.why and lead.said for lead in found)


@pytest.mark.parametrize(
    ("before", "after", "expected"), [("C", "Am", "G/B"), ("C", "Dm", "C♯dim"), ("Am", "F", "C/G"), ("F", "G", "D7")]
)
def test_a_chord_passes_between_two(before, after, expected):
    assert expected in [str(p.chord) for p in passing(parse_chord(before), parse_chord(after), parse_key("C major"))]


@pytest.mark.parametrize(
    ("old", "new", "shared"),
    [("C major", "G major", "Am Em C G"), ("C major", "D major", "Em G"), ("C major", "Db major", "")],
)
def test_keys_share_their_common_chords(old, new, shared):
    found = pivots(parse_key(old), parse_key(new))
    assert sorted(str(p.chord) for p in found) == sorted(shared.split())
    if found:
        assert found[0].there in ("ii", "IV", "vi")


@pytest.mark.parametrize(("chords", "old", "new", "found"), [
    ("C G Am F", "C major", "A minor", "Am E F Dm"), ("C G Am F", "C major", "D major", "D A Bm G"), ("Am F C G", "A minor", "A major", "A F♯m C♯m G♯dim"),
    ("Cmaj7 Dm7 G7 Em7", "C major", "C minor", "Cm7 Dm7b5 G7 E♭maj7"), ("Dm G Dm C", "D dorian", "D minor", "Dm Gm Dm C"), ("C Fm G/B", "C major", "C minor", "Cm Fm G/B"),
    ("C Bb F C", "C mixolydian", "C major", "C Bdim F C"),
])  # fmt: skip
def test_chords_keep_their_degrees_in_another_mode(chords, old, new, found):
    first, then = parse_key(old), parse_key(new)
    assert " ".join(str(in_key(parse_chord(c), first, then)) for c in chords.split()) == found
