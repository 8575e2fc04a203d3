"""Every kind of edit, importable from one place; importing this package fills the registry EDITS."""

from escalera.core.song.edits import (
    bodies,
    chords,
    curves,
    devices,
    grooves,
    judging,
    layers,
    lines,
    lowend,
    parts,
    sections,
    stretch,
    tiles,
    whole,
    written,
)
from escalera.core.song.edits.base import EDITS, Edit

__all__ = ["EDITS", "Edit", "bodies", "chords", "curves", "devices", "grooves", "judging", "layers", "lines", "lowend", "parts", "sections", "stretch", "tiles", "whole",
           "written"]  # fmt: skip
