"""Pure work for workers on other machines, who carry the key that ESCALERA_WORK_KEY names."""

from __future__ import annotations

import hmac

from flask import Blueprint, Response, abort, current_app, request
from flask.typing import ResponseReturnValue

from escalera.cleaning import clean_line, parse_json
from escalera.errors import EscaleraError, InputError
from escalera.services.pure_work import MADE_BY, PURE_KINDS, Board
from escalera.web.song_view import studio

blueprint = Blueprint("remote", __name__, url_prefix="/work")


@blueprint.before_request
def _check() -> ResponseReturnValue | None:
    """Nothing is here unless a key was set; wrong keys are slowed down like wrong passcodes."""
    wanted = current_app.config["WORK_KEY"]
    if not wanted:
        abort(404)
    tries, address = current_app.extensions["tries"], request.remote_addr or ""
    if tries.wait_s(address) > 0:
        return "Too many wrong keys came from here. Wait five minutes, then try again.", 429
    scheme, _, given = request.headers.get("Authorization", "").partition(" ")
    if scheme != "Bearer" or not hmac.compare_digest(given.encode(), wanted.encode()):
        tries.failed(address)
        return "That is not the key this server was started with. Set ESCALERA_WORK_KEY to the same on both sides.", 401
    return None


def _board() -> Board:
    return studio().board


def _worker() -> str:
    return clean_line(request.headers.get("X-Worker", ""))[:60]


@blueprint.errorhandler(EscaleraError)
def _refused(error: EscaleraError) -> ResponseReturnValue:
    return str(error), error.status


@blueprint.post("/claim")
def claim() -> ResponseReturnValue:
    asked = parse_json(request.get_data())
    kinds = asked.get("kinds") if isinstance(asked, dict) else None
    if not isinstance(asked, dict) or not isinstance(kinds, list):
        raise InputError("A worker says who it is and which kinds of work it does.")
    if asked.get("made_by") != MADE_BY:
        return (
            f"This worker makes sound of version {asked.get('made_by')}, the server of {MADE_BY}. Update the older.",
            409,
        )
    found = _board().claim(_worker(), {str(k) for k in kinds} & set(PURE_KINDS))
    return {"key": found[0], "kind": found[1]} if found else {}


@blueprint.get("/<key>/given")
def given(key: str) -> ResponseReturnValue:
    return Response(_board().given(key, _worker()), mimetype="application/octet-stream")


@blueprint.post("/<key>/beat")
def beat(key: str) -> ResponseReturnValue:
    _board().beat(key, _worker())
    return "", 204


@blueprint.post("/<key>/made")
def made(key: str) -> ResponseReturnValue:
    _board().deliver(key, _worker(), request.get_data(), request.args.get("last") == "1")
    return "", 204


@blueprint.post("/<key>/give-up")
def give_up(key: str) -> ResponseReturnValue:
    _board().give_up(key, _worker())
    return "", 204
