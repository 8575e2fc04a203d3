"""Layouts: a song of ten sections and twenty layers laid out, three ways of it, a new song from a loop."""

from __future__ import annotations

from benchmarks.songs import generated
from benchmarks.table import row, seconds
from escalera.core.commands import LayOut
from escalera.core.layout import alternatives, lay_out_song
from escalera.services.new_song import new_song

FORM = "intro 8, verse 16, pre 8, chorus 8, verse 16, pre 8, chorus 8, bridge 8, chorus 16, outro 8"


def layouts() -> None:
    """Cold, as somebody sees it who asks for the first time."""
    song = LayOut(FORM, fill="full").apply(generated(5))
    count = f"{len(song.sections)} sections, {len(song.layers)} layers"
    row(f"a layout, {count}", seconds(lambda: lay_out_song(song)), 1.5, "s")
    row("three ways of it", seconds(lambda: alternatives(song)), 3.0, "s")
    row(
        "a whole new song from its style's loop",
        seconds(lambda: new_song(school="song", form="double-chorus")),
        1.5,
        "s",
    )
