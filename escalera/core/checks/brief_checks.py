"""Checks of the brief: one for every wish that the song itself can answer."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.checks.check import Facts, Finding, check
from escalera.core.reading.brief import READERS, WISHES

MENDS = {"length": ("hold on", "halve", "adorn", "double chorus")}


def _of(wish: str) -> None:
    @check(
        f"brief {wish}",
        f"The brief is not met: {WISHES[wish].label}",
        "What was agreed is what the song will be held against; meet it, or agree on something else.",
        *MENDS.get(wish, ()),
    )
    def find(facts: Facts) -> Iterator[Finding]:
        rows = [each for each in facts.brief if each.wish == wish and each.met is False]
        if rows:
            lacking = tuple(each.said for each in rows)
            said = " ".join(f"{words[:1].upper()}{words[1:]}" for words in lacking)
            yield Finding(
                f"brief {wish}", said, (), weight=1.5 + min(1.0, max(each.off for each in rows)), facts=lacking
            )


for each in (*READERS, "bars"):
    _of(each)
