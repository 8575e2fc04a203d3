"""Drills as they sound: differences are in the rendered sound, matched passages are as loud; sessions, their end, and what comes again."""

import io
import time
import wave
from dataclasses import replace
from datetime import timedelta

import numpy as np
import pytest

from escalera.core.drills.question import DRILLS
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, NotFound
from escalera.meters.loudness import loudness
from escalera.services import drills as service
from escalera.services.demo import demo_songs
from escalera.services.drills import QUIET_LUFS, Item
from tests.planned import SONG

RATE = 44_100


def heard(studio, kind, seed, size):
    """The question, and its passages as arrays (2, n)."""
    item = Item(kind, seed, size)
    question = studio.drills.question(item)
    parts = []
    for part in range(len(question.heard)):
        with wave.open(io.BytesIO(studio.drills.sound(item, part))) as file:
            data = np.frombuffer(file.readframes(file.getnframes()), np.int16)
        parts.append(data.reshape(-1, 2).T.astype(np.float32) / 32768)
    return question, parts


def lufs(audio):
    return float(loudness(audio, RATE).integrated_lufs)


def pitch_hz(audio):
    """The lowest strong pitch of the first beat, from its spectrum."""
    mono = audio.mean(axis=0)[4000:26000] * np.hanning(22000)
    spectrum = np.abs(np.fft.rfft(mono, 1 << 19))
    hz = np.fft.rfftfreq(1 << 19, 1 / RATE)
    low = (hz > 40) & (hz < 110)
    return float(hz[low][np.argmax(spectrum[low])])


@pytest.mark.parametrize("seed", range(4))
def test_what_is_louder_is_louder_by_just_so_much_and_what_is_matched_is_as_loud(studio, seed):
    q, (a, b) = heard(studio, "louder", seed, 3.0)
    assert abs(lufs(b) - lufs(a)) == pytest.approx(3.0, abs=0.3) and (lufs(b) > lufs(a)) == (q.right == 1)
    q, (a, b) = heard(studio, "louder or brighter", seed, 4.0)
    step = lufs(b) - lufs(a)
    if q.choices[q.right] == "it is louder":
        assert step == pytest.approx(4.0, abs=0.4)
    else:
        assert abs(step) < 0.3
        top = [float(np.abs(np.fft.rfft(x.mean(axis=0)))[30_000:].mean()) for x in (a, b)]
        assert top[1] > 1.2 * top[0], "the second has more top"
    assert max(lufs(a), lufs(b)) < QUIET_LUFS + 8, "drills begin quiet"


@pytest.mark.parametrize("seed", range(3))
def test_sides_pitches_and_times_are_in_the_sound(studio, seed):
    q, (audio,) = heard(studio, "left or right", seed, 0.4)
    left, right = (float(np.sqrt(np.mean(c**2))) for c in audio)
    assert (right > left) == (q.choices[q.right] == "right")
    q, (audio,) = heard(studio, "bass out of tune", seed, 50.0)
    item = Item("bass out of tune", seed, 50.0)
    song = studio.drills.question(item).heard[0].song
    plain = replace(song, layers=tuple(replace(x, tune_cents=0.0) for x in song.layers))
    rendering = studio.rendering.renderer

    def bass_of(each):
        alone = replace(each, layers=tuple(replace(x, muted=x.sound_key != "plucked-bass") for x in each.layers))
        line = timeline(alone)
        return pitch_hz(rendering.chunk(alone, line, 0, rendering.chunk_keys(alone, line)[0]))

    cents = 1200 * np.log2(bass_of(song) / bass_of(plain))
    assert cents == pytest.approx({"too low": -50, "in tune": 0, "too high": 50}[q.choices[q.right]], abs=6)
    q, (audio,) = heard(studio, "count the bars", seed, 5.0)
    bar_s = 4 * 60 / q.heard[0].song.tempo_bpm
    assert audio.shape[1] / RATE == pytest.approx(q.number * bar_s, abs=2.5)


def test_a_session_poses_prepared_questions_until_its_time_is_over(studio, monkeypatch):
    studio.add_song(demo_songs()[0], "Made")
    session_id = studio.drills.begin(["louder", "layer", "inversion"])
    times, kinds = [], []
    for number in range(6):
        begun = time.perf_counter()
        posed = studio.drills.pose(session_id)
        times.append(time.perf_counter() - begun)
        kinds.append(posed.item.kind)
        assert posed.number == number and posed.left_s > 200
        told = studio.drills.answer(session_id, number, posed.item, str(posed.question.right))
        assert told.right and told.said.startswith("Right: ")
        with pytest.raises(EditError, match="answered already"):
            studio.drills.answer(session_id, number, posed.item, "0")
        time.sleep(0.05)
    assert set(kinds) == {"louder", "layer", "inversion"} and studio.drills.summary(session_id) == (6, 6)
    later = service.moment() + timedelta(minutes=5, seconds=1)
    monkeypatch.setattr(service, "moment", lambda: later)
    assert studio.drills.pose(session_id) is None
    late = later + timedelta(minutes=2)
    monkeypatch.setattr(service, "moment", lambda: late)
    with pytest.raises(EditError, match="five minutes are over"):
        studio.drills.answer(session_id, 6, posed.item, "0")
    assert studio.drills.summary(session_id) == (6, 6)
    (row, *_) = studio.drills.progress()
    assert row.answers == 2 and row.right == 1.0


def test_sessions_that_were_left_do_not_keep_the_next_one_from_being_prepared(studio):
    for _ in range(service.MOST_AHEAD + 3):
        session_id = studio.drills.begin(["louder"])
    assert (session_id, 0) in studio.drills._ahead and len(studio.drills._ahead) == service.MOST_AHEAD


def test_what_was_wrong_comes_again_and_sizes_follow_the_learner(studio):
    session_id = studio.drills.begin(["louder"])
    first = studio.drills.pose(session_id)
    assert first.item.size == pytest.approx(DRILLS["louder"].easy)
    studio.drills.answer(session_id, 0, first.item, str(1 - first.question.right))
    second = studio.drills.pose(session_id)
    studio.drills.answer(session_id, 1, second.item, str(second.question.right))
    third = studio.drills.pose(session_id)
    assert third.again and third.item == first.item and third.question == first.question
    studio.drills.answer(session_id, 2, third.item, str(third.question.right))
    assert studio.drills.pose(session_id).item.size < DRILLS["louder"].easy


@pytest.mark.parametrize("kind", [k for k in DRILLS if DRILLS[k].own and k != "where a bar is"])
def test_passages_of_songs_sound(studio, kind):
    song_id = studio.add_song(demo_songs()[0], "Made")
    item = Item(kind, 3, 1.0, song_id, studio.head(song_id).revision_id)
    parts = studio.drills.question(item).heard
    for part in range(len(parts)):
        with wave.open(io.BytesIO(studio.drills.sound(item, part))) as file:
            audio = np.frombuffer(file.readframes(file.getnframes()), np.int16)
        assert np.abs(audio).max() > 300 and 2.0 < len(audio) / 2 / RATE < 30.0


def test_odd_sessions_and_items_are_sentences(studio, client):
    for kinds, song, says in (([], 0, "at least one drill"), (["juggling"], 0, "is not a drill")):
        with pytest.raises(EditError, match=says):
            studio.drills.begin(kinds, song)
    with pytest.raises(NotFound):
        studio.drills.begin(["louder"], 99)
    with pytest.raises(NotFound, match="no such session"):
        studio.drills.pose(77)
    with pytest.raises(EditError, match="no song to ask about"):
        studio.drills.pose(studio.drills.begin(["layer"]))
    for text in (
        "",
        "[]",
        '["louder", 1, NaN, 0, 0, 0]',
        '["count the bars", 1, 1e9, 0, 0, 0]',
        '["louder", 1, 3, 1e30, 0, 0]',
        '["louder"]',
        '["louder", "x", 1, 0, 0, 0]',
        '["nothing", 1, 1, 0, 0, 0]',
    ):
        with pytest.raises(EditError):
            Item.read(text)
    assert client.get("/drills/77").status_code == 404 and client.get("/drills/sound.wav?item=x").status_code == 422
    assert client.get('/drills/sound.wav?item=["louder",1,3,0,0,0]&part=9').status_code == 404
    assert "Choose at least one drill" in client.post("/drills", data={}).get_data(as_text=True)
    song_id = studio.add_song(SONG, "Made")
    told = client.get(f"/drills?song={song_id}&section={SONG.sections[1].id}").get_data(as_text=True)
    assert "Made from Small, Chorus" in " ".join(told.split())
