"""Geometry of the stair: heights, hatching, names kept apart."""

import pytest
from lxml import html

from escalera.core.edits import EDITS
from escalera.core.energy.explain import arranged_agreement
from escalera.core.energy.model import arranged
from escalera.web.drawing import FLOOR, TOP, _gaps, draw_stair, y_of
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)


def drawn(song):
    energy = arranged(song)
    return draw_stair(song, energy, None, arranged_agreement(energy)), energy


@pytest.mark.parametrize(("energy", "y"), [(0, FLOOR), (10, TOP), (5, (TOP + FLOOR) / 2), (-3, FLOOR)])
def test_energy_has_its_height(energy, y):
    assert y_of(energy) == pytest.approx(y, abs=0.06)


def area(points):
    """Signed area of a polygon given as 'x,y x,y …'."""
    p = [tuple(map(float, q.split(","))) for q in points.split()]
    return abs(sum(a[0] * b[1] - b[0] * a[1] for a, b in zip(p, p[1:] + p[:1]))) / 2


@pytest.mark.parametrize(("start", "end", "top", "missing", "too_much"), [
    (50, 50, 100, 50, 0), (100, 100, 50, 0, 50), (50, 100, 100, 25, 0), (60, 100, 80, 5, 5), (100, 60, 80, 5, 5), (80, 80, 80, 0, 0),
])  # fmt: skip
def test_hatching_covers_just_what_differs(start, end, top, missing, too_much):
    above, below, (_, height) = _gaps(start, end, top)
    assert (area(above) * height if above else 0) == pytest.approx(missing, abs=0.1)
    assert (area(below) * height if below else 0) == pytest.approx(too_much, abs=0.1)


def test_tiles_stand_on_the_floor_and_reach_the_arranged_energy():
    stair, energy = drawn(SONG)
    for step, section in zip(stair.steps, energy.sections):
        boxes = html.fragments_fromstring(str(step.riser))
        tops = [float(b.get("y")) for b in boxes]
        bottoms = [float(b.get("y")) + float(b.get("height")) for b in boxes]
        assert max(bottoms) == pytest.approx(FLOOR, abs=0.05) and min(tops) == pytest.approx(
            y_of(section.value), abs=0.1
        )
        assert len(boxes) == 2 * len([v for v in section.shares.values() if v > 0.03])


def test_sections_lie_to_scale_and_joins_between_them():
    song = EDITS["resize_section"](NAME["Verse"], 24).apply(SONG)
    stair, _ = drawn(song)
    assert [(s.x, s.width) for s in stair.steps] == [(0, 75), (75, 25)] and [m.x for m in stair.medallions] == [75]


def test_names_of_narrow_sections_do_not_run_into_each_other():
    song = SONG
    for i in range(14):
        song = EDITS["add_section"](f"Interlude number {i}", "", 2).apply(song)
    stair, _ = drawn(song)
    boxes = []
    for s in stair.steps:
        if s.label:
            left = s.label_x / 100 * 780 - len(s.label) * 7.8 * {"middle": 0.5, "end": 1.0}[s.anchor]
            boxes.append((left, s.label_y, left + len(s.label) * 6.5))
    for (_, y, right), (left, other, _) in zip(boxes, boxes[1:]):
        assert left >= right - 12 or abs(y - other) >= 12 or y == 12.0
