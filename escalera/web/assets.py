"""Addresses of static files, each changing when what it names changes, so that browsers may keep them for a year.

Own styles carry a hash of their content, vendored files a version in their name. Own scripts import one another, so
they share a folder named by a hash of all of them: every import then leads to the same address as the page's own.
"""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path

from flask import Blueprint, Response, send_from_directory, url_for

STATIC = Path(__file__).parent / "static"
blueprint = Blueprint("code", __name__)


@cache
def _hash(names: tuple[str, ...], changed_ns: int) -> str:
    digest = hashlib.blake2b(digest_size=6)
    for name in names:
        digest.update((STATIC / name).read_bytes())
    return digest.hexdigest()


def _version(*names: str) -> str:
    return _hash(names, max((STATIC / name).stat().st_mtime_ns for name in names))


def asset_url(name: str) -> str:
    """The address of a static file that changes when the file does."""
    if name.startswith("vendor/"):
        return url_for("static", filename=name)
    if name.endswith(".js"):
        return url_for("code.script", version=_version(*sorted(p.name for p in STATIC.glob("*.js"))), name=name)
    return url_for("static", filename=name, v=_version(name))


@blueprint.get("/code/<version>/<name>")
def script(version: str, name: str) -> Response:
    """An own script; the version is only part of the address."""
    return send_from_directory(STATIC, name, mimetype="text/javascript")
