"""The song as plain data and back: for the store (patterns by hash) and for project files (patterns with notes).

Everything here is derived from the fields of the document: pydantic reads their declarations once and then writes,
reads and checks songs, and describes them as a JSON Schema.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, get_type_hints

from pydantic import ConfigDict, TypeAdapter, ValidationError

from escalera.core.document import devices, singing, task, work_state
from escalera.core.document import song as document
from escalera.core.document.carriers import Build, JoinDevice
from escalera.core.document.fields import FieldSpec, specs
from escalera.core.document.song import Song
from escalera.core.document.target import Target, Turn
from escalera.core.rhythm.pattern import Pattern
from escalera.core.theory.voicings import Voicing
from escalera.errors import FormatError, shown

Plain = dict[str, Any]
FORMAT_VERSION = 2  # raise with a step in `upgrades` when a field is renamed, or a default gets another value

PARTS = (
    Target, Turn, Build, JoinDevice, document.Progression, document.Variation, document.Placement, document.Swing, document.Groove, document.Section,
    document.Parked, document.Layer, document.NamedPattern, document.EnergyScale, Song, devices.Device, devices.StackPart, devices.Bus,
    devices.Print, devices.Treatment, devices.Throw, devices.Curve, Voicing, singing.Take, singing.Polish,
    singing.Lyric, singing.WordMoment, singing.NoteTuning, work_state.StageMark, work_state.DueDate, work_state.WorkState, work_state.Collaborator,
    task.Task, task.Criterion,
)  # fmt: skip
for _part in PARTS:
    setattr(_part, "__pydantic_config__", ConfigDict(extra="forbid", allow_inf_nan=False))  # noqa: B010
ADAPTER: TypeAdapter[Song] = TypeAdapter(Song)
WITHOUT_PRINTS = {"layers": {"__all__": {"prints"}}}


def to_plain(song: Song, with_notes: bool = False) -> Plain:
    """The song as dicts, lists, strings and numbers; what stands at its default is left out.

    Patterns carry their hash, or their notes; prints stay in the store and go only with hashes.
    """
    exclude: Any = WITHOUT_PRINTS if with_notes else None
    return ADAPTER.dump_python(song, mode="json", exclude_defaults=True, context={"notes": with_notes}, exclude=exclude)


def from_plain(plain: Mapping[str, Any], patterns: Mapping[str, Pattern] | None = None) -> Song:
    """The song that `to_plain` wrote, every field checked; `patterns` holds the notes that are named by hash.

    Raises
    ------
    FormatError
        When a field is unknown, missing or outside its limits; names the place, the value and the limit.
    """
    try:
        return ADAPTER.validate_python(plain, context={"patterns": patterns or {}})
    except ValidationError as error:
        raise FormatError(_sentence(error)) from error


def _sentence(error: ValidationError) -> str:
    first = error.errors()[0]
    where = " → ".join(str(part) for part in first["loc"])
    more = f" (and {error.error_count() - 1} more places)" if error.error_count() > 1 else ""
    if first["type"] in ("extra_forbidden", "unexpected_keyword_argument"):
        return f"The project file has a field that is not known: {where}{more}. Remove it, or update Escalera."
    value, spec = first.get("input"), _spec_at(first["loc"])
    told = _outside(spec, first["type"], value) if spec else ""
    if not told:
        message = first["msg"].removeprefix("Value error, ").rstrip(".")
        told = f"{message[:1].lower()}{message[1:]}, found “{shown(value)}”"
    return f"The project file cannot be used at {where}: {told}{more}."


def _outside(spec: FieldSpec, problem: str, value: Any) -> str:
    """What is wrong with a value, told by its field's own label and limits; empty where they do not say it."""
    if problem.endswith("than_equal") and not isinstance(value, str):
        low, high = (("any" if bound is None else f"{bound:g}") for bound in (spec.low, spec.high))
        return f"{spec.label.lower()} {value:g} lies outside {low} to {high} {spec.unit}".rstrip()
    if problem in ("too_long", "string_too_long"):
        return (
            f"{spec.label.lower()} has {len(value):,} "
            f"{'characters' if isinstance(value, str) else 'entries'}, at most "
            f"{spec.max_length:,} fit"
        )
    if problem == "literal_error":
        return f"“{shown(value)}” is not a {spec.label.lower()}, choose one of: {', '.join(spec.choices)}"
    return ""


def _spec_at(path: tuple[int | str, ...]) -> FieldSpec | None:
    """The declaration of the field that a path of names and numbers leads to."""
    cls: Any = Song
    spec = None
    for step in path:
        if isinstance(step, str) and cls is not None and step in (fields := specs(cls)):
            spec, cls = fields[step], _class_in(get_type_hints(cls)[step])
        elif isinstance(step, str):
            spec, cls = None, _class_in(get_type_hints(cls).get(step)) if cls is not None else None
    return spec


def _class_in(hint: Any) -> Any:
    """The part of the document that a type holds, if it holds one."""
    if hint in PARTS:
        return hint
    return next((found for arg in getattr(hint, "__args__", ()) if (found := _class_in(arg)) is not None), None)


def song_schema() -> Plain:
    """The JSON Schema of a song in project files."""
    return ADAPTER.json_schema()


def field_table() -> str:
    """Every declared field as a Markdown table, for docs/formats.md."""
    rows = ["| part | field | what | values | default |", "|---|---|---|---|---|"]
    for part in PARTS:
        for name, spec in specs(part).items():
            told = spec.label + (f": {spec.help}" if spec.help else "")
            default = (
                "" if spec.default is None or not isinstance(spec.default, int | float | str) else f"`{spec.default}`"
            )
            rows.append(f"| {part.__name__} | `{name}` | {told} | {_values(spec)} | {default} |")
    return "\n".join(rows)


def _values(spec: FieldSpec) -> str:
    if spec.choices:
        return ", ".join(f"`{c}`" for c in spec.choices)
    low, high = (None if bound is None else f"{bound:g}" for bound in (spec.low, spec.high))
    told = f"{low} to {high}" if low and high else f"from {low}" if low else ""
    told = told or (f"at most {spec.max_length:,}" if spec.max_length else "")
    return f"{told} {spec.unit}".strip()
