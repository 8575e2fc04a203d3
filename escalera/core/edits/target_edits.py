"""Edits of the energy wanted: over a section, phrase by phrase, or at one phrase."""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import accumulate

from escalera.core.document.song import Section, Song
from escalera.core.document.target import MAX_TURNS, TARGET_SHAPES, Target, through
from escalera.core.edits.edit import edit, one_of, section_of, whole_number, within
from escalera.errors import EditError, shown

WANTED = "A wanted energy of"
PHRASE = re.compile(r"(\d+(?:[.,]\d+)?)(?:-(\d+(?:[.,]\d+)?))?")


@edit("set_target", "form")
class SetTarget:
    """Say how much energy a section should have, 0 to 10, from its start to its end. Turns on the way move along, or go with a shape."""

    section_id: int
    start: float
    end: float | None = None
    shape: str | None = None

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        start = round(within(self.start, 0, 10, WANTED), 2)
        end = start if self.end is None else round(within(self.end, 0, 10, WANTED), 2)
        old = section.target
        if self.shape is not None or self.end is None:
            shape = one_of(self.shape or "line", TARGET_SHAPES, "shape")
            return song.with_section(replace(section, target=Target(start, end, shape)))
        by = (start - old.start, end - old.end)
        turns = old.turns if by[0] != by[1] else tuple(replace(t, energy=_bounded(t.energy + by[0])) for t in old.turns)
        return song.with_section(replace(section, target=Target(start, end, old.shape, turns)))

    def summary(self, song: Song) -> str:
        end = self.start if self.end is None else self.end
        wanted = f"{self.start:.1f}" if end == self.start else f"{self.start:.1f} to {end:.1f}"
        return f"Target energy of {section_of(song, self.section_id).name}: {wanted}"


@edit("target_by_phrase", "form")
class TargetByPhrase:
    """Say the energy wanted phrase by phrase: 8 8 3 8, or 4 4 5-8 where it changes within a phrase."""

    section_id: int
    energies: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        words = re.split(r"[\s;|]+", re.sub(r"\s*(-|–|>|\bto\b)\s*", "-", self.energies).strip())
        rows = [_phrase_row(word.rstrip(",")) for word in words if word]
        if len(rows) != len(section.phrases):
            raise EditError(
                f"{section.name} has {len(section.phrases)} phrases ({'+'.join(map(str, section.phrases))} bars), and "
                f"{len(rows)} numbers were read. Write one for each phrase, for example {phrase_text(section)}."
            )
        if 2 * len(rows) - 2 > MAX_TURNS:
            raise EditError(
                f"{section.name} has {len(rows)} phrases; at most {MAX_TURNS // 2 + 1} can be given one by one. Split it first."
            )
        return song.with_section(replace(section, target=_through_phrases(section, rows)))

    def summary(self, song: Song) -> str:
        return f"Target energy of {section_of(song, self.section_id).name} by phrase: {self.energies}"


@edit("lift_phrase_target", "form")
class LiftPhraseTarget:
    """Raise (or, below zero, lower) the energy wanted over one phrase; the rest of the section stays."""

    section_id: int
    phrase: int
    by: float

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        whole_number(self.phrase, "phrase", 0, len(section.phrases) - 1)
        by = within(self.by, -10, 10, "A change of")
        rows = [*_rows_of(section)]
        rows[self.phrase] = (_bounded(rows[self.phrase][0] + by), _bounded(rows[self.phrase][1] + by))
        if 2 * len(rows) - 2 > MAX_TURNS:
            raise EditError(
                f"{section.name} has {len(rows)} phrases; at most {MAX_TURNS // 2 + 1} can be moved one by one. Split it first."
            )
        return song.with_section(replace(section, target=_through_phrases(section, rows)))

    def summary(self, song: Song) -> str:
        return f"Target energy of phrase {self.phrase + 1} of {section_of(song, self.section_id).name} {self.by:+.1f}".replace(
            "-", "−"
        )


def phrase_text(section: Section) -> str:
    """The target as `TargetByPhrase` reads it."""
    return " ".join(f"{a:.3g}" if f"{a:.3g}" == f"{b:.3g}" else f"{a:.3g}–{b:.3g}" for a, b in _rows_of(section))


def phrase_shares(section: Section) -> list[float]:
    """Where its phrases begin, as shares of the section, and 1 at the end."""
    return [0.0, *(bars / section.bars for bars in accumulate(section.phrases))]


def _rows_of(section: Section) -> list[tuple[float, float]]:
    edges = phrase_shares(section)
    return [(section.target.at(a), section.target.at(b, before=True)) for a, b in zip(edges, edges[1:])]


def _phrase_row(word: str) -> tuple[float, float]:
    found = PHRASE.fullmatch(word.strip())
    if not found:
        raise EditError(
            f"“{shown(word)}” is not an energy. Write numbers from 0 to 10 with spaces between, for example 8 8 3 8 or 4 5-8."
        )
    first, last = (float(text.replace(",", ".")) if text else None for text in found.groups())
    assert first is not None
    return within(first, 0, 10, WANTED), within(first if last is None else last, 0, 10, WANTED)


def _through_phrases(section: Section, rows: list[tuple[float, float]]) -> Target:
    edges = phrase_shares(section)
    return through([knot for (a, b), (low, high) in zip(zip(edges, edges[1:]), rows) for knot in ((a, low), (b, high))])


def _bounded(energy: float) -> float:
    return round(min(10.0, max(0.0, energy)), 2)
