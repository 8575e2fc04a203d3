"""Names of files that are handed over: a scheme chosen from few, safe on all systems, each name once."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

from escalera.core.document.song import Layer, Song
from escalera.core.joins import played
from escalera.errors import InputError, shown
from escalera.lazy_dataclasses import dataclass

RESERVED = frozenset({"con", "prn", "aux", "nul", *(f"{p}{n}" for p in ("com", "lpt") for n in range(1, 10))})
LONGEST = 60
SCHEMES = ("number", "song", "family", "name")


@dataclass(frozen=True, slots=True)
class ToName:
    """What a file is of: its number in the song, its name, the family it belongs to."""

    number: int
    name: str
    family: str


def plain_name(title: str, empty: str = "song") -> str:
    """A title as a plain file name: letters, digits and hyphens, at most 60; never a path, nor a name that a system keeps for itself."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode()
    found = re.sub(r"[^A-Za-z0-9]+", "-", plain).strip("-").lower()[:LONGEST].strip("-") or empty
    return f"{found}-file" if found in RESERVED else found


def file_names(title: str, files: Sequence[ToName], scheme: str = "number") -> list[str]:
    """A name without ending for every file, in order; two that would be alike are numbered. Raises InputError for an unknown scheme."""
    if scheme not in SCHEMES:
        raise InputError(f"“{shown(scheme)}” is not a way of naming files. Choose one of: {', '.join(SCHEMES)}.")
    found: list[str] = []
    for each in files:
        name = _name(title, each, scheme)
        again = sum(f == name or f.startswith(f"{name}-") and f[len(name) + 1 :].isdecimal() for f in found)
        found.append(f"{name}-{again + 1}" if again else name)
    return found


def names_of_stems(song: Song, scheme: str = "number") -> list[str]:
    """Names of the files of all layers that sound, in their order."""
    return file_names(song.title, [ToName(i, x.name, x.family) for i, x in enumerate(handed_layers(song), 1)], scheme)


def handed_layers(song: Song) -> list[Layer]:
    """Layers that get a file: those that play anywhere, and are not muted."""
    placed = {p.layer_id for s in played(song).sections for p in s.placements}
    return [x for x in song.layers if x.id in placed and not x.muted]


def _name(title: str, each: ToName, scheme: str) -> str:
    name = plain_name(each.name, "layer")
    if scheme == "name":
        return name
    head = {"song": f"{plain_name(title)}-", "family": f"{plain_name(each.family)}-"}.get(scheme, "")
    return f"{head}{each.number:02d}-{name}"
