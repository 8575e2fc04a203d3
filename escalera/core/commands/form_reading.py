"""Commands read from fields of text, as a form, a terminal or a file gives them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, fields
from functools import cache
from typing import Any, get_args, get_origin, get_type_hints

from pydantic import ValidationError

from escalera.cleaning import clean_text, parse_json
from escalera.core.document.fields import adapter
from escalera.core.document.song import Song
from escalera.core.edits.edit import EDITS, MOST, READERS, Edit, Fields, section_of, whole_number
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, shown

MAX_FIELDS = 400
PLAIN_TYPES = (str, int, float, bool, list, dict)


def read_command(values: Mapping[str, str], song: Song) -> Edit:
    """The command that `kind` names, from its fields.

    An empty field is left at its default; where there is none, or it is None, it is an empty text. Rows are written as JSON,
    a mapping as fields `name.key`. Fields of no meaning to the command are passed over.

    Raises
    ------
    EditError
        When the kind is unknown or a field cannot be read; nothing is made.
    """
    kind = values.get("kind", "")
    if kind not in EDITS:
        raise EditError(f"“{shown(kind)}” is not an edit. Load the page again.")
    if len(values) > MAX_FIELDS:
        raise EditError(f"The command has {len(values):,} fields; at most {MAX_FIELDS} are read. Load the page again.")
    values = {name: clean_text(value) if isinstance(value, str) else value for name, value in values.items()}
    written: Fields = {name: value for name, value in values.items() if name != "kind" and value != ""}
    if kind in READERS:
        written = READERS[kind](written, song)
    return _validated(kind, _bars_to_ticks(kind, written, song), values)


def write_command(command: Edit) -> Fields:
    """A command as `read_command` reads it: its kind and its fields, those that stand at their default left out."""
    cls: Any = type(command)
    values = {f.name: getattr(command, f.name) for f in fields(cls)}
    return {"kind": cls.kind, **{f.name: values[f.name] for f in fields(cls) if values[f.name] != f.default}}


def _validated(kind: str, written: Fields, values: Mapping[str, str]) -> Edit:
    for name, hint, required in _fields(kind):
        if hint is dict and not isinstance(written.get(name), dict):
            prefix = f"{name}."
            written[name] = {k.removeprefix(prefix): v for k, v in values.items() if k.startswith(prefix)}
        elif hint is list and isinstance(written.get(name), str):
            written[name] = _rows(written[name])
        elif hint is str and required and values.get(name) == "" and name not in written:
            written[name] = ""
    try:
        found: Edit = adapter(EDITS[kind]).validate_python(written)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"]) or kind
        what = f"“{shown(first.get('input', ''))}” cannot be used" if first["type"] != "missing" else "is missing"
        raise EditError(f"{where.replace('_', ' ')}: {what} ({first['msg'].lower()}).") from error
    for field in fields(type(found)):  # type: ignore[arg-type]
        value = getattr(found, field.name)
        if isinstance(value, int | float) and not -MOST <= value <= MOST:
            raise EditError(
                f"{field.name.replace('_', ' ')}: “{shown(value)}” cannot be used. Write a number between {-MOST} and {MOST}."
            )
    return found


@cache
def _fields(kind: str) -> tuple[tuple[str, type, bool], ...]:
    """Every field of a command: its name, its plain type, and whether an empty text means an empty text."""
    cls: Any = EDITS[kind]
    hints, found = get_type_hints(cls), []
    for field in fields(cls):
        hint = hints[field.name]
        parts = (get_origin(t) or t for t in (hint, *get_args(hint)))
        plain = next((t for t in parts if t in PLAIN_TYPES), object)
        found.append((field.name, plain, field.default is MISSING or field.default is None))
    return tuple(found)


def _rows(text: str) -> list[Any]:
    try:
        rows = parse_json(text)
    except ValueError:
        rows = None
    if not isinstance(rows, list):
        raise EditError("The rows of the command cannot be read. Load the page again.")
    return rows


def _bars_to_ticks(kind: str, written: Fields, song: Song) -> Fields:
    """A span given as the song's bar numbers, first and last included, in ticks of its section."""
    names = {name for name, _, _ in _fields(kind)}
    if "start_ticks" not in names or "first_bar" in names or not {"first_bar", "last_bar"} & set(written):
        return written
    first, last = written.pop("first_bar", ""), written.pop("last_bar", "")
    span = timeline(song).span_of(section_of(song, whole_number(written.get("section_id"))).id)
    low = whole_number(first, "bar number") if first else span.first_bar
    high = whole_number(last, "bar number") if last else span.last_bar
    if not span.first_bar <= low <= high <= span.last_bar:
        raise EditError(
            f"Bars {low}–{high} do not lie in {span.section.name}, which has bars "
            f"{span.first_bar}–{span.last_bar}. Choose bars inside it."
        )
    ticks = span.bar_ticks
    return {**written, "start_ticks": ticks[low - span.first_bar], "end_ticks": ticks[high - span.first_bar + 1]}
