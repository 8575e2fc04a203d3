"""Checks of the brief: one for every wish that the song itself can answer."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.checks.base import Facts, Finding, check
from escalera.core.song.brief import READERS, WISHES

MENDS = {"length": ("hold on", "halve")}


def _of(wish: str) -> None:
    @check(
        f"brief {wish}",
        f"The brief is not met: {WISHES[wish].label}",
        "What was agreed is what the song will be held against; meet it, or agree on something else.",
        *MENDS.get(wish, ()),
    )
    def find(facts: Facts) -> Iterator[Finding]:
        lacking = [each.said for each in facts.brief if each.wish == wish and each.met is False]
        if lacking:
            yield Finding(f"brief {wish}", " ".join(f"{said[:1].upper()}{said[1:]}" for said in lacking), (), weight=1.5, facts=tuple(lacking))  # fmt: skip


for each in (*READERS, "bars"):
    _of(each)
