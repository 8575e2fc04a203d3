"""Words: syllables, stresses, rhymes; on a melody; against the beat; moments that move with their word."""

import pytest

from escalera.core.edits import EDITS
from escalera.core.joins import played
from escalera.core.reading.timeline import timeline
from escalera.core.voices.word_places import stresses_beside, words_laid
from escalera.core.words.lyric_lines import compared_lines, counted_words, read_lyric, times_sung
from escalera.core.words.pronouncing import phones_of
from escalera.core.words.spoken_words import TABLE, counted_by_rule, read_word
from escalera.errors import EditError
from tests.singing import GUIDED, TIED, TUNE, C, V, laid_words, with_guide
from tests.songs import small_song

# words of our own songs: syllables, stresses
SPOKEN = {
    "lan-terns": "10", "out": "1", "sea": "1", "har-bour": "10", "car-ry": "10", "si-lent": "10", "be-cause": "01", "to-night": "01", "ev-er": "10", "wa-ter": "10",
    "re-mem-ber": "010", "yes-ter-day": "102", "a-way": "01", "beau-ti-ful": "100", "riv-er": "10", "through": "1", "danced": "1", "want-ed": "10", "walked": "1", "hal-le-lu-jah": "2010",
    "the": "0", "my": "0", "win-dow": "10", "an-oth-er": "010", "i-de-a": "010", "cre-at-ed": "010", "fade": "1", "ta-ble": "10", "lone-ly": "10", "lov-in'": "10",
}  # fmt: skip
# spelled in no dictionary: counted by rule
COINED = {
    "glimmerstone": 3,
    "saltmoon": 2,
    "dreamwater": 3,
    "lanternlight": 3,
    "hushaby": 3,
    "nightward": 2,
    "moonborn": 2,
    "silversong": 3,
    "lampling": 2,
    "duskening": 3,
}


@pytest.mark.parametrize("divided", SPOKEN)
def test_a_word_is_divided_and_stressed_as_it_is_sung(divided):
    word = read_word(divided.replace("-", ""))
    assert (len(word.syllables), word.stress) == (divided.count("-") + 1, SPOKEN[divided])
    assert "".join(word.syllables) == divided.replace("-", "")


def test_coined_words_are_counted_by_rule_and_a_person_has_the_last_word():
    assert {w: counted_by_rule(w) for w in COINED} == COINED
    assert all(phones_of(w) == "" for w in COINED)
    assert read_word("evening").source == TABLE
    assert read_word("Evening", own={"evening": "e-ven-ING"}).syllables == ("E", "ven", "ing")
    for text, language, count in (
        ("Straßenlaterne", "de", 5),
        ("corazón", "es", 3),
        ("夜空", "en", 2),
        ("مرحبا", "en", 1),
    ):
        assert len(read_word(text, language).syllables) == count


def test_lines_rhyme_by_sound_and_a_word_twice_is_none():
    lines = read_lyric(
        "home again to sea\ncarry you to me\n\n🎉 by the door\nno more\nthe door\nthough it is rough\nthat's enough 🎶"
    )
    assert [line.rhyme for line in lines] == ["A", "A", "B", "B", "B", "C", "C"]
    assert [line.syllables for line in lines] == [5, 5, 3, 2, 2, 4, 3]
    assert read_lyric("sea\nsea")[0].rhyme == "" and read_lyric("🎉 … 12") == ()
    assert times_sung("The Door", lines) == 2 and ("door", 2) in counted_words(lines)
    assert [(c.line, c.ours, c.theirs) for c in compared_lines(lines[:2], lines[1:3])] == [(1, 5, 3)]


def test_words_lie_on_the_melody_a_line_a_breath():
    starts = [t for t, _, _ in TUNE]
    assert laid_words(GUIDED)[:6] == list(zip(["home", "by", "sea", "car", "ry", "me"], starts))
    held = EDITS["set_lyric"](V, "home_ by\ncarry me").apply(GUIDED)
    assert laid_words(held)[:3] == [("home", 0), ("by", 1920), ("car", 3840)]
    more = EDITS["set_lyric"](V, "home by the silver sea\n" + "carry me\n" * 7).apply(GUIDED)
    assert [p.over for p in words_laid(more, timeline(more).span_of(V)).lines] == [3] + 7 * [0]
    long = EDITS["set_lyric"](V, "line\n" * 40).apply(GUIDED)
    laid = words_laid(long, timeline(long).span_of(V))
    assert (len(laid.lines), len(laid.unplaced)) == (24, 16), "lines longer than the melody are kept and said"
    bare = EDITS["set_lyric"](C, "la").apply(small_song())
    assert words_laid(bare, timeline(bare).span_of(C)).unplaced[0].text == "la", "no melody, nothing lost"


def test_a_strong_beat_on_a_weak_syllable_is_named():
    off = EDITS["set_lyric"](V, "out on the\nremember").apply(GUIDED)  # “mem” comes after the one
    assert [s.word for s in stresses_beside(off, timeline(off).span_of(V))] == ["remember"]
    assert not stresses_beside(GUIDED, timeline(GUIDED).span_of(V))


def test_a_moment_moves_with_its_word():
    def silent_from(song):
        kick = next(x.id for x in song.layers if x.sound.is_kick)
        return next(p.end_ticks for p in played(song).section_by_id[V].placements if p.layer_id == kick)

    assert silent_from(TIED) == 1920, "everything stops on “sea”"
    later = EDITS["set_lyric"](V, "home by the sea\ncarry me").apply(TIED)
    assert later.section_by_id[V].moments[0].word == 3
    assert silent_from(later) == dict(laid_words(later))["sea"]
    gone = EDITS["set_lyric"](V, "home").apply(TIED)
    assert (
        gone.section_by_id[V].moments and played(gone).section_by_id[V].placements == gone.section_by_id[V].placements
    )


def test_nonsense_is_replaced_word_by_word_and_versions_stay():
    song = EDITS["fill_nonsense"](V).apply(with_guide(small_song()))
    song = EDITS["replace_word"](V, 1, "tide").apply(song)
    line = read_lyric(song.section_by_id[V].lyrics[0].lines)[0]
    assert [w.text for w in line.words] == ["la", "tide", "la"] and line.nonsense == 2
    with pytest.raises(EditError, match="No melody sings"):
        EDITS["fill_nonsense"](C).apply(
            EDITS["lift"](C, next(x.id for x in song.layers if x.name == "Guide voice")).apply(song)
        )
