"""Moves as commands: named by their keys and found again in the song, so that they can be written down and replayed."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.document.song import Song
from escalera.core.edits.edit import edit
from escalera.core.edits.touched import EVERYTHING
from escalera.core.moves.move import Move, apply_move, find_move


def found_moves(song: Song, section_id: int, keys: str) -> Iterator[tuple[Song, Move]]:
    """Moves named by keys between bars, each with the song it applies to. Raises EditError."""
    for key in keys.split("|"):
        move = find_move(song, section_id, key)
        yield song, move
        song = apply_move(song, move)


@edit("move", EVERYTHING)
class MakeMoves:
    """Make one move of a section, or several one after the other, as one step."""

    section_id: int
    move: str

    def apply(self, song: Song) -> Song:
        for before, move in found_moves(song, self.section_id, self.move):
            song = apply_move(before, move)
        return song

    def summary(self, song: Song) -> str:
        return "; ".join(move.label for _, move in found_moves(song, self.section_id, self.move))
