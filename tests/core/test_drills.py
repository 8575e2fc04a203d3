"""Drills: answers against the document, thresholds against learners whose threshold is known, what comes again when."""

import random

import numpy as np
import pytest

from escalera.core.drills import ear_drills as ear_drills
from escalera.core.drills import song_drills as song_drills
from escalera.core.drills.question import DRILLS, DrillMaterial, make_question
from escalera.core.drills.staircase import (
    AGAIN_DAYS,
    Answered,
    AskedBefore,
    due_again,
    next_size,
    share_right,
    threshold,
)
from escalera.core.energy.join_reading import read_joins
from escalera.core.energy.model import arranged
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.reading.events import DURATION, PITCH, START, section_events, sounding_layers
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import clock
from escalera.errors import EditError
from escalera.services.demo import demo_songs
from tests.planned import SONG, made

HARBOUR = demo_songs()[0]
SEEDS = range(12)


def layer(song, sound):
    return next(x for x in song.layers if x.sound_key == sound)


def table(heard, sound):
    """What a layer of a passage plays."""
    song = heard.song
    return section_events(song, timeline(song).spans[0])[layer(song, sound).id].table


def answer(q):
    return q.choices[q.right] if q.choices else q.number


# kind: what the answer must be, from the document alone
def _faster(q):
    return ("the first", "the second")[int(q.heard[1].song.tempo_bpm > q.heard[0].song.tempo_bpm)]


def _missing(q):
    whole, less = (sorted(table(h, "tine-keys")[:, PITCH]) for h in q.heard)
    (gone,) = set(whole) - set(less)
    return ("the root", "the third", "the fifth", "the seventh")[whole.index(gone)]


def _inversion(q):
    low = sorted(table(q.heard[0], "tine-keys")[:, PITCH])
    steps = tuple(np.diff(low))
    return {(4, 3): "root position", (3, 4): "root position", (3, 5): "first inversion", (4, 5): "first inversion", (5, 4): "second inversion", (5, 3): "second inversion"}[steps]  # fmt: skip


def _held(q):
    note, root = int(table(q.heard[0], "glass-bell")[0, PITCH]), int(table(q.heard[0], "tine-keys")[:, PITCH].min())
    return {0: "the root", 4: "the third", 7: "the fifth", 11: "the major seventh", 2: "the ninth"}[(note - root) % 12]


def _values(q):
    starts = np.sort(table(q.heard[0], "glass-bell")[:, START])
    return {480: "eighths", 320: "eighth triplets", 240: "sixteenths"}[int(np.diff(starts).min())]


def _swing(q):
    starts = np.sort(table(q.heard[0], "tin-hat")[:, START])
    return "straight" if int(starts[1]) == 480 else "swung"


def _bars_of(q):
    song = q.heard[0].song
    return round(max(int((t.table[:, START] + t.table[:, DURATION]).max()) for t in section_events(song, timeline(song).spans[0]).values()) / 3840)  # fmt: skip


def _filter(q):
    (la, ha), (lb, hb) = ((x.lowpass_hz, x.highpass_hz) for x in (layer(h.song, "wide-saws") for h in q.heard))
    return f"a {'low' if la != lb else 'high'}-pass {'opens' if lb > la or hb < ha else 'closes'}"


def _layer(q):
    before, after = ({x.name for x in sounding_layers(h.song, h.song.sections[0])} for h in q.heard)
    (name,) = before ^ after
    return name


def _higher(q):
    values = {s.span.section.name: s.value for s in arranged(HARBOUR).sections}
    names = [h.song.sections[0].name for h in q.heard]
    return ("the first", "the second")[int(values[names[1]] > values[names[0]])]


def _term(q):
    found = {s.span.section.name: s.contributions() for s in arranged(HARBOUR).sections}
    low, high = (found[h.song.sections[0].name] for h in q.heard)
    return max((t for t in high if t != "ground"), key=lambda t: high[t] - low[t])


def _where(q):
    bar = int(q.asks.split("bar ")[1].split(" ")[0])
    span, _ = timeline(HARBOUR).locate_bar(bar)
    return clock(span.start_seconds + span.grid.bar_seconds[bar - span.first_bar])


def _join(q):
    right = q.heard[0].song.sections[1].id
    join = next(j for j in read_joins(HARBOUR) if j.right.section.id == right)
    there = [JOIN_KINDS[c.kind].label for c in join.carriers if c.kind in JOIN_KINDS]
    return next(iter(set(there) & set(q.choices)), song_drills.NONE)


PROVEN = {
    "faster": _faster,
    "tempo by ear": lambda q: f"{round(q.heard[0].song.tempo_bpm)} bpm",
    "tapped tempo": lambda q: q.heard[0].song.tempo_bpm,
    "count the bars": _bars_of,
    "louder or brighter": lambda q: ("it is only brighter", "it is louder")[int(layer(q.heard[0].song, "soft-pad").level_db != layer(q.heard[1].song, "soft-pad").level_db)],
    "louder": lambda q: ("the first", "the second")[int(layer(q.heard[1].song, "tine-keys").level_db > layer(q.heard[0].song, "tine-keys").level_db)],
    "left or right": lambda q: "right" if layer(q.heard[0].song, "glass-bell").pan > 0 else "left",
    "bass out of tune": lambda q: {-1: "too low", 0: "in tune", 1: "too high"}[int(np.sign(layer(q.heard[0].song, "plucked-bass").tune_cents))],
    "kick and bass": lambda q: {-1: "the bass is early", 0: "together", 1: "the bass is late"}[int(np.sign(layer(q.heard[0].song, "plucked-bass").delay_ms))],
    "note values": _values, "swing or straight": _swing, "missing tone": _missing, "inversion": _inversion, "held note": _held, "filter": _filter,
    "layer": _layer, "higher section": _higher, "by which term": _term, "what carried the join": _join, "where a bar is": _where,
}  # fmt: skip


@pytest.mark.parametrize("kind", DRILLS)
def test_answers_are_what_the_document_says(kind):
    row, seen = DRILLS[kind], set()
    for seed in SEEDS:
        size = float(np.exp(np.interp(seed / 11, (0, 1), (np.log(row.easy), np.log(row.hard)))))
        q = make_question(kind, seed, size, DrillMaterial(HARBOUR))
        assert q == make_question(kind, seed, size, DrillMaterial(HARBOUR)) and q.kind == kind and q.asks and q.why
        assert answer(q) == pytest.approx(PROVEN[kind](q)) if not q.choices else answer(q) == PROVEN[kind](q)
        assert len(set(q.choices)) == len(q.choices) and len(q.choices) <= 4
        assert q.is_right(str(q.right if q.choices else q.number)) and not q.is_right(str((q.right + 1) % len(q.choices) if q.choices else q.number + 30))  # fmt: skip
        seen.add(answer(q))
    assert len(seen) > 1, "the answer must not be the same every time"


@pytest.mark.parametrize("kind", [k for k in DRILLS if DRILLS[k].own])
def test_a_moment_is_drilled_and_a_song_with_too_little_says_so(kind):
    section = HARBOUR.sections[3]
    for seed in SEEDS:
        q = make_question(kind, seed, 1.0, DrillMaterial(HARBOUR, section.id))
        if kind in ("layer", "higher section"):
            assert section.name in q.why
    bare = made(
        SONG,
        ("remove_section", dict(section_id=SONG.sections[1].id)),
        *(("remove_layer", dict(layer_id=x.id)) for x in SONG.layers),
    )
    if kind != "where a bar is":
        with pytest.raises(EditError, match="Choose another song"):
            make_question(kind, 1, 1.0, DrillMaterial(bare))


@pytest.mark.parametrize("given", ["", "x", "9", "-1", "1.5", "inf", "nan"])
def test_an_answer_that_is_none_is_a_sentence(given):
    with pytest.raises(EditError):
        make_question("louder", 1, 3.0, DrillMaterial(SONG)).is_right(given)


# staircases -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", ["louder", "bass out of tune", "tempo by ear", "count the bars"])
def test_thresholds_of_two_hundred_learners_are_found_after_eighty_answers(key):
    """Learners are made by the same kind of function as the estimate assumes; sizes come from the staircase alone."""
    kind, off, right = DRILLS[key], [], []
    low, high = sorted((np.log(kind.hard), np.log(kind.easy)))
    for seed in range(200):
        chance = random.Random(seed)
        known = float(np.exp(chance.uniform(low + 0.25 * (high - low), low + 0.75 * (high - low))))
        answers: list[Answered] = []
        for _ in range(80):
            size = next_size(kind, answers)
            answers.append(
                Answered(size, chance.random() < share_right(size, known, kind.choices, kind.easy < kind.hard))
            )
        off.append(abs(threshold(kind, answers) / known - 1))
        right.append(sum(a.right for a in answers[20:]) / 60)
    assert np.median(off) < 0.15 and abs(np.mean(right) - 0.75) < 0.03


def test_a_learner_with_another_slope_is_still_found_near():
    """Held against a learner that the estimate does not assume: twice as steep, and lapsing more."""
    kind, off = DRILLS["louder"], []
    for seed in range(60):
        chance, answers = random.Random(seed), []
        for _ in range(80):
            size = next_size(kind, answers)
            p = 0.5 + 0.45 / (1 + np.exp(-6 * np.log(size / 1.2) - 0.2))
            answers.append(Answered(size, chance.random() < p))
        off.append(abs(threshold(kind, answers) / 1.2 - 1))
    assert np.median(off) < 0.25


def test_sizes_stay_within_their_range_and_ungraded_kinds_have_none():
    kind = DRILLS["louder"]
    assert next_size(kind, []) == pytest.approx(kind.easy) and next_size(
        kind, [Answered(6, False)] * 50
    ) == pytest.approx(kind.easy)
    assert next_size(kind, [Answered(1, True)] * 300) == pytest.approx(kind.hard)
    count = DRILLS["count the bars"]
    assert next_size(count, [Answered(4, True)] * 10) > next_size(count, []) > 0
    assert threshold(DRILLS["inversion"], [Answered(1, True)] * 20) is None and threshold(kind, []) is None


def test_what_was_wrong_comes_again_after_growing_gaps_until_it_is_known():
    history = [AskedBefore("a", False, 0), AskedBefore("b", True, 0)]
    assert due_again(history, 0) == ["a"]
    day = 0
    for gap in AGAIN_DAYS[1:4]:
        history.append(AskedBefore("a", True, day))
        assert due_again(history, day + gap - 1) == [] and due_again(history, day + gap) == ["a"]
        day += gap
    history.append(AskedBefore("a", True, day))
    assert due_again(history, day + 100) == []
    history.append(AskedBefore("a", False, day))
    assert due_again(history, day) == ["a"]
