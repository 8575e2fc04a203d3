"""Patterns: immutable compact arrays of notes over a whole number of ticks.

A note is one row of six numbers: start, duration (ticks), kind, value, octave, velocity.

kind    value                        meaning
FIXED   MIDI pitch                   stays as written (drums: the General MIDI drum note)
DEGREE  scale degree, 0 is tonic     follows the key, tonic at the bottom of the layer's register
TONE    index of a chord tone, 0 root  follows the chord, root at the bottom of the layer's register
VOICE   index of a voice, 0 lowest   follows the voice-led chord round the middle of the register
CLIP    number of a layer's clip     plays a stretch of a recording, from its beginning, for as long as the note

A start below 0 is a pickup: it leads into the cycle and may begin before the section.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterable, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.errors import FormatError, InputError

FIXED, DEGREE, TONE, VOICE, CLIP = 0, 1, 2, 3, 4
KINDS = ("fixed", "degree", "tone", "voice", "clip")
COLUMNS = ("start", "duration", "kind", "value", "octave", "velocity")
MAX_PATTERN_TICKS = 960 * 4 * 999
MAX_PATTERN_NOTES = 60_000

Rows = Iterable[Sequence[int]]


class Pattern:
    """Notes of one layer. Compared and hashed by content.

    Parameters
    ----------
    length_ticks : int
        Length of one cycle, at least 1.
    rows : array of shape (n, 6), int32
        Columns as in COLUMNS; kept ordered by start, value, then the rest, so that equal content is equal.

    Raises
    ------
    InputError
        When a length or a row lies outside its range.
    """

    __slots__ = ("length_ticks", "rows", "__dict__")

    def __init__(self, length_ticks: int, rows: NDArray[np.int32] | Rows):
        table = np.array(rows if isinstance(rows, np.ndarray) else list(rows), dtype=np.int32).reshape(-1, 6)
        _check(length_ticks, table)
        order = np.lexsort(table.T[[5, 4, 2, 1, 3, 0]])
        self.length_ticks = int(length_ticks)
        self.rows = np.ascontiguousarray(table[order])
        self.rows.setflags(write=False)

    @cached_property
    def content_hash(self) -> str:
        return hashlib.blake2b(self.rows.tobytes(), digest_size=16, salt=str(self.length_ticks).encode()).hexdigest()

    def __len__(self) -> int:
        return len(self.rows)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Pattern) and self.content_hash == other.content_hash

    def __hash__(self) -> int:
        return hash(self.content_hash)

    @cached_property
    def has_clips(self) -> bool:
        return bool((self.rows[:, 2] == CLIP).any())

    @property
    def start(self) -> NDArray[np.int32]:
        """Ticks at which the rows begin, shape (n,)."""
        return self.rows[:, 0]

    def with_rows(self, rows: NDArray[np.int32] | Rows, length_ticks: int | None = None) -> Pattern:
        """The pattern with other rows, shape (n, 6), and if given another length in ticks."""
        return Pattern(length_ticks or self.length_ticks, rows)

    def to_list(self) -> list[list[int]]:
        return self.rows.tolist()

    def to_bytes(self) -> bytes:
        return zlib.compress(np.int32(self.length_ticks).tobytes() + self.rows.tobytes(), 1)

    @classmethod
    def from_bytes(cls, data: bytes) -> Pattern:
        raw = np.frombuffer(zlib.decompress(data), dtype=np.int32)
        return cls(int(raw[0]), raw[1:].reshape(-1, 6))


def _check(length_ticks: int, table: NDArray[np.int32]) -> None:
    if not 1 <= length_ticks <= MAX_PATTERN_TICKS:
        raise InputError(f"A pattern of {length_ticks} ticks cannot be kept: between 1 and {MAX_PATTERN_TICKS} ticks.")
    if len(table) > MAX_PATTERN_NOTES:
        raise InputError(
            f"A pattern with {len(table):,} notes is too large: at most {MAX_PATTERN_NOTES:,}. "
            f"Split it over several layers."
        )
    if not len(table):
        return
    low, high = table.min(axis=0).tolist(), table.max(axis=0).tolist()
    rules = (
        (low[0] > -length_ticks and high[0] < length_ticks, "a note starts outside the pattern"),
        (low[1] >= 1 and high[1] <= MAX_PATTERN_TICKS, "a note is shorter than one tick or longer than 999 bars"),
        (low[2] >= 0 and high[2] < len(KINDS), "a note has an unknown kind"),
        (low[3] >= -127 and high[3] <= 127, "a note's pitch or step lies outside −127 to 127"),
        (low[4] >= -8 and high[4] <= 8, "a note is shifted by more than 8 octaves"),
        (low[5] >= 1 and high[5] <= 127, "a velocity lies outside 1 to 127"),
    )
    for holds, sentence in rules:
        if not holds:
            raise InputError(f"The pattern cannot be used: {sentence}.")
    fixed = table[table[:, 2] == FIXED]
    if len(fixed) and (fixed[:, 3].min() < 0 or fixed[:, 3].max() > 127):
        raise InputError("The pattern cannot be used: a fixed pitch lies outside 0 to 127.")


def pattern_from_list(length_ticks: int, rows: object) -> Pattern:
    """A pattern from untrusted lists. Raises FormatError."""
    try:
        table = np.array(rows, dtype=np.int64).reshape(-1, 6)
        if len(table) and (abs(table).max() > 2**31 - 1):
            raise ValueError
        return Pattern(int(length_ticks), table.astype(np.int32))
    except (ValueError, TypeError, OverflowError) as error:
        raise FormatError(
            "A pattern's notes are not rows of six whole numbers (start, duration, kind, value, octave, velocity)."
        ) from error
    except InputError as error:
        raise FormatError(str(error)) from error
