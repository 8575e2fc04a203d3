"""What is declared of a field of the document, once: what it is called, what it may hold, what happens to it.

A field's annotation carries a `FieldSpec`, made by `number`, `text`, `choice` or `part`. From it come the codec and the
schema of project files (pydantic reads the limits off the annotation), the parameters that edits, curves and inspectors
address, what a pin or a print holds still, what a copy of a line takes along, and the list of differences.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, fields, replace
from functools import cache, lru_cache
from typing import Any, TypeVar, cast, get_type_hints

from pydantic import GetCoreSchemaHandler, GetJsonSchemaHandler, TypeAdapter
from pydantic_core import CoreSchema, core_schema

from escalera.cleaning import clean_line, clean_text
from escalera.core.palette.parameters import Parameter
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass

NUMBERS = ("int", "float")
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class FieldSpec:
    """One field: its label and limits, and what it takes part in.

    `pinned`: stays as it is in a layer that somebody sent. `frozen`: cannot change while the layer is printed.
    `moved`: a curve may move it. `copied`: goes along with a copy of the line. `panel`: where the inspector shows it
    (empty: not as a control). `lines`: text with line ends. `compared`: named in the list of differences.
    """

    label: str
    low: float | None = None
    high: float | None = None
    unit: str = ""
    scale: str = "linear"
    choices: tuple[str, ...] = ()
    max_length: int | None = None
    required: bool = False
    lines: bool = False
    help: str = ""
    panel: str = ""
    pinned: bool = False
    frozen: bool = False
    moved: bool = False
    copied: bool = False
    compared: bool = True
    key: str = ""
    default: Any = None

    @property
    def parameter(self) -> Parameter:
        """The field as a number that edits and curves set. Only for fields with a range."""
        assert self.low is not None and self.high is not None
        return Parameter(self.key, self.label, self.low, self.high, float(self.default or 0), self.unit, self.scale)

    def said(self, value: Any) -> str | None:
        """The value in words, or None where it takes more than a word."""
        if isinstance(value, bool):
            return "on" if value else "off"
        if isinstance(value, str):
            return (value if len(value) <= 24 else value[:23] + "…") or "none"
        if isinstance(value, int | float) and self.scale != "id":
            return f"{value:g} {self.unit}".rstrip().replace("-", "−")
        return None

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        if self.choices:
            return core_schema.literal_schema(list(self.choices))
        schema: Any = handler(source)
        inner = schema["schema"] if schema["type"] == "nullable" else schema
        if inner["type"] in NUMBERS:
            for bound, value in (("ge", self.low), ("le", self.high)):
                if value is not None:
                    inner[bound] = value
        elif self.max_length is not None:
            inner["max_length"] = self.max_length
            inner["min_length"] = int(self.required)
            if inner["type"] == "str":
                return core_schema.no_info_before_validator_function(_clean_lines if self.lines else _clean, schema)
        return cast(CoreSchema, schema)

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        found = handler(schema)
        told = self.label + (f" in {self.unit}" if self.unit else "") + (f": {self.help}" if self.help else "")
        return {**found, "description": told}


def _clean(value: Any) -> Any:
    return clean_line(value) if isinstance(value, str) else value


def _clean_lines(value: Any) -> Any:
    return clean_text(value) if isinstance(value, str) else value


def number(label: str, low: float | None = None, high: float | None = None, unit: str = "", **more: Any) -> FieldSpec:
    """A number within limits, both included."""
    return FieldSpec(label, low, high, unit, **more)


def text(label: str, max_length: int, **more: Any) -> FieldSpec:
    """Words of people; `required` ones are never empty."""
    return FieldSpec(label, max_length=max_length, **more)


def choice(label: str, choices: tuple[str, ...], **more: Any) -> FieldSpec:
    """One of a table of words."""
    return FieldSpec(label, choices=choices, **more)


def part(label: str, max_length: int | None = None, **more: Any) -> FieldSpec:
    """A part of the document with fields of its own, or several of them."""
    return FieldSpec(label, max_length=max_length, **more)


@lru_cache(maxsize=64)
def specs(cls: type) -> dict[str, FieldSpec]:
    """Every declared field of a class of the document, by its name, with its default."""
    hints = get_type_hints(cls, include_extras=True)
    found = {}
    for field in fields(cls):
        spec = next((m for m in getattr(hints[field.name], "__metadata__", ()) if isinstance(m, FieldSpec)), None)
        if spec is not None:
            default = field.default if field.default is not MISSING else None
            found[field.name] = replace(spec, key=field.name, default=default)
    return found


def names(cls: type, quality: str) -> tuple[str, ...]:
    """The names of fields that have a quality, for example `frozen`."""
    return tuple(name for name, spec in specs(cls).items() if getattr(spec, quality))


# values that are written otherwise than they are held -------------------------------------------------------------


@dataclass(frozen=True)
class AsText:
    """Held as a value, written as the words that people read it by."""

    read: Callable[[str], Any]
    write: Callable[[Any], str]

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_after_validator_function(
            self._read,
            core_schema.str_schema(max_length=200),
            serialization=core_schema.plain_serializer_function_ser_schema(self.write),
        )

    def _read(self, words: str) -> Any:
        try:
            return self.read(words)
        except EscaleraError as error:
            raise ValueError(str(error)) from error


@dataclass(frozen=True)
class AsMapping:
    """Held as pairs, written as an object. `ordered` keeps the order in which it was written, else keys are sorted."""

    ordered: bool = False
    max_length: int = 400

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        key, value = source.__args__[0].__args__
        mapping = core_schema.dict_schema(handler(key), handler(value), max_length=self.max_length)
        return core_schema.no_info_after_validator_function(
            self._read, mapping, serialization=core_schema.plain_serializer_function_ser_schema(_mapping)
        )

    def _read(self, mapping: dict[Any, Any]) -> tuple[tuple[Any, Any], ...]:
        return tuple(mapping.items() if self.ordered else sorted(mapping.items()))


def _mapping(pairs: tuple[tuple[Any, Any], ...]) -> dict[Any, Any]:
    return {key: _mapping(value) if isinstance(value, tuple) else value for key, value in pairs}


def adapter(kind: type[T]) -> TypeAdapter[T]:
    """What reads values of a class from plain data and writes them; made when it is first asked for, since a start needs few of them."""
    return cast(TypeAdapter[T], _adapter(cast(Any, kind)))


@cache
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)
