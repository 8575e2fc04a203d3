"""Takes on their way into a song: pieces, broken ones, rounds, open ends, another rate; the singer as truth; polish; sheets; figures."""

import json
from dataclasses import replace

import numpy as np
import pytest
import soundfile
import soxr
from click.testing import CliRunner
from scipy.signal import fftconvolve

from escalera.cli import main
from escalera.core.document.singing import NoteTuning, Polish
from escalera.core.reading.groove_reading import groove_beat
from escalera.core.reading.timeline import timeline
from escalera.core.voices.comp import comp_of
from escalera.core.voices.melody import melody_of
from escalera.core.voices.take_judgement import NEAR_ENOUGH, judge_take, likeness
from escalera.errors import EscaleraError, InputError, NotFound
from escalera.formats.bundle import read_bundle, write_bundle
from escalera.formats.project import read_project, write_project
from escalera.listen.sung_notes import pitch_line, sung_notes
from escalera.listen.voice_noises import carries_room, voice_noises
from escalera.services import takes_waiting
from escalera.services.studio import Studio
from escalera.services.sung_reading import keep_sung, sung_report
from escalera.services.take_material import chords_heard, chords_under, grooves_near
from escalera.services.takes import keep_abandoned, keep_take, polished_audio, to_sing
from escalera.services.takes_waiting import TakeAbout
from escalera.services.voice_sheets import lyric_sheet, singers_sheet
from escalera.sound.recording_files import library
from escalera.sound.singer import ToSing, sing
from tests.singing import GUIDED, C, V

RATE = 44_100
SPAN = timeline(GUIDED).span_of(V)


def sung(part="lead", at_s=2.0, seed=3, loose=1.0, song=GUIDED, section_id=V):
    span = timeline(song).span_of(section_id)
    notes = [replace(n, start_s=n.start_s + at_s, end_s=n.end_s + at_s) for n in to_sing(song, span, part)]
    return sing(notes, span.length_seconds + at_s + 0.5, seed, loose)


def sent(studio, song_id, audio, about=None, rate=RATE, piece_s=0.5):
    """Pieces of a recording as a page sends them; the token of the take."""
    token = studio.takes.begin(about or TakeAbout(song_id, V, rate_hz=rate, zero_s=2.0, made_at="today"))
    length = int(piece_s * rate)
    for number, at in enumerate(range(0, audio.shape[1], length)):
        data = np.ascontiguousarray(audio[:, at : at + length].T, "<f4").tobytes()
        studio.takes.piece(token, number, data)
        if number == 1:
            studio.takes.piece(token, 1, data)  # the same one may come twice
    return token


@pytest.fixture(scope="module")
def truth():
    return sung()


@pytest.fixture(scope="module")
def opened(tmp_path_factory):
    """One studio for all, since each starts a process that reads recordings."""
    made = Studio(tmp_path_factory.mktemp("takes"), max_pages=0, cache_mb=200)
    yield made
    made.close()


@pytest.fixture
def held(opened):
    return opened, opened.add_song(GUIDED, "made")


@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_a_take_lies_where_it_was_sung(held, truth, rate):
    studio, song_id = held
    audio = truth.audio if rate == RATE else soxr.resample(truth.audio[0], RATE, rate)[None]
    kept = keep_take(studio, sent(studio, song_id, audio, rate=rate))
    song = studio.head(song_id).song
    (take,) = song.takes
    assert kept.take_ids == (take.id,) and len(comp_of(song, song.section_by_id[V], "lead")) == 1
    played = library.read(take.content, 0, truth.audio.shape[1])[0]
    ours = truth.audio[0][: len(played)]
    lag = np.argmax(np.correlate(ours[90_000:120_000], played[90_000 - 200 : 120_000 - 200], "full")) - 29_999
    assert abs(lag + 200) <= 1 and take.zero_s == 2.0
    found = judge_take(take, melody_of(song, SPAN), SPAN)
    assert len(found.notes) >= 23 and abs(found.late_ms - 8) < 12 and abs(found.cents) < 10
    assert studio.takes.waiting() == [] and song.samples[0].licence == "own"


def test_a_take_that_broke_off_is_there_afterwards_and_one_that_is_sung_stays(held, truth, monkeypatch):
    studio, song_id = held
    token = sent(studio, song_id, truth.audio[:, : 6 * RATE])
    folder = studio.folder / "takes" / token
    (folder / "00011.f32").unlink()  # the last piece never came
    (folder / "00012.aside").write_bytes(b"half")
    assert keep_abandoned(studio) == [] and len(studio.takes.waiting(song_id)) == 1, "somebody may still be singing"
    monkeypatch.setattr(takes_waiting, "ABANDONED_S", -1.0)
    again = Studio(studio.folder, max_pages=0)  # the server was killed, and another one begins
    assert len(keep_abandoned(again, song_id)) == 1
    again.close()
    library.add_folder(studio.samples.folder)  # one process for both here
    (take,) = studio.head(song_id).song.takes
    assert studio.head(song_id).song.samples[0].seconds == pytest.approx(5.5, abs=0.01)
    assert take.sung and keep_abandoned(studio) == []
    twice = sent(studio, song_id, truth.audio[:, : round(5.5 * RATE)])
    assert keep_take(studio, twice).said == "The take is there already" and len(studio.head(song_id).song.takes) == 1


def test_rounds_are_takes_of_their_own_and_an_open_end_makes_the_section_longer(held, truth):
    studio, song_id = held
    low, high = SPAN.phrase_ticks()[0]
    pass_s = SPAN.seconds_at(high) - SPAN.seconds_at(low)
    twice = np.concatenate(
        (truth.audio[:, : round((2 + pass_s) * RATE)], truth.audio[:, 2 * RATE : round((2 + pass_s) * RATE)]), axis=1
    )
    about = TakeAbout(song_id, V, zero_s=2.0, high_ticks=high, pass_s=pass_s)
    kept = keep_take(studio, sent(studio, song_id, twice, about))
    takes = studio.head(song_id).song.takes
    assert len(kept.take_ids) == 2 and all(t.zero_s == pytest.approx(0.5, abs=1e-3) for t in takes)
    assert likeness(*takes).apart_ms < 12 and [t.high_ticks for t in takes] == [high, high]
    bars = 3.2 * SPAN.seconds_at(3840)
    keep_take(
        studio,
        sent(
            studio,
            song_id,
            truth.audio[:, : round((2 + bars) * RATE)],
            TakeAbout(song_id, C, zero_s=2.0, open_end=True),
        ),
    )
    assert studio.head(song_id).song.section_by_id[C].bars == 3


def test_odd_takes_are_refused_in_a_sentence_and_lose_nothing(held, truth, monkeypatch):
    studio, song_id = held
    for about, says in (
        (TakeAbout(song_id, V, "shout"), "no voice of the stack"),
        (TakeAbout(song_id, V, rate_hz=4000), "4,000 samples a second"),
    ):
        with pytest.raises(InputError, match=says):
            studio.takes.begin(about)
    token = sent(studio, song_id, truth.audio[:, : RATE // 5])
    for data, number in ((b"123", 0), (b"", 0), (b"0" * 4 * RATE * 2, 1), (b"0000", -1)):
        with pytest.raises(InputError, match="does not fit a take"):
            studio.takes.piece(token, number, data)
    with pytest.raises(InputError, match=r"Less than 0.4 s"):
        keep_take(studio, token)
    silent = sent(studio, song_id, np.zeros((1, 2 * RATE), np.float32))
    with pytest.raises(InputError, match="It is silent"):
        keep_take(studio, silent)
    assert studio.takes.pieces(silent) and silent not in {w.token for w in studio.takes.abandoned()}, (
        "laid by, not lost"
    )
    with pytest.raises(NotFound, match="not being recorded any more"):
        studio.takes.piece("../../../etc/pwd", 0, b"0000")
    loud = keep_take(studio, sent(studio, song_id, 4.0 * truth.audio))
    sample = studio.head(song_id).song.samples[0]
    assert loud.take_ids and np.abs(library.read(sample.content, 0, 20 * RATE)).max() > 1.0, (
        "louder than full scale is kept"
    )
    before = studio.samples.count()
    lost = sent(studio, song_id, 0.7 * truth.audio, TakeAbout(song_id, 999, zero_s=2.0))
    with pytest.raises(Exception, match="999 is not in this song"):
        keep_take(studio, lost)
    studio.takes.clear(lost)
    assert studio.samples.count() == before + 1, "the recording is in the library all the same"
    monkeypatch.setattr(takes_waiting.shutil, "disk_usage", lambda folder: type("Disk", (), {"free": 1})())
    with pytest.raises(InputError, match="Less than 50 MB are free"):
        studio.takes.begin(TakeAbout(song_id, V))


def test_pitch_breaths_hisses_and_rooms_are_heard_as_they_were_sung():
    notes = [ToSing(0.6 + 0.7 * i + 0.5 * (i // 4), 1.1 + 0.7 * i + 0.5 * (i // 4), p, ph, i % 4 == 0) for i, (p, ph) in enumerate(zip((60, 62, 64, 65, 67, 65, 64, 62, 60, 64, 67, 72), ("hO1m", "sI1", "lA1", "nO1") * 3))]  # fmt: skip
    seen = []
    for seed in range(2):
        made = sing(notes, 11.0, seed)
        line = pitch_line(made.audio)
        found = sung_notes(made.audio, line)
        for start, _, pitch in made.notes:
            near = min(found, key=lambda n: abs(n.start_s - start))
            seen.append((1000 * (near.start_s - start), 100 * (near.pitch + near.cents / 100 - pitch)))
        noises = voice_noises(made.audio, found, line[1])
        breaths = [n for n in noises if n.kind == "breath"]
        assert len(breaths) == len(made.breaths) and all(
            abs(b.start_s - a) < 0.12 for b, (a, _) in zip(breaths, made.breaths)
        )
        assert sum(n.kind == "hiss" for n in noises) == 3, "one for every s"
        assert carries_room(made.audio, found) is False
        rng = np.random.default_rng(1)
        tail = rng.standard_normal(RATE) * np.exp(-6.9 * np.arange(RATE) / RATE)
        wet = (made.audio + 0.03 * fftconvolve(made.audio[0], tail)[: made.audio.shape[1]]).astype(np.float32)
        assert carries_room(wet, sung_notes(wet)) is True
    late, cents = np.abs(np.array(seen)).T
    assert np.percentile(cents, 95) < 10 and np.percentile(late, 90) < 25


def test_a_polished_take_is_nearer_by_its_share_and_the_take_stays(held, truth):
    studio, song_id = held
    keep_take(studio, sent(studio, song_id, sung(seed=9, loose=2.2).audio))
    song = studio.head(song_id).song
    (take,) = song.takes

    def off(audio):
        read = [(n.start_s, n.end_s, n.pitch + n.cents / 100) for n in sung_notes(audio)]
        from escalera.core.document.singing import packed_notes

        found = judge_take(replace(take, notes=packed_notes(read)), melody_of(song, SPAN), SPAN)
        return np.mean([abs(n.cents) for n in found.notes]), np.mean([abs(n.late_ms) for n in found.notes])

    before = off(library.read(take.content, 0, 20 * RATE))
    half, whole = (off(polished_audio(song, take, Polish(tune=t, timing=t))) for t in (0.5, 1.0))
    assert whole[0] < 4 and whole[1] < 16 and 0.3 * before[0] < half[0] < 0.75 * before[0]
    quiet = polished_audio(song, take, Polish(sibilance_db=-12, breaths_db=-60))
    plain = library.read(take.content, 0, quiet.shape[1])
    power = lambda audio, a, b: float((audio[:, round(a * RATE) : round(b * RATE)] ** 2).mean())  # noqa: E731
    for kind, least in (("hiss", 6), ("breath", 30)):
        for a, b in take.noise(kind):
            third = (b - a) / 3
            assert 10 * np.log10(power(plain, a + third, b - third) / power(quiet, a + third, b - third)) > least
    note = take.sung[1]
    assert power(quiet, note.start_s + 0.1, note.end_s - 0.1) == pytest.approx(
        power(plain, note.start_s + 0.1, note.end_s - 0.1), rel=0.02
    )
    outcome = studio.command(
        song_id,
        studio.head(song_id).revision_id,
        {"kind": "polish_take", "take_id": str(take.id), "tune": "1", "note.2": "40"},
    )
    after = outcome.head.song
    assert after.takes[0].content == take.content and after.takes[0].played != take.content
    assert after.takes[0].polish == Polish(tune=1.0, by_note=(NoteTuning(2, 0.4),))
    with pytest.raises(EscaleraError, match="Tuning of a note 140 % lies outside 0 to 100 %"):
        studio.command(
            song_id, outcome.head.revision_id, {"kind": "polish_take", "take_id": str(take.id), "note.2": "140"}
        )
    assert [p.take_id for p in comp_of(after, after.section_by_id[V], "lead")] == [take.id]
    back = studio.command(song_id, outcome.head.revision_id, {"kind": "polish_take", "take_id": str(take.id)}).head.song
    assert back.takes[0] == take


def test_takes_by_the_program_can_double_and_go_along_in_a_bundle(held, tmp_path):
    studio, song_id = held
    for seed in (5, 6):
        head = studio.head(song_id)
        studio.command(
            song_id, head.revision_id, {"kind": "sing_take", "section_id": str(V), "part": "lead", "seed": str(seed)}
        )
    song = studio.head(song_id).song
    assert likeness(*song.takes).verdict == NEAR_ENOUGH
    assert len(comp_of(song, song.section_by_id[V], "lead")) == 1, "the first is heard, the second waits"
    files = {s.content: library.path(s.content) for s in song.samples}
    write_bundle(write_project(song), files, tmp_path / "song.zip")
    project, recordings = read_bundle(tmp_path / "song.zip", tmp_path)
    assert read_project(project).takes == song.takes and len(recordings) == 2


def test_files_of_a_singer_are_laid_as_what_they_sing(held, tmp_path):
    studio, song_id = held
    for name, part, at_s in (("one", "lead", 1.3), ("two", "third above left", 2.6), ("three", "lead", 0.4)):
        soundfile.write(tmp_path / f"{name}.wav", sung(part, at_s, len(name)).audio.T, RATE)
        sample_id, _ = studio.samples.add_file(tmp_path / f"{name}.wav")
        keep_sung(studio, song_id, V, sample_id)
    takes = studio.head(song_id).song.takes
    assert [t.voice for t in takes] == ["lead", "third above left", "double left"]
    assert [t.zero_s for t in takes] == pytest.approx([1.3, 2.6, 0.4], abs=0.03) and not any(t.wet for t in takes)


def test_what_was_sung_is_told_on_the_command_line(held, tmp_path, monkeypatch):
    path = tmp_path / "lead.wav"
    soundfile.write(path, sung(at_s=0.0, loose=0.0, seed=1).audio.T, RATE)
    report = sung_report(path, GUIDED, "verse")
    assert abs(report["late_ms"]) < 12 and len(report["notes"]) >= 22
    assert {"start_s", "end_s", "pitch", "cents", "confidence"} == set(report["notes"][0]) and sung_report(path)[
        "late_ms"
    ] is None
    with pytest.raises(InputError, match="no section of Small"):
        sung_report(path, GUIDED, "Bridge")
    monkeypatch.setenv("ESCALERA_DATA", str(tmp_path / "none"))
    said = json.loads(CliRunner().invoke(main, ["words", "home to me\nout to sea", "--json"]).output)
    assert [(x["syllables"], x["rhyme"]) for x in said["lines"]] == [(3, "A"), (3, "A")]
    assert said["lines"][0]["words"][0] == {"word": "home", "syllables": ["home"], "stress": "1"}
    assert len(json.loads(CliRunner().invoke(main, ["sung", str(path), "--json"]).output)["notes"]) >= 22


def test_an_instrument_is_recorded_like_a_voice_and_its_chords_are_heard(held):
    studio, song_id = held
    bar = round(SPAN.seconds_at(3840) * RATE)
    t = np.arange(bar) / RATE
    chords = ((48, 60, 64, 67), (45, 57, 60, 64), (41, 60, 65, 69), (43, 59, 62, 67)) * 2
    wave = [
        sum(np.sin(2 * np.pi * k * 440 * 2 ** ((p - 69) / 12) * t) / k**1.5 for p in c for k in (1, 2, 3, 4))
        * np.exp(-t / 1.2)
        for c in chords
    ]
    audio = np.concatenate([np.zeros(RATE // 2), *wave])[None].astype(np.float32) * 0.08
    keep_take(studio, sent(studio, song_id, audio, TakeAbout(song_id, C, "instrument", zero_s=0.5)))
    song = studio.head(song_id).song
    layer = next(x for x in song.layers if x.voice == "instrument")
    assert (layer.family, layer.name) == ("chords", "Recorded instrument") and layer.clips
    found = chords_heard(song, timeline(song).span_of(C), song.takes[-1])
    assert found.chordline.split() == ["C", "|", "Am", "|", "F", "|", "G", "|", "C", "|", "Am", "|", "F", "|", "G"]
    assert studio.command(
        song_id,
        studio.head(song_id).revision_id,
        {"kind": "set_chords", "section_id": str(C), "chords": found.chordline},
    )


def test_own_sounds_are_learnt_and_played_by_the_drums(held):
    studio, song_id = held
    rng, t = np.random.default_rng(2), np.arange(round(0.12 * RATE)) / RATE
    noise = rng.standard_normal(len(t))
    sounds = {
        "low": np.sin(2 * np.pi * 300 * t) * np.exp(-t / 0.03),
        "middle": np.convolve(noise, np.ones(12) / 12, "same") * np.exp(-t / 0.02),
        "high": np.diff(noise, prepend=0) * np.exp(-t / 0.015),
    }  # fmt: skip
    beat_s = SPAN.seconds_at(960)

    def beaten(kinds):
        audio = np.zeros((1, round((0.5 + beat_s * len(kinds) + 0.5) * RATE)), np.float32)
        for i, kind in enumerate(kinds):
            at = round((0.5 + i * beat_s) * RATE)
            audio[0, at : at + len(t)] += 0.3 * sounds[kind] / np.abs(sounds[kind]).max()
        keep_take(studio, sent(studio, song_id, audio, TakeAbout(song_id, V, "percussion", zero_s=0.5)))
        return studio.head(song_id).song.takes[-1]

    with pytest.raises(InputError, match="not one of low, middle, high"):
        studio.mouth.learn(studio.head(song_id).song, beaten(["low"] * 5), "deep")
    for kind in sounds:
        take = beaten([kind] * 6)
        assert (
            studio.mouth.learn(studio.head(song_id).song, take, kind)
            == f"Learnt from 6 strokes what {kind} sounds like"
        )
    played = ["low", "high", "middle", "high", "low", "low", "middle", "high"]
    take = beaten(played)
    head = studio.head(song_id)
    song = studio.command(song_id, head.revision_id, {"kind": "take_to_beat", "take_id": str(take.id)}).head.song
    hits = sorted((h.tick, h.drum) for h in groove_beat(song, song.grooves[-1]).hits)
    assert hits == [
        (960 * i, {"low": "kick", "middle": "snare", "high": "closed hat"}[k]) for i, k in enumerate(played)
    ]


def test_a_take_gives_chords_grooves_and_sheets(held, truth):
    studio, song_id = held
    keep_take(studio, sent(studio, song_id, truth.audio))
    song = studio.head(song_id).song
    offers = chords_under(song, SPAN, song.takes[0])
    assert len({o.chordline for o in offers}) == 3 and offers[0].agrees > 0.6
    grooves = grooves_near(song, SPAN, song.takes[0])
    assert len(grooves) == 4 and grooves[0].locks >= grooves[-1].locks
    sheet = singers_sheet(song)
    assert "car(A4)-ry(G4)" in sheet and "lead (sung)" in sheet and "home by sea  [3]" in lyric_sheet(song)
