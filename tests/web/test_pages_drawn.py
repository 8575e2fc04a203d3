"""Geometry of the harmony and groove pages: what stands where, and that it says what is so."""

import pytest

from escalera.core.edits import EDITS
from escalera.core.rhythm.beat import changes
from escalera.core.rhythm.spoken_beats import parse_spoken
from escalera.core.theory.keys import parse_key
from escalera.core.theory.origin import triads
from escalera.core.time.metre import Metre
from escalera.store.repository import Head
from escalera.web.groove_drawing import difference_line, groove_line
from escalera.web.groove_view import GrooveView
from escalera.web.harmony_drawing import circle
from escalera.web.harmony_view import HarmonyView
from tests.songs import ids, small_song

NAME = ids(small_song())
V, C, P, K = (NAME[n] for n in ("Verse", "Chorus", "Soft pad", "Round kick"))
COMMON = Metre()


def harmony(song, select=f"section:{V}", hear=""):
    return HarmonyView(Head(1, 1, False, False, song), select, hear)


def grooves(song, select=f"section:{V}:0:0:0", step=""):
    return GrooveView(Head(1, 1, False, False, song), select, step)


def test_the_strip_lies_to_scale_over_its_bars():
    song = EDITS["set_chords"]("Dm | Bb F C@4.5", V).apply(small_song())
    strip = harmony(song).strip
    assert sum(c.width for c in strip.columns) == pytest.approx(100, abs=0.01)
    assert [round(c.width, 2) for c in strip.columns[:4]] == [12.5, 4.17, 6.77, 1.56]
    assert [n for _, n in strip.bars] == list(range(1, 9)) and len(strip.voices) == 3
    assert 8 * 40 <= strip.pixels <= 8 * 130
    assert all(
        len(v) == 2 * len(strip.columns) and all(0 <= x <= 100 and 60 < y < strip.height for x, y in v)
        for v in strip.voices
    )


def test_a_chord_that_comes_early_begins_with_the_section_and_ends_the_one_before():
    song = EDITS["push_chords"](480).apply(small_song())
    verse, chorus = harmony(song).strip, harmony(song, f"section:{C}").strip
    assert verse.columns[-1].width == pytest.approx(100 / 64, abs=0.01) and str(verse.columns[-1].change.chord) == "C"
    assert chorus.columns[0].x == 0


def test_voicings_are_told_in_notes_tones_and_places():
    view = harmony(small_song(), f"section:{C}", str(P))
    first = view.voicings[0]
    assert view.spelled(first.chord, first.reading.pitches).split()[0][0] in "CEG" and view.bar_of(first.tick) == "9"
    assert (
        view.tones(first.chord, (0, 7)) == "root, fifth"
        and view.bar_of(9 * 960) == "11.2"
        and view.bar_of(-480) == "9 early"
    )
    assert [row.own for row in view.sections()] == [False, False] and view.fingered == parse_key("C major")
    capo = harmony(EDITS["set_tuning"](None, 2, 3).apply(small_song()))
    assert str(capo.fingered) == "B major", "two down and a capo at three: fingered a semitone lower"


@pytest.mark.parametrize("name", ["C major", "F# minor", "Bb dorian", "Eb minor"])
def test_the_circle_has_the_keys_signature_at_the_top_and_its_chords_marked(name):
    key = parse_key(name)
    wedges = circle(key)
    top = next(w for w in wedges if not w.small and abs(w.x - 150) < 1 and w.y < 60)
    assert len(wedges) == 24 and len({w.chord.root_class for w in wedges if not w.small}) == 12
    assert top.chord.root_class == (key.signature * 7) % 12
    owned = {(w.chord.root_class, w.chord.quality) for w in wedges if w.own}
    assert owned == {(c.root_class, c.quality) for c in triads(key) if c.quality in ("", "m")}
    assert [w.chord.root_class for w in wedges if w.home] == [key.tonic_class]


def test_the_groove_line_has_its_lanes_from_low_to_high_and_dots_by_velocity():
    played = parse_spoken("boom+ts ts ka+ts ts", COMMON)
    line = groove_line(played, ("crash",), 240)
    y = dict(line.lanes)
    assert y["kick"] > y["snare"] > y["closed hat"] > y["crash"] and len(line.steps) == 16
    assert [label for _, label, _ in line.beats] == ["1", "2", "3", "4"] and [bar for *_, bar in line.beats] == [
        True,
        False,
        False,
        False,
    ]
    sizes = {d.velocity: d.r for d in line.dots}
    assert sizes[100] > sizes[75] and all(0 <= d.x < 100 for d in line.dots)
    six = groove_line(parse_spoken("boom-ts-ts ka-ts-ts", Metre(6, 8)), (), 480)
    assert [round(x, 1) for x, *_ in six.beats] == [0, 50.0]


def test_small_lines_show_what_differs_and_what_is_shared():
    a, b = parse_spoken("boom ka boom ka", COMMON), parse_spoken("boom ka boom-boom ka+clap", COMMON)
    line = difference_line(a, b, changes(a, b))
    assert sorted(d.kind for d in line.dots) == ["", "", "", "", "more", "more"]
    back = difference_line(b, a, changes(b, a))
    assert sorted(d.kind for d in back.dots) == ["", "", "", "", "less", "less"]


def test_the_groove_view_reads_a_phrase_and_its_neighbours():
    song = EDITS["add_groove"]("Main", 3840, [[0, "kick", 100], [960, "snare", 100]], section_id=V).apply(small_song())
    view = grooves(song)
    assert (view.name, view.spoken, view.places()) == ("Main", "boom ka . .", ["Verse 2×"])
    assert [r.name for r in view.phrases(song.sections[0])] == ["Main", "Main"] and [
        r.name for r in view.phrases(song.sections[1])
    ] == ["drums", "drums"]
    chorus = grooves(song, f"section:{C}:0:1:0")
    assert (
        chorus.name == "The beat of Chorus"
        and chorus.against_neighbour() == ("Verse", 4)
        and grooves(song).against_neighbour() is None
    )
    assert (
        chorus.meeting().kicks == 16
        and chorus.step == "1/16"
        and grooves(song, step="1/8 triplet").step == "1/8 triplet"
    )
    assert grooves(song, "section:999:0:44:0").phrase == 1, "what is not there is taken as the last that is"
    assert view.place(960) == "2" and len(view.near) == 4
