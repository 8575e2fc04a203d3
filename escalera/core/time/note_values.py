"""Note values as lengths in time: straight, dotted, triplet; and what each is good for."""

from __future__ import annotations

import math

from escalera.core.time.ticks import TICKS_PER_QUARTER, ticks_to_seconds

STRAIGHT = {"1/1": 4.0, "1/2": 2.0, "1/4": 1.0, "1/8": 0.5, "1/16": 0.25, "1/32": 0.125, "1/64": 0.0625}
# quarters, by name; the order goes from long to short within each value
VALUES: dict[str, float] = {
    name + kind: quarters * factor
    for name, quarters in STRAIGHT.items()
    for kind, factor in (("", 1.0), (" dotted", 1.5), (" triplet", 2 / 3))
}
# use: (what to do with it, the values that usually serve)
USES: dict[str, tuple[str, tuple[str, ...]]] = {
    "echo": ("repeats that keep the beat", ("1/8 dotted", "1/4", "1/8", "1/4 triplet", "1/16")),
    "pre-delay": ("the gap before a room answers", ("1/64", "1/32 triplet", "1/32", "1/64 dotted")),
    "modulation": ("one cycle of a moving filter or pan", ("1/1", "1/2", "1/4", "1/8", "1/8 triplet")),
    "duck release": ("back up before the next kick", ("1/4", "1/8 dotted", "1/8", "1/16 dotted")),
}


def value_ms(name: str, tempo_bpm: float) -> float:
    """Milliseconds of a note value (a key of VALUES) at quarters a minute."""
    return 1000.0 * ticks_to_seconds(VALUES[name] * TICKS_PER_QUARTER, tempo_bpm)


def stretch(from_bpm: float, to_bpm: float) -> tuple[float, float, float]:
    """What takes a recording from one tempo to another: speed ratio, new length in percent, and the semitones it would
    rise if it were simply played faster (12 log2 of the ratio)."""
    ratio = to_bpm / from_bpm
    return ratio, 100.0 / ratio, 12.0 * math.log2(ratio)
