"""What is said of a track that was read, what a person corrects in it, and a song built on its shape."""

from dataclasses import replace

import pytest
from hypothesis import given as over
from hypothesis import strategies as st

from escalera.core.document.codec import from_plain, to_plain
from escalera.core.study import changes, corrections, words
from escalera.core.study.building import chords_of, shape_of, target_of
from escalera.core.study.heard_track import Given, GivenSection, StudyReading
from escalera.core.study.nearer import SectionFigures, beside, largest, track_figures
from escalera.core.study.notebook import Notebook
from escalera.core.study.sounding import SIGNS, enters, sounding
from escalera.errors import EscaleraError
from tests.songs import small_song
from tests.study_readings import BARE, FULL, reading


@pytest.mark.parametrize("key", SIGNS)
def test_every_sign_is_heard_in_a_full_section_and_not_in_a_bare_one(key):
    found = reading()
    assert sounding(found, 1)[key] >= 1.0 and sounding(found, 0)[key] < 1.0


def test_new_gone_and_changed_are_told_with_figures():
    found = reading()
    into, out = changes.against(found, 1, 0), changes.against(found, 2, 1)
    assert "the kick" in into.new and "the kick" in out.gone and not into.gone and not out.new
    assert "+12.0 LU" in into.changed and "wider" in into.changed and "−12.0 LU" in out.changed
    assert any(c.startswith("90–250 Hz +48 dB") for c in into.changed)
    assert changes.against(found, 3, 1).none and into.energy == pytest.approx(4.0)


def test_the_form_tells_what_comes_once_in_threes_late_and_teased():
    parts = ((8, BARE, -1), (8, FULL, -1), (8, BARE, 0), (8, replace(BARE, width=0.5), -1), (8, BARE, 2))
    found = reading(parts)
    assert changes.once_only(found) == [1, 3] and changes.in_threes(found) == [[0, 2, 4]]
    assert [s.name for s in found.sections] == ["A1", "B", "A2", "C", "A3"]
    late = reading(((8, BARE, -1), (8, BARE, 0), (8, BARE, 1), (8, FULL, -1)))
    assert ("the kick", 3) in changes.held_back(late) and not changes.held_back(found)
    faint = reading(((8, replace(BARE, kicks=0.4), -1), (8, BARE, -1), (8, FULL, -1), (8, FULL, 2)))
    assert ("the kick", 0, 2) in changes.teased(faint) and not changes.teased(found)


def test_roles_are_guessed_by_energy_and_place():
    found = reading(
        (
            (4, BARE, -1),
            (8, replace(FULL, energy=5.0), -1),
            (8, FULL, -1),
            (8, replace(FULL, energy=5.0), 1),
            (8, FULL, 2),
            (4, BARE, -1),
        )
    )
    assert [s.role for s in found.sections] == ["intro", "verse", "chorus", "verse", "chorus", "outro"]


def test_words_of_the_field():
    found = reading()
    section = found.sections[1]
    swung = replace(section, off_beat=0.665, half_time=True)
    assert words.feel_said(swung) == "swung in triplets, half time: the backbeat lies on three"
    assert words.feel_said(replace(section, off_beat=0.5)) == "straight eighths" and words.feel_said(section) == ""
    assert words.numerals(found, 1) == ["i", "VI", "III", "VII"]
    assert words.tuning_said(-50.0) == "−50 cents, A at 427.5 Hz" and words.tuning_said(2.0) == "at A 440"
    assert words.fingered("Eb major", 1, 0) == "E major" and words.fingered("E major", 0, 2) == "D major"
    assert words.key_change_said(2) == "up a tone" and words.key_change_said(-3) == "down a minor third"
    late = reading(((8, BARE, -1), (8, FULL, -1)))
    mixed = replace(late, bars=(*late.bars[:3], *[FULL] * 5, *late.bars[8:]))
    assert enters(mixed, 0, "kick") == 3 and words.kick_said(mixed, 0) == "the kick enters in its bar 4"
    assert words.kick_said(late, 1) == "" and "bar 4: the low end comes in" in words.inner_parts(mixed, 0)
    assert words.places_said(found, 1) == "800–3k Hz 30% right"


# corrections ------------------------------------------------------------------------------------------------------------


def test_corrections_stand_in_seconds_and_go_on_from_the_reading():
    found, none = reading(), Given()
    assert corrections.tempo_times(found, none, 0.5).tempo_bpm == 60.0
    assert corrections.beat_shifted(found, none, 1).downbeat_s == found.beats_s[2]
    assert corrections.tapped(none, [0.0, 0.5, 1.0, 1.5, 2.0]).tempo_bpm == pytest.approx(120.0, abs=0.1)
    assert corrections.key_set(none, "e minor").key == "E minor"
    written = corrections.chords_written(found, none, 4, 8, "Dm | G7 Em")
    assert [c.chord for c in written.chords[:3]] == ["Dm", "G7", "Em"] and len(written.chords) == 12
    assert written.chords[0].start_s == found.bar_s(4) and written.chords[-1].end_s == found.bar_s(12)
    again = corrections.chords_written(found, written, 6, 2, "")
    assert [c for c in again.chords if found.bar_s(6) - 0.01 < c.start_s < found.bar_s(8) - 0.01] == []
    one = corrections.chord_set(found, none, found.beat_of_bar(2) + 1, "C7")
    assert [(c.start_s, c.chord) for c in one.chords] == [(found.bar_s(2), "C7")]
    split = corrections.section_split(found, none, 8)
    assert [round(s.start_s, 3) for s in split.sections] == [round(found.bar_s(b), 3) for b in (0, 4, 8, 12, 20)]
    assert split.sections[0] == GivenSection(found.bar_s(0))  # a guessed name stays open
    named = corrections.section_named(found, none, 1, "Refrain", "chorus")
    assert (named.sections[1].name, named.sections[1].role) == ("Refrain", "chorus")


WRONG = {
    "too fast": lambda r: corrections.tempo_times(r, Given(tempo_bpm=280.0), 2.0),
    "one tap": lambda r: corrections.tapped(Given(), [1.0]),
    "metre": lambda r: corrections.metre_set(r, Given(), 31),
    "no chord": lambda r: corrections.chord_set(r, Given(), 3, "H#"),
    "no bars there": lambda r: corrections.chords_written(r, Given(), 400, 4, "Am"),
    "no role": lambda r: corrections.section_named(r, Given(), 0, "x", "middle"),
    "first": lambda r: corrections.section_joined(r, Given(), 0),
    "past its neighbour": lambda r: corrections.section_moved(r, Given(), 1, 30),
    "begun already": lambda r: corrections.section_split(r, Given(), 4),
    "key": lambda r: corrections.key_set(Given(), "X flat"),
    "before it": lambda r: corrections.one_at(Given(), -3.0),
}  # fmt: skip


@pytest.mark.parametrize("what", WRONG)
def test_wrong_corrections_are_sentences(what):
    with pytest.raises(EscaleraError) as told:
        WRONG[what](reading())
    assert len(str(told.value)) > 20


STEPS = {
    "split": lambda found, kept, a, b: corrections.section_split(found, kept, a),
    "join": lambda found, kept, a, b: corrections.section_joined(found, kept, a % 6),
    "move": lambda found, kept, a, b: corrections.section_moved(found, kept, a % 6, b),
    "name": lambda found, kept, a, b: corrections.section_named(found, kept, a % 6, f"Part {b}", "verse"),
}


@over(
    st.lists(
        st.tuples(st.sampled_from(sorted(STEPS)), st.integers(0, 30), st.integers(0, 30)),
        max_size=12,
    )
)
def test_sections_stay_in_order_through_any_corrections(steps):
    found, kept = reading(), Given()
    for kind, a, b in steps:
        try:
            kept = STEPS[kind](found, kept, a, b)
        except EscaleraError:
            continue
        found = _as_given(found, kept)
    starts = [s.start_s for s in kept.sections]
    assert starts == sorted(set(starts)) and sum(s.bars for s in found.sections) == found.bar_count
    assert all(s.bars >= 1 for s in found.sections)


def _as_given(found: StudyReading, kept: Given) -> StudyReading:
    """The reading with its sections where a person set them, as it is read anew."""
    edges = [found.bar_at(g.start_s + 0.01) for g in kept.sections] + [found.bar_count]
    rows = [
        replace(found.sections[0], first_bar=a, bars=b - a, name=g.name, role=g.role)
        for g, a, b in zip(kept.sections, edges, edges[1:])
    ]
    return replace(found, sections=tuple(rows))


# building and comparing -------------------------------------------------------------------------------------------------


def test_a_song_on_its_shape_has_form_chords_and_course_and_nothing_else():
    found = reading()
    song = shape_of(found, "Shape")
    assert [(s.name, s.bars, s.role) for s in song.sections] == [
        ("A1", 4, "intro"),
        ("B1", 8, "chorus"),
        ("A2", 8, "verse"),
        ("B2", 8, "chorus"),
    ]
    assert (
        (song.tempo_bpm, str(song.metre), str(song.key)) == (120.0, "4/4", "A minor")
        and not song.layers
        and not song.samples
    )
    means = [s.target.mean for s in song.sections]
    assert means[1] == means[3] > means[0] == means[2] and min(means) >= 1.0 and max(means) <= 9.5
    assert [str(c) for _, c in song.sections[1].progression.changes] == ["Am", "F", "C", "G"]
    assert from_plain(to_plain(song, with_notes=True)) == song
    bare = shape_of(found, "Shape", with_chords=False)
    assert all(s.progression is None for s in bare.sections)


def test_a_changed_key_is_a_shift_with_the_chords_at_home():
    found = reading()
    rows = [
        replace(c, chord={"Am": "Bm", "F": "G", "C": "D", "G": "A"}[c.chord]) if c.beat >= found.beat_of_bar(20) else c
        for c in found.chords
    ]
    lifted = replace(found, chords=tuple(rows), sections=(*found.sections[:3], replace(found.sections[3], semitones=2)))
    made = shape_of(lifted, "Lift").sections[3]
    assert made.shift_semitones == 2 and [str(c) for _, c in made.progression.changes] == ["Am", "F", "C", "G"]
    assert [str(c) for _, c in chords_of(lifted, 3, at_home=False).changes] == ["Bm", "G", "D", "A"]


def test_a_course_that_rises_is_wanted_so():
    found = reading()
    rising = tuple(replace(FULL, energy=4.0 + 0.5 * i) for i in range(8))
    risen = replace(found, bars=(*found.bars[:4], *rising, *found.bars[12:]))
    target = target_of(risen, 1)
    assert target.end > target.start + 1.0 and target_of(found, 1).start == target_of(found, 1).end


def test_what_a_section_lacks_is_told_by_term_and_band():
    song, found = small_song(), reading()
    bare, full = track_figures(found, 0), track_figures(found, 1)
    rows = {r.name: r for r in beside(song, bare, full)}
    assert rows["drive"].lacks > 0 and rows["drive"].said.startswith("+") and rows["loudness"].lacks > 0
    assert sum(r.lacks for r in rows.values() if r.unit == "dB") != 0 and any(
        "drive" in x or "loudness" in x for x in largest(list(rows.values()))
    )
    same = beside(song, full, SectionFigures(full.terms, tuple(b + 6.0 for b in full.bands_db), full.energy))
    assert all(abs(r.lacks) < 1e-6 for r in same) and largest(same) == []


def test_notes_and_checklist():
    book = (
        Notebook()
        .with_note("A crash\non the one", "trick", 12.5)
        .with_instrument("Bass")
        .with_state(2, "built")
        .with_place(2, -0.5)
    )
    assert book.notes[0].at_s == 12.5 and (book.instruments[0].state, book.instruments[0].place) == ("built", -0.5)
    assert book.without(1).notes == () and book.without(2).instruments == ()
    for wrong in (
        lambda: book.with_note("  "), lambda: book.with_note("x", "rumour"), lambda: book.with_instrument("bass"),
        lambda: book.with_state(2, "sold"), lambda: book.with_place(2, 4.0), lambda: book.with_state(99, "built"),
    ):  # fmt: skip
        with pytest.raises(EscaleraError):
            wrong()
