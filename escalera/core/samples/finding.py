"""Finding samples: by words, kind, tempo (halved and doubled too), key that fits (relatives too, transposed by at most so much),
bands, what they leave free; and the nearest to a chosen one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import lru_cache
from typing import Any

import numpy as np

from escalera.core.samples.licences import LICENCES
from escalera.core.samples.reading import KINDS
from escalera.core.theory.keys import parse_key
from escalera.errors import EscaleraError, InputError, shown
from escalera.lazy_dataclasses import dataclass

SORTS = ("newest", "name", "tempo", "length", "nearest")
WAYS = (
    "any",
    "takes",
    "no kick",
    "has a kick",
    "leaves space",
    "favourites",
    "never used",
    "not cleared",
    "doubtful",
    "mostly low",
    "mostly high",
)
TAKE_SOURCE = "Take of "  # and the song's title: how the source of a take begins
NEAR_TEMPO = 0.12  # so far a tempo may be from the song's to be near


@dataclass(frozen=True, slots=True)
class SampleCard:
    """What is known of a sample at a glance."""

    id: int
    content: str
    name: str
    seconds: float
    kind: str
    tempo_bpm: float | None
    key: str
    pitch_hz: float | None
    has_kick: bool
    leaves_middle: bool
    bands_db: tuple[float, ...]
    envelope: str
    favourite: bool
    licence: str
    credit: str
    source: str
    doubts: int
    beats_a_bar: int = 4
    rejected: tuple[int, ...] = ()
    used_in: tuple[str, ...] = ()

    @property
    def cleared(self) -> bool:
        return LICENCES[self.licence].cleared

    @property
    def is_take(self) -> bool:
        """Whether it was sung or played over a section of a song; such recordings are found there."""
        return self.source.startswith(TAKE_SOURCE)


@dataclass(frozen=True, slots=True)
class SampleWish:
    """What is looked for. Empty fields ask for nothing."""

    words: str = ""
    kind: str = ""
    tempo_low: float = 0.0
    tempo_high: float = 0.0
    key: str = ""
    transposed_by: int = 0
    way: str = "any"
    used_in: str = ""
    near_id: int = 0
    sort: str = "newest"

    @property
    def asks(self) -> bool:
        return self != SampleWish(sort=self.sort)


def wish_from(fields: Mapping[str, Any]) -> SampleWish:
    """A wish from fields of text. Raises InputError with value, limit and remedy."""

    def number(name: str, low: float, high: float) -> float:
        text = str(fields.get(name, "") or "").strip()
        if not text:
            return 0.0
        try:
            value = float(text.replace(",", "."))
        except ValueError:
            raise InputError(f"“{shown(text)}” is no number. Write one between {low:g} and {high:g}.") from None
        if not low <= value <= high:
            raise InputError(f"{value:g} lies outside {low:g} to {high:g}. Write a number between them.")
        return value

    def choice(name: str, allowed: tuple[str, ...], default: str) -> str:
        value = str(fields.get(name, "") or default)
        if value not in allowed:
            raise InputError(
                f"“{shown(value)}” is not one of {', '.join(a for a in allowed if a)}. Choose one of them."
            )
        return value

    return SampleWish(
        str(fields.get("words", "") or "")[:200],
        choice("sample_kind", ("", *KINDS), ""),
        number("tempo_low", 0, 600),
        number("tempo_high", 0, 600),
        str(fields.get("key", "") or "")[:40],
        int(number("transposed_by", 0, 6)),
        choice("has", WAYS, "any"),
        str(fields.get("used_in", "") or "")[:120],
        int(number("near", 0, 2**31 - 1)),
        choice("sort", SORTS, "newest"),
    )


def found(cards: Iterable[SampleCard], wish: SampleWish) -> list[SampleCard]:
    """The cards that a wish fits; sorted by nearness where one is chosen to be near to."""
    everything = list(cards)
    words = wish.words.lower().split()
    kept = [c for c in everything if _fits(c, wish, words)]
    near = next((c for c in everything if c.id == wish.near_id), None)
    if near is not None:
        return sorted(kept, key=lambda c: distance(near, c))
    return sorted(kept, key=ORDERS[wish.sort]) if wish.sort in ORDERS else kept


ORDERS: dict[str, Any] = {
    "name": lambda c: c.name.lower(),
    "tempo": lambda c: (c.tempo_bpm is None, c.tempo_bpm or 0.0),
    "length": lambda c: c.seconds,
}
BY_WAY: dict[str, Any] = {
    "any": lambda c: True,
    "takes": lambda c: c.is_take,
    "no kick": lambda c: not c.has_kick,
    "has a kick": lambda c: c.has_kick,
    "leaves space": lambda c: c.leaves_middle,
    "favourites": lambda c: c.favourite,
    "never used": lambda c: not c.used_in,
    "not cleared": lambda c: not c.cleared,
    "doubtful": lambda c: c.doubts > 0,
    "mostly low": lambda c: _share(c, 0, 2) > 0.7,
    "mostly high": lambda c: _share(c, 4, 6) > 0.3,
}


def _share(card: SampleCard, first: int, last: int) -> float:
    """Share of a sample's power that lies in some of the six bands."""
    power = 10.0 ** (np.array(card.bands_db) / 10.0) if card.bands_db else np.zeros(6)
    return float(power[first:last].sum() / max(power.sum(), 1e-12))


def _fits(card: SampleCard, wish: SampleWish, words: list[str]) -> bool:
    text = f"{card.name} {card.kind} {card.key} {card.source} {LICENCES[card.licence].label}".lower()
    return (
        all(w in text or w.rstrip("s") in text for w in words)
        and (not wish.kind or card.kind == wish.kind)
        and BY_WAY[wish.way](card)
        and (not card.is_take or bool(words) or wish.way in ("takes", "not cleared") or bool(wish.used_in))
        and (not wish.used_in or wish.used_in in card.used_in)
        and tempo_fits(card.tempo_bpm, wish.tempo_low, wish.tempo_high)
        and (not wish.key or key_fits(card.key, wish.key, wish.transposed_by))
    )


def tempo_fits(tempo: float | None, low: float, high: float) -> bool:
    """Whether a tempo, its half or its double lies in a range; what has no tempo fits any."""
    if not low and not high:
        return True
    if tempo is None:
        return False
    return any((not low or low <= t) and (not high or t <= high) for t in (tempo, tempo / 2, tempo * 2))


@lru_cache(maxsize=512)
def _classes(key: str) -> frozenset[int] | None:
    try:
        return parse_key(key).classes
    except EscaleraError:
        return None


def key_fits(key: str, wanted: str, by: int) -> bool:
    """Whether a key's notes are those of another one, transposed by at most so many semitones; what has no key fits."""
    own, other = _classes(key) if key else None, _classes(wanted)
    if other is None:
        raise InputError(f"“{shown(wanted)}” is not a key. Write it like A minor or F# dorian.")
    if own is None:
        return not key
    return any(frozenset((c + n) % 12 for c in own) == other for n in range(-by, by + 1))


def distance(a: SampleCard, b: SampleCard) -> float:
    """How unlike two samples are: spectrum, length, kind, tempo and key together; 0 for the same one."""
    bands = np.array(a.bands_db) - np.array(b.bands_db) if len(a.bands_db) == len(b.bands_db) else np.full(6, 20.0)
    bands = bands - bands.mean()
    far = (
        float(np.sqrt((bands**2).mean())) / 12.0
        + abs(float(np.log2(max(a.seconds, 0.01) / max(b.seconds, 0.01)))) / 3.0
    )
    far += 0.6 * (a.kind != b.kind) + 0.5 * (a.has_kick != b.has_kick)
    if a.tempo_bpm and b.tempo_bpm:
        octaves = float(np.log2(a.tempo_bpm / b.tempo_bpm))
        far += 2.0 * abs(octaves - round(octaves))
    if a.key and b.key:
        far += 0.05 * (7 - len((_classes(a.key) or frozenset()) & (_classes(b.key) or frozenset())))
    return far
