"""The table that benchmarks print: every figure beside its budget, and as a ratio (1.0 or less is within)."""

from __future__ import annotations

import random
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from escalera.core.document.song import Song
from escalera.services.studio import Studio

WARM_UP = 20

ROWS: list[tuple[str, float, float, str, bool]] = []


def row(name: str, figure: float, budget: float, unit: str, more_is_better: bool = False) -> None:
    """Keep and print one line."""
    ratio = budget / figure if more_is_better else figure / budget
    ROWS.append((name, figure, budget, unit, ratio <= 1.0))
    print(
        f"{name:66} {figure:9.2f} {unit:4} budget {budget:8.2f}  ratio {ratio:5.2f}{'' if ratio <= 1 else '  OVER'}",
        flush=True,
    )


def time_edits(
    song: Song, place: str, count: int, seed: int, edit: Callable[[Song, int, random.Random], dict[str, object]],
    what: str = "",
) -> None:  # fmt: skip
    """Rows for `count` edits on a page of the song, response rendered, on disk; `edit` gives the fields of one."""
    from escalera.web import create_app

    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), cache_mb=300)
        song_id = studio.add_song(song, "Benchmark")
        app = create_app(studio, testing=True)
        app.config["WTF_CSRF_ENABLED"] = False
        client, dice, times = app.test_client(), random.Random(seed), []
        for number in range(count + WARM_UP):
            head = studio.head(song_id)
            section = dice.choice(head.song.sections)
            fields = {
                "base": head.revision_id,
                "select": f"section:{section.id}:0:0:0",
                **edit(head.song, section.id, dice),
            }
            start = time.perf_counter()
            answer = client.post(f"/songs/{song_id}/{place}/edits", data=fields, headers={"Accept-Encoding": "gzip"})
            assert answer.status_code in (200, 422), answer.status_code
            if number >= WARM_UP:
                times.append(time.perf_counter() - start)
        studio.close()
    row(
        f"edit on the {place} page{what}, 95th percentile of {count}",
        1000 * statistics.quantiles(times, n=20)[-1],
        60,
        "ms",
    )
    row(f"edit on the {place} page{what}, median of {count}", 1000 * statistics.median(times), 60, "ms")


def seconds(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return time.perf_counter() - start
