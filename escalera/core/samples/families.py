"""Families: recordings of one performance, told by their names, their tempo and their metre, each with its part in the form."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable

from escalera.core.samples.finding import SampleCard
from escalera.lazy_dataclasses import dataclass

MEMBERS = {
    "verse": ("verse", "main", "a"),
    "alternate": ("alternate", "alt", "variation", "b", "second"),
    "chorus": ("chorus", "refrain", "open", "c"),
    "intro": ("intro", "opening", "count"),
    "fill": ("fill", "turn", "break"),
    "ending": ("ending", "end", "outro", "slowing"),
}
BY_WORD = {word: member for member, words in MEMBERS.items() for word in words}
SAME_TEMPO = 0.03
FREE_TEMPO = ("fill", "ending")  # too short, or slowing down: their own tempo tells little


@dataclass(frozen=True, slots=True)
class Member:
    """One recording of a family and its part in the form."""

    part: str
    card: SampleCard


@dataclass(frozen=True, slots=True)
class Family:
    """Recordings of one performance, in the order of MEMBERS; `name` is what their names have in common."""

    name: str
    members: tuple[Member, ...]


def families(cards: Iterable[SampleCard]) -> list[Family]:
    """Every family of two parts or more among samples, by name."""
    by_stem: dict[str, list[Member]] = defaultdict(list)
    for card in cards:
        stem, part = _parted(card)
        if stem and part:
            by_stem[stem].append(Member(part, card))
    return [f for stem, members in sorted(by_stem.items()) if (f := _family(stem, members)) is not None]


def family_with(cards: Iterable[SampleCard], card: SampleCard) -> Family | None:
    """The family that a sample belongs to; None where it has none."""
    return next((f for f in families(cards) if any(m.card.id == card.id for m in f.members)), None)


def _parted(card: SampleCard) -> tuple[str, str]:
    """What a name says without its part and its numbers, and the part."""
    words = re.findall(r"[a-z]+", card.name.lower())
    parts = [BY_WORD[w] for w in words if w in BY_WORD]
    part = "ending" if card.kind == "ending" else parts[-1] if parts else ""
    return " ".join(w for w in words if w not in BY_WORD and w != "bpm"), part


def _family(stem: str, members: list[Member]) -> Family | None:
    """Members that agree in tempo and metre with the first verse; None where fewer than two are left."""
    order = list(MEMBERS)
    members = sorted(members, key=lambda m: (order.index(m.part), m.card.id))
    first = next((m.card for m in members if m.part not in FREE_TEMPO and m.card.tempo_bpm), None)
    if first is None or first.tempo_bpm is None:
        return None
    kept = [m for m in members if m.part in FREE_TEMPO or _agree(m.card, first)]
    return Family(stem, tuple(kept)) if len({m.part for m in kept}) > 1 else None


def _agree(card: SampleCard, first: SampleCard) -> bool:
    same = card.tempo_bpm and first.tempo_bpm and abs(card.tempo_bpm / first.tempo_bpm - 1.0) <= SAME_TEMPO
    return bool(same) and card.beats_a_bar == first.beats_a_bar
