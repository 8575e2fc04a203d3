"""Content keys: what a value says, written in one explicit way, and hashed. Equal content, equal key, on any machine.

The encoding tags every value with its kind and length, so that no two values are written alike:
numbers as 64-bit floats (whole ones beyond 2^53 as text; True is 1), text and bytes with their length, rows in order,
mappings and sets by their keys, arrays with type and shape, dataclasses by name and by the fields that differ from
their defaults. A field that is added with a default therefore changes no key.
"""

from __future__ import annotations

import hashlib
import struct
from dataclasses import MISSING, fields, is_dataclass
from functools import cache, lru_cache
from typing import Any

import numpy as np

ENCODING = 2  # raise when the same value would be written otherwise; the first one was repr()
EXACT = 1 << 53


def content_key(*parts: object) -> str:
    """A key from values: numbers, text, bytes, None, rows, mappings, sets, arrays, dataclasses.

    Raises
    ------
    TypeError
        For a value of another kind: it would have no lasting form.
    """
    digest = hashlib.blake2b(b"%d" % ENCODING, digest_size=16)
    for part in parts:
        digest.update(encoded(part))
    return digest.hexdigest()


def encoded(value: Any) -> bytes:
    """The bytes that stand for a value. Raises TypeError for a type that has no encoding, so that nothing is keyed by accident."""
    write = WRITERS.get(type(value))
    if write is not None:
        return write(value)
    if is_dataclass(value) and not isinstance(value, type):
        cls: Any = type(value)
        key: Any = value
        return _of_dataclass(key) if _hashable(cls) else _fields_of(value)
    for kind, writer in WRITERS.items():  # subclasses: named tuples, NumPy's own numbers
        if isinstance(value, kind):
            return writer(value)
    if isinstance(value, np.generic):
        return encoded(value.item())
    raise TypeError(f"{type(value).__name__} has no place in a content key")


def _number(value: float) -> bytes:
    if isinstance(value, int) and abs(value) > EXACT:
        return _tagged(b"i", str(value).encode())
    return b"f" + struct.pack("<d", value + 0.0)  # -0.0 is 0.0


def _tagged(tag: bytes, body: bytes) -> bytes:
    return tag + struct.pack("<Q", len(body)) + body


def _row(values: Any) -> bytes:
    return _tagged(b"r", b"".join([encoded(v) for v in values]))


def _array(array: np.ndarray[Any, Any]) -> bytes:
    head = f"{array.dtype.str}{array.shape}".encode()
    return _tagged(b"a", head + b"\0" + np.ascontiguousarray(array).tobytes())


WRITERS: dict[type, Any] = {
    type(None): lambda _: b"n",
    bool: _number,
    int: _number,
    float: _number,
    str: lambda text: _tagged(b"s", text.encode()),
    bytes: lambda data: _tagged(b"b", data),
    tuple: _row,
    list: _row,
    dict: lambda mapping: _tagged(b"m", b"".join(sorted(encoded(k) + encoded(v) for k, v in mapping.items()))),
    frozenset: lambda members: _tagged(b"t", b"".join(sorted(map(encoded, members)))),
    np.ndarray: _array,
}


@cache
def _hashable(cls: Any) -> bool:
    return cls.__hash__ not in (None, object.__hash__)


@lru_cache(maxsize=16_384)
def _of_dataclass(value: Any) -> bytes:
    return _fields_of(value)


@cache
def _declared(cls: Any) -> tuple[tuple[str, Any], ...]:
    return tuple((f.name, f.default if f.default is not MISSING else MISSING) for f in fields(cls))


def _fields_of(value: Any) -> bytes:
    told = [value.__class__.__name__.encode()]
    cls: Any = value.__class__
    for name, default in _declared(cls):
        own = getattr(value, name)
        if default is MISSING or own != default:
            told.append(_tagged(b"k", name.encode()) + encoded(own))
    return _tagged(b"d", b"\0".join(told))
