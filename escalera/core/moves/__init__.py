"""Every kind of move, importable from one place; importing this package fills the registry KINDS."""

from escalera.core.moves import drums, form, layers, texture
from escalera.core.moves.base import KINDS, Kind, Move, apply_move, find_move, moves_for

__all__ = ["KINDS", "Kind", "Move", "apply_move", "drums", "find_move", "form", "layers", "moves_for", "texture"]
