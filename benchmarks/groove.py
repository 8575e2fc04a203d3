"""Figures of the groove work: likeness over all grooves, edits on the groove page."""

from __future__ import annotations

import random

import numpy as np

from benchmarks.table import row, seconds, time_edits
from escalera.core.document.song import Song
from escalera.core.rhythm.beat import Hit
from escalera.services.groove_library import alike
from escalera.services.library import grooves


def groove(song: Song) -> None:
    search()
    time_edits(song, "groove", 150, 3, _edit)


def search() -> None:
    """Beats never seen before, against everything that is built in."""
    dice, times = random.Random(2), []
    entries = list(grooves().values())
    alike(entries[0].beat)
    for entry in entries:
        odd = entry.beat.with_hits(
            [*entry.beat.hits, Hit(dice.randrange(0, entry.beat.length_ticks, 240), "cowbell", 80)]
        )
        times.append(seconds(lambda: alike(odd)))  # noqa: B023
    row(
        f"likeness search over {len(entries)} grooves, 95th percentile",
        1000 * float(np.percentile(times, 95)),
        20,
        "ms",
    )


def _edit(song: Song, section_id: int, dice: random.Random) -> dict[str, object]:
    return dice.choice((
        {"kind": "hit", "drum": dice.choice(("kick", "snare", "closed hat")), "tick": dice.randrange(0, 3840, 240), "velocity": dice.choice((0, 60, 100))},
        {"kind": "hit", "drum": "ride", "tick": dice.randrange(0, 3840, 480), "velocity": 90},
        {"kind": "say", "spoken": dice.choice(("boom ka boom-boom ka", "boom+ts ts ka+ts ts-boom"))},
        {"kind": "vary_beat", "variation": dice.choice(("ghosts", "sparser", "lead-ride"))},
    ))  # fmt: skip
