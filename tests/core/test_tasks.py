"""Tasks: every criterion with a song where it holds, one where it fails and one in between; text read as people write it; marks."""

import json
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.document.recordings import Clip
from escalera.core.document.task import MAX_CRITERIA, Criterion, Task, task_from_plain, task_to_plain
from escalera.core.energy.model import arranged
from escalera.core.tasks.class_list import lines_of_work, shared_lines
from escalera.core.tasks.criteria import CRITERION_KINDS, JudgedWork
from escalera.core.tasks.marks import by_bar, judge, overridden, sections_to_hear
from escalera.core.tasks.task_text import need_consistent, read_sentence, read_task, read_values, said_of, task_of_form
from escalera.core.theory.keys import parse_key
from escalera.errors import EditError, FormatError
from escalera.services.task_library import task_library
from tests.planned import SONG, made
from tests.songs import BASS, ids

I = ids(SONG)  # noqa: E741
V, C, K, B, P = I["Verse"], I["Chorus"], I["Round kick"], I["Plucked bass"], I["Soft pad"]


def formed(text):
    return made(SONG, ("lay_out", dict(text=text, source_id=C, fill="full")))


FOUR = formed("Intro 8, Verse 8, Chorus 8, Outro 8")
DUCKED = made(
    FOUR,
    *(
        ("lift", dict(section_id=FOUR.sections[i].id, layer_id=x, phrase=p))
        for i in (0, 1, 3)
        for x in (B, P)
        for p in (0, 1)
    ),
)
HALF = made(
    FOUR, *(("lift", dict(section_id=FOUR.sections[0].id, layer_id=x, phrase=p)) for x in (B, P) for p in (0, 1))
)
LATE_PAD = made(SONG, ("lift", dict(section_id=C, layer_id=P, phrase=0)))
BUSY = made(
    SONG,
    (
        "add_layer",
        dict(
            sound="tine-keys",
            rows=[[240 * i, 200, 3, v, 0, 90] for i in range(16) for v in range(3)],
            length_ticks=3840,
            section_id=V,
        ),
    ),
)
SOME = made(
    SONG,
    (
        "add_layer",
        dict(
            sound="tine-keys",
            rows=[[960 * i, 200, 3, v, 0, 90] for i in range(4) for v in range(3)],
            length_ticks=3840,
            section_id=V,
        ),
    ),
)
RISER = made(SONG, ("add_device", dict(section_id=C, device="riser")))
DROPS = formed("Verse 8, Build 8, Drop 8, Build 8, Drop 8")
ONE_BARE = formed("Verse 8, Build 8, Drop 8, Break 8, Drop 8")
NO_BUILD = formed("Verse 8, Drop 8, Break 8, Drop 8")
REASONED = replace(SONG, layers=tuple(replace(x, reason="it carries") for x in SONG.layers))
ONE_REASON = made(SONG, ("set_reason", dict(layer_id=P, reason="it carries")))
SAMPLED = replace(
    SONG, layers=tuple(replace(x, clips=(Clip(sample="a" * 32),)) if x.id == P else x for x in SONG.layers)
)
VARIED = made(FOUR, ("lift", dict(section_id=FOUR.sections[1].id, layer_id=K, phrase=0)))
E_OF = {s.span.section.name: s.value for s in arranged(SONG).sections}
NOTHING = tuple(("lift", dict(section_id=C, layer_id=x, phrase=p)) for x in (K, B, P) for p in (0, 1))
APART = made(
    SONG,
    *(("lift", dict(section_id=V, layer_id=x, phrase=p)) for x in (K, B) for p in (0, 1)),
    ("lift", dict(section_id=C, layer_id=P, phrase=0)),
    ("lift", dict(section_id=C, layer_id=P, phrase=1)),
    ("place", dict(section_id=V, layer_id=P, pattern_id=I["pattern of Soft pad"])),
)
ONE_LINE = made(
    SONG, ("lift", dict(section_id=V, layer_id=B, phrase=0)), ("lift", dict(section_id=V, layer_id=B, phrase=1))
)
HELD = made(SONG, *(("lift", dict(section_id=C, layer_id=x, phrase=1)) for x in (K, B)))
# kind: values; songs where it holds, fails altogether (0 points), and is nearly met (None where there is nothing between)
ROWS = {
    "length": ({"section": "Verse", "bars": "8"}, SONG, formed("Verse 24, Chorus 8"), formed("Verse 10, Chorus 8")),
    "edge": ({"section": "Verse", "bar": "8"}, SONG, formed("Verse 16, Chorus 8"), formed("Verse 10, Chorus 8")),
    "order": ({"names": "verse, chorus"}, SONG, formed("Bridge 8, Drop 8"), formed("Verse 8, Bridge 8, Chorus 8")),
    "layers": ({"low": "1", "high": "3"}, SONG, None, made(SONG, ("add_layer", dict(sound="glass-bell", rows=BASS[:2], length_ticks=3840, section_id=C)))),
    "tempo": ({"low": "118", "high": "122"}, SONG, made(SONG, ("set_tempo", dict(tempo_bpm=60))), made(SONG, ("set_tempo", dict(tempo_bpm=126)))),
    "key": ({"key": "C major"}, SONG, replace(SONG, key=parse_key("E major")), replace(SONG, key=parse_key("A minor"))),
    "lasts": ({"low": "0:20", "high": "0:40"}, SONG, formed("Verse 40, Chorus 40"), formed("Verse 16, Chorus 16")),
    "builds": ({}, DROPS, NO_BUILD, ONE_BARE),
    "key change": ({}, made(SONG, ("shift_section", dict(section_id=C, semitones=2))), SONG, None),
    "ending": ({"way": "held"}, HELD, SONG, None),
    "reasons": ({"percent": "100"}, REASONED, SONG, ONE_REASON),
    "carried": ({}, RISER, SONG, None),
    "highest": ({"section": "Chorus"}, SONG, made(SONG, *(("lift", dict(section_id=C, layer_id=x, phrase=p)) for x in (K, B) for p in (0, 1))), HALF),
    "lowest": ({"section": "Verse"}, SONG, made(SONG, *(("lift", dict(section_id=C, layer_id=x, phrase=p)) for x in (K, B) for p in (0, 1))), None),
    "levels": ({"section": "Chorus", "low": "5", "high": "6"}, SONG, made(SONG, *NOTHING), made(SONG, ("remove_layer", dict(layer_id=P)))),
    "contrast": ({"points": f"{E_OF['Chorus'] - E_OF['Verse'] - 0.1:.2f}"}, SONG, formed("Chorus 8, Drop 8"), None),
    "new half": ({"section": "Chorus"}, LATE_PAD, SONG, None),
    "similar": ({"section": "Chorus", "other": "Verse", "low": "0.4", "high": "0.95"}, VARIED, APART, ONE_LINE),
    "room": ({"section": "Verse", "most": "8"}, SONG, BUSY, SOME),
    "uses": ({"what": "riser and plucked bass"}, RISER, made(SONG, ("remove_layer", dict(layer_id=B))), SONG),
    "without": ({"what": "samples and kick"}, made(SONG, ("remove_layer", dict(layer_id=K))), SAMPLED, SONG),
    "louder": ({"section": "Chorus", "lu": "2", "other": "Verse"}, SONG, SONG, SONG),
}  # fmt: skip
LOUD = {"louder": ({V: -20.0, C: -17.0}, {V: -17.0, C: -20.0}, {V: -20.0, C: -19.0})}


@pytest.mark.parametrize("kind", CRITERION_KINDS)
def test_a_criterion_holds_fails_and_is_partly_met(kind):
    values, *songs = ROWS[kind]
    values = read_values(kind, values)
    found = []
    for song, loud in zip(songs, LOUD.get(kind, (None, None, None))):
        found.append(CRITERION_KINDS[kind].judge(JudgedWork(song, loud), values) if song is not None else None)
    holds, fails, partly = found
    assert holds.share == 1.0 and holds.met and not holds.mend
    if fails is not None:
        assert (
            fails.share == pytest.approx(0.0, abs=1e-9)
            and fails.met is False
            and fails.mend
            and fails.value != holds.value
        )
    if partly is not None:
        assert 0.0 < partly.share < 1.0 and partly.met is False and partly.mend
    for verdict, song in zip(found, songs):
        for e in verdict.evidence if verdict else ():
            assert not e.section_id or e.section_id in song.section_by_id
            assert not e.layer_id or e.layer_id in song.layer_by_id
            assert 0 <= e.first_bar <= e.last_bar <= song.bars
    if kind == "louder":
        assert CRITERION_KINDS[kind].judge(JudgedWork(SONG), values).met is None


@pytest.mark.parametrize("kind", CRITERION_KINDS)
def test_a_criterion_is_read_back_from_its_own_words(kind):
    values = read_values(kind, ROWS[kind][0])
    criterion = Criterion(kind, tuple(sorted(values.items())))
    again = read_sentence(said_of(criterion))
    assert (again.kind, again.values) == (criterion.kind, criterion.values)


# what people say: kind and some of its values, or None where nothing can be measured
SAID = {
    "The chorus is the highest.": ("highest", {"section": "chorus"}),
    "the break is the calmest of all": ("lowest", {"section": "break"}),
    "Verse 1 is 16 bars long": ("length", {"section": "Verse 1", "bars": "16"}),
    "Every verse has eight bars (weight 3)": ("length", {"section": "verse", "bars": "8"}),
    "after bar 32 the first chorus is over": ("edge", {"bar": "32"}),
    "Use no samples or loops": ("without", {"what": "samples or loops"}),
    "stand-ins are forbidden": ("without", {"what": "stand-ins"}),
    "Please use a riser and an echo": ("uses", {"what": "a riser and an echo"}),
    "at most four layers": ("layers", {"low": "0", "high": "4"}),
    "between 5 and 9 layers": ("layers", {"low": "5", "high": "9"}),
    "tempo between 100 and 110 bpm": ("tempo", {"low": "100", "high": "110"}),
    "tempo 96": ("tempo", {"low": "96", "high": "96"}),
    "The song is in D minor": ("key", {"key": "D minor"}),
    "Verse 2 is similar to Verse 1, but not the same": ("similar", {"section": "Verse 2", "other": "Verse 1"}),
    "Leave space for a voice in Verse 1": ("room", {"section": "Verse 1", "most": "8"}),
    "the second half of Verse 2 brings something new": ("new half", {"section": "Verse 2"}),
    "a build before each drop": ("builds", {}),
    "there is a key change": ("key change", {}),
    "The form is intro, verse, chorus and outro": ("order", {"names": "intro, verse, chorus, outro"}),
    "The energy of Verse 1 is between 3 and 5": ("levels", {"section": "Verse 1", "low": "3", "high": "5"}),
    "Chorus 1 is 3 LU louder than Verse 1": ("louder", {"lu": "3"}),
    "it lasts between 2:30 and 3:30": ("lasts", {"low": "2:30", "high": "3:30"}),
    "every layer has a reason": ("reasons", {"percent": "100"}),
    "no join is bare": ("carried", {}),
    "it should feel like rain": None,
    "Chorus has many bars": None,
}  # fmt: skip


@pytest.mark.parametrize("sentence", SAID)
def test_sentences_are_read_as_they_are_meant(sentence):
    found = read_sentence(sentence)
    if SAID[sentence] is None:
        assert found is None
        return
    kind, values = SAID[sentence]
    assert found.kind == kind and values.items() <= found.given.items()
    assert found.weight == (3.0 if "weight 3" in sentence else 1.0)


def test_a_task_has_a_title_criteria_and_what_is_left_to_people():
    found = read_task("The second verse\n- Verse 2 is like Verse 1, but not the same (2)\n- it should rain; No samples. The tempo is 90 to 95.5 bpm.")  # fmt: skip
    assert found.task.title == "The second verse" and found.left == ("it should rain",)
    assert [(c.kind, c.weight) for c in found.task.criteria] == [("similar", 2.0), ("without", 1.0), ("tempo", 1.0)]
    assert task_from_plain(json.loads(json.dumps(task_to_plain(found.task)))) == found.task
    assert read_task("No samples").task.title == "Task" and read_task("x", "Given").task.title == "Given"


# tasks that cannot be set, and what is said
REFUSED = {
    "": "The task is empty",
    "x" * 7000: "6,000 fit",
    "\n".join(f"Part {i} has 8 bars" for i in range(MAX_CRITERIA + 1)): "60 fit",
    "No samples (0). The tempo is 90 to 95 bpm (0).": "All weights are 0",
    "Verse has 8 bars. Verse has 12 bars.": "it cannot have two",
    "The chorus is the highest. The chorus is the lowest.": "cannot be both",
    "The chorus is the highest. The bridge is the highest.": "only one can be",
    "The tempo is 60 to 70 bpm. The tempo is 90 to 95 bpm.": "no value lies in both",
    "The key is C major. The key is D minor.": "cannot be two keys",
    "It uses a riser. No risers.": "there and left out",
    "at most 3 layers. at least 5 layers.": "no value lies in both",
}


@pytest.mark.parametrize("text", REFUSED, ids=lambda t: t[:40] or "empty")
def test_a_task_that_cannot_be_met_is_refused(text):
    with pytest.raises(EditError, match=REFUSED[text]):
        read_task(text)


def test_marks_weigh_count_in_parts_and_are_always_the_same():
    task = read_task(
        "Verse has 8 bars (3). Verse ends with bar 10. Drop is the highest. Chorus is 2 LU louder than Verse."
    ).task
    marks = judge(task, SONG)
    assert [round(m.points, 1) for m in marks.rows] == [50.0, 12.5, 0.0, 0.0] and [m.met for m in marks.rows] == [
        True,
        False,
        False,
        None,
    ]
    assert (
        (marks.points, marks.of) == (62.5, 83.3)
        and judge(task, SONG) == marks
        and set(sections_to_hear(task, SONG)) == {C, V}
    )
    assert "there is no Drop" in marks.rows[2].value
    assert [(c.first_bar, c.last_bar) for c in by_bar(marks)] == [(1, 8)] and "ends with bar 8" in by_bar(marks)[0].said
    told = judge(replace(task, criteria=(replace(task.criteria[1], feedback="Count again."),)), SONG)
    assert told.rows[0].mend.startswith("Count again. Move its end by")
    changed = overridden(marks, 1, 16.0, "the pickup counts")
    assert changed.points == 66.0 and overridden(changed, 1, None, "") == marks
    for number, points, reason, says in (
        (9, 1, "x", "not in the task"),
        (1, 99, "x", "lie outside"),
        (1, 5, " ", "Say why"),
    ):
        with pytest.raises(EditError, match=says):
            overridden(marks, number, points, reason)
    assert judge(Task("x", criteria=(Criterion("unheard of"),)), SONG).rows[0].met is None


@pytest.mark.parametrize("number", range(10))
def test_the_course_is_solved_and_failed_by_its_examples(number):
    row = task_library()[number]
    passes, fails = judge(row.task, row.passes()), judge(row.task, row.fails())
    assert passes.points == passes.of == 100.0, [m.said for m in passes.rows if not m.met]
    assert fails.points < 90.0 and row.task.level == number + 1 and row.task.explanation


def test_a_task_of_a_form_is_solved_by_its_own_song_and_missed_by_another():
    task = task_of_form(FOUR, [s.value for s in arranged(FOUR).sections])
    assert judge(task, FOUR).points == pytest.approx(100.0, abs=0.1) and judge(task, SONG).points < 60
    need_consistent(task.criteria)


@settings(max_examples=40, deadline=None)
@given(st.text(max_size=120))
def test_any_text_is_read_or_refused_with_a_sentence(text):
    try:
        found = read_task(text)
    except EditError as error:
        assert len(str(error)) > 20
        return
    for criterion in found.task.criteria:
        assert read_sentence(said_of(criterion)) is not None
    assert judge(found.task, SONG).of <= 100.1


@pytest.mark.parametrize(
    "plain, says",
    [
        ([], "no task"),
        ({"format": "escalera-task", "version": 9, "task": {}}, "version 9"),
        ({"format": "escalera-task", "version": 1, "task": {"title": ""}}, "title"),
        (
            {
                "format": "escalera-task",
                "version": 1,
                "task": {"title": "x", "criteria": [{"kind": "length", "weight": -1}]},
            },
            "weight",
        ),
        ({"format": "escalera-task", "version": 1, "task": {"title": "x", "extra": 1}}, "extra"),
    ],
)
def test_a_task_from_outside_is_checked(plain, says):
    with pytest.raises(FormatError, match=says):
        task_from_plain(plain)


def test_shared_lines_are_pointed_out_where_two_have_what_the_rest_has_not():
    works = {f"s{i}": frozenset(f"{i}.{k}" for k in range(6)) | {"given"} for i in range(6)}
    assert shared_lines(works) == []
    works["copy"] = frozenset({"0.0", "0.1", "0.2", "own"})
    (found,) = shared_lines(works)
    assert (
        {found.one, found.other} == {"s0", "copy"} and (found.count, found.of) == (3, 4) and "Ask before" in found.said
    )
    assert lines_of_work(SONG) and not lines_of_work(SONG, lines_of_work(SONG))
