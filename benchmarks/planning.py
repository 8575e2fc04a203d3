"""Today over two hundred songs, and a set of twenty drawn: as pages, with everything known and right after a song has changed."""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from benchmarks.table import row
from escalera.core.edits.song_edits import SetTempo
from escalera.core.sets.song_set import with_song
from escalera.services.new_song import new_song
from escalera.services.studio import Studio
from escalera.web import create_app

SONGS, IN_A_SET, ROUNDS = 200, 20, 9


def _middle_ms(act: Callable[[], object]) -> float:
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        act()
        times.append(1000 * (time.perf_counter() - begun))
    return statistics.median(times)


def planning() -> None:
    """Rows of the table."""
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), max_pages=0, cache_mb=100)
        base = new_song(form="verse-chorus")
        ids = [studio.add_song(replace(base, title=f"Song {i}", tempo_bpm=70.0 + i % 90), "Made") for i in range(SONGS)]
        begun = time.perf_counter()
        studio.index.read_all(lambda share: None, lambda: True)
        row(f"{SONGS} songs read for lists, once", time.perf_counter() - begun, 60.0, "s")
        client = create_app(studio, testing=True).test_client()
        row(f"Today with {SONGS} songs", _middle_ms(lambda: client.get("/today")), 150.0, "ms")
        restarted = create_app(Studio(Path(folder), max_pages=0, cache_mb=100), testing=True).test_client()
        begun = time.perf_counter()
        restarted.get("/today")
        row(f"Today with {SONGS} songs, the first after a restart", 1000 * (time.perf_counter() - begun), 400.0, "ms")

        def changed() -> None:
            song_id, tempo = ids[0], 60.0 + time.perf_counter() % 100
            studio.edit(song_id, studio.head(song_id).revision_id, SetTempo(round(tempo, 3)))
            client.get(f"/songs/{song_id}/checks/count")  # its page asks for that after every edit
            begun = time.perf_counter()
            client.get("/today")
            after.append(1000 * (time.perf_counter() - begun))

        after: list[float] = []
        for _ in range(ROUNDS):
            changed()
        row("the same after a song was changed on its page", statistics.median(after), 150.0, "ms")
        row(f"board with {SONGS} songs", _middle_ms(lambda: client.get("/board")), 300.0, "ms")
        set_id = studio.sets.make("Twenty")
        for number, song_id in enumerate(ids[:IN_A_SET]):
            studio.sets.change(set_id, lambda s, i=song_id, n=number: with_song(s, i, f"Song {n}"))  # type: ignore[misc]
        row(f"a set of {IN_A_SET} songs drawn", _middle_ms(lambda: client.get(f"/sets/{set_id}")), 300.0, "ms")
        row("other orders for it, all shapes", _middle_ms(lambda: client.get(f"/sets/{set_id}/orders")), 1000.0, "ms")
        studio.close()
