"""Figures of the groove work: likeness over all grooves, edits on the groove page."""

from __future__ import annotations

import random
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks.table import row, seconds
from escalera.core.rhythm.beat import Hit
from escalera.core.song.document import Song
from escalera.services.grooves import alike
from escalera.services.library import grooves
from escalera.services.studio import Studio


def groove(song: Song) -> None:
    search()
    page_edits(song)


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


def page_edits(song: Song, count: int = 150) -> None:
    """Edits on the groove page of the benchmark song, response rendered, on disk."""
    from escalera.web import create_app

    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), cache_mb=300)
        song_id = studio.add_song(song, "Benchmark")
        app = create_app(studio, testing=True)
        app.config["WTF_CSRF_ENABLED"] = False
        client, dice, times = app.test_client(), random.Random(3), []
        for number in range(count + 15):
            head = studio.head(song_id)
            section = dice.choice(head.song.sections)
            fields = dice.choice((
                {"kind": "hit", "drum": dice.choice(("kick", "snare", "closed hat")), "tick": dice.randrange(0, 3840, 240), "velocity": dice.choice((0, 60, 100))},
                {"kind": "hit", "drum": "ride", "tick": dice.randrange(0, 3840, 480), "velocity": 90},
                {"kind": "say", "spoken": dice.choice(("boom ka boom-boom ka", "boom+ts ts ka+ts ts-boom"))},
                {"kind": "vary_beat", "variation": dice.choice(("ghosts", "sparser", "lead-ride"))},
            ))  # fmt: skip
            start = time.perf_counter()
            answer = client.post(f"/songs/{song_id}/groove/edits", headers={"Accept-Encoding": "gzip"},
                                 data={"base": head.revision_id, "select": f"section:{section.id}:0:0:0", **fields})  # fmt: skip
            assert answer.status_code in (200, 422), answer.status_code
            if number >= 15:
                times.append(time.perf_counter() - start)
        studio.close()
    row(f"edit on the groove page, 95th percentile of {count}", 1000 * float(np.percentile(times, 95)), 60, "ms")
    row(f"edit on the groove page, median of {count}", 1000 * statistics.median(times), 60, "ms")
