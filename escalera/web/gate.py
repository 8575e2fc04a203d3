"""The passcode: asked for when one is set, which serving beyond this machine requires."""

from __future__ import annotations

import hmac

from flask import Blueprint, Response, current_app, redirect, render_template, request, session, url_for
from flask.typing import ResponseReturnValue

blueprint = Blueprint("gate", __name__)


def check() -> Response | None:
    """Send visitors without the passcode to the door; static files and the door itself stay open."""
    passcode = current_app.config["PASSCODE"]
    if not passcode or session.get("passed") or request.endpoint in ("gate.door", "static", "code.script"):
        return None
    return redirect(url_for("gate.door"))  # type: ignore[return-value]


@blueprint.route("/door", methods=["GET", "POST"])
def door() -> ResponseReturnValue:
    message = ""
    if request.method == "POST":
        if hmac.compare_digest(request.form.get("passcode", "").encode(), current_app.config["PASSCODE"].encode()):
            session["passed"] = True
            return redirect(url_for("shelf.index"))
        message = "That is not the passcode. It was set with ESCALERA_PASSCODE when the program was started."
    return render_template("door.html", message=message), 403 if message else 200
