"""The table that benchmarks print: every figure beside its budget, and as a ratio (1.0 or less is within)."""

from __future__ import annotations

import time
from collections.abc import Callable

ROWS: list[tuple[str, float, float, str, bool]] = []


def row(name: str, figure: float, budget: float, unit: str, more_is_better: bool = False) -> None:
    """Keep and print one line."""
    ratio = budget / figure if more_is_better else figure / budget
    ROWS.append((name, figure, budget, unit, ratio <= 1.0))
    print(
        f"{name:66} {figure:9.2f} {unit:4} budget {budget:8.2f}  ratio {ratio:5.2f}{'' if ratio <= 1 else '  OVER'}",
        flush=True,
    )


def seconds(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return time.perf_counter() - start
