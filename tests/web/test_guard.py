"""Attacks from other sites, and at the door: refused; own pages and plain clients: served."""

import re
import socket
import threading

import pytest
from waitress.server import create_server

from escalera.cli.program_commands import serving
from escalera.web import create_app, gate
from tests.songs import small_song

FOREIGN = {"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "no-cors"}
NAVIGATED = {"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "navigate"}
ASKED = (  # method, address, headers, served
    ("GET", "/", {"Host": "rebound.example"}, False),
    ("POST", "/new", {"Host": "rebound.example:5000"}, False),
    ("GET", "/", {"Host": "127.0.0.1.rebound.example"}, False),
    ("GET", "/", {"Host": "[not an address"}, False),
    ("GET", "/", {"Host": "127.0.0.1:5000"}, True),
    ("GET", "/", {"Host": "[::1]:5000"}, True),
    ("GET", "/", {"Host": "LOCALHOST"}, True),
    ("POST", "/new", {"Origin": "http://elsewhere.example"}, False),
    ("POST", "/new", {"Origin": "null"}, False),
    ("POST", "/new", {"Origin": "http://localhost:9"}, False),
    ("POST", "/new", {"Sec-Fetch-Site": "same-site"}, False),
    ("POST", "/new", {"Origin": "http://localhost", "Sec-Fetch-Site": "same-origin"}, True),
    ("POST", "/new", {}, True),
    ("GET", "/songs/1", NAVIGATED, True),
    ("GET", "/songs/1", FOREIGN, False),
    ("GET", "/songs/1/harmony/note/60.wav", NAVIGATED, False),
    ("GET", "/songs/1/moves", FOREIGN, False),
    ("GET", "/songs/1/moves?section=1", {"Sec-Fetch-Site": "same-site"}, False),
    ("GET", "/songs/1/harmony/note/60.wav", {}, True),
    ("GET", "/songs/1/harmony/note/60.wav", {"Sec-Fetch-Site": "same-origin"}, True),
)  # fmt: skip


@pytest.mark.parametrize(("method", "address", "headers", "served"), ASKED)
def test_only_pages_of_the_program_are_answered(client, studio, method, address, headers, served):
    studio.add_song(small_song(), "New")
    answer = client.open(address, method=method, headers=headers)
    assert (answer.status_code < 400) == served
    if not served:
        assert answer.status_code == 403 and len(studio.shelf()) == 1 and b"Escalera" in answer.data


def test_names_may_be_set_and_addresses_are_taken_when_served_to_everybody(studio, monkeypatch):
    monkeypatch.setenv("ESCALERA_NAMES", "studio.example, other")
    monkeypatch.setenv("ESCALERA_HOST", "0.0.0.0")
    asked = create_app(studio, testing=True).test_client()
    served = {h: asked.get("/", headers={"Host": h}).status_code for h in ("studio.example", "10.1.2.3:5000", "third")}
    assert served == {"studio.example": 200, "10.1.2.3:5000": 200, "third": 403}


def test_nothing_is_kept_but_what_is_named_by_its_content(client, studio):
    """After an edit an export is another one; a browser must not hand out the one before."""
    song_id = studio.add_song(small_song(), "New")
    studio.begin_work()
    name = re.search(r"/exports/([\w-]+)", client.post(f"/songs/{song_id}/export/cue").get_data(as_text=True)).group(1)
    studio.jobs.wait(name, 20)
    taken = client.get(f"/exports/{name}/file")
    assert taken.status_code == 200 and taken.headers["Cache-Control"] == "no-store"
    taken.close()
    assert client.get(f"/songs/{song_id}/export/midi").status_code == 405, "no whole song by GET"
    answers = [client.get(a) for a in ("/", f"/songs/{song_id}", "/ideas", "/static/look.css")]
    pages = [answer.headers["Cache-Control"] for answer in answers]
    answers[-1].close()
    assert not any("public" in p for p in pages) and pages[:3] == ["no-store"] * 3
    assert "max-age=31536000" in pages[3]
    headers = client.get("/").headers
    assert headers["Cross-Origin-Opener-Policy"] == headers["Cross-Origin-Resource-Policy"] == "same-origin"
    assert "microphone=(self)" in headers["Permissions-Policy"] and "midi=(self)" in headers["Permissions-Policy"]


def test_the_passcode_is_not_guessed_and_an_old_cookie_opens_nothing(studio, monkeypatch):
    monkeypatch.setenv("ESCALERA_PASSCODE", "first")
    app = create_app(studio, testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    visitor, clock = app.test_client(), [100.0]
    monkeypatch.setattr(gate.time, "monotonic", lambda: clock[0])
    app.extensions["tries"] = gate.Tries()
    assert visitor.get("/").status_code == 302
    assert visitor.post("/door", data={"passcode": "first"}).status_code == 302 and visitor.get("/").status_code == 200
    guesser = app.test_client()
    said = [guesser.post("/door", data={"passcode": f"no {i}"}).status_code for i in range(gate.FREE_TRIES + 2)]
    assert said == [403] * gate.FREE_TRIES + [429] * 2
    assert guesser.post("/door", data={"passcode": "first"}).status_code == 429, "also the right one, while it waits"
    clock[0] += 2
    assert guesser.post("/door", data={"passcode": "first"}).status_code == 302
    app.config["PASSCODE"] = "second"
    assert visitor.get("/").status_code == 302, "the cookie was for the passcode before"


def test_half_open_requests_do_not_block_others_and_too_large_ones_are_refused_early(studio):
    running = create_server(create_app(studio), host="127.0.0.1", port=0, **serving(1))
    thread = threading.Thread(target=running.run, daemon=True)
    thread.start()
    place = ("127.0.0.1", running.effective_port)
    try:
        held = [socket.create_connection(place, 5) for _ in range(150)]
        for one in held:
            one.sendall(b"POST /import HTTP/1.1\r\nHost: localhost\r\nContent-Length: 900000\r\n\r\nhalf")
        assert _ask(place, b"GET / HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n").startswith(
            b"HTTP/1.1 200"
        )
        large = b"POST /import HTTP/1.1\r\nHost: localhost\r\nContent-Length: 99000000\r\nConnection: close\r\n\r\n"
        assert b" 413 " in _ask(place, large)[:40]
        for one in held:
            one.close()
    finally:
        running.close()
        thread.join(5)


def _ask(place, request):
    with socket.create_connection(place, 10) as line:
        line.sendall(request)
        line.settimeout(10)
        return line.recv(200)
