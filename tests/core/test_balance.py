"""What hides what on levels that are known; remedies, places, rooms and levels judged; rules that fire, and that do not."""

from dataclasses import replace

import numpy as np
import pytest

from escalera.core.balance.balance_checks import HEARD_CHECKS, HeardFacts, heard_judged, heard_mends
from escalera.core.balance.hearing_dose import dose_percent, minutes_left
from escalera.core.balance.loudness_plan import loudness_steps
from escalera.core.balance.low_meeting import meeting_db
from escalera.core.balance.masking import Hearing
from escalera.core.balance.pairs import side_pairs
from escalera.core.balance.remedies import (
    REMEDIES,
    bell_power,
    find_remedy,
    highpass_power,
    pair_of,
    panned,
    remedies,
    with_candidate,
)
from escalera.core.balance.rough_mix import lead_rides, rough_mix
from escalera.core.balance.section_heard import HeardSection, LayerHeard, Loud, LowMeeting, mono_loss_db
from escalera.core.balance.space import echo_clashes, pre_delays
from escalera.core.balance.thirds import THIRDS_HZ, Levels, silence
from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from tests.songs import ids, small_song

SONG = small_song()
NAME = ids(SONG)
V, C, B, P, K = (NAME[n] for n in ("Verse", "Chorus", "Plucked bass", "Soft pad", "Round kick"))
SLOTS = 40


def band_of(hz):
    return int(np.abs(np.log(THIRDS_HZ / hz)).argmin())


def tone(hz, db, pan=0.0, width=0.0):
    """Levels of a sound in one third-octave; `width` is how far its channels know nothing of each other."""
    power = np.zeros((SLOTS, 28))
    power[:, band_of(hz)] = 10 ** (db / 10)
    angle = (pan + 1) * np.pi / 4
    left, right = power * 2 * np.cos(angle) ** 2, power * 2 * np.sin(angle) ** 2
    return Levels(left, right, np.sqrt(left * right) * (1 - width), 0.093)


def noise(db, low=20, high=20_000, **how):
    rows = [tone(hz, db, **how) for hz in THIRDS_HZ if low <= hz <= high]
    return Levels(*(sum(getattr(r, n) for r in rows) for n in ("left", "right", "cross")), 0.093)


LOUD = Loud(-16.0, -16.0, -15.0, 3.0, 10.0, -2.0)


def heard(section_id, layers, loud=LOUD, spaces=None, wets=None, song=SONG):
    """A section as if it had been listened to: levels by layer id."""
    rows = tuple(
        LayerHeard(i, song.layer_by_id[i].name, song.layer_by_id[i].family, x, (wets or {}).get(i))
        for i, x in layers.items()
    )
    spaces = spaces or silence(SLOTS, 0.093)
    every = [*layers.values(), spaces]
    total = Levels(*(sum(getattr(x, n) for x in every) for n in ("left", "right", "cross")), 0.093)
    return HeardSection(
        section_id, song.section_by_id[section_id].name, rows, spaces, total, loud, LowMeeting((), (), ())
    )


@pytest.mark.parametrize(
    ("masked", "by", "share"),
    [
        (tone(1000, -40), noise(-72), (0.9, 1.0)),  # far above the noise
        (tone(1000, -40), tone(1000, -40), (0.45, 0.55)),  # as loud in the same band: half of it
        (tone(1000, -40), noise(-40), (0.15, 0.3)),  # bands beside it add to that
        (tone(1000, -60), noise(-40), (0.0, 0.02)),  # twenty below: nothing
        (tone(4000, -40), tone(200, -30), (0.97, 1.0)),  # nowhere near
        (tone(1250, -50), tone(1000, -30), (0.0, 0.2)),  # a loud neighbour below reaches up
        (tone(800, -50), tone(1000, -30), (0.2, 0.4)),  # and less far down
        (tone(1000, -40, pan=-1), tone(1000, -40, pan=1), (0.97, 1.0)),  # the better ear hears it alone
    ],
)  # fmt: skip
def test_what_is_heard_of_a_sound_follows_from_what_lies_over_it(masked, by, share):
    found = Hearing({1: masked, 2: by})
    assert share[0] <= found.shares[1] <= share[1]
    if share[1] < 0.6:
        worst = found.hidings()[0]
        assert (worst.masked, worst.by) == (1, 2) and worst.share == pytest.approx(1 - found.shares[1], abs=0.06)
        assert THIRDS_HZ[worst.band] == pytest.approx(
            THIRDS_HZ[int(masked.left[0].argmax() if masked.left.any() else masked.right[0].argmax())], rel=0.3
        )


def test_nothing_is_divided_by_nothing():
    found = Hearing({1: silence(SLOTS, 0.1), 2: noise(-40)}, silence(SLOTS, 0.1))
    assert found.shares == {1: 0.0, 2: pytest.approx(1.0)} and not found.hidings()
    nobody = heard(V, {})
    assert nobody.silent and nobody.hidings == () and nobody.wet_db() is None and nobody.low_sides_db() is None
    assert np.isfinite(nobody.floor_db()).all() and mono_loss_db(nobody.total) == 0.0
    assert not heard_judged(HeardFacts(SONG, [nobody])).open and not rough_mix(replace(SONG, sections=()))


def test_figures_of_sides_and_of_two_sounds_that_meet():
    assert mono_loss_db(tone(500, -30)) == 0.0 and mono_loss_db(tone(500, -30, width=1.0)) == pytest.approx(
        -3.01, abs=0.01
    )
    assert mono_loss_db(tone(500, -30, width=2.0)) < -60, "antiphase is gone"
    assert panned(tone(500, -30), 0.0, 1.0).left.max() == pytest.approx(0, abs=1e-9)
    rate, t = 1378, np.arange(1378 * 4) / 1378
    one = np.stack([np.sin(2 * np.pi * 55 * t)] * 2).astype(np.float32) * 0.3
    late = np.stack([np.sin(2 * np.pi * 55 * t + np.pi)] * 2).astype(np.float32) * 0.3
    edges = np.arange(0, len(t), rate // 8)
    assert meeting_db(one, one, edges) == pytest.approx(3.01, abs=0.02) and meeting_db(one, 0.9 * late, edges) < -18
    other = np.stack([np.sin(2 * np.pi * 71 * t)] * 2).astype(np.float32) * 0.3
    assert abs(meeting_db(one, other, edges)) < 0.6 and meeting_db(one, 0 * one, edges) is None


def test_remedies_are_the_smallest_that_bring_back_half_and_do_what_they_say():
    section = heard(C, {P: noise(-40, 300, 3000), B: noise(-46, 300, 800), K: noise(-60, 40, 80)})
    pair = pair_of(SONG, section, P, B)
    found = remedies(pair)
    assert {r.key.partition(":")[0] for r in found} >= {"lower", "raise"} and all(r.masked_points > 2 for r in found)
    enough = [r for r in found if r.enough]
    assert enough and found[: len(enough)] == enough, "those that suffice come first"
    for r in found:
        after = with_candidate(SONG, r.candidate)
        assert after != SONG and find_remedy(SONG, section, P, B, r.key).edits == r.candidate.edits
        assert r.masked_points == pytest.approx(
            100 * (section.with_layers(r.candidate.changed).shares[P] - section.hearing.shares[P])
        )
    lower = next(r for r in found if r.key.startswith("lower"))
    smaller = [c for c in REMEDIES["lower"](pair) if float(c.key[6:]) < float(lower.key[6:])]
    assert all(
        100 * (section.with_layers(c.changed).shares[P] - section.hearing.shares[P]) < 50 * pair.hiding.share
        for c in smaller
    )
    with pytest.raises(EditError, match="hides nothing"):
        pair_of(SONG, section, K, B)
    with pytest.raises(EditError, match="does not apply"):
        find_remedy(SONG, section, P, B, "dip:99")
    assert highpass_power(1000.0)[band_of(1000)] == pytest.approx(0.5, abs=0.01)
    assert 10 * np.log10(bell_power(1000.0, -6.0)[[band_of(1000), band_of(8000)]]) == pytest.approx([-6, 0], abs=0.3)


def wide(db=-30):
    return noise(db, 200, 5000, width=1.9)


FULL = {P: noise(-40, 200, 800), B: noise(-38, 60, 200), K: noise(-36, 40, 100)}
HOOKED = EDITS["add_layer"]("paper-hat").apply(EDITS["add_layer"]("plucked-lead").apply(SONG))
H, T = (next(x.id for x in HOOKED.layers if x.sound_key == key) for key in ("plucked-lead", "paper-hat"))
AGAIN = EDITS["duplicate_section"](C).apply(SONG)
C2 = next(s.id for s in AGAIN.sections if s.name.startswith("Chorus") and s.id != C)
# rule: (song, sections where it fires), (song, sections where it is silent)
RULES = {
    "masked hook": ((HOOKED, [heard(C, {**FULL, H: noise(-50, 400, 800)}, song=HOOKED)]), (HOOKED, [heard(C, {**FULL, H: noise(-34, 1000, 4000)}, song=HOOKED)])),
    "mono loss": ((SONG, [heard(C, {P: wide(), K: noise(-60, 40, 100)})]), (SONG, [heard(C, FULL)])),
    "low sides": ((SONG, [heard(C, {B: noise(-30, 40, 100, pan=0.8)})]), (SONG, [heard(C, {B: noise(-30, 40, 100)})])),
    "harsh": ((SONG, [heard(C, {P: noise(-30, 2000, 5000), B: noise(-34, 60, 400)})]), (SONG, [heard(C, {B: noise(-30, 60, 2000)})])),
    "limiter": ((SONG, [heard(V, FULL), heard(C, FULL, Loud(-14.0, -11.0, -13.0, 2.0, 9.0, -1.0, -3.0, -5.5))]), (SONG, [heard(V, FULL), heard(C, FULL)])),
    "low middle": ((SONG, [heard(C, {K: noise(-30, 40, 100), P: noise(-40, 2000, 9000)})]), (SONG, [heard(C, FULL)])),
    "all wet": ((SONG, [heard(C, FULL, spaces=noise(-36, 60, 800))]), (SONG, [heard(C, FULL, spaces=noise(-56, 60, 800))])),
    "no depth": ((HOOKED, [heard(C, {P: noise(-40), K: noise(-40), H: noise(-40), T: noise(-50)}, wets={P: -10, K: -11, H: -10, T: -12}, song=HOOKED)]),
                 (HOOKED, [heard(C, {P: noise(-40), K: noise(-40), H: noise(-40), T: noise(-50)}, wets={P: -4, K: -20, H: -12, T: -30}, song=HOOKED)])),
    "level jump": ((AGAIN, [heard(C, FULL, song=AGAIN), heard(C2, FULL, replace(LOUD, integrated_lufs=-11.0), song=AGAIN)]), (AGAIN, [heard(C, FULL, song=AGAIN), heard(C2, FULL, song=AGAIN)])),
}  # fmt: skip


@pytest.mark.parametrize("rule", HEARD_CHECKS)
def test_a_rule_fires_where_it_should_and_is_silent_elsewhere(rule):
    (song, there), (same, not_there) = RULES[rule]
    facts = HeardFacts(song, there)
    found = [f for f in heard_judged(facts).open if f.check == rule]
    assert found and all(f.said and f.place for f in found)
    assert rule not in {f.check for f in heard_judged(HeardFacts(same, not_there)).open}
    mends = heard_mends(facts, found[0])
    assert all(with_candidate(song, c) != song for c in mends) and (
        mends or rule in ("no depth", "all wet", "level jump")
    )
    accepted = EDITS["accept_finding"](found[0].key, "meant", repr(found[0].facts)).apply(song)
    assert found[0].key not in {f.key for f in heard_judged(HeardFacts(accepted, there)).open}


def test_a_reference_says_what_is_harsh():
    section = heard(C, {P: noise(-30, 2000, 5000), B: noise(-34, 60, 400)})
    reference = section.total.total.mean(axis=0)
    assert "harsh" not in {f.check for f in heard_judged(HeardFacts(SONG, [section], reference)).open}


def test_a_rough_mix_leaves_what_was_sent_and_lists_single_changes():
    off = SONG.with_layer(replace(SONG.layer_by_id[P], level_db=5.0))
    section = heard(C, FULL, song=off)
    steps = rough_mix(off, section)
    level = next(s for s in steps if (s.layer.id, s.what) == (P, "level_db"))
    assert -1.0 <= level.after < level.before == 5.0 and level.points is not None and level.points < 0
    assert len({s.key for s in steps}) == len(steps)
    done = off
    for step in steps:
        done = step.edit.apply(done)
    assert all(getattr(done.layer_by_id[s.layer.id], s.what) == pytest.approx(s.after) for s in steps)
    sent = off.with_layer(replace(off.layer_by_id[P], sent_by="Somebody"))
    assert P not in {s.layer.id for s in rough_mix(sent, section)}
    assert not lead_rides(sent, [section, heard(V, FULL)], P)
    rides = lead_rides(
        SONG,
        [
            heard(V, {P: noise(-30, 200, 800)}),
            heard(C, {P: noise(-44, 200, 800), B: noise(-40, 200, 800)}),
            heard(C, FULL),
        ],
        P,
    )
    assert rides and all(abs(s.after - s.before) <= 4.0 for s in rides)


def test_rooms_echoes_levels_and_listening():
    chords = EDITS["set_chords"]("C | Db").apply(SONG)
    echo = EDITS["set_value"](f"layer.{P}.send.echo", -6.0).apply(chords)
    span = timeline(echo).span_of(C)
    assert [c.layer.id for c in echo_clashes(echo, span)] == [P] and not echo_clashes(chords, span)
    hall = EDITS["set_value"](f"layer.{P}.send.hall", -6.0).apply(SONG)
    assert [p.label for p in pre_delays(hall, timeline(hall).span_of(C))] == ["Hall"]
    steps = loudness_steps("band", ["verse", "chorus", "none", "verse"], [-13.0, -12.0, None, -30.0])
    assert [s.said for s in steps] == ["0.5 LU louder than usual", "as usual", "silent", "13.0 LU softer than usual"]
    assert dose_percent(480, 85) == pytest.approx(100) == dose_percent(240, 88) and minutes_left(
        240, 85
    ) == pytest.approx(240)
    assert dose_percent(-5, 85) == 0 and minutes_left(10_000, 100) == 0


def test_pairs_that_lean_or_are_one_sound_are_said():
    song = EDITS["set_value"](f"layer.{P}.pan", -0.6).apply(SONG)
    song = EDITS["add_layer"](song.layer_by_id[P].sound_key).apply(song)
    other = song.layers[-1].id
    song = song.with_layer(replace(song.layer_by_id[P], id=other, name="Pad right", pan=0.6))
    even = heard(C, {P: noise(-40, 200, 800), other: noise(-40, 200, 800)}, song=song)
    assert "same sound twice" in side_pairs(song, even)[0].said
    lean = heard(C, {P: noise(-40, 200, 800), other: noise(-46, 200, 800)}, song=song)
    assert side_pairs(song, lean)[0].said == "left is 6.0 dB louder: it leans"
