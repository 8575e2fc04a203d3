"""The passcode: asked for when one is set, which serving beyond this machine requires."""

from __future__ import annotations

import hashlib
import hmac
import time
from threading import Lock

from cachetools import TTLCache
from flask import Blueprint, Response, current_app, redirect, render_template, request, session, url_for
from flask.typing import ResponseReturnValue

blueprint = Blueprint("gate", __name__)
FREE_TRIES = 5
LONGEST_WAIT_S = 300.0
OPEN = ("gate.door", "static", "code.script")


class Tries:
    """Wrong passcodes by address: after FREE_TRIES each one more doubles the time until the next is read."""

    def __init__(self) -> None:
        self._tries: TTLCache[str, tuple[int, float]] = TTLCache(10_000, 3_600, time.monotonic)
        self._lock = Lock()

    def wait_s(self, address: str) -> float:
        with self._lock:
            return max(0.0, self._tries.get(address, (0, 0.0))[1] - time.monotonic())

    def failed(self, address: str) -> None:
        with self._lock:
            count = self._tries.get(address, (0, 0.0))[0] + 1
            wait = min(LONGEST_WAIT_S, 2.0 ** (count - FREE_TRIES)) if count >= FREE_TRIES else 0.0
            self._tries[address] = (count, time.monotonic() + wait)

    def passed(self, address: str) -> None:
        with self._lock:
            self._tries.pop(address, None)


def _mark() -> str:
    """What a visitor who knew the passcode carries: worth nothing once the passcode is another."""
    key, code = str(current_app.config["SECRET_KEY"]).encode(), current_app.config["PASSCODE"].encode()
    return hmac.new(key, b"passcode:" + code, hashlib.sha256).hexdigest()


def check() -> Response | None:
    """Send visitors without the passcode to the door; static files and the door itself stay open."""
    # workers on other machines carry a key of their own
    if not current_app.config["PASSCODE"] or request.endpoint in OPEN or request.blueprint == "remote":
        return None
    if hmac.compare_digest(str(session.get("passed", "")), _mark()):
        return None
    return redirect(url_for("gate.door"))  # type: ignore[return-value]


@blueprint.route("/door", methods=["GET", "POST"])
def door() -> ResponseReturnValue:
    if request.method == "GET":
        return render_template("door.html", message="")
    tries, address = current_app.extensions["tries"], request.remote_addr or ""
    wait = tries.wait_s(address)
    if wait > 0:
        message = f"Too many wrong passcodes came from here. Wait {wait:.0f} seconds, then try again."
        return render_template("door.html", message=message), 429, {"Retry-After": str(int(wait) + 1)}
    given, wanted = request.form.get("passcode", "").encode(), current_app.config["PASSCODE"].encode()
    if wanted and hmac.compare_digest(given, wanted):
        tries.passed(address)
        session["passed"] = _mark()
        return redirect(url_for("shelf.index"))
    tries.failed(address)
    message = "That is not the passcode. It was set with ESCALERA_PASSCODE when the program was started."
    return render_template("door.html", message=message), 403
