"""What comes from outside, cleaned: text as lines that can be shown anywhere, JSON that fits into memory. Imports nothing of the program."""

from __future__ import annotations

import json
from typing import Any
from unicodedata import category

# what changes how text runs, or stands for nothing: controls, halves of characters, marks of direction
UNSEEN = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})
JOINERS = frozenset("\u200c\u200d")  # between letters of some scripts, and in emoji
MOST_PARTS = 700_000  # lists and objects of a JSON text
MOST_VALUES = 3_000_000
MOST_KEYS = 400  # of one object


def clean_line(text: object, limit: int | None = None) -> str:
    """Text as one line: no control characters, lone surrogates or marks of direction, spaces single, cut to a length."""
    words = str(text)
    if not words.isascii() or not words.isprintable():
        words = "".join(c if c in JOINERS or category(c) not in UNSEEN else " " for c in words)
    line = " ".join(words.split())
    return line if limit is None else line[:limit].rstrip()


def clean_text(text: object, limit: int | None = None) -> str:
    """As `clean_line`, but with its line ends, and spaces as they are."""
    words = str(text).replace("\r\n", "\n").replace("\r", "\n")
    if not words.isascii() or not words.replace("\n", "").isprintable():
        words = "".join(c if c in JOINERS or c == "\n" or category(c) not in UNSEEN else " " for c in words)
    return words if limit is None else words[:limit]


class TooManyParts(ValueError):
    """A JSON text that would fill the memory."""


def parse_json(data: bytes | str) -> Any:
    """The value of a JSON text. Raises ValueError where it is none, nests too deep, or would fill the memory."""
    raw = data.encode("utf-8", "surrogatepass") if isinstance(data, str) else data
    parts, values = raw.count(b"{") + raw.count(b"["), raw.count(b",")
    if parts > MOST_PARTS or values > MOST_VALUES:
        raise TooManyParts(
            f"it has {parts:,} parts and {values:,} values; at most {MOST_PARTS:,} and {MOST_VALUES:,} are read"
        )
    try:
        return json.loads(raw)
    except RecursionError:
        raise ValueError("it nests too deep") from None


def widest(value: Any) -> int:
    """The largest number of keys that any object within a parsed JSON value has."""
    most, waiting = 0, [value]
    while waiting:
        found = waiting.pop()
        if isinstance(found, dict):
            most = max(most, len(found))
            waiting += [v for v in found.values() if isinstance(v, dict | list)]
        else:
            waiting += [v for v in found if isinstance(v, dict | list)] if isinstance(found, list) else []
    return most


def neutral_cell(text: object) -> str:
    """Text for a cell of a table that a spreadsheet opens: one that begins like a formula gets a quote in front."""
    cell = clean_line(text)
    return f"'{cell}" if cell.startswith(("=", "+", "-", "@")) else cell
