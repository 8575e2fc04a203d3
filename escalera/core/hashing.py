"""Values that are looked up often count their hash once."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from operator import attrgetter
from typing import Any


@cache
def _values_of(kind: Any) -> Callable[[Any], Any]:
    return attrgetter(*kind.__dataclass_fields__)


class HashedOnce:
    """A base of frozen dataclasses; they name it again as `__hash__ = HashedOnce.__hash__`, else they get a fresh one."""

    __slots__ = ("_hash",)
    _hash: int

    def __hash__(self) -> int:
        try:
            return self._hash
        except AttributeError:
            kind: Any = type(self)
            values: object = _values_of(kind)(self)
            found: int = hash(values)
            object.__setattr__(self, "_hash", found)
            return found
