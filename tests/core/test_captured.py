"""An idea caught as it was played: tempo, key, chords, line and beat come back from made performances."""

from datetime import datetime

import numpy as np
import pytest

from escalera.core.lines.idea_capture import read_capture
from escalera.core.reading.events import sounding_layers
from escalera.core.rhythm.tapped_beats import find_pulse
from escalera.errors import InputError
from escalera.services.capturing import captured_song
from escalera.services.starting import NEXTS, WAYS, nexts, song_by_way, take_next

CHORDS = {"C": (60, 64, 67), "Am": (57, 60, 64), "F": (53, 57, 60), "G": (55, 59, 62)}


def played(tempo, events, jitter=0.008, seed=1):
    """(beat, beats long, pitch) as seconds with a human hand's scatter, not beginning at zero."""
    dice = np.random.default_rng(seed)
    return [(3.0 + b * 60 / tempo + float(dice.normal(0, jitter)), n * 60 / tempo, p) for b, n, p in events]


@pytest.mark.parametrize("tempo", [76, 92, 104, 118, 132])
def test_a_tempo_is_found_from_a_beat_that_nobody_counted_in(tempo):
    beats = [0, 1, 1.5, 2, 3, 4, 5, 5.5, 6, 7]
    times = [t for t, _, _ in played(tempo, [(b, 0, 0) for b in beats])]
    found, _, off = find_pulse(times)
    assert found == pytest.approx(tempo, rel=0.02) and off < 0.1


def test_chords_line_key_and_beat_come_back():
    chords = [(4 * i, 3.9, p) for i, name in enumerate(CHORDS) for p in CHORDS[name]]
    tune = [(4 * i + 1 + j * 0.5, 0.4, p) for i in range(4) for j, p in enumerate((72, 76, 79))]
    taps = [
        (t, "kick" if i % 2 == 0 else "snare")
        for i, (t, _, _) in enumerate(played(100, [(b, 0, 0) for b in range(16)], seed=2))
    ]
    found = read_capture(played(100, chords + tune), taps)
    assert found.tempo_bpm == pytest.approx(100, abs=1) and str(found.key) == "C major" and found.bars == 4
    assert [(t, str(c)) for t, c in found.chords] == [(0, "C"), (3840, "Am"), (7680, "F"), (11520, "G")]
    assert len(found.line) == 12 and found.line[0][0] == 960 and found.line[0][2] == 72
    assert [h.drum for h in found.beat.hits][:2] == ["kick", "snare"]


@pytest.mark.parametrize(("notes", "taps", "says", "layers"), [
    ([(0, 0.3, 60)], [], "too little was played for a tempo", 1), ([], [(0, "l"), (0.5, "h"), (1.0, "l"), (1.5, "h")], "120 bpm", 2),
    ([(0, 0.3, 60)], [(0.4, "l")], "fewer than three taps", 1), ([(0, 2, 60), (0.01, 2, 64), (0.02, 2, 67)], [], "C", 1),
])  # fmt: skip
def test_whatever_was_caught_becomes_a_song_that_sounds(notes, taps, says, layers):
    song, _ = captured_song(notes, taps, datetime(2026, 11, 26, 19, 5))
    assert song.title == "Idea of 26 November, 19:05" and says in song.notes
    assert len(sounding_layers(song, song.sections[0])) == layers


@pytest.mark.parametrize(("notes", "taps", "says"), [
    ([], [], "Nothing was played yet"), ([("x", 1, 2)], [], "cannot be read"), ([(0, 1, 400)], [], "cannot be read"), ([], [(0, "gong")], "cannot be read"),
])  # fmt: skip
def test_what_is_no_idea_says_so(notes, taps, says):
    with pytest.raises(InputError, match=says):
        captured_song(notes, taps, datetime(2026, 1, 1))


@pytest.mark.parametrize("way", [w.key for w in WAYS if w.first])
def test_every_way_grows_to_four_layers_and_more_by_what_is_offered_next(way):
    song = song_by_way(way)
    assert len(song.sections) == 1 and sounding_layers(song, song.sections[0])
    taken = []
    while (offered := nexts(song, song.sections[0])) and len(taken) < 8:
        taken.append(offered[0].key)
        steps, summary = take_next(song, song.sections[0], offered[0].key)
        before = len(sounding_layers(song, song.sections[0]))
        for step in steps:
            song = step.apply(song)
        assert len(sounding_layers(song, song.sections[0])) > before and summary.startswith("Idea: ")
    assert len(set(taken)) == len(taken) >= 3 and {"drums", "chords", "low end"} <= {
        x.family for x in sounding_layers(song, song.sections[0])
    }
    assert all(
        n.key in {*taken, *(w for x in WAYS for w in x.first)} or n.family in {"atmosphere", "voices", "second chords"}
        for n in NEXTS
    )


@pytest.mark.parametrize("tempo", [72, 84, 96, 112, 128])
@pytest.mark.parametrize("style", ["chords", "chords and tune", "strum", "bass"])
def test_the_tempo_of_an_idea_is_found_from_all_that_was_played(tempo, style):
    dice = np.random.default_rng(tempo)
    strummed = {"strum": [0, 1.5, 2.5], "bass": [0, 2]}.get(style, [0])
    events = []
    for bar, name in enumerate(("Am", "F", "C", "G")):
        pitches = CHORDS[name] if style != "bass" else (CHORDS[name][0] - 24,)
        events += [(4 * bar + hit, 0.9 if len(strummed) > 1 else 3.8, p) for hit in strummed for p in pitches]
        if style == "chords and tune":
            events += [(4 * bar + b, 0.4, 72 + int(dice.integers(0, 9))) for b in (0.5, 1, 1.5, 3, 3.5)]
    found = read_capture(played(tempo, sorted(events), jitter=0.012), [])
    assert found.tempo_bpm == pytest.approx(tempo, rel=0.03)
