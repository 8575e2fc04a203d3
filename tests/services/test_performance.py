"""Music of others, read as by a musician, held against what is true of it. JUDGE styles were not looked at while reading was made."""

import io
import random

import mido
import numpy as np
import pytest

from escalera.core.edits import EDITS
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.services.importing import import_midi
from escalera.services.judging import findings_report
from escalera.services.music_report import ReadSong, music_report, read_source
from tests.performances import BEAT, FIT, JUDGE, perform
from tests.planted import FAULTS


def f_of(true, found):
    """Joins within a bar, as the harmonic mean of those that are right and those that are found."""
    hits, left = 0, list(found[1:])
    for edge in true[1:]:
        near = [f for f in left if abs(f - edge) <= 1]
        if near:
            hits += 1
            left.remove(min(near, key=lambda f: abs(f - edge)))
    return 2 * hits / max(1, len(true) - 1 + len(found) - 1)


def alike(performance, reading):
    """Share of the parts that are taken for what they are: a part of this kind again, as much higher; or a new one."""
    found, right = {p.first_bar: p for p in reading.form.parts}, []
    for index, part in enumerate(performance.parts):
        before = [p for p in performance.parts[:index] if p.kind == part.kind]
        here = next((found[b] for b in (part.first_bar, part.first_bar - 1, part.first_bar + 1) if b in found), None)
        if part.kind == "I" or here is None:  # an intro is a verse with less, and may be called so
            right += [False] * (part.kind != "I")
            continue
        like = reading.form.parts[here.like].first_bar if here.like >= 0 else -1
        kind = next((p.kind for p in performance.parts if abs(p.first_bar - like) <= 1), None) if like >= 0 else None
        again = kind == part.kind or (kind == "I" and part.kind == "A")
        right.append(again and here.shift == part.shift if before else kind is None or again)
    return np.mean(right)


def chords_right(performance, song):
    """Share of the bars whose one has the right root and third in the song's own chords."""
    found = []
    for span in timeline(song).spans:
        harmony = section_harmony(song, span)
        found += [harmony.at(span.bar_ticks[bar]) for bar in range(span.section.bars)]
    rows = zip(found, performance.bars)
    return np.mean(
        [
            c.root_class == r and (((r + 4) % 12 in c.classes) == ((r + 4) % 12 in classes))
            for c, (r, classes, _) in rows
        ]
    )


@pytest.mark.parametrize(("styles", "seeds"), [(JUDGE, range(200, 208)), (FIT, range(200, 203))])
def test_performances_are_read_as_they_are(styles, seeds):
    rows = []
    for seed in seeds:
        played = perform(seed, styles)
        found = import_midi(played.data, "x")
        key = found.reading.key.key
        rows.append(
            (
                f_of(played.edges, [p.first_bar for p in found.reading.form.parts]),
                alike(played, found.reading),
                chords_right(played, found.song),
                (key.tonic_class, key.mode) == (played.tonic, played.mode),
                len(found.song.patterns) / len(import_midi(perform(seed, styles, loose=False).data, "x").song.patterns),
            )
        )
    joins, likeness, chords, keys, patterns = np.array(rows, float).T
    assert joins.mean() >= 0.9 and likeness.mean() >= 0.9
    assert chords.mean() >= 0.95 and (chords >= 0.85).mean() >= 0.95 and keys.mean() >= 0.95
    assert patterns.max() <= 1.3


def midi(*tracks, **meta):
    """A file of tracks, each a list of (start in beats, length, pitch, velocity) with a channel, name and program before it."""
    out = mido.MidiFile(type=1, ticks_per_beat=BEAT)
    head = mido.MidiTrack([mido.MetaMessage(kind, **fields) for kind, fields in meta.items()])
    out.tracks.append(head)
    for channel, name, program, notes, *controls in tracks:
        rows = [(0, 0, mido.Message("program_change", program=program, channel=channel))]
        rows += [(round(at * BEAT), 0, message) for at, message in controls]
        for at, length, pitch, velocity in notes:
            rows.append((round(at * BEAT), 2, mido.Message("note_on", note=pitch, velocity=velocity, channel=channel)))
            rows.append((round((at + length) * BEAT), 1, mido.Message("note_off", note=pitch, channel=channel)))
        track, now = mido.MidiTrack([mido.MetaMessage("track_name", name=name)]), 0
        for at, _, message in sorted(rows, key=lambda row: row[:2]):
            track.append(message.copy(time=at - now))
            now = at
        out.tracks.append(track)
    written = io.BytesIO()
    out.save(file=written)
    return written.getvalue()


def chords_of(roots, thirds, beats=4, low=48):
    return [(i * beats, beats, low + p, 80) for i, (r, t) in enumerate(zip(roots, thirds)) for p in (r, r + t, r + 7)]


BLUES = [0, 0, 0, 0, 5, 5, 0, 0, 7, 5, 0, 7]


def test_a_blues_keeps_its_twelve_bars_and_has_no_roles():
    roots = BLUES * 4
    notes = chords_of(roots, [4] * 48) + [(4 * i, 4, 58 + r, 70) for i, r in enumerate(roots)]
    bass = [(4 * i + b, 1, 36 + r + (0, 4, 7, 9)[b], 90) for i, r in enumerate(roots) for b in range(4)]
    turns = [(48 * k, 1, 84 + k, 90) for k in range(4)]
    found = import_midi(midi((0, "Keys", 0, notes), (1, "Bass", 32, bass), (2, "Solo", 65, turns)), "x")
    assert all(s.role == "none" for s in found.song.sections)
    assert all(p.first_bar % 12 == 0 for p in found.reading.form.parts)
    assert (found.song.key.tonic_class, found.song.key.is_minor) == (0, False)


@pytest.mark.parametrize(("notes", "said"), [
    ([(i, 1, 36 + 2 * (i % 2), 100) for i in range(64)], "no pitched note was found"), ([(0, 4, 60, 80)], "fits best"),
])  # fmt: skip
def test_nothing_is_invented_where_little_is_there(notes, said):
    found = import_midi(midi((9 if len(notes) > 2 else 0, "x", 0, notes)), "x")
    assert any(said in line for line in found.report) and all(s.role == "none" for s in found.song.sections)
    if len(notes) > 2:
        assert found.song.progression is None and not found.reading.chords


def test_white_notes_with_d_as_home_are_dorian_whatever_the_file_says():
    notes = chords_of([2, 7, 2, 7] * 4, [3, 4] * 8) + [(4 * i, 4, 38 if i % 2 == 0 else 43, 90) for i in range(16)]
    found = import_midi(midi((0, "Keys", 0, notes), key_signature={"key": "F#"}), "x")
    assert str(found.song.key) == "D dorian" and any("The file says F♯ major, but" in line for line in found.report)
    plain = import_midi(
        midi((0, "Keys", 0, chords_of([0, 9, 5, 7] * 4, [4, 3, 4, 4] * 4)), key_signature={"key": "C"}), "x"
    )
    assert str(plain.song.key) == "C major"


def test_an_early_note_belongs_to_the_section_it_is_meant_for():
    played = perform(3, FIT)
    song = import_midi(played.data, "x").song
    edges = np.cumsum([0, *(s.bars for s in song.sections)]).tolist()
    enters = {part.first_bar for part in played.parts}
    for section, first in zip(song.sections, edges):
        own = [p for p in played.parts if p.first_bar == first]
        playing = {song.layer_by_id[p.layer_id].source.split(": ")[-1] for p in section.placements}
        hands = {n for n, *_ in FIT[sorted(FIT)[0]].hands}
        assert first in enters and own and playing <= hands
        last_bar = [
            p for p in section.placements if p.start_ticks >= (section.bars - 1) * 3840 and p.start_ticks % 3840
        ]
        assert not last_bar


def test_volume_is_read_against_the_other_parts_and_a_program_makes_a_layer_of_its_own():
    notes = [(i, 1, 60, 90) for i in range(32)]
    loud, quiet = (mido.Message("control_change", control=7, value=v, channel=c) for v, c in ((100, 0), (32, 9)))
    changed = (16, mido.Message("program_change", program=48, channel=0))
    data = midi(
        (0, "Keys", 0, notes, (0, loud), changed), (9, "Kit", 0, [(i, 1, 36, 100) for i in range(32)], (0, quiet))
    )
    song = import_midi(data, "x").song
    assert [x.name for x in song.layers] == ["Keys", "Keys 2", "Kick"]
    kick = song.layers[2]
    assert kick.level_db >= kick.sound.level_db - 12


@pytest.mark.parametrize(("name", "family"), [
    ("Kontrabass", "low end"), ("Basse électrique", "low end"), ("Gesang", "voices"), ("Chœur", "voices"), ("Guitarra", "chords"), ("Streicher", "chords"),
    ("Flauto", "leads"), ("Melodie", "leads"), ("Orgue", "chords"), ("Bassoon", "low end"), ("Voz", "voices"), ("Track 3", None),
])  # fmt: skip
def test_parts_are_known_by_their_names_in_several_languages(name, family):
    from escalera.services.import_parts import family_named

    assert family_named(name) == (None if name == "Bassoon" else family)


def test_the_report_has_every_change_and_the_one_of_every_bar(tmp_path):
    path = tmp_path / "x.mid"
    played = perform(201, JUDGE)
    path.write_bytes(played.data)
    report = music_report(read_source(None, path))
    ones = [c["bar"] for c in report["chords"] if c["beat"] == 1]
    assert ones == list(range(1, len(played.bars) + 1)) and all(0 <= c["confidence"] <= 1 for c in report["chords"])
    again = [s for s in report["sections"] if s["like"]]
    assert again and all(s["like"] in {x["name"] for x in report["sections"]} for s in again)
    song = import_midi(played.data, "x").song
    own = music_report(read_source(song))
    assert {c["chord"] for c in own["chords"]} <= {c["chord"] for c in report["chords"]} and isinstance(
        read_source(song), ReadSong
    )


def reported(song):
    return findings_report(song)["findings"]


def test_a_clean_import_has_five_findings_at_most_and_planted_faults_are_among_the_first_five():
    told, seen = [], []
    for seed in range(410, 414):
        for styles in (JUDGE, FIT):
            song = import_midi(perform(seed, styles).data, "x").song
            assert len(reported(song)) <= 5
            for plant in FAULTS.values():
                planted = plant(song, random.Random(seed))
                if planted is not None:
                    rows = reported(planted.song)[:5]
                    seen.append(1)
                    told.append(
                        any(
                            r["check"] in planted.checks and (not planted.section or planted.section in r["sections"])
                            for r in rows
                        )
                    )
    assert len(seen) >= 60 and sum(told) >= 0.95 * len(seen)


def test_no_finding_rests_on_a_guess_until_it_is_confirmed():
    song = import_midi(perform(410, JUDGE).data, "x").song
    assert all(s.guessed for s in song.sections) and song.chords_read
    roles = {
        "verse",
        "verse rises",
        "late chorus",
        "nothing kept",
        "peak",
        "break",
        "repeats",
        "bass note",
        "key change",
        "distance",
        "join",
    }
    assert not roles & {r["check"] for r in reported(song)}
    confirmed = EDITS["confirm_reading"]().apply(song)
    assert not any(s.guessed for s in confirmed.sections) and not confirmed.chords_read
    assert roles & {r["check"] for r in reported(confirmed)}
    assert not EDITS["set_chords"]("I | V | vi | IV").apply(song).chords_read
    own = EDITS["set_role"](song.sections[1].id, "chorus").apply(song)
    assert not own.sections[1].guessed and own.sections[2].guessed


CHORDS = {"C": (48, 52, 55), "Am": (45, 48, 52), "F": (41, 45, 48), "G": (43, 47, 50), "Dm": (50, 53, 57)}


def chorded(bars, early=0):
    """A file of held chords, one a bar, each struck `early` ticks before its bar line, over a bass on the line."""
    file = mido.MidiFile(ticks_per_beat=BEAT)
    for name, pitches, ahead in (
        ("Piano", lambda c: [p + 12 for p in CHORDS[c]], early),
        ("Bass", lambda c: [CHORDS[c][0] - 12], early),
    ):
        rows = []
        for bar, chord in enumerate(bars):
            start, end = max(0, 4 * BEAT * bar - ahead), 4 * BEAT * (bar + 1) - ahead - 20
            rows += [row for p in pitches(chord) for row in ((start, 1, p), (end, 0, p))]
        track, at = mido.MidiTrack(), 0
        track.append(mido.MetaMessage("track_name", name=name))
        for tick, on, pitch in sorted(rows):
            track.append(mido.Message("note_on" if on else "note_off", note=pitch, velocity=80, time=tick - at))
            at = tick
        file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def test_a_loop_keeps_what_differs_on_single_passes():
    plain, other = ["C", "Am", "F", "G"], ["C", "Am", "Dm", "G"]
    song = import_midi(chorded([*plain, *plain, *other, *plain]), "Passes").song
    found = [p for s in song.sections for p in [s.progression or song.progression] if p]
    assert len(song.sections) == 1 and found[0].length_ticks == 4 * 3840
    assert [n for n, _ in found[0].passes] == [3] and [str(c) for _, c in found[0].passes[0][1]] == other
    harmony = section_harmony(song, timeline(song).spans[0])
    assert [str(c) for c in harmony.chords] == [*plain, *plain, *other, *plain]


@pytest.mark.parametrize(("early", "push"), [(0, 0), (BEAT // 2, 480), (BEAT // 16, 0)])
def test_chords_that_all_come_an_eighth_early_are_a_push(early, push):
    bars = ["C", "Am", "F", "G"] * 4
    found = import_midi(chorded(bars, early), "Pushed")
    assert found.song.push_ticks == push and any("pushed" in said for said in found.report) == bool(push)
    harmony = section_harmony(found.song, timeline(found.song).spans[0])
    if push:
        assert [str(harmony.chords[harmony.index_at(3840 * b - 240)]) for b in range(1, 8)] == bars[1:8]
