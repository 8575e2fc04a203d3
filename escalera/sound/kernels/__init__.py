"""Loops over samples, compiled once and kept.

A compiled kernel is found again by its own file's age; helpers of `parts` are woven into kernels of other files, so
the cache's folder carries a digest of `parts` and a changed helper recompiles them all.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from numba import config

from escalera.settings import COMPILED

_PARTS = Path(__file__).with_name("parts.py").read_bytes()
config.CACHE_DIR = str(COMPILED / hashlib.blake2b(_PARTS, digest_size=5).hexdigest())
