"""Escalera: build a track section by section, on a stair of target energy, energy from layers and from audio."""

import os

__version__ = "0.1.0"

# The program shares its work out over threads of its own; those of the linear algebra under NumPy only wait in loops beside them.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
