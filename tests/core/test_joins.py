"""What carries a join: every kind of device on a song of the demo, builds, and what becomes of them when sections move."""

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from escalera.core.document.carriers import TENSION_SHAPES, Build, tension_at
from escalera.core.document.codec import from_plain, to_plain
from escalera.core.edits import EDITS
from escalera.core.edits.join_edits import distance_ticks, loop_text, loop_ticks
from escalera.core.energy.join_reading import read_join, read_joins
from escalera.core.joins import device_tiles, played
from escalera.core.joins.actions import roll_onsets
from escalera.core.palette.join_kinds import JOIN_KINDS, PURPOSES
from escalera.core.reading.events import DURATION, PITCH, START, layer_events
from escalera.core.reading.timeline import timeline
from escalera.core.time.metre import Metre
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from escalera.services.demo import demo_songs
from tests.songs import edits_for, small_song

HARBOUR, ENGINES = demo_songs()
BEAT = 960
NAMED = {s.name: s.id for s in HARBOUR.sections}
C, LEFT = NAMED["Chorus 1"], NAMED["Lift 1"]
LENGTH = timeline(HARBOUR).span_of(LEFT).length_ticks


def do(song, *steps):
    for kind, *args in steps:
        song = (
            EDITS[kind](*args[:-1], **args[-1]).apply(song)
            if args and isinstance(args[-1], dict)
            else EDITS[kind](*args).apply(song)
        )
    return song


def notes(song, section, layer, low=-(10**9), high=10**9):
    """(start, duration, pitch) of a layer in a section as it is played, by start."""
    song = played(song)
    table = layer_events(song, timeline(song).span_of(section), song.layer_by_id[layer]).table
    return [tuple(int(v) for v in row[[START, DURATION, PITCH]]) for row in table if low <= row[START] < high]


def starting(song, low, high, *, families=(), drums=None, section=LEFT):
    """How many notes start in a stretch, counted from the one, of layers of some families."""
    found = [
        x for x in song.layers if (not families or x.family in families) and (drums is None or x.sound.is_drum == drums)
    ]
    base = LENGTH if section == LEFT else 0
    return sum(len(notes(song, section, x.id, base + low, base + high)) for x in found if not x.muted)


def device(song, section=C):
    return song.section_by_id[section].devices[0]


def own(song, section=LEFT):
    return notes(song, section, device(song).layer_id)


def curve(song, lane_end, section=LEFT):
    return [c for c in played(song).section_by_id[section].curves if c.lane.endswith(lane_end)]


# kind: what must hold of the song with one of it at the join into Chorus 1
HOLDS = {
    "riser": lambda s: (LENGTH - 8 * BEAT, 8 * BEAT) in [n[:2] for n in own(s)], "sweep-up": lambda s: (LENGTH - 4 * BEAT, 4 * BEAT) in [n[:2] for n in own(s)],
    "sweep-down": lambda s: own(s, C)[0][:2] == (0, 8 * BEAT), "impact": lambda s: own(s, C)[0][0] == 0, "crash": lambda s: own(s, C)[0][0] == 0, "sub-drop": lambda s: own(s, C)[0][0] == 0,
    "reversed-crash": lambda s: own(s)[-1][:2] == (LENGTH - 4 * BEAT, 4 * BEAT),
    "reversed-chord": lambda s: {n[2] % 12 for n in own(s) if n[0] == LENGTH - 4 * BEAT} == {10, 3, 7},
    "drawn-out": lambda s: max(n[0] + n[1] for n in own(s)) == LENGTH, "fill": lambda s: starting(s, -BEAT, 0, drums=True) >= 3 and starting(s, -4 * BEAT, 0, drums=True) != starting(HARBOUR, -4 * BEAT, 0, drums=True),
    "roll": lambda s: [n[0] + n[1] for n in own(s)][-1] == LENGTH and len([n for n in own(s) if n[0] >= LENGTH - BEAT]) == 8, "shout": lambda s: own(s)[-1][:2] == (LENGTH - BEAT, BEAT),
    "filter-open": lambda s: 16_000 in {round(c.points[-1][1]) for c in curve(s, "lowpass_hz")}, "filter-close": lambda s: 500 in {round(c.points[-1][1]) for c in curve(s, "lowpass_hz")},
    "turnaround": lambda s: [n[0] for n in own(s)][-4:] == [LENGTH - k * BEAT for k in (4, 3, 2, 1)] and [n[2] for n in own(s)][-4:] == sorted((n[2] for n in own(s)[-4:]), reverse=True), "stop": lambda s: starting(s, -4 * BEAT, 0, drums=True) == 0 < starting(s, -4 * BEAT, 0, families=("voices", "leads")),
    "breath": lambda s: starting(s, -BEAT // 2, 0) == 0 < starting(s, -BEAT, 0), "gap": lambda s: starting(s, -BEAT, 0) == 0 and curve(s, "master.level_db")[0].points[-1][1] == -60,
    "beat-out": lambda s: starting(s, -2 * BEAT, 0, drums=True) == starting(s, -2 * BEAT, 0, families=("low end",)) == 0 < starting(s, -2 * BEAT, 0),
    "held-chord": lambda s: all(n[0] + n[1] == LENGTH for x in s.layers if x.family == "chords" for n in notes(s, LEFT, x.id, LENGTH - 4 * BEAT)) and starting(s, -4 * BEAT, 0, drums=True) == 0,
    "echo-throw": lambda s: [(t.start_ticks, t.end_ticks, t.to) for t in played(s).section_by_id[LEFT].throws][-1] == (LENGTH - BEAT, LENGTH, "echo"),
    "overlap": lambda s: len(curve(s, "level_db", C)) > len(curve(HARBOUR, "level_db", C)), "pickup": lambda s: own(s)[-1][0] == LENGTH - BEAT // 2 and 0 < own(s, C)[0][2] - own(s)[-1][2] <= 2,
    "tempo-ease": lambda s: timeline(s).span_of(C).start_seconds > timeline(HARBOUR).span_of(C).start_seconds and timeline(s).span_of(C).tempo_points[0].bpm == 104,
    "mute-pattern": lambda s: starting(s, -4 * BEAT, 0, families=("chords",)) < starting(HARBOUR, -4 * BEAT, 0, families=("chords",)),
}  # fmt: skip


def holds(kind, song):
    try:
        return HOLDS[kind](song)
    except (IndexError, ValueError):  # nothing is there to look at
        return False


# kinds that make nothing where what they work on is not there: a join between two silent sections
EMPTY = do(small_song(), ("add_section", "One", "", 8), ("add_section", "Two", "", 8))
TWO = next(s.id for s in EMPTY.sections if s.name == "Two")
NEEDS = {"drawn-out", "turnaround", "pickup", "mute-pattern", "echo-throw"}


@pytest.mark.parametrize("kind", JOIN_KINDS)
def test_a_device_does_what_it_says_and_nothing_to_the_document(kind):
    song = do(HARBOUR, ("add_device", C, kind))
    assert HOLDS[kind](song)
    assert JOIN_KINDS[kind].purpose in PURPOSES and validate(song)
    assert song.section_by_id[LEFT] == HARBOUR.section_by_id[LEFT], "what stands before the join is not edited"
    assert to_plain(from_plain(to_plain(song, True)), True) == to_plain(song, True)
    silent = do(song, ("park_device", C, device(song).id))
    assert kind in ("crash", "impact") or not holds(kind, silent), (
        "at rest it does not hold"
    )  # the chorus has both by itself
    assert played(silent).section_by_id[LEFT].placements == HARBOUR.section_by_id[LEFT].placements
    if kind in NEEDS:
        with pytest.raises(EditError, match="needs a layer"):
            do(EMPTY, ("add_device", TWO, kind))
    else:
        before = played(do(EMPTY, ("add_device", TWO, kind))).section_by_id
        assert all(len(s.placements) <= 1 for s in before.values() if s.name in ("One", "Two"))


def test_every_kind_has_a_row():
    assert set(HOLDS) == set(JOIN_KINDS)


@pytest.mark.parametrize(
    "kind, args, says",
    [
        (
            "add_device",
            dict(device="gap", start_ticks=-17 * BEAT),
            "would begin 17 beats before Chorus 1, but Lift 1 is 16",
        ),
        ("add_device", dict(device="horn"), "is not a device"),
        ("add_device", dict(device="roll", settings={"swing": 1}), "has no parameter"),
        ("add_device", dict(device="roll", settings={"from_velocity": 200}), "outside 1 to 127"),
        ("set_device", dict(device_id=99_999), "is not at the join"),
        ("set_build", dict(bars=5), "does not fit into Lift 1, which has 4"),
        ("set_build", dict(bars=2, gap_ticks=9 * BEAT), "A stop of 9 beats does not fit"),
        ("remove_build", {}, "Nothing builds into Chorus 1"),
    ],
)
def test_what_cannot_be_is_refused_with_a_sentence(kind, args, says):
    with pytest.raises(EditError, match=says):
        EDITS[kind](section_id=C, **args).apply(HARBOUR)


@pytest.mark.parametrize("text, ticks", [
    ("-4", -3840), ("−2 bars", -7680), ("1 bar 2 beats", 5760), ("-1/2 beat", -480), ("1/4", 240), ("0,5 beats", 480), ("120 ticks", 120), ("3 sixteenths", 720), ("0", 0),
])  # fmt: skip
def test_distances_are_read_as_they_are_said(text, ticks):
    assert distance_ticks(text, Metre()) == ticks


@pytest.mark.parametrize("text", ["soon", "", "4 apples", "--", "1 bar, then 2"])
def test_what_is_no_distance_is_refused(text):
    with pytest.raises(EditError):
        distance_ticks(text, Metre())


@pytest.mark.parametrize("text, ticks", [("4, 2, 1, 1/2, 1/4", (15360, 7680, 3840, 1920, 960)), ("2 bars; 1; 2 beats; 1", (7680, 3840, 1920, 960)), ("", ())])  # fmt: skip
def test_loops_are_read_in_bars_and_said_again(text, ticks):
    assert loop_ticks(text, Metre()) == ticks
    assert loop_ticks(loop_text(Build(loops_ticks=ticks), Metre()), Metre()) == ticks
    with pytest.raises(EditError, match="is no loop length"):
        loop_ticks("one", Metre())


def test_a_riser_longer_than_what_lies_before_it_begins_with_the_song():
    verse = NAMED["Verse 1"]
    song = do(HARBOUR, ("add_device", verse, "riser", dict(start_ticks=-64 * BEAT, length_ticks=64 * BEAT)))
    first = notes(song, NAMED["Intro"], device(song, verse).layer_id)
    assert first[0][:2] == (0, timeline(HARBOUR).span_of(NAMED["Intro"]).length_ticks)
    long = do(HARBOUR, ("add_device", C, "riser", dict(start_ticks=-32 * BEAT, length_ticks=32 * BEAT)))
    assert (timeline(HARBOUR).span_of(NAMED["Verse 1"]).length_ticks - 16 * BEAT, 32 * BEAT) in [
        n[:2] for n in notes(long, NAMED["Verse 1"], device(long).layer_id)
    ]


def test_what_climbs_ends_where_the_gap_begins():
    song = do(HARBOUR, *(("add_device", C, kind) for kind in ("riser", "roll", "held-chord", "gap")))
    by_kind = {d.kind: d.layer_id for d in song.section_by_id[C].devices}
    assert read_join(song, song.index_of(C)).gap_beats == 1, "a held chord ends there too"
    for kind in ("riser", "roll"):
        assert max(n[0] + n[1] for n in notes(song, LEFT, by_kind[kind]) if n[0] >= LENGTH - 8 * BEAT) == LENGTH - BEAT


@pytest.mark.parametrize("first, last, length, count", [("1/4", "1/32", 8 * BEAT, 2 + 4 + 8 + 16), ("1/16", "1/16", BEAT, 4), ("1/8", "1/4", 4 * BEAT, 4 + 2)])  # fmt: skip
def test_a_roll_ends_with_a_whole_hit(first, last, length, count):
    onsets = roll_onsets(-length, 0, first, last)
    assert len(onsets) == count and onsets[0] == -length and onsets[-1] == -3840 // int(last[2:])


def test_devices_follow_their_section_and_are_kept_when_their_join_goes():
    song = do(HARBOUR, ("add_device", C, "riser"), ("set_build", C, dict(bars=2)))
    moved = do(song, ("move_section", C, 1))
    assert moved.section_by_id[C].devices == song.section_by_id[C].devices
    gone = do(song, ("remove_section", C))
    heir = gone.sections[song.index_of(C)]
    assert [d.kind for d in heir.devices if d.parked] == ["riser"] and heir.build.parked
    assert played(gone).section_by_id[LEFT].placements == HARBOUR.section_by_id[LEFT].placements
    merged = do(song, ("merge_sections", LEFT)).section_by_id[LEFT]
    assert [d.parked for d in merged.devices] == [True]
    doubled = do(song, ("duplicate_section", C))
    copy = doubled.sections[doubled.index_of(C) + 1]
    assert copy.devices[0].kind == "riser" and copy.devices[0].id != device(song).id and validate(doubled)
    without = do(song, ("remove_layer", device(song).layer_id))
    assert device(without).layer_id == 0 and validate(without)


BUILT = dict(bars=4, keeps=[22], shows=[], loops_ticks=[4 * 3840, 3840, 1920, 960], rolls=True, filter_from_hz=300, gap_ticks=BEAT, lows_out_ticks=4 * BEAT, doubles=True, rise_semitones=3)  # fmt: skip


def shown_build(**changes):
    leads = [
        x.id
        for x in HARBOUR.layers
        if x.family == "leads" and any(p.layer_id == x.id for p in HARBOUR.section_by_id[C].placements)
    ]
    chords = [
        x.id
        for x in HARBOUR.layers
        if x.family == "chords" and any(p.layer_id == x.id for p in HARBOUR.section_by_id[LEFT].placements)
    ]
    return do(HARBOUR, ("set_build", C, {**BUILT, "keeps": chords, "shows": leads[:1], **changes})), leads[0], chords[0]


def test_a_build_loops_shorter_rolls_faster_opens_and_stops():
    song, lead, chord = shown_build()
    assert validate(song) and starting(song, -BEAT, 0) == 0
    roller = song.section_by_id[C].build.roll_layer_id
    hits = [n[0] for n in notes(song, LEFT, roller)]
    counts = [sum(LENGTH - (b + 1) * BEAT <= h < LENGTH - b * BEAT for h in hits) for b in (12, 8, 4, 1)]
    assert counts == sorted(counts) and counts[-1] == 8
    bass = [x.id for x in song.layers if x.family == "low end" or x.sound.is_kick]
    assert not [n for x in bass for n in notes(song, LEFT, x, LENGTH - 4 * BEAT)]
    lows = {c.lane: [v for _, v, _ in c.points] for c in curve(song, "lowpass_hz")}
    assert (
        lows[f"layer.{lead}.lowpass_hz"][0] == pytest.approx(300, rel=0.1)
        and lows[f"layer.{chord}.lowpass_hz"][-1] > 10_000
    )
    patterns = played(song).pattern_by_id
    lengths = [
        patterns[p.pattern_id].pattern.length_ticks
        for p in played(song).section_by_id[LEFT].placements
        if p.layer_id == chord
    ]
    assert lengths == sorted(lengths, reverse=True) and lengths[-1] == 960


@pytest.mark.parametrize("shape", TENSION_SHAPES)
def test_shapes_of_tension_start_low_and_end_at_the_top(shape):
    line = [tension_at(shape, i / 64) for i in range(65)]
    assert line[0] == 0 and line[-1] == pytest.approx(1.0) and max(line) == line[-1]
    falls = [a - b for a, b in zip(line, line[1:])]
    assert (max(falls) > 0.3) == (shape in ("two waves", "false drop"))


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.data())
def test_whatever_is_edited_plays_saves_and_loses_no_device(data):
    """Long random edits, joins among them: what plays is whole, what is saved comes back, devices go only when they are taken away."""
    song = do(small_song(), ("add_device", 2, "riser"), ("add_device", 2, "gap"))
    for _ in range(data.draw(st.integers(4, 10))):
        edit = data.draw(edits_for(song))
        kinds = sorted(d.kind for s in song.sections for d in s.devices)
        try:
            after = edit.apply(song)
        except EditError:
            continue
        if getattr(edit, "kind", "") not in (
            "remove_device",
            "write_device",
            "copy_join",
            "lay_out",
            "arrange",  # what carried the joins gives way to what the layout wants
            "exchange_body",
        ) and all(len(s.devices) < 20 for s in after.sections):
            left = sorted(d.kind for s in after.sections for d in s.devices)
            assert not [k for k in set(kinds) if left.count(k) < kinds.count(k)], edit
        song = after
    validate(song)
    assert from_plain(to_plain(song, True)) == from_plain(to_plain(from_plain(to_plain(song, True)), True))
    plays_whole(song)


def plays_whole(song):
    """What is played lies inside its sections, as long as they are written; tension and gaps are in range."""
    heard = played(song)
    line = timeline(heard)
    assert [s.length_ticks for s in line.spans] == [s.length_ticks for s in timeline(song).spans]
    for span in line.spans:
        for layer in heard.layers:
            table = layer_events(heard, span, layer).table
            assert (table[:, DURATION] > 0).all() and (table[:, START] < span.length_ticks).all()
        for each in span.section.curves:
            ticks = [t for t, _, _ in each.points]
            assert ticks == sorted(set(ticks)) and ticks[0] >= 0 and ticks[-1] <= span.length_ticks + 1
    for reading in read_joins(song):
        assert 0 <= float(reading.tension.min()) <= float(reading.tension.max()) <= 1 and reading.gap_ticks >= 0


def test_tiles_say_where_devices_play():
    song = do(HARBOUR, ("add_device", C, "sweep-up"), ("add_device", C, "impact"))
    by_kind = {d.kind: d.layer_id for d in song.section_by_id[C].devices}
    before = device_tiles(HARBOUR)
    found = device_tiles(song)
    assert found[by_kind["sweep-up"]] - before.get(by_kind["sweep-up"], frozenset()) == {(LEFT, 0)}
    assert found[by_kind["impact"]] - before.get(by_kind["impact"], frozenset()) == {(C, 0)}
    assert device_tiles(small_song()) == {}
