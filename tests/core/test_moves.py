"""Every kind of move: where it applies, what it does, where it does not; and the effect shown is the effect had."""

import pytest

from escalera.core.energy.model import arranged
from escalera.core.moves.section import KINDS, apply_move, find_move, suggest
from escalera.core.song.edits import EDITS
from escalera.errors import EditError
from tests.songs import HATS, ids, small_song

BASE = small_song()
NAME = ids(BASE)
V, C, K, P = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Soft pad"))
HATTED = EDITS["add_layer"]("tin-hat", rows=HATS, length_ticks=3840).apply(BASE)
HAT = next(x.id for x in HATTED.layers if x.sound_key == "tin-hat")
HATTED = EDITS["place"](C, HAT, HATTED.layer_by_id[HAT].pattern_id).apply(HATTED)
HALF = EDITS["toggle_tile"](C, P, 0).apply(HATTED)

# kind: (song, section, layer it applies to, whether energy rises), (song, section, layer it does not apply to)
ROWS = {
    "bring in": ((HATTED, V, P, True), (HATTED, C, P)),
    "fill": ((HALF, C, P, True), (HATTED, C, P)),
    "lift": ((HATTED, C, K, False), (HATTED, V, P)),
    "thin": ((HATTED, C, K, False), (HATTED, C, P)),
    "double": ((HATTED, C, HAT, True), (HATTED, C, K)),
    "open": ((EDITS["set_control"](P, "lowpass_hz", 20000).apply(HATTED), C, P, False), (HATTED, C, K)),
    "close": ((HATTED, C, P, False), (HATTED, V, P)),
}  # fmt: skip


def test_every_kind_of_move_has_a_row():
    assert set(ROWS) == set(KINDS)


@pytest.mark.parametrize("kind", ROWS)
def test_a_move_applies_where_it_should_and_nowhere_else(kind):
    (song, section, layer, rises), (other_song, other_section, other_layer) = ROWS[kind]
    move = find_move(song, section, f"{kind}:{layer}")
    after = apply_move(song, move)
    change = arranged(after).of(section).value - arranged(song).of(section).value
    assert (change > 0) == rises and abs(change) > 0.005
    others = [s.id for s in song.sections if s.id != section]
    assert all(after.section_by_id[i] == song.section_by_id[i] for i in others), "only its section changes"
    with pytest.raises(EditError, match="does not apply"):
        find_move(other_song, other_section, f"{kind}:{other_layer}")


@pytest.mark.parametrize(("target", "rises"), [(9.0, True), (1.0, False)])
def test_suggestions_lead_to_the_target_with_the_effect_they_say(target, rises):
    song = EDITS["set_target"](C, target).apply(HALF)
    before = arranged(song).of(C).value
    found = suggest(song, C)
    assert found and all((s.points > 0) == rises for s in found)
    for s in found:
        after = arranged(apply_move(song, s.move)).of(C).value
        assert after - before == pytest.approx(s.points, abs=1e-9) and abs(target - after) < abs(target - before)


def test_a_section_at_its_target_needs_nothing():
    song = EDITS["set_target"](C, round(arranged(BASE).of(C).value, 1)).apply(BASE)
    assert suggest(song, C) == []


def test_a_move_leaves_other_variations_alone():
    song = EDITS["vary"](C, K, level_end_db=-6.0).apply(HATTED)
    after = apply_move(song, find_move(song, C, f"thin:{K}"))
    (placement,) = [p for p in after.section_by_id[C].placements if p.layer_id == K]
    assert (placement.variation.keep, placement.variation.level_end_db) == (0.5, -6.0)
