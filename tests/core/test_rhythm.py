import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.rhythm.notation import parse_pattern, write_pattern
from escalera.core.rhythm.pattern import Pattern
from escalera.core.rhythm.pattern_variations import backwards, double_time, thin
from escalera.errors import EditError
from escalera.services.library import patterns

rows = st.lists(
    st.tuples(
        st.integers(0, 3839),
        st.integers(1, 4000),
        st.integers(0, 3),
        st.integers(0, 100),
        st.integers(-2, 2),
        st.integers(1, 127),
    ),
    max_size=20,
)


@given(rows)
def test_a_pattern_is_its_content(notes):
    pattern = Pattern(3840, notes)
    assert Pattern.from_bytes(pattern.to_bytes()) == pattern == Pattern(3840, list(reversed(notes)))
    assert hash(pattern) == hash(Pattern(3840, notes)) and pattern != Pattern(3841, notes)


@given(rows)
def test_text_reads_back_to_the_same_notes(notes):
    pattern = Pattern(3840, notes)
    assert parse_pattern(write_pattern(pattern, False), 4, False, 0) == pattern


def test_every_drum_pattern_of_the_library_reads_back():
    for row in patterns().values():
        if row.drum:
            note = int(row.pattern.rows[0, 3])
            assert (
                parse_pattern(write_pattern(row.pattern, True), row.pattern.length_ticks / 960, True, note)
                == row.pattern
            )


@pytest.mark.parametrize(
    ("text", "drum", "says"),
    [
        ("0 1 x", True, "Hit 3, “x”"),
        ("0:1", False, "Note 1"),
        ("0:1:0:0:0:0", False, "Note 1"),
        ("9", True, "starts outside"),
        ("0:300", True, "velocity"),
    ],
)
def test_text_that_cannot_be_read_is_pointed_at(text, drum, says):
    with pytest.raises(EditError, match=says):
        parse_pattern(text, 4, drum, 36)


@given(rows.filter(len))
def test_variations_keep_what_they_promise(notes):
    pattern = Pattern(3840, notes)
    onsets = len(set(pattern.start.tolist()))
    assert len(set(thin(pattern, 0.5).start.tolist())) == max(1, round(onsets * 0.5))
    assert double_time(pattern).length_ticks == 1920 and len(double_time(pattern)) == len(pattern)
    assert sorted(backwards(backwards(pattern)).to_list()) == sorted(pattern.to_list())
