"""Measures every sound and writes escalera/core/palette/profiles.py. Run after a kernel has changed.

Usage: .venv/bin/python tools/measure_palette.py
"""

from pathlib import Path

import numpy as np

from escalera.core.palette.profiles import HOLDS_S, pitches_of
from escalera.core.palette.sounds import SOUNDS
from escalera.sound.probe import probe, probe_width

HEADER = Path("escalera/core/palette/profiles.py").read_text().split("# --- measured ---")[0]


def main() -> None:
    lines = [
        HEADER + "# --- measured ---\n",
        "# fmt: off\nMEASURED: dict[str, tuple[float, list[list[list[float]]]]] = {\n",
    ]
    for sound in SOUNDS:
        table = []
        for pitch in pitches_of(sound):
            rows = []
            for hold in HOLDS_S:
                energy = probe(sound.key, pitch, hold)
                rows.append([round(float(10 * np.log10(e + 1e-12)), 1) for e in energy])
            table.append(rows)
        lines.append(f'    "{sound.key}": ({probe_width(sound.key):.3f}, {table}),\n')
    lines.append("}\n")
    Path("escalera/core/palette/profiles.py").write_text("".join(lines))


if __name__ == "__main__":
    main()
