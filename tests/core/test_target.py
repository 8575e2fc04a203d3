"""The energy wanted over a section, with and without turns."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.target import TARGET_SHAPES, Target, Turn, in_row, through

NOTCH = Target(8, 8, turns=(Turn(0.25, 8), Turn(0.25, 3), Turn(0.5, 3), Turn(0.5, 8)))
energies = st.floats(0, 10).map(lambda e: round(e, 2))
turned = st.builds(
    Target,
    energies,
    energies,
    st.just("line"),
    st.lists(st.builds(Turn, st.sampled_from([0.2, 0.4, 0.6, 0.8]), energies), max_size=5).map(tuple),
)


@pytest.mark.parametrize("share, before, wanted", [(0.1, False, 8), (0.25, True, 8), (0.25, False, 3), (0.5, True, 3), (0.5, False, 8), (1, False, 8)])  # fmt: skip
def test_a_notch_is_there_for_its_phrase_only(share, before, wanted):
    assert NOTCH.at(share, before) == wanted


def test_means_follow_the_line():
    assert NOTCH.mean == pytest.approx(6.75) and NOTCH.mean_of(0, 0.5) == pytest.approx(5.5)
    for shape in TARGET_SHAPES:
        target = Target(2, 8, shape)
        grid = [target.at((i + 0.5) / 2000) for i in range(2000)]
        assert target.mean == pytest.approx(sum(grid) / 2000, abs=0.02)
        assert target.mean_of(0, 1) == pytest.approx(target.mean, abs=0.05)


@given(turned, st.sampled_from([0.25, 0.5, 0.75]))
def test_what_is_cut_and_put_in_a_row_again_is_what_it_was(target, share):
    again = in_row(target.cut(0, share), share, target.cut(share, 1))
    for at in (0.0, 0.1, 0.3, 0.55, 0.9, 1.0):
        assert again.at(at) == pytest.approx(target.at(at), abs=0.05)


def test_points_on_a_straight_line_are_no_turns():
    assert through([(0, 2), (0.5, 5), (1, 8)]) == Target(2, 8)
    assert len(through([(0, 2), (0.5, 7), (1, 8)]).turns) == 1
