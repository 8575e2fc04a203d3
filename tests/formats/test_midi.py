"""MIDI both ways: nothing that was played is lost, whatever program wrote the file."""

import io
import struct

import mido
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.core.time.tempo import TempoPoint
from escalera.errors import FormatError
from escalera.formats.midi_read import read_midi
from escalera.formats.midi_write import write_midi
from escalera.services.importing import import_file, import_midi
from tests.songs import small_song


def midi(tracks, division=480, kind=1):
    """Bytes of a file from lists of (delta, message)."""
    file = mido.MidiFile(type=kind, ticks_per_beat=division)
    for rows in tracks:
        track = mido.MidiTrack()
        for delta, message in rows:
            track.append(message.copy(time=delta))
        file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def on(note, velocity=90, channel=0):
    return mido.Message("note_on", note=note, velocity=velocity, channel=channel)


def off(note, channel=0):
    return mido.Message("note_off", note=note, channel=channel)


def notes_of(facts):
    return sorted((p.track, start, pitch, velocity) for p in facts.parts for start, _, pitch, velocity in p.notes)


def exported_onsets(song):
    facts = read_midi(write_midi(song))
    return sorted((start, pitch, velocity) for p in facts.parts for start, _, pitch, velocity in p.notes)


note = st.tuples(st.integers(0, 16 * 960), st.integers(1, 4000), st.integers(0, 127), st.integers(1, 127))


# a part that lies higher than the one it repeats, with a note that would lie below the lowest without that
@example([[(0, 406, 0, 1), (2976, 1, 1, 1), (8544, 1, 115, 1)]], 96)
@given(st.lists(st.lists(note, min_size=1, max_size=25), min_size=1, max_size=3), st.sampled_from([96, 480, 960]))
def test_every_note_comes_in_and_goes_out_again(tracks, division):
    """Onsets keep track, pitch, velocity and tick; exact duplicates stay; a second round changes nothing."""
    rows = []
    for notes in tracks:
        events = sorted(
            [(s, 1, on(p, v)) for s, _, p, v in notes] + [(s + d, 0, off(p)) for s, d, p, _ in notes],
            key=lambda e: e[:2],
        )
        times = [0] + [e[0] for e in events]
        rows.append([(b - a, e[2]) for a, b, e in zip(times, times[1:], events)])
    data = midi(rows, division)
    facts = read_midi(data)
    expected = sorted(
        (i, (2 * s * 960 + division) // (2 * division), p, v) for i, notes in enumerate(tracks) for s, _, p, v in notes
    )
    assert notes_of(facts) == expected
    song = import_midi(data, "x").song
    assert exported_onsets(song) == sorted(row[1:] for row in expected)
    again = import_midi(write_midi(song), "x").song
    assert exported_onsets(again) == exported_onsets(song)


def test_ends_pair_first_in_first_out_and_last_a_tick_at_least():
    data = midi([[(0, on(60, 10)), (10, on(60, 20)), (10, off(60)), (30, off(60)), (0, on(61)), (0, off(61))]], 960)
    assert read_midi(data).parts[0].notes == [(0, 20, 60, 10), (10, 40, 60, 20), (50, 1, 61, 90)]


def test_velocity_zero_is_an_end_and_running_status_is_read():
    track = bytes([0, 0x90, 60, 100, 0x60, 60, 0, 0, 62, 90, 0x60, 62, 0]) + bytes([0, 0xFF, 0x2F, 0])
    data = b"MThd" + struct.pack(">IHHH", 6, 0, 1, 96) + b"MTrk" + struct.pack(">I", len(track)) + track
    assert read_midi(data).parts[0].notes == [(0, 960, 60, 100), (960, 960, 62, 90)]


def test_smpte_divisions_count_time():
    data = bytearray(midi([[(0, on(60)), (1000, off(60))]], 480))
    data[12:14] = bytes([256 - 25, 40])  # 25 frames of 40 ticks: a thousand ticks are one second
    assert read_midi(bytes(data)).parts[0].notes == [(0, 1920, 60, 90)]


def test_the_pedal_lengthens_and_a_trace_of_a_bend_changes_nothing():
    pedal = lambda v: mido.Message("control_change", control=64, value=v)  # noqa: E731
    data = midi(
        [
            [
                (0, pedal(127)),
                (0, on(60)),
                (240, off(60)),
                (0, mido.Message("pitchwheel", pitch=100)),
                (720, pedal(0)),
                (0, on(62)),
                (10, off(62)),
            ]
        ]
    )
    assert read_midi(data).parts[0].notes == [(0, 1920, 60, 90), (1920, 20, 62, 90)]


def control(number, value):
    return mido.Message("control_change", control=number, value=value)


def bend(semitones, reach=2):
    return mido.Message("pitchwheel", pitch=max(-8192, min(8191, round(8192 * semitones / reach))))


@pytest.mark.parametrize("events, notes", [
    ([(0, on(60)), (240, bend(2)), (240, off(60)), (0, bend(0)), (0, on(60)), (240, off(60))], [(0, 480, 60, 90), (480, 480, 62, 90), (960, 480, 60, 90)]),
    ([(0, bend(-1)), (0, on(60)), (240, off(60))], [(0, 480, 59, 90)]),
    ([(0, on(60)), *[(10, bend(0.3 * (-1) ** i)) for i in range(20)], (40, off(60))], [(0, 480, 60, 90)]),  # a vibrato
    ([(0, control(101, 0)), (0, control(100, 0)), (0, control(6, 12)), (0, on(60)), (240, bend(7, 12)), (240, off(60))], [(0, 480, 60, 90), (480, 480, 67, 90)]),
    ([(0, control(101, 0)), (0, control(100, 2)), (0, control(6, 12)), (0, on(60)), (240, bend(2)), (240, off(60))], [(0, 480, 60, 90), (480, 480, 62, 90)]),
])  # fmt: skip
def test_bends_are_the_notes_they_reach(events, notes):
    data = midi([events])
    assert read_midi(data).parts[0].notes == notes
    if len({p for _, _, p, _ in notes}) > 1:
        assert any("bend (kept as the notes it reaches)" in line for line in import_midi(data, "x").report)


def test_expression_goes_into_velocities():
    data = midi(
        [[(0, on(60)), (240, off(60)), (0, control(11, 40)), (0, on(60)), (240, off(60)), (0, on(60)), (240, off(60))]]
    )
    loud, soft, _ = (v for _, _, _, v in read_midi(data).parts[0].notes)
    assert soft < loud


@pytest.mark.parametrize("kind", [0, 1])
def test_tempo_metre_key_markers_and_channels_are_read(kind):
    meta = [
        (0, mido.MetaMessage("set_tempo", tempo=500_000)),
        (0, mido.MetaMessage("time_signature", numerator=3, denominator=4)),
        (0, mido.MetaMessage("key_signature", key="Am")),
        (0, mido.MetaMessage("marker", text="Verse")),
        (0, on(36, channel=9)),
        (0, on(45)),
        (480, off(45)),
        (0, off(36, channel=9)),
        (4 * 1440 - 480, mido.MetaMessage("marker", text="Chorus")),
        (0, mido.MetaMessage("set_tempo", tempo=400_000)),
        (0, on(72, channel=1)),
        (480, off(72, channel=1)),
        (8 * 480, on(38, channel=9)),
        (10, off(38, channel=9)),
    ]
    song = import_midi(midi([meta], 480, kind), "x").song
    assert [(s.name, s.role, s.bars) for s in song.sections] == [("Verse", "verse", 4), ("Chorus", "chorus", 4)]
    assert (str(song.metre), str(song.key), song.tempo_bpm) == ("3/4", "A minor", 120.0)
    assert song.sections[1].tempo_changes == (TempoPoint(0, 150.0),)
    assert {x.family for x in song.layers} >= {"drums", "low end"} and {x.sound.drum for x in song.layers} >= {
        "kick",
        "snare",
    }


def test_a_metre_change_inside_a_bar_makes_a_short_bar():
    data = midi(
        [
            [
                (0, on(60)),
                (480, off(60)),
                (480, mido.MetaMessage("time_signature", numerator=3, denominator=4)),
                (0, on(62)),
                (480 * 6, off(62)),
                (0, on(64)),
                (5, off(64)),
            ]
        ]
    )
    song = import_midi(data, "x").song
    assert str(song.metre) == "2/4" and song.sections[0].metre_changes[0][0] == 1


def test_equal_bars_share_a_pattern_and_notes_may_sound_past_their_section():
    bar = [(0, on(40)), (960, off(40)), (960, on(43)), (480, off(43)), (1440, mido.MetaMessage("text", text=""))]
    data = midi([bar * 7 + [(0, on(40)), (5000, off(40))]], 960)
    song = import_midi(data, "x").song
    assert len(song.patterns) == 2
    (first, *rest) = song.sections[0].placements
    assert first.end_ticks == 7 * 3840 and rest[-1].end_ticks == 8 * 3840


def test_sections_are_found_by_change_and_the_report_says_how_sure():
    rows = []
    for pitches in ((40,), (40, 52, 55, 59), (40,), (40, 52, 55, 59)):
        for _ in range(8):
            rows += (
                [(0, on(p)) for p in pitches]
                + [(960, off(pitches[0]))]
                + [(0, off(p)) for p in pitches[1:]]
                + [(960, on(pitches[0])), (1920, off(pitches[0]))]
            )
    found = import_midi(midi([rows], 960), "x")
    assert [s.bars for s in found.song.sections] == [8, 8, 8, 8]
    assert [s.name for s in found.song.sections][:2] == ["Part A 1", "Part B 1"]
    assert any("confidence" in line for line in found.report)


def test_our_file_says_all_that_the_song_does():
    song = EDITS["set_key"]("Eb major").apply(EDITS["set_tempo"](104).apply(small_song()))
    file = mido.MidiFile(file=io.BytesIO(write_midi(song)))
    metas = {m.type: m for m in file.tracks[0]}
    assert (
        file.type == 1
        and file.ticks_per_beat == 960
        and [t.name for t in file.tracks[1:]] == ["Round kick", "Plucked bass", "Soft pad"]
    )
    assert [m.text for m in file.tracks[0] if m.type == "marker"] == ["Verse", "Chorus"]
    assert metas["key_signature"].key == "Eb" and metas["set_tempo"].tempo == round(60e6 / 104)
    assert {m.channel for m in file.tracks[1] if m.type == "note_on"} == {9}
    assert file.length == pytest.approx(16 * 4 * 60 / 104, abs=0.05)


def test_beyond_fifteen_pitched_layers_channels_are_shared():
    song = small_song()
    for _ in range(18):
        song = EDITS["add_layer"]("glass-bell", rows=[[0, 100, 0, 80, 0, 90]], length_ticks=3840).apply(song)
        song = EDITS["place"](song.sections[0].id, song.layers[-1].id, song.layers[-1].pattern_id).apply(song)
    file = mido.MidiFile(file=io.BytesIO(write_midi(song)))
    channels = {m.channel for t in file.tracks[2:] for m in t if m.type == "note_on"}
    assert len(file.tracks) == 22 and channels <= set(range(16)) - {9}


GOOD = midi([[(0, on(60)), (480, off(60))]])
BAD = {
    "cut in half": (write_midi(small_song())[: len(write_midi(small_song())) // 2], "cut off"),
    "no notes": (midi([[(0, mido.MetaMessage("text", text="hi"))]]), "no notes"),
    "type 2": (GOOD[:8] + b"\x00\x02" + GOOD[10:], "type 2"),
    "division 0": (GOOD[:12] + b"\x00\x00" + GOOD[14:], "0 ticks a quarter"),
    "noise": (b"MThd" + bytes(range(200)), "damaged|cut off"),
    "not music": (b"\x89PNG....", "neither a MIDI file nor"),
    "empty": (b"", "neither a MIDI file nor"),
    "too long": (midi([[(0, on(60)), (480, off(60)), (480 * 4 * 1100, on(60)), (1, off(60))]]), "more than 999 bars"),
}


@pytest.mark.parametrize("name", BAD)
def test_a_file_that_cannot_be_read_says_why(name):
    data, says = BAD[name]
    with pytest.raises(FormatError, match=says):
        import_file("x.mid", data)


def test_a_song_comes_back_with_its_bars_sections_and_notes(demos):
    for song in demos:
        back = import_midi(write_midi(song), "x").song
        assert [(s.name, s.bars) for s in back.sections] == [(s.name, s.bars) for s in song.sections]
        assert exported_onsets(back) == exported_onsets(song)
        assert (back.tempo_bpm, back.metre, str(back.key)) == (song.tempo_bpm, song.metre, str(song.key))


@pytest.mark.parametrize(("end", "bars"), [(100, 1), (3840, 1), (7680, 2), (7000, 1), (3840 * 20, 4)])
def test_a_tail_is_no_bar_but_silence_is(end, bars):
    data = midi([[(0, on(60)), (end, off(60)), (0, mido.MetaMessage("text", text=""))]], 960)
    assert import_midi(data, "x").song.bars == bars


def test_a_glide_is_written_as_steps_that_last_as_long():
    song = small_song()
    song = EDITS["glide_tempo"](song.sections[0].id, 60.0).apply(song)
    file = mido.MidiFile(file=io.BytesIO(write_midi(song)))
    tempos = [m.tempo for m in file.tracks[0] if m.type == "set_tempo"]
    assert len(tempos) == 8 * 8 + 2 and tempos == sorted(tempos[:-1]) + [tempos[-1]]
    assert file.length == pytest.approx(timeline(song).seconds, abs=0.02)
    assert read_midi(write_midi(song)).tempos[0][1] == pytest.approx(120, abs=1)
