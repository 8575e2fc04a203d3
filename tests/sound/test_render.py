"""The render: the same bytes every time, the cache equal to a cold render, the ceiling, ducking, filters, echo."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.meters.loudness import true_peak_dbtp
from escalera.sound import mix
from escalera.sound.buffers import Buffers
from escalera.sound.cache import PartsKept, how_soon
from escalera.sound.kernels import bus
from escalera.sound.master import limit, take_back
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import mix_section
from tests.songs import edits_for, ids, small_song

SONG = small_song()
NAME = ids(SONG)


def test_the_same_song_gives_the_same_bytes():
    first, second = Renderer(100).render(SONG), Renderer(100).render(SONG)
    assert np.array_equal(first, second) and 0.05 < np.abs(first).max() <= 10 ** (-1 / 20)


@settings(max_examples=12)
@given(st.data())
def test_after_random_edits_the_cache_equals_a_cold_render(data):
    song, warm = SONG, Renderer(60)
    warm.render(song)
    for _ in range(3):
        try:
            song = data.draw(edits_for(song)).apply(song)
        except EditError:
            continue
    assert np.array_equal(warm.render(song), Renderer(60).render(song))


def test_chunks_joined_are_the_whole_song():
    renderer, line = Renderer(100), timeline(SONG)
    chunks = [Renderer(100).chunk(SONG, line, i) for i in range(2)]
    assert np.array_equal(np.concatenate(chunks, axis=1), renderer.render(SONG))
    assert chunks[0].shape[1] == line.samples(RATE_HZ)[1]


def test_ids_names_and_targets_are_not_heard():
    renamed = EDITS["set_target"](NAME["Verse"], 9).apply(EDITS["rename_layer"](NAME["Soft pad"], "Other").apply(SONG))
    copy = replace(renamed, title="Copy", sections=tuple(replace(s, id=s.id + 500) for s in renamed.sections))
    line = timeline(SONG)
    assert Renderer(10).chunk_keys(SONG, line) == Renderer(10).chunk_keys(copy, timeline(copy))


@pytest.mark.parametrize("level_db", [0.0, 12.0])
def test_the_ceiling_holds(level_db):
    song = EDITS["set_master"](12.0 if level_db else 0.0).apply(SONG)
    for layer in song.layers:
        song = EDITS["set_control"](layer.id, "level_db", level_db).apply(song)
    audio = Renderer(100).render(song)
    assert true_peak_dbtp(audio) <= -1.0
    assert np.abs(audio).max() > 0.5


def test_the_limiter_leaves_quiet_music_alone():
    quiet = (np.random.default_rng(2).standard_normal((2, 20_000)) * 0.05).astype(np.float32)
    kept = quiet.copy()
    assert not len(limit(kept))
    assert np.array_equal(kept, quiet)


def test_what_the_limiter_did_can_be_taken_back():
    loud = (np.random.default_rng(2).standard_normal((2, 20_000)) * 0.5).astype(np.float32)
    kept = loud.copy()
    gain = limit(kept)
    assert np.abs(kept - loud).max() > 0.1
    take_back(kept, gain)
    assert np.abs(kept - loud).max() < 1e-6


def spectrum_db(audio, hz):
    t = np.arange(audio.shape[1]) / RATE_HZ
    return 20 * np.log10(abs(np.mean(audio[0] * np.exp(-2j * np.pi * hz * t))) * 2 + 1e-12)


@pytest.mark.parametrize(("hz", "expected"), [(100, 0.0), (1000, -3.01), (4000, -24.3)])
def test_the_low_pass_has_its_response(hz, expected):
    wave = np.sin(2 * np.pi * hz * np.arange(RATE_HZ) / RATE_HZ).astype(np.float32)
    bus.edge_filter(wave, np.zeros(0, np.float32), np.full(-(-RATE_HZ // 16), 1000.0, np.float32), 16, 0)
    assert spectrum_db(wave[None], hz) == pytest.approx(expected, abs=0.4)


@pytest.mark.parametrize(("hz", "expected"), [(4000, 0.0), (1000, -3.01), (250, -24.1)])
def test_the_high_pass_has_its_response(hz, expected):
    wave = np.sin(2 * np.pi * hz * np.arange(RATE_HZ) / RATE_HZ).astype(np.float32)
    bus.edge_filter(wave, np.zeros(0, np.float32), np.full(-(-RATE_HZ // 16), 1000.0, np.float32), 16, 1)
    assert spectrum_db(wave[None], hz) == pytest.approx(expected, abs=0.4)


def test_ducking_dips_at_the_kick_by_its_depth_and_comes_back():
    curve = np.ones(30_000, np.float32)
    bus.duck_curve(curve, np.array([5_000]), 0.75, 96, 900, 10_000)
    assert curve[5_000] == pytest.approx(0.25) and curve[4_000] == 1.0 and curve[17_000] == 1.0
    assert (np.diff(curve[5_900:16_000]) >= 0).all()


def test_silence_stays_silent():
    song = SONG
    for layer in SONG.layers:
        song = EDITS["set_muted"](layer.id, True).apply(song)
    audio = Renderer(10).render(song)
    assert audio.shape[1] == timeline(song).samples(RATE_HZ)[-1] and not audio.any()


def test_an_edit_renders_only_its_section():
    renderer, line = Renderer(100), timeline(SONG)
    assert len(set(before := renderer.chunk_keys(SONG, line))) == 2
    song = EDITS["toggle_tile"](NAME["Chorus"], NAME["Soft pad"], 1).apply(SONG)
    after = renderer.chunk_keys(song, timeline(song))
    assert before[0] == after[0] and before[1] != after[1]


def test_the_beginning_mixed_alone_equals_the_whole():
    """The next bar after an edit is mixed without the rest of its section, and sounds the same."""
    song = EDITS["set_control"](NAME["Soft pad"], "send.hall", -6).apply(SONG)
    song = EDITS["set_control"](NAME["Plucked bass"], "duck_db", 9).apply(song)
    line = timeline(song)
    start = line.samples(RATE_HZ)[1]
    alone = Renderer(100).before_master(song, line, start, start + 88_200)
    whole = Renderer(100)
    whole.render(song)
    assert np.array_equal(alone, whole.before_master(song, line, start, start + 88_200)) and alone.any()
    ready = Renderer(100)  # its parts are there as wholes, the mix is not
    ready.begin_section(ready.plan(song, line.spans[1]), lambda: True)
    assert np.array_equal(alone, ready.before_master(song, line, start, start + 88_200))


def test_parts_of_a_section_are_made_ready_as_far_as_they_fit_and_while_they_are_wanted():
    def made(renderer, wanted):
        plan = renderer.plan(SONG, timeline(SONG).spans[1])
        renderer.begin_section(plan, wanted)
        return sum(part.key in renderer.cache for part in plan.parts), len(plan.parts)

    assert made(Renderer(100), lambda: True) == (3, 3) and made(Renderer(1), lambda: True)[0] < 3
    answers = iter((True, False))
    assert made(Renderer(100), lambda: next(answers)) == (1, 3)


@pytest.mark.parametrize(
    ("put", "kept"),
    [
        ("abcd", "bcd"),  # the oldest goes first
        ("ab>cd", "acd"),  # what was used stays longer
        ("5a1b1c1d", "acd"),  # what takes longest to make stays
        ("5a1b1c1d6e", "ade"),
        ("2a1b1c1d1e1f", "def"),  # until what goes after it has cost as much
        ("1a>>>1b1c1d1e1f", "aef"),  # what is used often stays longer
        ("1a" + 40 * ">" + "9b9c9d9e9f", "def"),  # but not for ever
        ("4a4~b4c4d", "acd"),  # what is wanted later goes before what is wanted next
        ("5a-9b1c1d", "acd"),  # what is not wanted soon only fills what is free
        ("5a9b<1c1d", "acd"),
        ("1a1b1c-9d", "abc"),
        ("1a1b-9c-9d", "abd"),
        ("5a-9b1c", "abc"),
        ("xabcd", "xcd"),  # what was chosen stays
        ("x9a9b9c", "xbc"),
        ("xyabc", "xyc"),
        ("xyzab", "xyb"),  # up to three quarters of the room, by bytes
        ("L", ""),
    ],
)
def test_parts_stay_that_were_chosen_or_would_take_longest_to_make_again(put, kept):
    parts = PartsKept(4_000)
    parts.choose("xyz")
    cost, soon = 0, 1.0
    for key in put:
        if key in "<>":
            parts.get({"<": "b", ">": "a"}[key], soon=float(key == ">"))
        elif key in "-~":
            soon = {"-": 0.0, "~": 0.25}[key]
        elif key.isdigit():
            cost = int(key)
        else:
            parts.put(key, np.zeros(5_000 if key == "L" else 1_300, np.uint8), cost, soon)
            soon = 1.0
    assert "".join(key for key in "abcdefxyzL" if key in parts) == "".join(sorted(kept, key="abcdefxyzL".index))
    assert parts.used == 1_300 * len(kept) and parts.used <= parts.limit
    assert all(parts.holds(key) for key in kept if key in "xy")
    parts.choose("")
    assert not any(parts.holds(key) for key in "xyz")
    parts.clear()
    assert parts.used == 0


def test_it_is_known_how_soon_what_is_played_is_wanted_again():
    wanted = {0: ["kick", "pad"], 1: ["kick"], 3: ["pad", "kick"], 4: ["lead"]}
    after = {(0, "kick"): 1, (0, "pad"): 1 / 3, (1, "kick"): 1 / 2, (3, "pad"): 0, (3, "kick"): 0, (4, "lead"): 0}
    assert how_soon(wanted) == after and how_soon({}) == {}


def test_memory_is_used_again_when_nobody_looks_at_it_any_more_silent_and_within_the_limit():
    buffers = Buffers(9_000_000)
    first, second, third = buffers.silent(2, 500_000), buffers.silent(2, 500_000), buffers.silent(2, 400_000)
    assert not np.shares_memory(first, second) and not first.any()
    first += 1.0
    where, view = first.ctypes.data, first[0, 5:]
    del first
    other = buffers.silent(2, 500_000)
    assert not np.shares_memory(other, view), "a part of it is still looked at"
    del view
    again = buffers.silent(450_000, 2)
    assert again.ctypes.data == where and again.shape == (450_000, 2) and not again.any()
    del again, second, other
    assert 0 < buffers.kept_bytes <= 9_000_000
    del third
    assert 0 < buffers.kept_bytes <= 9_000_000, "the oldest went"
    buffers.clear()
    assert buffers.kept_bytes == 0 and buffers.blank(2, 10).shape == (2, 10)


def test_hall_and_echo_die_away_to_silence():
    song = SONG
    for layer in song.layers:
        song = EDITS["set_control"](layer.id, "send.echo", -3).apply(
            EDITS["set_control"](layer.id, "send.hall", 0).apply(song)
        )
    audio, line = Renderer(100).render(song), timeline(song)
    tail = audio[:, line.samples(RATE_HZ)[-1] :]
    assert tail.shape[1] > RATE_HZ and not tail[:, -1].any() and np.abs(tail[:, -4000:]).max() < 0.01
    assert abs(float(np.corrcoef(tail[0, :RATE_HZ], tail[1, :RATE_HZ])[0, 1])) < 0.9, "the hall is wide"


@pytest.mark.parametrize(("start", "end"), [(0.0, -24.0), (-24.0, 0.0)])
def test_a_level_curve_is_heard_without_steps(start, end):
    song = EDITS["vary"](NAME["Chorus"], NAME["Soft pad"], level_start_db=start, level_end_db=end).apply(SONG)
    for name in ("Round kick", "Plucked bass"):
        song = EDITS["set_muted"](NAME[name], True).apply(song)
    line = timeline(song)
    audio = Renderer(100).before_master(song, line, line.samples(RATE_HZ)[1], line.samples(RATE_HZ)[2])
    bars = audio[0].reshape(8, -1).std(axis=1)
    assert (np.diff(bars) * np.sign(end - start) > 0).all() and 20 * np.log10(bars.max() / bars.min()) > 15


def test_the_memory_limit_is_kept_and_no_section_is_mixed_twice(monkeypatch):
    mixed = []
    monkeypatch.setattr(mix, "mix_section", lambda plan, *a: mixed.append(plan.key) or mix_section(plan, *a))
    renderer, roomy = Renderer(12), Renderer(200)
    little, much = renderer.render(SONG), roomy.render(SONG)
    assert np.array_equal(little, much)
    assert renderer.cache.used_bytes <= 12_000_000 < roomy.cache.used_bytes
    assert len(mixed) == 2 * len(set(mixed))


def test_a_delayed_layer_sounds_later_by_so_much():
    song = EDITS["set_control"](NAME["Round kick"], "delay_ms", 20).apply(SONG)
    starts = [
        next(p for p in Renderer(1).plan(s, timeline(s).spans[0]).parts if p.layer_id == NAME["Round kick"]).notes.start
        for s in (SONG, song)
    ]
    assert (starts[1] - starts[0] == round(0.020 * 44_100)).all()
