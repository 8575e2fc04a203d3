"""Every kind of move, importable from one place; importing this package fills the registry KINDS."""

from escalera.core.moves import (
    drum_moves,
    ending_moves,
    form_moves,
    group_moves,
    join_moves,
    layer_moves,
    room_moves,
    texture_moves,
    voice_moves,
)
from escalera.core.moves.move import KINDS, Move, MoveKind, apply_move, find_move, moves_for

__all__ = [
    "KINDS",
    "MoveKind",
    "Move",
    "apply_move",
    "drum_moves",
    "ending_moves",
    "find_move",
    "form_moves",
    "group_moves",
    "join_moves",
    "layer_moves",
    "moves_for",
    "room_moves",
    "texture_moves",
    "voice_moves",
]
