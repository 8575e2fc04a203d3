"""Planning: what lies open as steps, how long steps take, stages, due dates, shares, and what to do in the time there is."""

import random
from dataclasses import replace
from datetime import date, timedelta

import numpy as np
import pytest

from escalera.core.checks import facts_text, judged, run_checks
from escalera.core.document.recordings import Clip
from escalera.core.document.work_state import STAGES, WorkState
from escalera.core.planning.choosing import FINISH, START, SongChoice, next_due, offers
from escalera.core.planning.due_dates import USUAL_GAPS, conflicts, expected_days, read_gaps
from escalera.core.planning.estimates import estimate
from escalera.core.planning.open_steps import STEP_KINDS, MixMade, Surroundings, lacking, open_steps
from escalera.core.planning.shares import even_shares, name_like, shares_trouble
from escalera.core.planning.song_facts import facts_as_json, read_facts, song_facts
from escalera.core.planning.stages import USUAL_DAYS, StageStanding, stage_days, standing, usual_times
from escalera.errors import EditError
from tests.planned import DATED, SHARED, SONG, TODAY, TWO, made
from tests.recordings import known_sample
from tests.songs import ids

I = ids(SONG)  # noqa: E741
V, C, K, B, P = I["Verse"], I["Chorus"], I["Round kick"], I["Plucked bass"], I["Soft pad"]
AROUND = Surroundings(TODAY, date(2031, 1, 1))
MIXED = made(SONG, ("set_stage", dict(stage="mixed", on="2031-05-01")))
LOUD, QUIET = MixMade(date(2031, 5, 10), -0.2, -9.0), MixMade(date(2031, 5, 10), -1.4, -12.0)


def sampled(licence):
    """The small song with its pad played by a recording of this licence."""
    sample = replace(known_sample()[0], licence=licence)
    clips = (Clip(sample=sample.content),)
    return replace(SONG, samples=(sample,), layers=tuple(replace(x, clips=clips) if x.id == P else x for x in SONG.layers))  # fmt: skip


WORDS = made(SONG, ("set_lyric", dict(section_id=V, text="out on the sea")))
SAID = made(SONG, ("take_down_feedback", dict(text="0:18 pad too loud", who="Ana")))
SIGNED = made(SHARED, *(("sign_share", dict(person_id=p.id, signed="message")) for p in SHARED.people))
FLAT = made(SONG, *(("set_target", dict(section_id=V, start=s, end=s)) for s in (9.5,)))
MEANT = made(
    SONG, *(("accept_finding", dict(key=f.key, reason="meant", facts=facts_text(f))) for f in run_checks(SONG))
)
# kind: (song, what is known beside it) that asks for such a step, one that does not
ROWS = {
    "overdue": ((made(DATED, ("set_due", dict(what="Cover", on="2031-05-01"))), AROUND), (made(DATED, ("set_due", dict(what="Cover", on="2031-05-01")), ("set_due_done", dict(what="Cover"))), AROUND)),
    "stage": ((made(SONG, ("set_stage", dict(stage="arranged", on="2031-05-01"))), AROUND), (MIXED, AROUND)),
    "silent": ((made(SONG, ("add_section", dict(name="Bridge", bars=8))), AROUND), (SONG, AROUND)),
    "finding": ((SONG, AROUND), (MEANT, AROUND)),
    "option": ((made(SONG, ("park_body", dict(section_id=V, name="first try"))), AROUND), (SONG, AROUND)),
    "brief": ((made(SONG, ("set_brief", dict(lines={"length": "3:30"}))), AROUND), (made(SONG, ("set_brief", dict(lines={"length": "0:32"}))), AROUND)),
    "prompt": ((made(SONG, ("set_prompt", dict(rules=[["no kick", ""]]))), AROUND), (made(SONG, ("set_prompt", dict(rules=[["few layers", "3"]]))), AROUND)),
    "idea": ((SONG, replace(AROUND, ideas=2)), (SONG, AROUND)),
    "voice": ((made(SONG, ("want_voices", dict(section_id=C, parts=["double left"]))), AROUND), (SONG, AROUND)),
    "words": ((WORDS, AROUND), (SONG, AROUND)),
    "stand-in": ((replace(SONG, layers=tuple(replace(x, stand_in=True) for x in SONG.layers)), AROUND), (SONG, AROUND)),
    "wanted sound": ((SONG, replace(AROUND, wanted=("a door that creaks",))), (SONG, AROUND)),
    "feedback": ((SAID, AROUND), (made(SAID, ("set_feedback", dict(remark_id=SAID.feedback[0].id, state="taken"))), AROUND)),
    "handing": ((made(SONG, ("set_muted", dict(layer_id=P, muted=True))), AROUND), (SONG, AROUND)),
    "mix": ((SONG, AROUND), (SONG, replace(AROUND, mixes=(QUIET,)))),
    "master": ((MIXED, replace(AROUND, mixes=(LOUD,))), (MIXED, replace(AROUND, mixes=(QUIET,)))),
    "not cleared": ((sampled("unknown"), AROUND), (sampled("own"), AROUND)),
    "shares": ((SHARED, AROUND), (SIGNED, AROUND)),
    "owed": ((made(TWO, ("set_person", dict(person_id=TWO.people[0].id, owed="a rough mix"))), AROUND), (TWO, AROUND)),
    "release day": ((SONG, AROUND), (DATED, AROUND)),
}  # fmt: skip


@pytest.mark.parametrize("kind", STEP_KINDS)
def test_a_step_is_found_where_it_lies_open_and_nowhere_else(kind):
    there, not_there = ROWS[kind]
    found = list(STEP_KINDS[kind].find(*there))
    assert found and not list(STEP_KINDS[kind].find(*not_there))
    assert {s.kind for s in found} == {kind} and all(s.said and s.why and s.key for s in found)
    assert len({s.key for s in found}) == len(found)
    assert {s.key for s in found} <= {s.key for s in open_steps(*there)}


def test_what_comes_first_is_the_weightiest_finding_of_a_song_that_plays():
    steps = open_steps(FLAT, AROUND)
    assert steps[0].why.startswith(judged(FLAT).open[0].said) and steps[0].opens == "checks"
    assert [s.kind for s in open_steps(made(FLAT, ("remove_layer", dict(layer_id=K)), ("remove_layer", dict(layer_id=B)), ("remove_layer", dict(layer_id=P))), AROUND)][0] == "silent"  # fmt: skip


def test_a_stage_lacks_what_it_asks_for_and_a_song_that_is_left_lacks_nothing():
    steps = open_steps(FLAT, AROUND)
    assert {s.kind for s in lacking(steps, "arranged")} >= {"finding"} and {
        s.stage for s in lacking(steps, "mixed")
    } == {"mixed"}
    assert not lacking(steps, "") and not open_steps(made(FLAT, ("set_stage", dict(stage="left", on="2031-05-01", reason="dull"))), AROUND)  # fmt: skip
    assert [s for s in STEP_KINDS.values() if s.stage not in ("", *STAGES)] == []


def test_what_is_known_of_a_song_is_kept_as_it_was_read():
    facts = song_facts(SHARED, AROUND)
    assert read_facts(facts_as_json(facts)) == facts
    assert (facts.bars, facts.seconds, facts.layers) == (16, 32.0, 3) and facts.peak > facts.mean > 0
    assert (facts.first.name, facts.last.name) == ("Verse", "Chorus") and facts.first.silent_s == 0.0
    assert facts.last.silent_s < 0.2 and "chords" in facts.last.families and "chords" not in facts.first.families


# estimates --------------------------------------------------------------------------------------------------------


def test_an_estimate_moves_from_the_usual_figure_to_ones_own():
    found = [estimate(20, [5.0] * n).minutes for n in (0, 1, 3, 10, 40)]
    assert found == sorted(found, reverse=True) and found[0] == 20 and found[-1] in (5, 6)
    assert "a usual figure" in estimate(20, []).said and "from 1 such step" in estimate(20, [5.0]).said


def test_one_odd_morning_does_not_count_for_much():
    plain, odd = estimate(10, [10.0] * 9), estimate(10, [10.0] * 8 + [400.0])
    assert abs(plain.minutes - odd.minutes) <= 1 and np.mean([10.0] * 8 + [400.0]) > 50


@pytest.mark.parametrize("middle, spread", [(8, 0.3), (25, 0.6), (45, 0.45)])
def test_half_of_the_steps_to_come_lie_in_the_range_that_is_told(middle, spread):
    """On histories that were not used for anything else: what took so long before, with interruptions, against what comes next."""
    chance, inside, total = random.Random(middle), 0, 0
    for _ in range(60):
        own = np.exp(chance.gauss(np.log(middle), 0.15))
        took = [own * np.exp(chance.gauss(0, spread)) * (6 if chance.random() < 0.05 else 1) for _ in range(50)]
        found = estimate(20, took[:25])
        inside += sum(found.low <= t <= found.high for t in took[25:])
        total += 25
    assert 0.4 < inside / total < 0.72


# stages and dates -------------------------------------------------------------------------------------------------


def history(*rows):
    """A state of work out of stages and the days on which they were reached, counted from the beginning of a year."""
    begin = date(2031, 1, 1)
    steps = [("set_stage", dict(stage=s, on=str(begin + timedelta(days=d)), reason="why")) for s, d in rows]
    return made(SONG, *steps).work, begin


def test_usual_times_are_those_of_the_songs_there_were():
    songs = [history(("arranged", 10), ("recorded", 30)), history(("arranged", 20), ("recorded", 50), ("arranged", 55), ("recorded", 60)), history(("left", 90))]  # fmt: skip
    usual = usual_times(stage_days(*s) for s in songs)
    assert usual["demo"].days == 20.0 and usual["demo"].count == 3
    assert usual["arranged"].days == (20 + 35) / 2 and "in 2 songs of yours" in usual["arranged"].said
    assert usual["mixed"].days == USUAL_DAYS["mixed"] and usual["mixed"].said.startswith("usually about")
    assert (
        standing(*songs[0]) == StageStanding("recorded", date(2031, 1, 31))
        and standing(WorkState(), TODAY).stage == "demo"
    )
    assert standing(*songs[2]).next == "" and StageStanding("demo", TODAY).next == "arranged"


NOW = StageStanding("arranged", date(2031, 5, 18))
USUAL = usual_times([])
# due dates by their days from the twentieth of May, and what is said of them
CONFLICTS = {
    "all in time": ([("Recording", 60, "recorded"), ("Mix", 90, "mixed")], ""),
    "in the past": ([("Cover", -3, "")], "Cover was due on 2031-05-17, 3 days ago"),
    "done in the past": ([("Arranged", -3, "arranged")], ""),
    "in the wrong order": ([("Mix", 90, "mixed"), ("Recording", 100, "recorded")], "Recording is due on 2031-08-28, after mix"),
    "too soon for the pace": ([("Recording", 5, "recorded")], "“recorded” would be reached on 2031-06-01, 7 days later"),
}  # fmt: skip


@pytest.mark.parametrize("name", CONFLICTS)
def test_dates_that_cannot_stay_are_named(name):
    rows, says = CONFLICTS[name]
    song = made(SONG, *(("set_due", dict(what=w, on=str(TODAY + timedelta(days=d)), stage=s)) for w, d, s in rows))
    found = conflicts(song.work, NOW, USUAL, TODAY)
    assert (says in found[0].said and found[0].remedy) if says else not found


def test_a_release_that_is_too_near_says_which_one_would_do():
    song = made(SONG, ("set_release", dict(on=str(TODAY + timedelta(days=40)))))
    (past, *_) = conflicts(song.work, NOW, USUAL, TODAY)
    earliest = date.fromisoformat(past.remedy.split(" is ")[1][:10])
    again = made(song, ("set_release", dict(on=str(earliest))))
    assert "earliest release" in past.remedy and not [
        c for c in conflicts(again.work, NOW, {}, TODAY) if "was due" in c.said
    ]
    assert [d.what for d in again.work.due] == [g.what for g in USUAL_GAPS]
    assert made(again, ("set_release", dict(on=""))).work == WorkState()


def test_what_comes_is_expected_after_what_is_left_of_every_stage():
    rows = expected_days(NOW, USUAL, TODAY)
    assert [r[0] for r in rows] == ["recorded", "mixed", "mastered", "released"]
    assert rows[0][1] == TODAY + timedelta(days=12) and all(a[1] < b[1] for a, b in zip(rows, rows[1:]))
    old = expected_days(StageStanding("arranged", date(2030, 1, 1)), USUAL, TODAY)
    assert old[0][1] > TODAY, "a stage that lasts too long is still to be ended"


@pytest.mark.parametrize(
    "rows, says",
    [
        ([("Cover", "35", ""), ("Cover ", "3", "")], "stands there twice"),
        ([("Cover", "soon", "")], "is not a number of days"),
        ([("Cover", "800", "")], "lies outside 0 to 730"),
        ([("Cover", "3", "wrapped")], "is not a stage"),
        ([("", "3", "")], "template is empty"),
        ([(f"x{i}", "3", "") for i in range(41)], "40 fit"),
    ],
)
def test_a_template_that_cannot_be_used_says_why(rows, says):
    with pytest.raises(EditError, match=says):
        read_gaps(rows)


# people -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("count", range(1, 13))
def test_even_shares_make_a_hundred(count):
    assert (
        sum(round(100 * s) for s in even_shares(count)) == 10_000
        and max(even_shares(count)) - min(even_shares(count)) < 0.011
    )


@pytest.mark.parametrize(
    "text, says",
    [
        ("Mira 101", "101 %, and must make 100 %. Take 1 %"),
        ("Mira 99.5", "Give 0.5 % more"),
        ("Ana 100", "not among the people"),
        ("Mira half", "is no share"),
        ("Mira 50\nmira 50", "stands there twice"),
    ],
)
def test_shares_that_do_not_make_a_hundred_are_refused(text, says):
    with pytest.raises(EditError, match=says):
        made(TWO, ("set_shares", dict(text=text)))


def test_shares_are_settled_when_everybody_has_signed():
    assert [shares_trouble(s.people) for s in (SONG, SIGNED)] == ["", ""]
    assert "nobody has a share" in shares_trouble(TWO.people) and "Mira, Joris have not signed" in shares_trouble(
        SHARED.people
    )
    assert "40 % are missing" in shares_trouble(
        made(SHARED, ("remove_person", dict(person_id=SHARED.people[1].id))).people
    )
    assert name_like("Myra", TWO.people) is None and name_like("Joriss", TWO.people).name == "Joris"


# choosing ---------------------------------------------------------------------------------------------------------


def choice(song_id, stage, steps, due=None, rests=0):
    now = StageStanding(stage, TODAY - timedelta(days=30))
    return SongChoice(song_id, f"Song {song_id}", now, tuple(steps), due, "Cover" if due else "", rests)


def test_finishing_takes_what_is_nearest_to_its_next_stage_and_starting_what_was_touched_last():
    many, few = open_steps(FLAT, AROUND), [s for s in open_steps(SONG, AROUND) if s.kind == "mix"]
    songs = [choice(1, "recorded", [*many, *open_steps(SAID, AROUND)]), choice(2, "recorded", few), choice(3, "demo", many, rests=40), choice(4, "demo", many, rests=2), choice(5, "left", few), choice(6, "released", few)]  # fmt: skip
    assert [o.song.song_id for o in offers(songs, FINISH, 90, {}, TODAY)][:2] == [2, 1]
    assert next(o.song.song_id for o in offers(songs, START, 90, {}, TODAY)) == 4
    assert {o.song.song_id for o in offers(songs, FINISH, 90, {}, TODAY)} == {1, 2}


def test_what_is_due_soon_comes_first_and_steps_that_fit_come_before_longer_ones():
    steps = open_steps(made(SONG, ("take_down_feedback", dict(text="0:18 pad too loud"))), AROUND)
    songs = [choice(1, "recorded", steps), choice(2, "recorded", steps, TODAY + timedelta(days=3))]
    found = offers(songs, FINISH, 15, {}, TODAY)
    assert found[0].song.song_id == 2 and found[0].reason == "Cover is due in 3 days" and found[0].fits
    assert [o.fits for o in found] == sorted((o.fits for o in found), reverse=True) and not found[-1].fits
    slow = offers(songs, FINISH, 15, {"feedback": [80.0] * 12}, TODAY)
    slow = next(o for o in slow if o.step.kind == "feedback")
    assert not slow.fits and "12 such steps" in slow.size.said
    assert next_due(DATED.work)[1] == "Recording done" and next_due(SONG.work) == (None, "")
    assert max(sum(o.song.song_id == i for o in found[:4]) for i in (1, 2)) <= 2
