"""How patterns are written: by the hash under which the store keeps their notes, or with the notes themselves."""

from __future__ import annotations

from typing import Any

from pydantic import GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic_core import CoreSchema, core_schema

from escalera.core.document.limits import MAX_NOTES
from escalera.core.rhythm.pattern import COLUMNS, Pattern, pattern_from_list
from escalera.errors import EscaleraError

NOTES = core_schema.typed_dict_schema(
    {
        "length_ticks": core_schema.typed_dict_field(core_schema.int_schema(ge=1)),
        "notes": core_schema.typed_dict_field(
            core_schema.list_schema(core_schema.list_schema(core_schema.int_schema()), max_length=MAX_NOTES)
        ),
    },
    extra_behavior="forbid",
)


class PatternText:
    """The context of reading holds `patterns`, notes by hash; the context of writing says whether `notes` are wanted."""

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.with_info_after_validator_function(
            _read,
            core_schema.union_schema([NOTES, core_schema.str_schema()]),
            serialization=core_schema.plain_serializer_function_ser_schema(_write, info_arg=True),
        )

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return {**handler(NOTES), "description": "rows of " + ", ".join(COLUMNS)}


def _read(plain: Any, info: core_schema.ValidationInfo) -> Pattern:
    if isinstance(plain, str):
        known = (info.context or {}).get("patterns", {})
        if plain not in known:
            raise ValueError("the notes of this pattern are missing")
        found: Pattern = known[plain]
        return found
    try:
        return pattern_from_list(plain["length_ticks"], plain["notes"])
    except EscaleraError as error:
        raise ValueError(str(error)) from error


def _write(pattern: Pattern, info: core_schema.SerializationInfo) -> Any:
    if (info.context or {}).get("notes"):
        return {"length_ticks": pattern.length_ticks, "notes": pattern.to_list()}
    return pattern.content_hash
