"""The log: a file in the data folder that turns over, and ids by which an error is found in it."""

from __future__ import annotations

import logging
import secrets
from logging.handlers import RotatingFileHandler
from pathlib import Path

LOG = logging.getLogger("escalera")
NAME = "escalera.log"
MAX_BYTES, KEPT = 2_000_000, 4


def open_log(folder: Path, level: str = "info") -> Path | None:
    """Write the program's log into a folder; None where it cannot be written, and the log goes to standard error."""
    LOG.setLevel(level.upper())
    path = folder / NAME
    try:
        handler: logging.Handler = RotatingFileHandler(
            path, maxBytes=MAX_BYTES, backupCount=KEPT, encoding="utf-8", delay=False
        )
    except OSError:
        handler, path = logging.StreamHandler(), Path()
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(threadName)s %(message)s"))
    for old in list(LOG.handlers):
        LOG.removeHandler(old)
        old.close()
    LOG.addHandler(handler)
    LOG.propagate = False  # the terminal says where the program is, the log the rest
    return path if path.name else None


def log_error(what: str) -> str:
    """Write the exception at hand into the log; gives the id by which it is found there."""
    id = secrets.token_hex(4)
    LOG.exception("error %s: %s", id, what)
    return id
