"""What somebody sent stays as it is: notes and sound are held, the mix and the arrangement are free."""

import pytest

from escalera.core.edits import EDITS
from escalera.core.edits.protection import keep_protected
from escalera.core.moves.move import apply_move, moves_for
from escalera.errors import EditError
from tests.songs import ids, small_song

SONG = small_song()
V, C, K, B, P = (ids(SONG)[n] for n in ("Verse", "Chorus", "Round kick", "Plucked bass", "Soft pad"))
HELD = EDITS["hold_layer"](B, "the bassist").apply(SONG)
NOTES = SONG.layer_by_id[B].pattern_id


@pytest.mark.parametrize(("kind", "fields", "held"), [
    ("set_sound", (B, "sub-sine"), True), ("add_effect", (f"layer.{B}", "drive"), True), ("set_control", (B, "lowpass_hz", 900), True), ("set_control", (B, "octave", 1), True),
    ("set_pattern", (NOTES, 3840, [[0, 400, 2, 0, 0, 90]]), True), ("vary", (V, B, 0, None, None, 0, 0.5), True), ("transpose_line", (V, B, 0, 2), True), ("remove_layer", (B,), True),
    ("set_control", (B, "level_db", -20), False), ("set_control", (B, "pan", 0.3), False), ("set_control", (B, "send.echo", -12), False), ("set_muted", (B, True), False),
    ("lift", (V, B, 1), False), ("remove_section", (V,), False), ("set_sound", (K, "hard-kick"), False), ("set_tempo", (140,), False), ("hold_layer", (B, ""), False),
])  # fmt: skip
def test_what_was_sent_is_held_and_the_rest_is_free(kind, fields, held):
    edit = EDITS[kind](*fields)
    assert keep_protected(SONG, edit.apply(SONG)), "nothing is held before it is said"
    if not held:
        assert keep_protected(HELD, edit.apply(HELD))
        return
    with pytest.raises(EditError, match="Plucked bass was sent by the bassist and is pinned"):
        keep_protected(HELD, edit.apply(HELD))


def test_what_was_taken_off_the_wall_may_be_put_back():
    bare = EDITS["lift"](V, B).apply(EDITS["lift"](C, B).apply(HELD))
    assert keep_protected(bare, EDITS["toggle_tile"](C, B, 0).apply(bare)).section_by_id[C].placements


def test_no_move_that_would_change_it_can_be_made():
    drummer = EDITS["hold_layer"](K, "the drummer").apply(SONG)
    tried = {move.key: move for move in moves_for(drummer, drummer.section_by_id[C])}
    with pytest.raises(EditError, match="sent by the drummer"):
        apply_move(drummer, tried[f"thin:{K}"])
    made = 0
    for move in tried.values():
        try:
            after = apply_move(drummer, move)
        except EditError:
            continue
        made += 1
        assert keep_protected(drummer, after)
    assert made > 10 and f"lift:{K}" in tried
