"""Sessions of work, from made-up histories: pauses, clocks that were set, what counts as a decision."""

from datetime import datetime, timedelta

import pytest

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.logbook.work_sessions import DECISION, StepDone, work_sessions
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, P = NAME["Verse"], NAME["Soft pad"]
NINE = datetime(2025, 3, 30, 9, 0)


def steps(*rows):
    """(song, minutes after nine, what) each, as steps one after the other."""
    last, found = {}, []
    for number, (song, minutes, said) in enumerate(rows, 1):
        found.append(StepDone(number, last.get(song), song, NINE + timedelta(minutes=minutes), said))
        last[song] = number
    return found


# minutes of steps: sessions as (first minute, minutes that count)
HISTORIES = {
    "one step": ([0], [(0, 1)]),
    "a steady hour": (range(0, 61, 5), [(0, 61)]),
    "a walk in between": ([0, 5, 40, 42], [(0, 20)]),
    "morning and evening": ([0, 10, 600, 603], [(600, 4), (0, 11)]),
    "a clock that was set back by an hour": ([60, 62, 2, 4], [(2, 3), (60, 3)]),
    "a clock that was set back a little": ([10, 12, 8, 9], [(8, 4)]),
    "nothing": ([], []),
}


@pytest.mark.parametrize("name", HISTORIES)
def test_sessions_end_with_a_pause_and_pauses_do_not_count(name):
    minutes, wanted = HISTORIES[name]
    found = work_sessions(steps(*((1, m, "x") for m in minutes)))
    assert [((s.began - NINE).total_seconds() / 60, s.minutes) for s in found] == wanted


def test_a_session_tells_each_song_with_its_states_and_decisions():
    rows = steps(
        (1, 0, "New song"), (2, 1, "Tempo 120 → 90"), (1, 2, "Soft pad set aside: too sweet"), (2, 3, "Brief: due")
    )
    (found,) = work_sessions(reversed(rows))
    assert [(w.song_id, w.before_id, w.first_id, w.after_id, w.steps, w.decisions) for w in found.songs] == [
        (1, None, 1, 3, 2, ("Soft pad set aside: too sweet",)),
        (2, None, 2, 4, 2, ("Brief: due",)),
    ]


SAID = EDITS["take_down_feedback"]("too long", "Ben").apply(SONG)
# an edit, and whether it is a decision
DECIDED = {
    "accept_finding": (EDITS["accept_finding"]("level:1:0", "by feel"), SONG, True),
    "set_brief": (EDITS["set_brief"]({"length": "3:30"}), SONG, True),
    "set_reason": (EDITS["set_reason"](P, "it carries the chords"), SONG, True),
    "set_aside": (EDITS["set_aside"](P, "too sweet"), SONG, True),
    "hold_layer": (EDITS["hold_layer"](P, "the cellist"), SONG, True),
    "set_feedback": (EDITS["set_feedback"](SAID.feedback[0].id, "not taken", "no"), SAID, True),
    "take_down_feedback": (EDITS["take_down_feedback"]("0:01 nice"), SONG, False),
    "set_tempo": (EDITS["set_tempo"](99.0), SONG, False),
    "toggle_tile": (EDITS["toggle_tile"](V, P, 0), SONG, False),
    "rename_section": (EDITS["rename_section"](V, "Verse over all"), SONG, False),
    "set_control": (EDITS["set_control"](P, "level_db", -12.0), SONG, False),
}


@pytest.mark.parametrize("kind", DECIDED)
def test_what_has_a_reason_is_a_decision_and_what_is_turned_is_none(kind):
    edit, song, decided = DECIDED[kind]
    assert bool(DECISION.search(edit.summary(song))) == decided
