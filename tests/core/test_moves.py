"""Every kind of move: where it applies, what it must and must not change, where it does not; the effect shown is the effect had."""

import random
from contextlib import suppress
from itertools import combinations

import pytest

from benchmarks.songs import generated
from escalera.core.document.shaping import layer_in
from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged, section_energy
from escalera.core.moves import KINDS, apply_move, find_move, moves_for
from escalera.core.moves.advice import AGAINST_ROLE, Advice, may_join
from escalera.core.moves.move import ELSEWHERE, FORM, HERE, NEIGHBOUR
from escalera.core.moves.previews import preview
from escalera.core.moves.suggestions import sameness, suggest, suggest_song
from escalera.core.reading.events import DURATION, START, layer_events, sounding_layers
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.validation.whole import validate
from escalera.errors import EditError
from escalera.services.demo import demo_songs
from tests.singing import MOVE_ROWS, MOVE_SONGS
from tests.songs import HATS, ids, small_song

BASE = small_song()
NAME = ids(BASE)
V, C, K, P, B = (NAME[n] for n in ("Verse", "Chorus", "Round kick", "Soft pad", "Plucked bass"))
HATTED = EDITS["add_layer"]("tin-hat", rows=HATS, length_ticks=3840).apply(BASE)
HAT = next(x.id for x in HATTED.layers if x.sound_key == "tin-hat")
HATTED = EDITS["place"](C, HAT, HATTED.layer_by_id[HAT].pattern_id).apply(HATTED)
HALF = EDITS["toggle_tile"](C, P, 0).apply(HATTED)
HARBOUR, ENGINES = demo_songs()
BARE = EDITS["add_section"]("Empty", "", 8).apply(BASE)
LOUD = EDITS["set_control"](P, "level_db", 4).apply(BASE)
PARKED = EDITS["lift"](C, P).apply(EDITS["park_body"](C, "With the pad").apply(BASE))
PARKED = EDITS["exchange_body"](C, PARKED.section_by_id[C].parked[0].id).apply(PARKED)
WALTZ = EDITS["set_metre"]("2/4").apply(BASE)
SONGS = {
    "waltz": WALTZ,
    "loud": LOUD,
    "parked": PARKED,
    "small": HATTED,
    "half": HALF,
    "harbour": HARBOUR,
    "engines": ENGINES,
    "empty": BARE,
}


def of(song, name):
    return next(s for s in song.sections if s.name == name)


def heard(song, section):
    return {x.name for x in sounding_layers(song, song.section_by_id[section.id])}


def onsets(song, section, name=None, families=()):
    span = timeline(song).span_of(section.id)
    return sum(
        len(layer_events(song, span, x).table)
        for x in sounding_layers(song, song.section_by_id[section.id])
        if (x.name == name if name else not families or x.family in families)
    )


def phrase_layers(song, section):
    here = song.section_by_id[section.id]
    return [
        {p.layer_id for p in here.placements if p.start_ticks < b and p.end_ticks > a}
        for a, b in timeline(song).span_of(here.id).phrase_ticks()
    ]


def fewer(a, b, s):
    return heard(b, s) < heard(a, s)


def more(a, b, s):
    return heard(b, s) > heard(a, s)


def slopes(a, b, s):
    return any(p.variation.slope > 0 for p in b.section_by_id[s.id].placements)


def after_it(b, s):
    return b.sections[b.index_of(s.id) + 1]


# kind: (song, section, what must hold of before, after and section), (song, section) where it does not apply
ROWS = {
    "bring in": ("small", "Verse", more, ("empty", "none")), "fill": ("half", "Chorus", lambda a, b, s: phrase_layers(b, s)[0] > phrase_layers(a, s)[0], ("small", "Chorus")),
    "lift": ("small", "Chorus", fewer, ("empty", "Empty")), "thin": ("small", "Chorus", lambda a, b, s: onsets(b, s) < onsets(a, s), ("empty", "Empty")),
    "double": ("small", "Chorus", lambda a, b, s: onsets(b, s, "Tin hat") == 2 * onsets(a, s, "Tin hat"), ("small", "Verse")), "open": ("small", "Chorus", slopes, ("small", "Verse")),
    "close": ("small", "Chorus", lambda a, b, s: any(p.variation.lowpass_end_hz == 500 for p in b.section_by_id[s.id].placements), ("small", "Verse")),
    "no kick": ("harbour", "Chorus 1", lambda a, b, s: heard(a, s) - heard(b, s) == {"Round kick"}, ("harbour", "Break")),
    "full kit": ("harbour", "Break", lambda a, b, s: {"Round kick", "Room snare", "Tin hats"} <= heard(b, s), ("harbour", "Chorus 1")),
    "thin drums": ("harbour", "Chorus 2", lambda a, b, s: onsets(b, s, "Tin hats") < onsets(a, s, "Tin hats") and onsets(b, s, "Round kick") == onsets(a, s, "Round kick"), ("harbour", "Break")),
    "half time": ("harbour", "Chorus 1", lambda a, b, s: onsets(b, s, "Room snare") < onsets(a, s, "Room snare"), ("harbour", "Break")),
    "ride": ("harbour", "Chorus 1", lambda a, b, s: any(x.sound.drum == "ride" for x in sounding_layers(b, b.section_by_id[s.id])), ("harbour", "Break")),
    "crash": ("harbour", "Verse 1", lambda a, b, s: "Crash" in heard(b, s) and onsets(b, s, "Crash") == 1, ("harbour", "Chorus 1")),
    "sixteenths": ("harbour", "Chorus 1", lambda a, b, s: onsets(b, s, "Shaker") == 16 * s.bars, ("harbour", "Chorus 2")),
    "hold the sub": ("harbour", "Chorus 1", lambda a, b, s: len(phrase_layers(b, s)[0]) < len(phrase_layers(a, s)[0]) and phrase_layers(b, s)[1] == phrase_layers(a, s)[1], ("harbour", "Break")),
    "sub in": ("harbour", "Verse 2", lambda a, b, s: "Sub sine" in heard(b, s), ("harbour", "Chorus 1")),
    "bass waits": ("small", "Verse", lambda a, b, s: onsets(b, s, "Plucked bass") == onsets(a, s, "Plucked bass") * 6 // 8, ("empty", "Empty")),
    "strip": ("harbour", "Chorus 1", lambda a, b, s: len(heard(b, s)) == 1, ("empty", "Empty")),
    "bass and drums": ("harbour", "Chorus 1", lambda a, b, s: all(x.family in ("drums", "low end") for x in sounding_layers(b, b.section_by_id[s.id])), ("small", "Verse")),
    "octave up": ("small", "Chorus", lambda a, b, s: len(heard(b, s)) == len(heard(a, s)) + 1 and any(x.octave == 1 for x in b.layers), ("small", "Verse")),
    "narrow": ("harbour", "Chorus 1", lambda a, b, s: any(t.lane == "pan" and abs(t.value) < abs(a.layer_by_id[t.layer_id].pan) for t in b.section_by_id[s.id].treatments) or [dict(d.settings)["amount"] for x in b.layers for d in x.devices if d.key == "widen"] == [0.4], ("empty", "Empty")),
    "widen": ("small", "Chorus", lambda a, b, s: [(d.key in ("widen", "double"), d.on) for x in b.layers for d in x.devices] == [(True, False)] and [len(x.treatments) for x in b.sections if x.name == "Chorus"] == [1], ("small", "Verse")),
    "other sound": ("harbour", "Chorus 1", lambda a, b, s: len(heard(b, s)) == len(heard(a, s)) and len(b.layers) == len(a.layers) + 1, ("small", "Chorus")),
    "thicken": ("harbour", "Chorus 3", lambda a, b, s: onsets(b, s) > onsets(a, s) and heard(a, s) == heard(b, s), ("small", "Verse")),
    "answers": ("harbour", "Verse 1", lambda a, b, s: more(a, b, s) and onsets(b, s, families=("leads",)) > 0, ("small", "Chorus")),
    "second half": ("small", "Verse", lambda a, b, s: phrase_layers(b, s)[0] == phrase_layers(a, s)[0] and phrase_layers(b, s)[1] > phrase_layers(a, s)[1], ("empty", "none")),
    "stripped first": ("small", "Chorus", lambda a, b, s: phrase_layers(b, s)[0] == {P} and phrase_layers(b, s)[1] == phrase_layers(a, s)[1], ("small", "Verse")),
    "tease": ("harbour", "Verse 1", lambda a, b, s: phrase_layers(b, s)[-1] > phrase_layers(a, s)[-1], ("harbour", "Outro")),
    "keep for last": ("harbour", "Chorus 3", lambda a, b, s: heard(a, s) == heard(b, s) and fewer(a, b, of(a, "Chorus 1")), ("harbour", "Chorus 1")),
    "dull all": ("harbour", "Chorus 1", lambda a, b, s: all(p.variation.lowpass_start_hz == 700 for p in b.section_by_id[s.id].placements), ("empty", "Empty")),
    "adorn": ("small", "Verse", lambda a, b, s: len(b.sections) == 3 and heard(b, after_it(b, s)) > heard(a, s), ("empty", "none")),
    "double chorus": ("small", "Chorus", lambda a, b, s: b.bars == a.bars + s.bars and section_energy(b, timeline(b).span_of(s.id)).value < section_energy(b, timeline(b).span_of(after_it(b, s).id)).value, ("empty", "Empty")),
    "halve": ("small", "Chorus", lambda a, b, s: b.section_by_id[s.id].bars == 4, ("empty", "three")),
    "hold on": ("small", "Verse", lambda a, b, s: b.section_by_id[s.id].stretched == 2 and section_harmony(b, timeline(b).span_of(s.id)).at(3840 * 9).name() == "G" and not [1 for t in layer_events(b, timeline(b).span_of(s.id), b.layer_by_id[K]).table[:, START] if t >= 3840 * 8], ("empty", "Empty")),
    "one chord": ("small", "Verse", lambda a, b, s: len(section_harmony(b, timeline(b).span_of(s.id)).chords) <= 9 and len(set(section_harmony(b, timeline(b).span_of(s.id)).chords)) == 1, ("still", "Verse")),
    "raise": ("small", "Chorus", lambda a, b, s: b.section_by_id[s.id].shift_semitones == 1, ("raised", "Chorus")),
    "enter one by one": ("harbour", "Chorus 2", lambda a, b, s: [len(x) for x in phrase_layers(b, s)] == sorted(len(x) for x in phrase_layers(b, s)) and phrase_layers(b, s)[-1] == phrase_layers(a, s)[-1], ("empty", "Empty")),
    "leave one by one": ("harbour", "Chorus 2", lambda a, b, s: [len(x) for x in phrase_layers(b, s)] == sorted((len(x) for x in phrase_layers(b, s)), reverse=True) and len(phrase_layers(b, s)[-1]) < 6, ("empty", "Empty")),
    "re-intro": ("harbour", "Verse 2", lambda a, b, s: b.sections[b.index_of(s.id) - 1].role == "re-intro" and b.sections[b.index_of(s.id) - 1].bars == 4, ("harbour", "Intro")),
    "pickup": ("harbour", "Chorus 1", lambda a, b, s: len(heard(b, of(a, "Lift 1"))) > 0 and b.section_by_id[s.id] == s, ("harbour", "Intro")),
    "borrow the build": ("harbour", "Verse 2", lambda a, b, s: any(x.sound.rise for x in sounding_layers(b, b.section_by_id[of(a, "Chorus 1").id])), ("small", "Chorus")),
    "slow the end": ("harbour", "Outro", lambda a, b, s: b.section_by_id[s.id].tempo_changes and timeline(b).seconds > timeline(a).seconds, ("harbour", "Verse 1")),
    "duck": ("harbour", "Chorus 1", lambda a, b, s: max(layer_in(b, b.section_by_id[s.id], x).duck_db for x in b.layers) >= 9, ("empty", "Empty")),
    "lows off": ("harbour", "Chorus 1", lambda a, b, s: any(t.lane == "highpass_hz" for t in set(b.section_by_id[s.id].treatments) - set(s.treatments)), ("empty", "Empty")),
    "quieter": ("harbour", "Chorus 1", lambda a, b, s: sum(t.lane == "level_db" for t in b.section_by_id[s.id].treatments) == 1, ("empty", "Empty")),
    "other octave": ("small", "Chorus", lambda a, b, s: {abs(p.variation.transpose_semitones) for p in b.section_by_id[s.id].placements} == {0, 12}, ("empty", "Empty")),
    "clear chords": ("small", "Chorus", lambda a, b, s: b.layer_by_id[P].voicing != a.layer_by_id[P].voicing and b.sections == a.sections, ("small", "Verse")),
    "shorter notes": ("small", "Chorus", lambda a, b, s: sum(int((layer_events(b, timeline(b).span_of(s.id), x).table[:, DURATION]).sum()) for x in b.layers) < sum(int((layer_events(a, timeline(a).span_of(s.id), x).table[:, DURATION]).sum()) for x in a.layers), ("empty", "Empty")),
    "usual level": ("loud", "Chorus", lambda a, b, s: b.layer_by_id[P].level_db == b.layer_by_id[P].sound.level_db, ("small", "Chorus")),
    "group out": ("engines", "Drop 1", lambda a, b, s: heard(a, s) - heard(b, s) == {"Closed hats", "Open hats"}, ("small", "Chorus")),
    "group in": ("engines", "Build 1", lambda a, b, s: heard(b, s) - heard(a, s) == {"Closed hats", "Open hats"}, ("small", "Verse")),
    "last chord": ("small", "Chorus", lambda a, b, s: onsets(b, s) < onsets(a, s) and heard(a, s) == heard(b, s), ("small", "Verse")),
    "fade out": ("small", "Chorus", lambda a, b, s: [c.points[-1][1] for c in b.section_by_id[s.id].curves] == [-60.0], ("small", "Verse")),
    "left over": ("harbour", "Outro", lambda a, b, s: b.sections[-1].role == "tag" and len(heard(b, b.sections[-1])) == 1 and onsets(b, b.sections[-1]) > 0, ("harbour", "Intro")),
    "cut a beat": ("small", "Verse", lambda a, b, s: timeline(a).seconds - timeline(b).seconds == pytest.approx(0.5) and b.section_by_id[s.id].bars == s.bars, ("waltz", "Verse")),
    "phrase endings": ("harbour", "Verse 1", lambda a, b, s: heard(a, s) == heard(b, s) and onsets(a, s) == onsets(b, s), ("small", "Verse")),
    "surprise": ("harbour", "Chorus 2", lambda a, b, s: onsets(b, s, "Room snare") < onsets(a, s, "Room snare") and heard(a, s) == heard(b, s), ("small", "Chorus")),
    "gap before": ("small", "Chorus", lambda a, b, s: [d.kind for d in b.section_by_id[s.id].devices] == ["gap"], ("small", "Verse")),
    "lead in": ("small", "Chorus", lambda a, b, s: [d.kind for d in b.section_by_id[s.id].devices] == ["riser"], ("small", "Verse")),
    "mark the one": ("small", "Chorus", lambda a, b, s: [d.kind for d in b.section_by_id[s.id].devices] == ["crash"], ("small", "Verse")),
    "vary the join": ("harbour", "Chorus 2", lambda a, b, s: len({d.kind for d in b.section_by_id[s.id].devices} & {d.kind for d in s.devices}) == len(s.devices) - 1, ("small", "Verse")),
    "take option": ("parked", "Chorus", lambda a, b, s: heard(a, s) - heard(b, s) == {"Soft pad"}, ("small", "Verse")),
}  # fmt: skip
ROWS |= MOVE_ROWS
SONGS |= MOVE_SONGS
STILL = EDITS["set_chords"]("C").apply(BASE)
RAISED = EDITS["shift_section"](C, 6).apply(BASE)
THREE = EDITS["resize_section"](V, 3).apply(BASE)
NONE = EDITS["remove_layer"](P).apply(BASE)


def refusing(song_name, section_name):
    """The song and section in which a kind of move has nothing to do."""
    special = {
        ("empty", "none"): (NONE, "Verse"),
        ("empty", "three"): (THREE, "Verse"),
        ("still", "Verse"): (STILL, "Verse"),
        ("raised", "Chorus"): (RAISED, "Chorus"),
    }
    song, name = special.get((song_name, section_name)) or (SONGS[song_name], section_name)
    return song, of(song, name)


def test_every_kind_of_move_has_a_row_and_there_are_enough():
    assert set(ROWS) == set(KINDS) and len(KINDS) >= 30
    assert all(
        k.said.endswith(".") and k.label and k.touches in (HERE, NEIGHBOUR, ELSEWHERE, FORM) for k in KINDS.values()
    )


@pytest.mark.parametrize("kind", ROWS)
def test_a_move_does_what_it_says_where_it_may_and_nothing_else(kind):
    song_name, section_name, holds, other = ROWS[kind]
    song = SONGS[song_name]
    section = of(song, section_name)
    move = next(KINDS[kind](song, section))
    after = apply_move(song, move)
    assert holds(song, after, section), (sorted(heard(song, section)), sorted(heard(after, section)))
    assert validate(after) and after != song
    may = {
        HERE: {section.id},
        NEIGHBOUR: {song.sections[song.index_of(section.id) - 1].id},
        ELSEWHERE: {s.id for s in song.sections} - {section.id},
        FORM: {section.id},
    }[KINDS[kind].touches]
    assert all(after.section_by_id[s.id] == s for s in song.sections if s.id not in may), "no other section changes"
    found = preview(song, section.id, [move])
    assert found.after == after and found.points == pytest.approx(
        arranged(after).of(section.id).value - arranged(song).of(section.id).value
    )
    assert found.changes and all(c.what or c.points for c in found.changes)
    if KINDS[kind].way and abs(found.points) > 0.05:
        assert (found.points > 0) == (KINDS[kind].way > 0)
    with pytest.raises(EditError, match="does not apply"):
        find_move(*(lambda s, x: (s, x.id))(*refusing(*other)), move.key)
    assert not list(KINDS[kind](*refusing(*other)))


@pytest.mark.parametrize(("target", "rises"), [(9.0, True), (1.0, False)])
def test_suggestions_lead_to_the_target_with_the_effect_they_say(target, rises):
    song = EDITS["set_target"](C, target).apply(HALF)
    before = arranged(song).of(C).value
    found = suggest(song, C)
    assert found and all((s.points > 0) == rises for s in found)
    for s in found:
        after = song
        for move in s.moves:
            after = apply_move(after, move)
        value = arranged(after).of(C).value
        assert value - before == pytest.approx(s.points, abs=1e-9) and abs(target - value) < abs(target - before)


@pytest.mark.parametrize("target", [2.0, 3.5, 7.5, 9.0])
def test_the_best_suggestion_is_within_a_twentieth_of_an_exhaustive_search(target):
    song = EDITS["set_target"](C, target).apply(HALF)
    now, section = arranged(song).of(C).value, song.section_by_id[C]
    moves = list(
        moves_for(song, section, tuple(k for k, kind in KINDS.items() if kind.touches == HERE and not kind.room))
    )
    best, tried = 0.0, {}
    for move in moves:
        with suppress(EditError):
            after = apply_move(song, move)
            value = section_energy(after, timeline(after).span_of(C)).value
            tried[move.key] = Advice(move, song, after, C, value - now, target - now)
    for size in (1, 2):
        for group in combinations([m for m in moves if m.key in tried and tried[m.key].is_fit], size):
            if size == 2 and not may_join(*(tried[m.key] for m in group)):
                continue
            try:
                after = song
                for move in group:
                    after = apply_move(after, move)
            except EditError:
                continue
            if not Advice(group[0], song, after, C, 0.0, 0.0).is_fit:
                continue
            value = section_energy(after, timeline(after).span_of(C)).value
            best = max(best, abs(now - target) - abs(value - target))
    found = max(abs(now - target) - abs(now + s.points - target) for s in suggest(song, C))
    assert found >= 0.95 * best


def test_the_whole_song_is_helped_where_it_is_furthest_from_what_is_wanted():
    found = suggest_song(ENGINES)
    worst = ENGINES.section_by_id[found[0].section_id]
    assert worst.name in ("Break", "Build 1", "Build 2") and found[0].points < 0
    assert all(-1 <= s.sameness <= 1 for s in found)


def test_sameness_counts_the_tiles_that_two_sections_share():
    assert sameness(BASE, of(BASE, "Verse"), of(BASE, "Verse")) == 1.0
    assert sameness(BASE, of(BASE, "Verse"), of(BASE, "Chorus")) == pytest.approx(4 / 6)
    assert sameness(BARE, of(BARE, "Verse"), of(BARE, "Empty")) == 0.0


def test_a_section_at_its_target_needs_nothing():
    song = EDITS["set_target"](C, round(arranged(BASE).of(C).value, 1)).apply(BASE)
    assert suggest(song, C) == []


def test_a_move_leaves_other_variations_alone():
    song = EDITS["vary"](C, K, level_end_db=-6.0).apply(HATTED)
    after = apply_move(song, find_move(song, C, f"thin:{K}"))
    (placement,) = [p for p in after.section_by_id[C].placements if p.layer_id == K]
    assert (placement.variation.keep, placement.variation.level_end_db) == (0.5, -6.0)


@pytest.mark.parametrize("seed", range(4))
def test_advice_neither_contradicts_itself_nor_repeats_itself_nor_takes_the_tune_away(seed):
    song = generated(40 + seed)
    dice = random.Random(seed)
    for section in song.sections:
        song = EDITS["set_target"](section.id, round(dice.uniform(1, 9.5), 1)).apply(song)
    for section in song.sections:
        leads = {p.layer_id for p in section.placements} & {
            x.id for x in song.layers if x.family in ("voices", "leads") and not x.muted
        }
        found = suggest(song, section.id)
        outcomes = [s.outcome for s in found]
        assert len(set(outcomes)) == len(outcomes)
        wanted = section.target.mean - arranged(song).of(section.id).value
        for s in found:
            assert s.points * wanted > 0 and s.why.endswith(".")
            kinds = [KINDS[m.key.partition(":")[0]] for m in s.moves]
            assert not any(a.way * b.way < 0 for a, b in combinations(kinds, 2))
            assert not any(k.key in AGAINST_ROLE.get(section.role, ()) for k in kinds)
            after = song
            for move in s.moves:
                after = apply_move(after, move)
            left = {p.layer_id for p in after.section_by_id[section.id].placements}
            made = {x.id for x in after.layers if x.family in ("voices", "leads")} - {x.id for x in song.layers}
            assert (
                not leads
                or left & (leads | made)
                or left & {x.id for x in song.layers if x.family in ("voices", "leads")}
            )


def test_advice_goes_by_the_sound_where_that_lies_far_from_the_layers():
    now = arranged(HALF).of(C).value
    song = EDITS["set_target"](C, round(now, 1)).apply(HALF)
    assert suggest(song, C) == suggest(song, C, measured=now + 0.6) == []
    assert all(s.points > 0 for s in suggest(song, C, measured=now - 2)) and suggest(song, C, measured=now - 2)


def test_what_lies_parked_is_preferred_to_what_would_be_new():
    song = EDITS["park_body"](C, "With the pad").apply(BASE)
    song = EDITS["set_target"](C, 9).apply(EDITS["lift"](C, P).apply(song))
    first = suggest(song, C)[0]
    assert {"take option", "bring in"} & {m.key.partition(":")[0] for m in first.moves} and "pad" in first.label.lower()
