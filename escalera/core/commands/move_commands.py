"""Moves as commands: named by their keys and found again in the song, so that they can be written down and replayed."""

from __future__ import annotations

from collections.abc import Iterator
from typing import cast

from escalera.core.document.song import Song
from escalera.core.edits.edit import edit
from escalera.core.edits.touched import EVERYTHING
from escalera.core.moves.move import Move, apply_move, find_move


def found_moves(song: Song, section_id: int, keys: str) -> tuple[tuple[Move, Song], ...]:
    """Moves named by keys between bars, each with the song it leads to; kept with the state. Raises EditError."""
    asked, found = song.memo.get("moves", ((), ()))
    if asked != (section_id, keys):
        found = tuple(_found(song, section_id, keys))
        song.memo["moves"] = ((section_id, keys), found)  # the last one only: it holds whole songs
    return cast("tuple[tuple[Move, Song], ...]", found)


def _found(song: Song, section_id: int, keys: str) -> Iterator[tuple[Move, Song]]:
    for key in keys.split("|"):
        move = find_move(song, section_id, key)
        song = apply_move(song, move)
        yield move, song


@edit("move", EVERYTHING)
class MakeMoves:
    """Make one move of a section, or several one after the other, as one step."""

    section_id: int
    move: str

    def apply(self, song: Song) -> Song:
        return found_moves(song, self.section_id, self.move)[-1][1]

    def summary(self, song: Song) -> str:
        return "; ".join(move.label for move, _ in found_moves(song, self.section_id, self.move))
