"""`dataclass` as in the standard library, but a class gets each of its methods when it is first called.

There are more than 800 such classes, and the library compiles five or six methods for each: a third of the time that every
start took, for classes of which most are not used in it. Here only the fields are read at first; the methods are the library's own.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from copy import copy
from functools import partial
from typing import TYPE_CHECKING, Any, NoReturn

if TYPE_CHECKING:
    from dataclasses import dataclass as dataclass
else:

    def dataclass(cls=None, /, *, frozen: bool = False, eq: bool = True, slots: bool = False):
        """See `dataclasses.dataclass`. Whoever subclasses the result decorates with this one as well."""
        if cls is None:
            return partial(dataclass, frozen=frozen, eq=eq, slots=slots)
        own = {name for name, value in vars(cls).items() if value is not None or name != "__hash__"}
        made = dataclasses.dataclass(cls, init=False, repr=False, eq=False, slots=slots)
        later = {"__init__": {"init": True, "frozen": frozen}, "__repr__": {"repr": True}}
        if eq:
            later["__eq__"] = {"eq": True}
            later |= {"__hash__": {"eq": True, "unsafe_hash": True}} if frozen else {}
        given = {name: _later(made, name, options) for name, options in later.items()}
        given |= {"__setattr__": _no_assignment, "__delattr__": _no_deletion} if frozen else {}
        given |= {"__hash__": None} if eq and not frozen else {}
        for name in given.keys() - own:
            setattr(made, name, given[name])
        return made


def _later(owner: Any, name: str, options: dict[str, bool]) -> Callable[..., Any]:
    """A method that is made when it is called first, and takes its own place."""
    made: Any = None

    def method(self: Any, *args: Any, **kwargs: Any) -> Any:
        nonlocal made
        if made is None:
            made = _made(owner, name, options)
            if vars(owner).get(name) is method:
                setattr(owner, name, made)
        return made(self, *args, **kwargs)

    return method


def _made(owner: Any, name: str, options: dict[str, bool]) -> Any:
    """The method that the standard library makes for a class of the same fields."""
    fields = [(f.name, object, copy(f)) for f in dataclasses.fields(owner)]
    hooks = {"__post_init__": owner.__post_init__} if hasattr(owner, "__post_init__") else {}
    only: Any = {"init": False, "repr": False, "eq": False, **options}
    method = getattr(dataclasses.make_dataclass(owner.__name__, fields, namespace=hooks, **only), name)
    method.__qualname__ = f"{owner.__qualname__}.{name}"
    return method


def _no_assignment(self: Any, name: str, value: object) -> NoReturn:
    raise dataclasses.FrozenInstanceError(f"cannot assign to field {name!r}")


def _no_deletion(self: Any, name: str) -> NoReturn:
    raise dataclasses.FrozenInstanceError(f"cannot delete field {name!r}")
