"""Sessions of work, from made-up histories: pauses, clocks that were set, what counts as a decision."""

from datetime import datetime, timedelta

import pytest

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.logbook.rest import is_late, read_rest, worked_without_rest
from escalera.core.logbook.statistics import SongRecord, finished_on, statistics
from escalera.core.logbook.work_sessions import DECISION, StepDone, work_sessions
from escalera.errors import EditError
from tests.planned import made
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


# statistics and rest ----------------------------------------------------------------------------------------------

BEGAN = datetime(2031, 1, 1).date()


def record(title, marks, key="C major", tempo=100.0, sounds=("Kick",)):
    work = made(
        SONG, *(("set_stage", dict(stage=s, on=str(BEGAN + timedelta(days=d)), reason="why")) for s, d in marks)
    ).work
    return SongRecord(title, BEGAN, work, key, tempo, sounds)


def test_statistics_count_what_was_begun_finished_left_and_where_songs_wait():
    songs = [record("A", [("arranged", 10), ("mixed", 40)]), record("B", [("mixed", 60), ("released", 90)]), record("C", [("arranged", 20)]), record("D", [("left", 9)]), record("E", [], "A minor", 128)]  # fmt: skip
    found = statistics(songs, BEGAN + timedelta(days=120))
    assert (found.songs, found.days_to_done) == (5, (40, 60)) and sum(m.begun for m in found.months) == 5
    assert [(m.month, m.finished) for m in found.months if m.finished] == [(2, 1), (3, 1)] and len(found.months) == 12
    assert [(w.stage, w.songs, w.middle_days) for w in found.waiting] == [
        ("demo", 1, 120),
        ("arranged", 1, 100),
        ("mixed", 1, 80),
    ]
    assert [(c.name, c.count) for c in found.keys] == [("C major", 4), ("A minor", 1)]
    said = found.said
    assert (
        "5 songs were begun and 2 finished. 1 was left on purpose" in said["months"]
        and "Three songs would say more" in said["days"]
    )
    assert "get stuck at “demo”" in said["waiting"] and "4 of 5 songs have the key C major" in said["keys"]
    assert finished_on(songs[0].work) == BEGAN + timedelta(days=40) and finished_on(songs[3].work) is None
    again = made(
        SONG,
        ("set_stage", dict(stage="mixed", on="2031-02-01")),
        ("set_stage", dict(stage="arranged", on="2031-02-02")),
    )
    assert finished_on(again.work) is None, "one that went back is not finished"
    few = statistics(songs[2:4], BEGAN + timedelta(days=30))
    assert "nothing to say about how long" in few.said["days"] and "4 songs are needed" in few.said["keys"] and "Nothing is stuck" in few.said["waiting"]  # fmt: skip


@pytest.mark.parametrize(
    "minutes, wanted",
    [([], 0), ([0], 0), ([5, 12, 20], 20), ([12, 20, 25], 0), ([3, 8, 30, 35], 8), ([-40, 5, 9], 9)],
    ids=["nothing", "just now", "a stretch", "a rest now", "a rest before", "a clock that was set"],
)
def test_work_without_a_rest_is_counted_back_from_now(minutes, wanted):
    assert worked_without_rest([NINE - timedelta(minutes=m) for m in minutes], NINE) == wanted


@pytest.mark.parametrize("at, late, wanted", [("23:30", "23:00", True), ("22:30", "23:00", False), ("02:00", "23:00", True), ("23:30", "", False), ("02:00", "01:00", True), ("23:30", "01:00", False)])  # fmt: skip
def test_late_hours_are_noted_only_where_they_are_wanted(at, late, wanted):
    assert is_late(datetime.fromisoformat(f"2031-05-20 {at}"), late) == wanted


def test_what_is_chosen_about_rest_is_read_or_refused():
    assert read_rest(" 45 ", "23:30") == (45, "23:30") and read_rest("", "") == (0, "")
    for minutes, late in (("often", ""), ("900", ""), ("30", "midnight")):
        with pytest.raises(EditError):
            read_rest(minutes, late)
