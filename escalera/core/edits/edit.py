"""An edit: song in, song out. One class each, registered by its kind.

An edit class is a frozen dataclass with plain fields (so that a form or JSON can be read into it), a docstring
of one sentence, `apply(song) -> Song` raising EditError with a plain sentence, and `summary(song) -> str`,
a line for the history that is read with the song before the edit.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, TypeVar, cast, dataclass_transform

from escalera.core.document.song import Layer, NamedPattern, Section, Song
from escalera.core.palette.recorded_sounds import is_recorded
from escalera.core.palette.sounds import BY_KEY, Sound
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass


class Edit(Protocol):
    def apply(self, song: Song) -> Song: ...

    def summary(self, song: Song) -> str: ...


Fields = dict[str, Any]
Reader = Callable[[Fields, Song], Fields]  # fields in the units of people -> fields of the edit
T = TypeVar("T", bound=type)
EDITS: dict[str, type[Edit]] = {}
READERS: dict[str, Reader] = {}


@dataclass_transform(frozen_default=True)
def edit(kind: str, touches: str, reads: Reader | None = None) -> Callable[[T], T]:
    """Register a class under `kind` and freeze it.

    `touches` names the parts of the song that it may change (edits.touched.PARTS); `reads` turns what people write into its
    fields where they differ.
    """

    def register(cls: T) -> T:
        cls.kind = kind  # type: ignore[attr-defined]
        cls.touches = frozenset(touches.split())  # type: ignore[attr-defined]
        frozen: Any = dataclass(frozen=True)(cls)
        EDITS[kind] = frozen
        if reads is not None:
            READERS[kind] = reads
        return cast(T, frozen)

    return register


def section_of(song: Song, section_id: int) -> Section:
    """The section with this id. EditError where it is gone."""
    try:
        return song.section_by_id[section_id]
    except KeyError:
        raise EditError(f"Section {section_id} is not in this song any more. Choose one that is.") from None


def layer_of(song: Song, layer_id: int) -> Layer:
    """The layer with this id. EditError where it is gone."""
    try:
        return song.layer_by_id[layer_id]
    except KeyError:
        raise EditError(f"Layer {layer_id} is not in this song any more. Choose one that is.") from None


def pattern_of(song: Song, pattern_id: int) -> NamedPattern:
    """The pattern with this id. EditError where it is gone."""
    try:
        return song.pattern_by_id[pattern_id]
    except KeyError:
        raise EditError(f"Pattern {pattern_id} is not in this song any more. Choose one that is.") from None


def within(value: float, low: float, high: float, what: str, unit: str = "") -> float:
    """The value, or an EditError that gives value, limits and remedy. NaN is never inside."""
    if not low <= value <= high:
        unit = f" {unit}" if unit else ""
        raise EditError(f"{what} {value:g}{unit} lies outside {low:g} to {high:g}{unit}. Choose a value between them.")
    return value


def sound_of(key: str) -> Sound:
    """A sound by its key, of the palette or a bank. Raises EditError."""
    if is_recorded(key):
        raise EditError("A recording is no sound of the palette. Lay it into the song from Samples.")
    if key not in BY_KEY:
        raise EditError(f"“{shown(key)}” is not a sound. Choose one of: {', '.join(BY_KEY)}.")
    return BY_KEY[key]


def one_of(value: str, allowed: tuple[str, ...] | list[str], what: str) -> str:
    """The value itself if it is allowed; otherwise EditError that lists what is. `what` names the kind of value."""
    if value not in allowed:
        raise EditError(f"“{shown(value)}” is not a {what}. Choose one of: {', '.join(allowed)}.")
    return value


MOST = 2**31 - 1  # of whole numbers from outside: every store, array and page holds them


def id_in(text: str) -> int:
    """The id that a text of digits names, 0 for any other text."""
    return int(text) if text.isdecimal() and len(text) <= 10 else 0


def whole_number(text: Any, what: str = "number", low: int = -MOST, high: int = MOST) -> int:
    """A whole number as people write it, between two limits. Raises EditError."""
    try:
        number = int(text) if len(str(text)) <= 24 else None
    except (TypeError, ValueError, OverflowError):
        number = None
    if number is None:
        raise EditError(f"“{shown(text)}” is not a {what}. Write a whole number.")
    return int(within(number, low, high, what.capitalize()))
