"""Long work: done once, by whoever is there; called off, tried again; outliving the death of its worker."""

import json
import os
import signal
import subprocess
import sys
import time
from datetime import timedelta
from threading import Thread

import pytest
from fakeredis import TcpFakeServer

from escalera.errors import InputError, NotFound
from escalera.services import jobs as work
from escalera.services.demo_shelf import begin_demo, put_more
from escalera.services.studio import Studio
from escalera.services.task_queue import JsonMessages, TaskQueue
from escalera.store import job_store
from escalera.store.models import JobRow, now
from tests.killing import Killing
from tests.songs import small_song

WAV = {"format": "wav", "stems": False, "wet": True, "bits": 16}


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def ask(studio, song_id, **options):
    return studio.jobs.start("export", song_id, studio.head(song_id).revision_id, WAV | options, "WAV, 16 bit")


def process(folder, **env):
    """Another program that works on the same folder."""
    full = os.environ | {"ESCALERA_DATA": str(folder), **env}
    return subprocess.Popen([sys.executable, "-m", "escalera.cli", "work"], env=full, stderr=subprocess.DEVNULL)


def until(condition, seconds=60):
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not happen in time"
        time.sleep(0.05)


def test_messages_are_json_and_carry_the_id_only(studio, song_id):
    sent = []
    studio.queue._huey.storage.enqueue = lambda data, priority=None: sent.append(data)
    name = ask(studio, song_id)
    message = json.loads(sent[0])
    assert message["args"] == [name] and message["kwargs"] == {} and message["name"].endswith("job")
    with pytest.raises(ValueError):
        JsonMessages().deserialize(b'{"cos": "system"}')


@pytest.mark.parametrize("redis", [False, True])
def test_a_second_process_works_on_what_the_server_was_asked_for(tmp_path, monkeypatch, redis):
    """By the file beside the database, or by a Redis (a stand-in that speaks its protocol)."""
    env = {}
    if redis:
        server = TcpFakeServer(("127.0.0.1", 0), server_type="redis")
        Thread(target=server.serve_forever, daemon=True).start()
        env["ESCALERA_QUEUE"] = f"redis://127.0.0.1:{server.server_address[1]}/0"
        monkeypatch.setenv("ESCALERA_QUEUE", env["ESCALERA_QUEUE"])
    studio = Studio(tmp_path)
    song_id = studio.add_song(small_song(), "New")
    names = [ask(studio, song_id), ask(studio, song_id, format="flac")]
    worker = process(tmp_path, **env)
    try:
        done = [studio.jobs.wait(name, 60) for name in names]
        assert [j.state for j in done] == ["done", "done"] and {j.tries for j in done} == {1}
        assert [studio.jobs.path(j).name for j in done] == ["small.wav", "small.flac"]
        worker.send_signal(signal.SIGTERM)
        assert worker.wait(20) == 0
    finally:
        worker.kill()
        studio.close()
        if redis:
            server.shutdown()
            server.server_close()


def test_a_job_outlives_the_death_of_its_worker_and_is_done_once(studio, song_id, monkeypatch):
    """kill -9 in the middle: its job is put back and done by the next one."""
    name = ask(studio, song_id, stems=True)
    worker = process(studio.folder)
    until(lambda: studio.jobs.get(name).state == "running")
    worker.send_signal(signal.SIGKILL)
    worker.wait()
    studio.begin_work()
    ended = studio.jobs.wait(name, 60)
    assert ended.state == "done" and ended.tries in (1, 2) and studio.jobs.path(ended).stat().st_size > 1000


def test_a_worker_that_was_given_up_enters_nothing(studio, song_id):
    name = ask(studio, song_id)
    with studio.database.write() as session:
        assert job_store.claim(session, name, "elsewhere:1:a") and not job_store.claim(session, name, "elsewhere:2:b")
        session.get(JobRow, name).beat_at = now() - timedelta(seconds=2 * work.SILENT_S)
    studio.jobs.sweep()
    with studio.database.write() as session:
        assert job_store.claim(session, name, "elsewhere:2:b")
    (studio.jobs.folder / name).mkdir(parents=True)
    studio.jobs._clear(name, "elsewhere:1:a")
    assert (studio.jobs.folder / name).exists(), "another worker writes there now"
    with studio.database.write() as session:
        assert not job_store.finish(session, name, "elsewhere:1:a", "late.wav", "audio/wav")
        assert not job_store.beat(session, name, "elsewhere:1:a", 0.5)
        assert job_store.finish(session, name, "elsewhere:2:b", "mine.wav", "audio/wav")
    assert studio.jobs.get(name).file == "mine.wav"


def test_what_never_ends_is_given_up_with_a_sentence_and_can_be_tried_again(studio, song_id):
    name = ask(studio, song_id)
    for _ in range(work.MAX_TRIES):
        with studio.database.write() as session:
            job_store.claim(session, name, "elsewhere:1:a")
            session.get(JobRow, name).beat_at = now() - timedelta(seconds=2 * work.SILENT_S)
        studio.jobs.sweep()
    assert f"begun {work.MAX_TRIES} times" in studio.jobs.get(name).trouble
    assert studio.jobs.again(name).state == "waiting"
    studio.begin_work()
    assert studio.jobs.wait(name, 60).state == "done"


def test_a_message_that_was_lost_is_sent_anew(studio, song_id):
    name = ask(studio, song_id)
    studio.queue._huey.flush()
    studio.begin_work()
    assert studio.jobs.wait(name, 30).state == "done"


def test_a_job_that_was_called_off_ends_soon_and_leaves_nothing(studio, song_id, monkeypatch):
    monkeypatch.setattr(work, "BEAT_S", 0.02)

    def slow(job, folder, tell, wanted):
        (folder / "half").write_bytes(b"half")
        while wanted():
            time.sleep(0.01)
        raise work.RenderStopped("off")

    studio.jobs.kinds["export"] = slow
    name = ask(studio, song_id)
    studio.begin_work()
    until(lambda: studio.jobs.get(name).state == "running")
    studio.jobs.stop(name)
    until(lambda: not (studio.jobs.folder / name).exists())
    assert studio.jobs.get(name).state == "stopped"


@pytest.mark.parametrize(("trouble", "says"), [
    (OSError(28, "No space left on device"), "No space left on device. Make room, and try again"), (ZeroDivisionError("x"), "could not be made (error"),
])  # fmt: skip
def test_what_goes_wrong_is_a_sentence_that_is_found_in_the_log(studio, song_id, trouble, says):
    def full(job, folder, tell, wanted):
        raise trouble

    studio.jobs.kinds["export"] = full
    name = ask(studio, song_id)
    studio.begin_work()
    assert says in studio.jobs.wait(name, 30).trouble


def test_old_files_make_room_for_new_ones_and_floods_are_refused(studio, song_id):
    names = [ask(studio, song_id) for _ in range(3)]
    studio.begin_work()
    sizes = [studio.jobs.path(studio.jobs.wait(name, 60)).stat().st_size for name in names]
    studio.jobs.limit_bytes = sizes[0] + 10
    studio.jobs.sweep()
    kept = [n for n in names if (studio.jobs.folder / n).exists()]
    assert kept == names[-1:]
    with pytest.raises(NotFound, match="too long ago"):
        studio.jobs.get(names[0])
    studio.jobs.kinds["export"] = lambda *_: time.sleep(5)
    with pytest.raises(InputError, match="are waiting"):
        for _ in range(work.MAX_WAITING + 3):
            ask(studio, song_id)


def test_an_address_of_no_queue_is_said(tmp_path):
    with pytest.raises(InputError, match="no address of a Redis"):
        TaskQueue(tmp_path, "http://x").send("a")


def test_a_server_that_is_killed_loses_nothing_it_acknowledged(tmp_path):
    """A few times here; `python -m tests.killing` does it hundreds of times."""
    killing = Killing(tmp_path)
    for _ in range(2):
        killing.life()
    killing.end()
    assert not killing.faults and killing.acknowledged and sum(killing.sung.values()) and killing.kills == 2


def test_more_demo_songs_that_are_wanted_no_more_are_called_off_at_once(studio):
    assert begin_demo(studio, with_year=True) == 2
    assert not put_more(studio, with_year=True, wanted=lambda: False)
    assert len(studio.cards()) == 2
