"""Project files: documented JSON with a version (docs/formats.md, docs/project.schema.json)."""

from __future__ import annotations

import json
from typing import Any

from escalera import __version__
from escalera.cleaning import MOST_KEYS, TooManyParts, parse_json, widest
from escalera.core.document.codec import FORMAT_VERSION, from_plain, song_schema, to_plain
from escalera.core.document.limits import MAX_NOTES
from escalera.core.document.song import Song
from escalera.core.document.upgrades import upgraded
from escalera.core.energy.refit import with_present_scale
from escalera.core.validation.whole import validate
from escalera.errors import FormatError, shown

FORMAT = "escalera-project"
MAX_BYTES = 24_000_000


def write_project(song: Song) -> bytes:
    """A project file: the whole document, notes included."""
    head = {"format": FORMAT, "version": FORMAT_VERSION, "program": __version__}
    return json.dumps({**head, "song": to_plain(song, with_notes=True)}, indent=1, ensure_ascii=False).encode()


def read_project(data: bytes) -> Song:
    """A song from a project file of this or an earlier version. Raises FormatError with value, limit and remedy."""
    plain = _read_json(data)
    version, song = plain.get("version"), plain.get("song")
    if not isinstance(version, int) or version < 1:
        raise FormatError(
            f"The project has version “{shown(version)}”, and versions are whole numbers from 1. Save it again."
        )
    if version > FORMAT_VERSION:
        raise FormatError(
            f"The project has version {version}; this program reads up to {FORMAT_VERSION}. Update Escalera."
        )
    unknown = [key for key in plain if key not in ("format", "version", "program", "song")]
    if unknown:
        raise FormatError(
            f"The project file has a field that is not known: {shown(unknown[0])}. Remove it, or update Escalera."
        )
    if not isinstance(song, dict):
        raise FormatError("The project file has no song in it. Save it again from where it came.")
    _count_notes(song)
    if (keys := widest(song)) > MOST_KEYS:
        raise FormatError(
            f"A part of the project file has {keys:,} fields; at most {MOST_KEYS} are read. Save it again."
        )
    return with_present_scale(validate(from_plain(_upgraded(song, version))))


def _upgraded(song: dict[str, Any], version: int) -> dict[str, Any]:
    try:
        return upgraded(song, version)
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        raise FormatError(
            f"The project file of version {version} lacks a part or holds another one in its "
            f"place ({shown(error, 60)}). Save it again from where it came."
        ) from error


def _read_json(data: bytes) -> dict[str, Any]:
    if len(data) > MAX_BYTES:
        raise FormatError(f"The project file has {len(data) / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are read.")
    try:
        plain = parse_json(data)
    except TooManyParts as error:
        raise FormatError(f"The project file is too large: {error}. Split it over several songs.") from error
    except ValueError as error:
        raise FormatError(
            f"The project file is not whole JSON ({shown(error, 80)}). Save it again from where it came."
        ) from error
    if not isinstance(plain, dict) or plain.get("format") != FORMAT:
        raise FormatError(f"This JSON file is not an Escalera project: its “format” is not “{FORMAT}”.")
    return plain


def _count_notes(song: dict[str, Any]) -> None:
    """Refuse a flood of notes before anything is made of it."""
    patterns = song.get("patterns", [])
    rows: list[Any] = []
    for pattern in patterns if isinstance(patterns, list) else []:
        holder = pattern.get("pattern", pattern) if isinstance(pattern, dict) else None
        rows.append(holder.get("notes") if isinstance(holder, dict) else None)
    count = sum(len(r) for r in rows if isinstance(r, list))
    if count > MAX_NOTES:
        raise FormatError(
            f"The project has {count:,} notes; at most {MAX_NOTES:,} are read. Split it over several songs."
        )


def project_schema() -> dict[str, Any]:
    """The JSON Schema of project files."""
    song = song_schema()
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$defs": song.pop("$defs"),
        "title": "Escalera project",
        "type": "object",
        "additionalProperties": False,
        "required": ["format", "version", "song"],
        "properties": {
            "format": {"const": FORMAT},
            "version": {"const": FORMAT_VERSION},
            "program": {"type": "string"},
            "song": song,
        },
    }
