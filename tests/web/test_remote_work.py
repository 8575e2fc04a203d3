"""Workers on other machines: what they make is the same sound, and what they leave undone is made here."""

import json
import threading
import urllib.error
import urllib.request

import numpy as np
import pytest
from waitress.server import create_server

from escalera.core.edits import EDITS
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError
from escalera.services import pure_work
from escalera.services.pure_work import MADE_BY, SectionHelp, _checked
from escalera.services.remote_worker import RemoteWorker
from escalera.services.studio import Studio
from escalera.sound.mix import Renderer
from escalera.web import create_app
from tests.songs import small_song

KEY = "a key of sixteen and more"
SONG = small_song()
for _ in range(4):  # two sections are mixed here at once, the others wait long enough to be taken
    SONG = EDITS["duplicate_section"](SONG.sections[-1].id).apply(SONG)
    SONG = EDITS["vary"](SONG.sections[-1].id, SONG.layers[0].id, level_start_db=-1.0 * len(SONG.sections)).apply(SONG)


@pytest.fixture
def served(tmp_path, monkeypatch):
    monkeypatch.setenv("ESCALERA_WORK_KEY", KEY)
    monkeypatch.setattr(pure_work, "bank", lambda: None)
    monkeypatch.setattr(pure_work, "ASKING_S", 0.3)
    studio = Studio(tmp_path, cache_mb=100)
    server = create_server(create_app(studio), host="127.0.0.1", port=0, threads=4)
    stopping = threading.Event()

    def serve():
        try:
            server.run()
        except OSError:  # the loop may be asking its sockets at the very moment they are closed
            if not stopping.is_set():
                raise

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    yield studio, f"http://127.0.0.1:{server.effective_port}"
    stopping.set()
    server.close()
    thread.join(5)
    studio.close()


def ask(address, path, key=KEY, body=b"{}", worker="test", **headers):
    named = {"Authorization": f"Bearer {key}", "X-Worker": worker, **headers}
    with urllib.request.urlopen(urllib.request.Request(address + path, body, named), timeout=20) as answer:
        return answer.read()


def test_a_worker_elsewhere_mixes_sections_and_the_song_is_the_same(served):
    studio, address = served
    worker = RemoteWorker(address, KEY, 100)
    thread = threading.Thread(target=worker.work, daemon=True)
    thread.start()
    _until(lambda: studio.board.anybody)
    renderer, done = studio.rendering.renderer, []
    deliver = studio.board.deliver
    studio.board.deliver = lambda key, *rest: (deliver(key, *rest), done.append(key))
    mixes = renderer._mix
    # what the worker has begun is waited for: mixing here is held until it took something
    renderer._mix = lambda *plan, **how: (_until(lambda: done), mixes(*plan, **how))[1]
    here = renderer.render(SONG)
    worker.close()
    assert done, "the worker did something"
    assert np.array_equal(here, Renderer(100).render(SONG))
    thread.join(20)


def _until(condition):
    for _ in range(600):
        if condition():
            return
        threading.Event().wait(0.05)


def test_what_a_silent_worker_took_is_made_here(served, monkeypatch):
    studio, _ = served
    monkeypatch.setattr(pure_work, "SILENT_S", 0.3)
    line = timeline(SONG)
    plan = studio.rendering.renderer.plan(SONG, line.spans[0])
    studio.board.claim("gone", {"render"}, 0.0)
    keys = SectionHelp(studio.board).offer(SONG, [(line.spans[0], plan)])
    assert keys == [plan.key] and studio.board.claim("gone", {"render"}, 0.0) == (plan.key, "render")
    assert studio.board.take(plan.key) is None and studio.board.take(plan.key) is None
    assert studio.rendering.renderer.section_mix(SONG, line.spans[0]).audio.any()


def test_nothing_is_offered_where_nobody_asks_and_nothing_printed(served):
    studio, _ = served
    line = timeline(SONG)
    plan = studio.rendering.renderer.plan(SONG, line.spans[0])
    assert SectionHelp(studio.board).offer(SONG, [(line.spans[0], plan)]) == []


@pytest.mark.parametrize("made", [b"", b"no archive", b"PK\x05\x06" + bytes(18), b"PK\x03\x04" + bytes(400)])
def test_a_result_that_is_no_sound_is_not_used(made):
    renderer, line = Renderer(10), timeline(SONG)
    assert _checked(made, renderer.plan(SONG, line.spans[0])) is None


def test_only_who_has_the_key_gets_work(served):
    _, address = served
    asked = json.dumps({"worker": "x", "kinds": [], "made_by": MADE_BY}).encode()
    with pytest.raises(urllib.error.HTTPError) as wrong:
        ask(address, "/work/claim", key="another", body=asked)
    assert wrong.value.code == 401 and b"ESCALERA_WORK_KEY" in wrong.value.read()
    with pytest.raises(urllib.error.HTTPError) as other:
        ask(address, "/work/claim", body=b'{"kinds": [], "made_by": "0"}')
    assert other.value.code == 409
    with pytest.raises(urllib.error.HTTPError) as gone:
        ask(address, "/work/abc/made?last=1", body=b"x")
    assert gone.value.code == 404
    with pytest.raises(InputError, match="not the key"):
        RemoteWorker(address, "a wrong key, long enough", 10).work()
    for _ in range(6):
        with pytest.raises(urllib.error.HTTPError) as many:
            ask(address, "/work/claim", key="another", body=asked)
    assert many.value.code == 429


def test_without_a_key_there_is_no_such_page(client):
    assert client.post("/work/claim", data=b"{}").status_code == 404
