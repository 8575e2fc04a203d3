"""The table that benchmarks print: every figure beside its budget, and as a ratio (1.0 or less is within)."""

from __future__ import annotations

import json
import random
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numba import njit

from escalera.core.document.song import Song
from escalera.services.studio import Studio

WARM_UP = 20

TIMED = ("ms", "s", "x")  # units of speed
Row = tuple[str, float, float, str, float, float]
ROWS: list[Row] = []


def _interpreted() -> None:
    """What an edit and a page are made of: objects, texts, numbers."""
    rows = [{"number": i, "name": f"row {i}", "share": i / 7.0} for i in range(12_000)]
    json.loads(json.dumps(sorted(rows, key=lambda row: -row["share"])))
    sum(i & 7 for i in range(100_000))


@njit("float64(float32[::1], float32[::1])", cache=True, nogil=True, fastmath=True)
def _filtered(source, out):  # type: ignore[no-untyped-def]
    """A filter, whose steps wait for one another, and a sum, which waits for memory."""
    a = b = 0.0
    for i in range(len(source)):
        d = source[i] - b
        a, b = 0.9 * a + 0.1 * d + 1e-18, b + 0.1 * a + 0.01 * d
        out[i] = b
    total = 0.0
    for _ in range(8):
        for i in range(len(source)):
            out[i] += np.float32(0.5) * source[i]
    for i in range(0, len(source), 64):
        total += out[i]
    return total


def _sounding() -> None:
    """What sound is made of."""
    out = np.empty_like(NOISE)
    _filtered(NOISE, out)
    np.fft.rfft(out[: 1 << 18])


NOISE = np.random.default_rng(1).standard_normal(1 << 21).astype(np.float32)
# Fixed loads, and the seconds that each takes on the idle machine that the budgets were set on: what it takes elsewhere, times how much
# longer the same commit of that day took there for its edits, or its renders.
PYTHON, SOUND = (_interpreted, 0.073), (_sounding, 0.026)
Load = tuple[Callable[[], None], float]


def slowness(load: Load) -> float:
    """How many times longer than on the idle machine a fixed load takes now: the shortest of five, other work on the machine lengthens
    it."""
    act, idle_s = load
    return min(seconds(act) for _ in range(5)) / idle_s


_before: dict[Load, float] = {}


def _slow_meanwhile(load: Load) -> float:
    """The mean of the slowness before a figure was measured and after it."""
    now = slowness(load)
    before, _before[load] = _before.get(load, now), now
    return (before + now) / 2


def row(name: str, figure: float, budget: float, unit: str, more_is_better: bool = False, load: Load = PYTHON) -> None:
    """Keep and print one line: the figure, what it would be on the idle machine by the fixed load timed beside it, and the
    budget as a ratio to that (1.0 or less is within)."""
    slow = _slow_meanwhile(load) if unit in TIMED else 1.0
    even = figure * slow if more_is_better else figure / slow
    ratio = budget / even if more_is_better else even / budget
    ROWS.append((name, figure, budget, unit, even, ratio))
    print(f"{_line(ROWS[-1])}  (machine {slow:4.2f}×)", flush=True)


def _line(row: Row) -> str:
    name, figure, budget, unit, even, ratio = row
    over = "" if ratio <= 1 else "  OVER"
    return f"{name:66} {figure:9.2f} {unit:4} even {even:9.2f}  budget {budget:8.2f}  ratio {ratio:5.2f}{over}"


def print_over() -> int:
    """The table of what is over its budget; how many rows it has."""
    over = [r for r in ROWS if r[5] > 1]
    print(f"\n{len(ROWS) - len(over)} of {len(ROWS)} figures within their budgets" + (", over are:" if over else "."))
    for each in over:
        print(_line(each))
    return len(over)


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
