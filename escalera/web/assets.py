"""Addresses of static files: own ones carry a hash of their content, vendored ones a version in their name."""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path

from flask import url_for

STATIC = Path(__file__).parent / "static"


@cache
def _hash(name: str, changed_ns: int) -> str:
    return hashlib.blake2b((STATIC / name).read_bytes(), digest_size=6).hexdigest()


def asset_url(name: str) -> str:
    """The address of a static file that changes when the file does."""
    if name.startswith("vendor/"):
        return url_for("static", filename=name)
    return url_for("static", filename=name, v=_hash(name, (STATIC / name).stat().st_mtime_ns))
