"""Sets of songs: how they run, what tires or jars in them, other orders, and that nothing is lost whatever is done with them."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.document.work_state import StageMark, WorkState
from escalera.core.planning.song_facts import Edge, SongFacts, Step
from escalera.core.sets import song_set as acts
from escalera.core.sets.set_checks import SET_CHECKS, set_findings
from escalera.core.sets.set_order import PEAK_AT, SET_SHAPES, best_order
from escalera.core.sets.set_reading import fifths_apart, nearest_ratio, read_set
from escalera.core.sets.song_set import KINDS, SetEntry, SongSet, set_from_plain, set_to_plain
from escalera.core.theory.keys import parse_key
from escalera.errors import EditError, FormatError
from tests.planned import TODAY


def facts(title="Song", tempo=100.0, key="C major", mean=5.0, seconds=200.0, stage="mastered", ends=2.0, silent=0.0):
    """What is known of a made-up song of one section."""
    parsed = parse_key(key)
    edge = Edge("Part", ends, tempo, parsed.tonic_class, parsed.is_minor, ("drums",), silent)
    step = Step("Part", "verse", 32, seconds, mean, mean, mean, mean)
    work = WorkState((StageMark(stage, TODAY),)) if stage != "demo" else WorkState()
    return SongFacts(title, tempo, "4/4", key, parsed.tonic_class, parsed.is_minor, "balanced", 32, seconds, 5, ("Kick",), (step,), edge, edge, (), work, ())  # fmt: skip


def a_set(*songs, kind="album", gap=2.0, wanted=0.0):
    """A set of these songs in order, as it runs."""
    entries = tuple(SetEntry(i, i, gap) for i in range(1, len(songs) + 1))
    made = SongSet("Set", kind, entries, wanted_min=wanted, next_id=len(songs) + 1)
    return read_set(made, dict(enumerate(songs, 1)))


CURVE = [facts("A", 96, "C major", 4.0), facts("B", 118, "G major", 5.5), facts("C", 84, "E minor", 3.0), facts("D", 126, "D major", 7.5), facts("E", 92, "G major", 4.5)]  # fmt: skip
FORTH = [facts(f"S{i}", 100 + i, "C major", 5.0) for i in range(3)]
# check: a set in which it fires with words of what is said, one in which it does not
ROWS = {
    "alike": (a_set(*FORTH), "S0, S1, S2 follow each other at 100 to 102 bpm", a_set(FORTH[0], CURVE[3], *FORTH[1:])),
    "one key": (a_set(facts("A", 80), facts("B", 120, mean=7), facts("C", 100)), "are all in C major, for 10:04", a_set(*CURVE)),
    "early peak": (a_set(CURVE[3], *CURVE[:3], CURVE[4]), "D, the strongest with 7.5, is over after 20 %", a_set(*CURVE)),
    "flat": (a_set(*(facts(f"S{i}", 80 + 9 * i, "C major", 5.0 + 0.2 * i) for i in range(4))), "lie between 5.0 and 5.6", a_set(*CURVE)),
    "tempo jump": (a_set(facts("A", 80), facts("B", 112), gap=0.5), "changes by +40 % with 0.5 s between", a_set(facts("A", 80), facts("B", 158), gap=0.5)),
    "keys clash": (a_set(facts("A"), facts("B", key="F# major"), gap=0.5), "6 fifths apart", a_set(facts("A"), facts("B", key="A minor"), gap=0.5)),
    "energy falls": (a_set(facts("A", mean=9.0), facts("B", mean=3.0), kind="live set"), "falls from 9.0 to 3.0", a_set(*CURVE, kind="live set")),
    "long gap": (a_set(facts("A", silent=5.0), facts("B"), gap=2.0), "7.0 s pass in silence", a_set(facts("A"), facts("B"))),
    "too long": (a_set(*CURVE, wanted=15), "It lasts 16:48, 1:48 more than it may", a_set(*CURVE, wanted=17)),
    "unfinished": (a_set(facts("A", stage="demo"), facts("B")), "1 of 2 songs are not mastered yet: 1 demo", a_set(facts("A"), facts("B", stage="released"))),
    "twice": (replace(a_set(*CURVE), songs=(*a_set(*CURVE).songs, a_set(*CURVE).songs[0])), "at place 1 and again at 6", a_set(*CURVE)),
}  # fmt: skip


@pytest.mark.parametrize("check", SET_CHECKS)
def test_a_check_of_sets_fires_where_it_should_and_nowhere_else(check):
    there, says, not_there = ROWS[check]
    (found,) = [f for f in set_findings(there) if f.check == check]
    assert says in found.said and found.remedy and all(0 <= p < len(there.songs) for p in found.places)
    assert check not in {f.check for f in set_findings(not_there)}
    kinds = SET_CHECKS[check].kinds
    other = next((k for k in KINDS if kinds and k not in kinds), None)
    assert other is None or check not in {f.check for f in set_findings(replace(there, kind=other))}


def test_a_set_runs_with_its_gaps_and_its_joins_are_measured():
    read = a_set(facts("A", 90, "A minor", seconds=100, silent=1.0), facts("B", 180, "C major", seconds=50), gap=3.0)
    assert (read.seconds, read.gaps_s, [p.begins_s for p in read.songs]) == (153.0, 3.0, [0.0, 103.0])
    (found,) = read.joins
    assert (found.silent_s, found.tempo_ratio, found.tempo_feel, found.fifths, found.semitones) == (
        4.0,
        1.0,
        "double time",
        0,
        3,
    )
    assert "90 → 180 bpm, double time; the relative key" in found.said and not found.seamless
    gone = read_set(SongSet("Set", entries=(SetEntry(1, 1), SetEntry(2, 9)), next_id=3), {1: facts()})
    assert [e.song_id for e in gone.missing] == [9] and len(gone.songs) == 1


@pytest.mark.parametrize("old, new, ratio, feel", [(100, 120, 1.2, ""), (120, 62, 1.03, "half time"), (70, 138, 0.99, "double time"), (100, 100, 1.0, "")])  # fmt: skip
def test_tempi_are_compared_as_they_are_felt(old, new, ratio, feel):
    found = nearest_ratio(old, new)
    assert (round(found[0], 2), found[1]) == (ratio, feel)


@pytest.mark.parametrize("one, other, apart", [("C major", "C major", 0), ("C major", "A minor", 0), ("C major", "G major", 1), ("C major", "F major", 1), ("C major", "F# major", 6), ("A minor", "E minor", 1), ("C major", "Db major", 5)])  # fmt: skip
def test_keys_are_compared_on_the_circle_of_fifths(one, other, apart):
    keys = [parse_key(k) for k in (one, other)]
    assert fifths_apart(*(v for k in keys for v in (k.tonic_class, k.is_minor))) == apart


KEYS = ("C major", "A minor", "F# major", "D minor", "E major", "Bb major")


@settings(max_examples=25, deadline=None)
@given(st.lists(st.tuples(st.integers(60, 180), st.sampled_from(KEYS), st.floats(2, 9)), min_size=4, max_size=12), st.sampled_from(sorted(SET_SHAPES)))  # fmt: skip
def test_another_order_holds_the_same_songs_keeps_what_is_fixed_and_is_found_again(rows, shape):
    songs = {i: facts(f"S{i}", t, k, m) for i, (t, k, m) in enumerate(rows, 1)}
    entries = [SetEntry(i, i) for i in songs]
    found = best_order(entries, songs, shape, fixed=(1,))
    assert sorted(found) == sorted(songs) and found[0] == 1 and found == best_order(entries, songs, shape, fixed=(1,))


def test_a_late_peak_is_put_late_and_jars_less_than_chance():
    songs = dict(enumerate((facts("Top", 128, "A minor", 9.0), *CURVE, facts("F", 127, "F# major", 6.0), facts("G", 90, "C major", 2.5)), 1))  # fmt: skip
    entries = [SetEntry(i, i) for i in songs]
    order = best_order(entries, songs, "late peak")
    by_id = {e.id: e for e in entries}
    read = read_set(SongSet("x", entries=tuple(by_id[i] for i in order), next_id=99), songs)
    place = next(p for p in read.songs if p.facts.title == "Top")
    assert abs((place.begins_s + place.ends_s) / 2 / read.seconds - PEAK_AT) < 0.2
    before = read_set(SongSet("x", entries=tuple(entries), next_id=99), songs)
    leaps = [sum(abs(j.tempo_ratio - 1) for j in r.joins) for r in (before, read)]
    assert leaps[1] < leaps[0] and {f.check for f in set_findings(read)} <= {f.check for f in set_findings(before)}


# what can be done with a set -------------------------------------------------------------------------------------

ACTS = st.one_of(
    st.builds(lambda i, p: lambda s: acts.with_song(s, i, f"Song {i}", "Mira", p), st.integers(1, 9), st.booleans()),
    st.builds(lambda n: lambda s: acts.without_song(s, n, "x"), st.integers(1, 8)),
    st.builds(lambda n, p: lambda s: acts.moved(s, n, p, "x"), st.integers(1, 8), st.integers(0, 9)),
    st.builds(lambda n, g: lambda s: acts.with_entry(s, n, "x", gap_s=g, note="why"), st.integers(1, 8), st.floats(-5, 700)),
    st.builds(lambda n, v: lambda s: acts.with_entry(s, n, "x", state=v), st.integers(1, 8), st.sampled_from(["proposed", "tried", "chosen", "maybe"])),
    st.builds(lambda n: lambda s: acts.with_kept_order(s, n, "Joris", "it flows"), st.sampled_from(["one", "two", " "])),
    st.builds(lambda n: lambda s: acts.with_order(s, n), st.sampled_from(["one", "two"])),
    st.builds(lambda n: lambda s: acts.without_order(s, n), st.sampled_from(["one", "two"])),
    st.builds(lambda k, w: lambda s: acts.with_settings(s, "New name", k, w), st.sampled_from([*KINDS, "box"]), st.floats(-1, 700)),
)  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(st.lists(ACTS, max_size=14))
def test_a_set_stays_whole_whatever_is_done_with_it(steps):
    found = SongSet("Set")
    for act in steps:
        try:
            after, said = act(found)
        except EditError as error:
            assert len(str(error)) > 20
            continue
        assert said and set_from_plain(set_to_plain(after)) == after
        assert len({e.id for e in after.entries}) == len(after.entries)
        found = after


@pytest.mark.parametrize(
    "change, says",
    [
        (dict(name=""), "The set cannot be used: name"),
        (dict(entries=[{"id": 1, "song_id": 1}, {"id": 1, "song_id": 2}], next_id=5), "the same id"),
        (dict(entries=[{"id": 7, "song_id": 1}], next_id=5), "not below next_id"),
        (dict(orders=[{"name": "x", "entries": [3]}]), "names an entry that is not there"),
        (dict(entries=[{"id": 1, "song_id": 1, "gap_s": 1e9}], next_id=5), "gap_s"),
        (dict(extra=1), "extra"),
    ],
)
def test_a_set_from_outside_that_does_not_hold_together_is_refused(change, says):
    with pytest.raises(FormatError, match=says):
        set_from_plain({"name": "Set", "kind": "album", **change})
