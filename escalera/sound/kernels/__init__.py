"""Loops over samples, compiled once and kept.

A compiled kernel is found again by its own file's age; helpers of `parts` are woven into kernels of other files, so
the cache's folder carries a digest of `parts` and a changed helper recompiles them all.
"""

from __future__ import annotations

import hashlib
import os
import sys
from pathlib import Path

from numba import config

_PARTS = Path(__file__).with_name("parts.py").read_bytes()
_BASE = Path(os.environ.get("NUMBA_CACHE_DIR") or Path(sys.prefix) / "numba-cache")
config.CACHE_DIR = str(_BASE / hashlib.blake2b(_PARTS, digest_size=5).hexdigest())
